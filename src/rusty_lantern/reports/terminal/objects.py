"""Objects and retention as terminal views."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime

from rich.console import Console

from rusty_lantern.core.baseline.loader import SEVERITIES
from rusty_lantern.core.value_types import DURATION, show_bytes, show_moment, show_names
from rusty_lantern.objects.retention_summary import RetentionSummary
from rusty_lantern.reports.results.objects import (
    ObjectRow,
    ObjectsResult,
    RetentionResult,
    RetentionRow,
    TableRow,
    VersionRow,
)
from rusty_lantern.reports.terminal.heading import heading
from rusty_lantern.reports.terminal.layout import STYLES, Cell, join, left_out, line, many, next_step, styled
from rusty_lantern.reports.terminal.table import Table

PERIOD_WORDS = {
    "compliance": "compliance: nobody can delete before the date",
    "governance": "governance: holders of the bypass permission can",
    "expired": "a period that is over",
    "none": "no retention of its own",
    "unknown": "not inspected, or not readable",
    "delete-marker": "delete markers",
}
STATE_WORDS = {
    "unprotected-over-protected": "unprotected current version over a protected one",
    "marker-over-protected": "delete marker over a protected version",
    "unprotected": "unprotected current version",
    "protected": "protected current version",
    "unknown": "unknown",
}
_STATE_STYLES = {
    "unprotected-over-protected": STYLES["critical"],
    "marker-over-protected": STYLES["high"],
    "unknown": STYLES["unknown"],
}


def objects_view(screen: Console, result: ObjectsResult, *, whole: bool = False) -> None:
    """Requirements on objects that are not ok, the worst first; then how far each bucket was inspected. `whole`: those
    that are ok too."""
    heading(screen, "Objects", result)
    if not result.requirements:
        if any(table.versions is None for table in result.tables):
            line(screen, ("no requirement on objects was checked", STYLES["unknown"]))
        else:
            line(screen, "the baseline requires nothing of the objects in these buckets")
        _looked(screen, result.tables)
        return
    rows = [row for row in result.requirements if whole or row.status != "ok"]
    wide = Table(
        "bucket", "status", "severity", "objects.", "required", "checked", "fail", "not inspected", "bytes",
        shrink=(3, 4), right=(5, 6, 7, 8), lead=0, drop=(8,), floors={3: 16, 4: 12},
    )  # fmt: skip
    for row in rows:
        tally = row.objects
        wide.add(
            (f"{row.store}/{row.bucket}", "bold"),
            ("ok in sample", STYLES["ok"]) if tally.sampled and row.status == "ok" else styled(row.status),
            styled(row.severity) if row.status == "drift" else "",
            row.fact.removeprefix("objects."), row.required,
            f"{tally.checked:,}" + (f" of {tally.checked + tally.unknown:,}" if tally.sampled else ""),
            (f"{tally.failed:,}", "bold" if tally.failed else "dim"),
            _number(tally.unknown - tally.unsampled, STYLES["unknown"]),
            show_bytes(tally.failed_bytes) if tally.failed else ("-", "dim"),
        )  # fmt: skip
    if rows:
        wide.show(screen)
        left_out(screen, wide.dropped)
    fine = len(result.requirements) - len(rows)
    if fine:
        line(screen, (f"{many(fine, 'requirement')} on objects ok (--all lists them)", STYLES["ok"]))
    screen.print()
    for row in result.requirements:
        _explained(screen, row)
    _looked(screen, result.tables)
    first = next((row for row in result.requirements if row.objects.failed and row.prefixes is None), None)
    if first:
        where = f"{first.store}/{first.bucket} --fact {first.fact}"
        next_step(screen, f"lantern objects {where} --out breaking.csv", "every version that fails")


def _explained(screen: Console, row: ObjectRow) -> None:
    tally = row.objects
    if not tally.failed and not (tally.sampled and row.status != "ok"):
        return
    said = f"  {row.fact}" + (f": {tally.words}" if tally.sampled else "")
    line(screen, (f"{row.store}/{row.bucket}", "bold"), said, indent=2)
    if row.prefixes:
        grid = Table("prefix", "fail", "checked", "bytes", shrink=(0,), right=(1, 2, 3))
        for part in row.prefixes:
            grid.add(part.prefix or "(no prefix)", f"{part.failed:,}", f"{part.checked:,}", show_bytes(part.bytes))
        grid.show(screen, indent=6)
    if tally.examples:
        line(screen, ("first: " + ", ".join(tally.examples), "dim"), indent=6)


def _looked(screen: Console, tables: list[TableRow]) -> None:
    screen.print()
    seen = [table for table in tables if table.versions is not None]
    unseen = [table for table in tables if table.versions is None]
    if seen:
        whole = [t for t in seen if t.inspected == t.versions and not t.left_out]
        parts = [many(len(seen), "bucket") + " inspected", f"{len(whole)} of them in every version"]
        line(screen, (join(parts), "bold"))
    _current_alone(screen, [(f"{table.store}/{table.bucket}", table.left_out) for table in seen])
    reused = sum(table.reused for table in seen)
    if reused:
        words = (
            f"{reused:,} versions reused from the survey before: legal holds, retention and tags may have changed since"
        )
        line(screen, (words, STYLES["unknown"]), indent=2)
    if unseen:
        names = ", ".join(f"{table.store}/{table.bucket}" for table in unseen[:6]) + (", …" if len(unseen) > 6 else "")
        line(screen, (f"{many(len(unseen), 'bucket')} not inspected: {names}", STYLES["unknown"]), indent=2)
        line(screen, (unseen[0].reason, "dim"), indent=6)


def _current_alone(screen: Console, tables: Iterable[tuple[str, str]]) -> None:
    """The buckets of which only current objects were seen, by the reason."""
    by_reason: dict[str, list[str]] = {}
    for title, why in tables:
        by_reason.setdefault(why, []).append(title)
    for why, titles in by_reason.items():
        if why:
            words = f"of {show_names(titles, 6)} the current objects alone were seen: {why}"
            line(screen, (words, STYLES["unknown"]), indent=2, hang=2)


def retention_view(screen: Console, result: RetentionResult) -> None:
    """One line a bucket; of a single one everything."""
    heading(screen, "Retention", result)
    if result.key is not None and result.history is not None:
        _history(screen, result.key, result.history, result.as_of)
        return
    if len(result.buckets) == 1:
        _one(screen, result.buckets[0])
        return
    if not result.buckets:
        _looked_into(screen, result)
        return
    grid = Table(
        "bucket", "versions", "compliance", "governance", "legal hold", "deletable now", "unknown",
        "unprotected over protected", "marker over protected", "default", "retention",
        right=(1, 2, 3, 4, 5, 6, 7, 8), lead=0, shrink=(9, 10), drop=(9, 1), floors={9: 12, 10: 14},
    )  # fmt: skip
    for row in result.buckets:
        counts = _counts(row.retention)
        states = {keys.state: keys.keys for keys in row.retention.keys}
        grid.add(
            (f"{row.store}/{row.bucket}", "bold"), f"{row.versions:,}",
            *(_number(counts[name]) for name in ("compliance", "governance", "legal-hold", "deletable")),
            _number(counts["unknown"], STYLES["unknown"]),
            _number(states.get("unprotected-over-protected", 0), STYLES["critical"]),
            _number(states.get("marker-over-protected", 0), STYLES["high"]), (row.default_retention, "dim"),
            _against(row),
        )  # fmt: skip
    grid.show(screen)
    left_out(screen, grid.dropped)
    if not all(row.drift or row.others for row in result.buckets):
        line(screen, ("retention: against the baseline; empty where it requires nothing", "dim"))
    screen.print()
    for row in result.buckets:
        if _binds(row.retention):
            line(screen, (f"{row.store}/{row.bucket}", "bold"), f"  {row.sentence}", indent=2, hang=4)
    _unbound(screen, [row for row in result.buckets if not _binds(row.retention)])
    _looked_into(screen, result)
    locked = next((row for row in result.buckets if row.retention.earliest_deletion.by_delete_permission), None)
    if locked:
        next_step(screen, f"lantern retention {locked.store}/{locked.bucket}", "why, and which keys")


def _against(row: RetentionRow) -> Cell:
    """Whether retention is shorter or longer than required, or not what is required in another way."""
    facts = {finding.fact.removeprefix("objects."): finding.severity for finding in row.drift}
    if not facts:
        for status in ("unknown", "waived"):
            others = [fact.removeprefix("objects.") for fact, its in row.others.items() if its == status]
            if others:
                return f"{status}: {', '.join(others)}", STYLES[status]
        return ("ok", STYLES["ok"]) if row.others else ""
    worst = min(facts.values(), key=SEVERITIES.index)
    return f"{worst}: {', '.join(facts)}", STYLES[worst]


def _binds(summary: RetentionSummary) -> bool:
    return summary.earliest_deletion.by_delete_permission is not None or summary.earliest_deletion.legal_holds > 0


def _unbound(screen: Console, rows: list[RetentionRow]) -> None:
    """Buckets without any protected version, in two lines instead of one each."""
    seen = [row for row in rows if not row.left_out]
    whole = [f"{row.store}/{row.bucket}" for row in seen if not row.retention.earliest_deletion.unknown]
    partly = [
        f"{row.store}/{row.bucket} ({row.retention.earliest_deletion.unknown:,})"
        for row in rows
        if row.retention.earliest_deletion.unknown
    ]
    if whole:
        line(
            screen,
            (", ".join(whole), "bold"),
            "  no version is protected: any principal with delete permission can empty them now",
            indent=2,
            hang=4,
        )
    if partly:
        words = "  no protected version was seen, and so many versions were not inspected"
        line(screen, (", ".join(partly), "bold"), (words, STYLES["unknown"]), indent=2, hang=4)


def _looked_into(screen: Console, result: RetentionResult) -> None:
    _current_alone(screen, [(f"{row.store}/{row.bucket}", row.left_out) for row in result.buckets])
    if result.unread:
        if result.buckets:
            screen.print()
        words = f"{many(len(result.unread), 'bucket')} without a version table: {result.unread[0].reason}"
        line(screen, (words, STYLES["unknown"]))


def _number(number: int, style: str = "") -> Cell:
    return (f"{number:,}", style) if number else ("-", "dim")


def _counts(summary: RetentionSummary) -> dict[str, int]:
    counts = dict.fromkeys(("compliance", "governance", "legal-hold", "deletable", "unknown"), 0)
    for group in summary.groups:
        if group.retention in ("compliance", "governance"):
            counts[group.retention] += group.versions
        if group.legal_hold == "on":
            counts["legal-hold"] += group.versions
        if group.deletable_by == "delete-permission" and group.retention != "delete-marker":
            counts["deletable"] += group.versions
        if group.deletable_by == "unknown":
            counts["unknown"] += group.versions
    return counts


def _one(screen: Console, row: RetentionRow) -> None:
    line(screen, (f"{row.store}/{row.bucket}", "bold"), f"  default {row.default_retention}")
    line(screen, row.sentence, indent=2)
    if row.inspected < row.versions:
        line(screen, (f"{row.inspected:,} of {row.versions:,} versions were inspected", STYLES["unknown"]), indent=2)
    screen.print()
    grid = Table("protected by", "legal hold", "deletable now by", "versions", "bytes", right=(3, 4), shrink=(0,))
    for group in sorted(row.retention.groups, key=lambda group: list(PERIOD_WORDS).index(group.retention)):
        who = "-" if group.retention == "delete-marker" else group.deletable_by
        grid.add(
            PERIOD_WORDS[group.retention], (group.legal_hold, "bold" if group.legal_hold == "on" else "dim"),
            (who, STYLES["unknown"] if who == "unknown" else ""), f"{group.versions:,}", show_bytes(group.bytes),
        )  # fmt: skip
    grid.show(screen, indent=2)
    screen.print()
    keys = Table("objects with", "objects", "first", right=(1,), shrink=(2,))
    states = sorted(row.retention.keys, key=lambda keys: list(STATE_WORDS).index(keys.state))
    for state in states:
        first = ", ".join(state.examples) if state.state not in ("protected", "unprotected") else state.examples[0]
        keys.add((STATE_WORDS[state.state], _STATE_STYLES.get(state.state, "")), f"{state.keys:,}", (first, "dim"))
    keys.show(screen, indent=2)
    screen.print()
    _odd(screen, row)
    for finding in sorted(row.drift, key=lambda finding: SEVERITIES.index(finding.severity)):
        line(
            screen, styled(finding.severity), f"  {finding.fact} {finding.required}: {finding.objects.words}", indent=2
        )
        line(screen, ("first: " + ", ".join(finding.objects.examples), "dim"), indent=6)
    shadowed = next((k for k in states if k.state in ("unprotected-over-protected", "marker-over-protected")), None)
    if shadowed:
        next_step(
            screen, f"lantern retention {row.store}/{row.bucket} --key {shadowed.examples[0]}", "all its versions"
        )


def _odd(screen: Console, row: RetentionRow) -> None:
    summary = row.retention
    if summary.weaker_than_default.versions:
        words = (
            f"{many(summary.weaker_than_default.versions, 'version')} with less retention than the bucket's default: "
        )
        line(screen, (words, STYLES["medium"]), (", ".join(summary.weaker_than_default.examples), "dim"), indent=2)
    if summary.longest_retention is not None:
        line(
            screen,
            f"the longest retention is {_period(summary.longest_retention)}, on ",
            (summary.longest_retention_key, "dim"),
            indent=2,
        )
    if summary.outlives_expiry:
        outlive = many(summary.outlives_expiry, "old version")
        words = f"{outlive} under retention for longer than an expiry rule waits: the rule deletes nothing"
        line(screen, (words, STYLES["medium"]), indent=2)
    governed = sum(group.versions for group in summary.groups if group.retention == "governance")
    if governed:
        surely, why = ", ".join(row.bypass_holders), row.bypass_unknown
        words = f"{surely}, and perhaps others" if surely and why else surely or ("unknown" if why else "nobody")
        said = (f"; {why}", STYLES["unknown"]) if why else ("", "")
        line(screen, f"can bypass governance retention: {words}", said, indent=2)
    screen.print()


def _period(seconds: int) -> str:
    days = seconds // 86_400
    return DURATION.show(days * 86_400) if days else DURATION.show(seconds)


def _history(screen: Console, key: str, history: list[VersionRow], as_of: datetime) -> None:
    """All versions of one key, the newest first."""
    line(screen, (key, "bold"), f"  {many(len(history), 'version')}")
    screen.print()
    grid = Table(
        "", "stored", "version", "size", "protected by", "until", "left", "deletable now by", shrink=(2,), right=(3,)
    )
    for row in history:
        left = _period(int((row.until - as_of).total_seconds())) if row.until and row.until > as_of else ""
        protected = "delete marker" if row.delete_marker else row.protected_by
        bare = row.protected_by in ("unprotected", "expired")
        deleter: Cell = (row.deletable_by, STYLES["unknown"] if row.deletable_by == "unknown" else "")
        grid.add(
            ("current", "bold") if row.current else ("older", "dim"),
            show_moment(row.written) if row.written else "", (row.version, "dim"),
            "" if row.delete_marker else show_bytes(row.size), (protected, "bold" if bare else ""),
            show_moment(row.until) if row.until else "-", left,
            ("-", "dim") if row.delete_marker else deleter,
        )  # fmt: skip
    grid.show(screen)
