"""What `lantern audit` prints: first what to do first; with `--all` every requirement that is not ok."""

from __future__ import annotations

from rich.console import Console

from rusty_lantern.core.value_types import show_moment, show_names
from rusty_lantern.reports.results.audit import AuditResult, FindingResult
from rusty_lantern.reports.results.overview import OverviewResult, in_days_from
from rusty_lantern.reports.terminal.heading import heading
from rusty_lantern.reports.terminal.layout import STYLES, Cell, left_out, line, many, styled, terse
from rusty_lantern.reports.terminal.table import Table

MOST_PUBLIC, MOST_SUBJECTS, MOST_UNKNOWN, MOST_NAMED = 8, 20, 8, 8
"""Rows of each part of the first screen; how many more there are is said below them."""


def audit_view(screen: Console, result: AuditResult, *, whole: bool = False) -> None:
    """The first screen; `whole`: every requirement that is not ok, besides."""
    _heading(screen, result)
    _totals(screen, result)
    _steps(screen, result.overview)
    if whole:
        _drift(screen, result)
        _unknown(screen, result)
        _waived(screen, result)
        return
    overview = result.overview
    _deadlines(screen, overview)
    _public(screen, overview)
    _subjects(screen, overview)
    _unknown_reasons(screen, overview)
    _odd_waivers(screen, result)
    screen.print()
    line(screen, ("every row: ", "dim"), ("lantern audit --all", "bold"),
         ("   one store, owner, severity or fact: --store, --owner, --severity, --fact", "dim"))  # fmt: skip


def _heading(screen: Console, result: AuditResult) -> None:
    edition = f", edition {result.edition}" if result.edition else ""
    heading(screen, f"{result.baseline}{edition}", result, many(result.buckets, "bucket"))
    if result.too_old:
        line(screen, (f"the survey is too old: {result.too_old}", STYLES["unknown"]))
        screen.print()


def _totals(screen: Console, result: AuditResult) -> None:
    """One line: drift by severity, unknown, waived, ok, and what changed since the survey before."""
    drift = [(f"{number} {word}", STYLES[word]) for word, number in result.drift_by_severity.items() if number]
    others = [(f"{result.counts[word]} {word}", STYLES[word]) for word in ("unknown", "waived", "ok")]
    if not drift:
        drift = [("no drift", STYLES["ok"]) if result.drift_known else ("no known drift", "")]
    if result.unchecked:
        drift = [(result.unchecked, STYLES["unknown"])]
    parts: list[str | tuple[str, str]] = []
    for one in [*drift, *others]:
        parts += [one, "   "]
    line(screen, *parts[:-1])
    overview = result.overview
    since = overview.since
    if since is not None:
        counts = [f"{since.new} new", f"{since.worse} worse", f"{since.resolved} resolved"]
        counts += [f"{since.now_known} now known"] * bool(since.now_known)
        style = "bold" if since.new or since.worse else "dim"
        lost = f", {many(since.no_longer_known, 'drift')} no longer known" if since.no_longer_known else ""
        line(screen, (f"since {show_moment(since.taken)}: {', '.join(counts)}", style), (lost, STYLES["unknown"]))


def _title(screen: Console, words: str, style: str = "bold") -> None:
    screen.print()
    line(screen, (words, style))


def _deadlines(screen: Console, overview: OverviewResult) -> None:
    if not overview.deadlines:
        return
    _title(screen, "Deadlines")
    grid = Table("when", "what", shrink=(1,))
    for one in overview.deadlines:
        style = STYLES["critical"] if one.what == "scheduled for deletion" else STYLES["medium"]
        name = f"{one.store}/{one.name}" if one.name != one.store else one.store
        grid.add((f"{in_days_from(one.days)} ({one.when:%Y-%m-%d})", style), f"{one.kind} {one.what}: {name}")
        if one.affects:
            grid.add("", (one.affects, "dim"))
    grid.show(screen, indent=2, headings=False)


def _public(screen: Console, overview: OverviewResult) -> None:
    _title(screen, "Public now")
    if not overview.public and not overview.let_in:
        nothing_public = ("nothing", STYLES["ok"]) if overview.all_determined else ("nothing known", STYLES["unknown"])
        line(screen, nothing_public, indent=2)
    wide = [one for one in overview.public if one.open]
    shown = wide[:MOST_PUBLIC]
    accounts, limited = any(one.accounts_only for one in shown), any(one.restricted for one in shown)
    headings = ["bucket", "open to anyone", *["any account"] * accounts, *["restricted"] * limited, ""]
    grid = Table(*headings, shrink=range(1, len(headings) - 1), lead=0)
    for one in shown:
        style = STYLES["open" if one.drift else "low"]
        verbs: list[Cell] = [(", ".join(verb for verb in one.open if verb not in one.accounts_only), style)]
        verbs += [(", ".join(one.accounts_only), style)] * accounts
        verbs += [(", ".join(one.restricted), STYLES["restricted"])] * limited
        grid.add((f"{one.store}/{one.bucket}", "bold"), *verbs, _meant(one.required))
    if shown:
        grid.show(screen, indent=2)
    limited_only = [
        f"{one.store}/{one.bucket}" + (" (drift)" if one.drift else "") for one in overview.public if not one.open
    ]
    if len(wide) > len(shown):
        line(screen, (f"and {many(len(wide) - len(shown), 'bucket')} more: lantern exposure", "dim"), indent=2)
    if overview.let_in:
        buckets = (show_names(overview.let_in, MOST_NAMED), STYLES["open"])
        line(screen, "let in without credentials, though no known rule says so: ", buckets, indent=2, hang=2)
    if overview.undetermined_stores:
        words = f"the buckets of {show_names(overview.undetermined_stores, MOST_NAMED)}"
        line(screen, ("public access not determined: ", STYLES["unknown"]), words, indent=2, hang=2)
    in_part = [f"{one.store}/{one.bucket} ({', '.join(one.unknown)})" for one in overview.public if one.unknown]
    if overview.undetermined_buckets or in_part:
        words = show_names([*overview.undetermined_buckets, *in_part], MOST_NAMED)
        line(screen, ("public access not determined: ", STYLES["unknown"]), words, indent=2, hang=2)
    if limited_only:
        line(screen, "restricted access only: ", (show_names(limited_only, MOST_NAMED), "dim"), indent=2, hang=2)
    line(screen, (f"{many(overview.closed_buckets, 'bucket')} closed to the public", "dim"), indent=2)


def _meant(words: str) -> Cell:
    return words, {"drift": STYLES["drift"], "waived": STYLES["waived"], "as required": "dim"}.get(words, "bold")


def _subjects(screen: Console, overview: OverviewResult) -> None:
    if not overview.subjects:
        return
    _title(screen, "Drift, the worst subjects first")
    grid = Table("severity", "subject", "drift", "main cause", "see", shrink=(3,), right=(2,), floors={3: 30})
    for one in overview.subjects[:MOST_SUBJECTS]:
        name = f"{one.store}/{one.name}" if one.kind == "bucket" else f"{one.kind} {one.name}"
        name = f"store {one.store}" if one.kind == "store" else name
        more = f"; {len(one.causes) - 1} more" if len(one.causes) > 1 else ""
        see = one.command.removeprefix("lantern ").split()[0]
        grid.add(styled(one.severity), (name, "bold"), f"{one.count}", one.causes[0] + more, (see, "dim"))
    grid.show(screen, indent=2)
    if overview.subjects_in_all > MOST_SUBJECTS:
        left = many(overview.subjects_in_all - MOST_SUBJECTS, "subject")
        line(screen, (f"and {left} more: lantern audit --all", "dim"), indent=2)
    words = "see: lantern remedy STORE/BUCKET has the exact fix; lantern credentials, encryption, links, mirrors, reach"
    line(screen, (words, "dim"), indent=2, hang=2)


def _unknown_reasons(screen: Console, overview: OverviewResult) -> None:
    if not overview.unknown:
        return
    _title(screen, "Not determined", STYLES["unknown"])
    for one in overview.unknown[:MOST_UNKNOWN]:
        names = (show_names(one.subjects), "dim")
        about = (f" on {show_names(one.fact_names)}", "dim")
        line(screen, (many(one.facts, "requirement"), "bold"), about, f": {one.reason}  ", names, indent=2, hang=4)
        line(screen, ("settled by: ", "dim"), one.settled_by, indent=4, hang=2)
    if len(overview.unknown) > MOST_UNKNOWN:
        line(
            screen,
            (f"and {many(len(overview.unknown) - MOST_UNKNOWN, 'reason')} more: lantern audit --all", "dim"),
            indent=2,
        )


def _steps(screen: Console, overview: OverviewResult) -> None:
    if not overview.next_steps:
        return
    _title(screen, "What to do first")
    for number, step in enumerate(overview.next_steps, 1):
        line(screen, f"{number}. ", (step.command, "bold"), (f"   {step.why}", "dim"), indent=2, hang=3)


def _drift(screen: Console, result: AuditResult) -> None:
    """Every requirement that drifts, the worst first."""
    if not result.drift:
        return
    _title(screen, "Drift")
    looked_back = any(finding.since != result.taken or finding.since_or_before for finding in result.drift)
    since = ("since",) if looked_back else ()
    headings = ("subject", "severity", "fact", "required", "observed", *since, "set by (line, sheet)")
    last = len(headings) - 1
    grid = Table(*headings, shrink=(2, 3, 4, last), lead=0, floors={2: 16, 3: 10, 4: 10, last: 14})
    for finding in result.drift:
        cells: list[Cell] = [
            (_name(finding), "bold"), styled(finding.severity), finding.fact,
            terse(finding.required), (finding.observed, "bold"),
        ]  # fmt: skip
        grid.add(
            *cells, *([_since(result, finding)] if since else []), (f"{line_of(finding.line)} {finding.sheet}", "dim")
        )
    grid.show(screen, indent=2)
    sampled = sorted(
        {finding.objects.confidence for finding in result.drift if finding.objects and finding.objects.confidence}
    )
    if sampled:
        at = " or ".join(f"{confidence:.0%}".replace("%", " %") for confidence in sampled)
        words = f"shares are bounds at {at} confidence: only a sample of the versions was inspected"
        line(screen, (words, "dim"), indent=2)
    for finding in result.drift:
        if finding.reason:
            line(screen, (_name(finding), "bold"), f"  {finding.fact}: {finding.reason}", indent=2, hang=4)
    left_out(screen, grid.dropped)


def _since(result: AuditResult, finding: FindingResult) -> Cell:
    """Since when it drifts: the day of the first survey that saw it."""
    if finding.since is None or (finding.since == result.taken and not finding.since_or_before):
        return "new", "bold"
    return f"{finding.since:%Y-%m-%d}" + (" or before" if finding.since_or_before else ""), "dim"


STATUSES = {"ended": "high", "too long": "high", "unused": "low", "not yet": "low"}
"""Waivers that somebody should look at; one that ends soon is a deadline."""


def _waived(screen: Console, result: AuditResult) -> None:
    """What is waived, and every waiver that somebody should look at."""
    if result.waived:
        _title(screen, "Waived", STYLES["waived"])
        for finding in result.waived:
            line(screen, (_name(finding), "bold"), f"  {finding.fact} {finding.observed}", indent=2)
            line(screen, (finding.reason, "dim"), indent=6)
    _odd_waivers(screen, result)


def _odd_waivers(screen: Console, result: AuditResult) -> None:
    odd = [w for w in result.waivers if w.status in STATUSES and not (result.only and w.status == "unused")]
    if odd:
        screen.print()
    for waiver in odd:
        words = f" of {waiver.fact} on {waiver.of}, until {show_moment(waiver.until)}, {waiver.line}"
        line(screen, (f"waiver {waiver.status}", STYLES[STATUSES[waiver.status]]), words)


def _name(finding: FindingResult) -> str:
    """The name of the subject with its store, and its kind where it is no bucket."""
    if finding.subject == "store":
        return f"store {finding.store}"
    kind = "" if finding.subject == "bucket" else f"{finding.subject} "
    return f"{kind}{finding.store}/{finding.name}"


def line_of(place: str) -> str:
    """`baseline.yaml:8:7` → `8`."""
    return place.split(":")[-2] if place.count(":") >= 2 else place


def _unknown(screen: Console, result: AuditResult) -> None:
    if not result.unknown:
        return
    _title(screen, "Not determined", STYLES["unknown"])
    grouped: dict[tuple[str, str], list[str]] = {}
    for finding in result.unknown:
        grouped.setdefault((_name(finding), finding.reason), []).append(finding.fact)
    for (name, reason), facts in grouped.items():
        line(screen, (name, "bold"), f"  {reason}", indent=2)
        line(screen, (", ".join(facts), "dim"), indent=6)
