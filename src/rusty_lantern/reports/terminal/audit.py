"""What `lantern audit` prints on a terminal."""

from __future__ import annotations

from rich.console import Console

from rusty_lantern.core.value_types import show_moment
from rusty_lantern.reports.results.audit import AuditResult, FindingResult
from rusty_lantern.reports.terminal.layout import STYLES, Cell, join, line, many, next_step, styled, terse
from rusty_lantern.reports.terminal.table import Grid

STATUS_ORDER = ("drifted", "unknown", "waived", "held")


def audit_view(screen: Console, result: AuditResult) -> None:
    """Drift, worst first; then what could not be told; then the counts."""
    line(screen, (f"{result.baseline}" + (f", edition {result.edition}" if result.edition else ""), "bold"))
    line(
        screen,
        (
            join([f"survey {result.survey}", f"as of {show_moment(result.as_of)}", many(result.buckets, "bucket")]),
            "dim",
        ),
    )
    if result.only:
        line(screen, (f"this survey was limited to {', '.join(result.only)}", STYLES["unknown"]))
    for store, reason in result.unread.items():
        line(screen, (f"store {store} was not read: {reason}", STYLES["unknown"]))
    screen.print()
    _drift_by_severity(screen, result)
    _unknowns(screen, result)
    _waived(screen, result)
    counts = [(word, result.counts[word]) for word in ("drifted", "unknown", "waived", "held")]
    parts: list[tuple[str, str]] = []
    for word, number in counts:
        parts += [(f"{number} ", "bold"), (word, STYLES[word] if number else "dim"), ("    ", "")]
    line(screen, *parts)
    first = next(iter(result.drift or result.unknown), None)
    if first:
        next_step(screen, *_next_look(result))


def _drift_by_severity(screen: Console, result: AuditResult) -> None:
    if not result.drift:
        line(screen, ("no drift was found", STYLES["held"] if not result.unknown and not result.unread else ""))
        screen.print()
        return
    looked_back = any(found.since != result.taken or found.since_or_before for found in result.drift)
    since = ("since",) if looked_back else ()
    last = 5 + len(since)
    headings = ("severity", "where", "fact", "required", "observed", *since, "line, sheet")
    grid = Grid(
        *headings, shrink=(last, 1, 3, 4, 2), drop=(*range(last, 4, -1), 3), keep=24, floors={2: 25, 3: 18, 4: 16}
    )
    for found in result.drift:
        cells = [
            styled(found.severity),
            _bucket_name(result, found),
            found.fact,
            terse(found.required),
            (found.observed, "bold"),
            (f"{line_of(found.place)} {found.sheet}", "dim"),
        ]
        grid.add(*cells[:5], *([_since(result, found)] if since else []), cells[5])
    grid.show(screen)
    sampled = sorted({found.objects.confidence for found in result.drift if found.objects and found.objects.confidence})
    if sampled:
        at = " or ".join(f"{confidence:.0%}".replace("%", " %") for confidence in sampled)
        line(screen, (f"shares are bounds at {at}: only a sample of the versions was looked at", "dim"))
    for found in result.drift:
        if found.reason:
            line(screen, (_bucket_name(result, found), "bold"), f"  {found.fact}: {found.reason}", indent=2, hang=4)
    left_out(screen, grid)
    screen.print()


def _since(result: AuditResult, found: FindingResult) -> Cell:
    """Since when it drifts: the day of the first survey that saw it."""
    if found.since is None or (found.since == result.taken and not found.since_or_before):
        return "this survey", "bold"
    return f"{found.since:%Y-%m-%d}" + (" or before" if found.since_or_before else ""), "dim"


STANDINGS = {"ended": "high", "too long": "high", "ends soon": "medium", "unused": "low", "not yet": "low"}


def _waived(screen: Console, result: AuditResult) -> None:
    """What was accepted, and every waiver that somebody should look at."""
    if result.waived:
        line(screen, ("accepted for now", STYLES["waived"]))
        for found in result.waived:
            line(screen, (_bucket_name(result, found), "bold"), f"  {found.fact} {found.observed}", indent=2)
            line(screen, (found.reason, "dim"), indent=6)
        screen.print()
    odd = [waiver for waiver in result.waivers if waiver.standing in STANDINGS]
    for waiver in odd:
        words = f" of {waiver.fact} on {waiver.of}, until {show_moment(waiver.until)}, {waiver.place}"
        line(screen, (f"waiver {waiver.standing}", STYLES[STANDINGS[waiver.standing]]), words)
    if odd:
        screen.print()


def left_out(screen: Console, grid: Grid) -> None:
    """Say which columns had no room."""
    if grid.dropped:
        line(screen, (f"left out at this width: {'; '.join(grid.dropped)} (--json has it all)", "dim"))


def _next_look(result: AuditResult) -> tuple[str, str]:
    """The command that tells more of the first thing in the list."""
    first = (result.drift or result.unknown)[0]
    if first.subject == "bucket":
        return f"lantern show {first.store}/{first.bucket} --required", "every fact with its evidence"
    return LOOKS.get(first.subject, ("lantern reach", "what each store shows"))


LOOKS = {
    "credential": ("lantern credentials", "who holds which key"),
    "identity": ("lantern credentials", "who holds which key"),
    "encryption-key": ("lantern encryption", "which key protects what"),
    "link": ("lantern links", "which links are out, and what they open"),
    "mirror": ("lantern mirrors", "what the copies lack"),
}
"""Kind of subject → the command that shows it, and why."""


def _bucket_name(result: AuditResult, found: FindingResult) -> str:
    """The name of the subject, with its store where there are several; a bucket's after a slash, as it is asked for."""
    several = len({j.store for j in [*result.drift, *result.unknown]}) > 1
    if found.subject == "store" or not several:
        return found.name
    return f"{found.store}/{found.name}" if found.subject == "bucket" else f"{found.store}: {found.name}"


def line_of(place: str) -> str:
    """`baseline.yaml:8:7` → `8`."""
    return place.split(":")[-2] if place.count(":") >= 2 else place


def _unknowns(screen: Console, result: AuditResult) -> None:
    if not result.unknown:
        return
    line(screen, ("could not be told", STYLES["unknown"]))
    grouped: dict[tuple[str, str], list[str]] = {}
    for found in result.unknown:
        grouped.setdefault((_bucket_name(result, found), found.reason), []).append(found.fact)
    for (bucket, reason), facts in grouped.items():
        line(screen, (bucket, "bold"), f"  {reason}", indent=2)
        line(screen, (", ".join(facts), "dim"), indent=6)
    screen.print()
