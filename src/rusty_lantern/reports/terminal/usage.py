"""What `lantern usage` prints on a terminal."""

from __future__ import annotations

from rich.console import Console

from rusty_lantern.core.value_types import show_bytes, show_names
from rusty_lantern.reports.results.usage import UsageResult, UsageRow
from rusty_lantern.reports.terminal.heading import heading
from rusty_lantern.reports.terminal.layout import STYLES, Cell, join, left_out, line, many, next_step
from rusty_lantern.reports.terminal.table import Table

NAMED = 3
"""Buckets that are named where several are alike."""


def usage_view(screen: Console, result: UsageResult) -> None:
    """One line a group, then all of it; what was not counted, and what the costs leave out."""
    counted = join([f"{number:,} by {who}" for who, number in result.counted_by.items()])
    heading(screen, "Usage", result, f"counted: {counted}" if counted else "")
    some = [*result.rows, result.total]
    uploads, quotas = any(row.unfinished_uploads for row in some), any(row.quota_bytes for row in some)
    expires = any(row.expiring_bytes for row in some)
    priced = bool(result.currency)
    columns = ["buckets", "objects", "bytes", "old versions", "locked", "locked until"]
    columns += ["unfinished"] * uploads + ["expiring in a month"] * expires + ["growth a month"] * bool(result.earlier)
    columns += ["quota"] * quotas + [f"{result.currency} a month", "of it old"] * priced
    least = [
        columns.index(name) + 1
        for name in ("locked until", "buckets", "growth a month", "unfinished")
        if name in columns
    ]
    grid = Table(result.by, *columns, right=range(1, len(columns) + 1), shrink=(0,), lead=0, drop=least)
    for row in some:
        total = row is result.total
        if total and len(result.rows) > 1:
            grid.add(*[""] * (len(columns) + 1))
        if not total or len(result.rows) > 1:
            grid.add(*_cells(row, uploads=uploads, expires=expires, grows=bool(result.earlier), quotas=quotas))
    grid.show(screen)
    left_out(screen, grid.dropped)
    if any(row.missing for row in some):
        screen.print()
        line(screen, ("≥: of some buckets it is unknown, so it is at least that", "dim"))
    _not_counted(screen, result)
    if result.earlier:
        words = "growth: a straight line from survey {} to this one, of buckets that both counted"
        line(screen, (words.format(result.earlier), "dim"))
    full = [row for row in result.rows if row.quota_full_in_days is not None]
    for row in full:
        line(
            screen,
            (row.name, "bold"),
            f"  a quota is full in {many(row.quota_full_in_days or 0, 'day')} at that growth",
        )
    _costs(screen, result)
    if result.by == "store":
        next_step(screen, "lantern usage --by tags.steward", "by who answers for it")


def _not_counted(screen: Console, result: UsageResult) -> None:
    """The buckets that were not counted whole, by store and reason; a few of them by name."""
    alike: dict[tuple[str, str], list[str]] = {}
    for one in result.not_counted:
        alike.setdefault((one.store, one.reason), []).append(one.bucket)
    for (store, reason), names in alike.items():
        line(
            screen,
            (f"{store}: {show_names(names, NAMED)}", "bold"),
            (f"  not counted whole: {reason}", STYLES["unknown"]),
        )


def _cells(row: UsageRow, *, uploads: bool, expires: bool, grows: bool, quotas: bool) -> list[Cell]:
    def amount(name: str, words: str) -> Cell:
        if row.missing.get(name, 0) >= row.buckets:
            return "unknown", STYLES["unknown"]
        return (f"≥ {words}", STYLES["unknown"]) if name in row.missing else words

    def size(name: str) -> Cell:
        return amount(name, show_bytes(getattr(row, name)))

    until = row.locked_until.strftime("%Y-%m-%d") if row.locked_until else ""
    grown = "" if row.growth_bytes_a_month is None else _signed(row.growth_bytes_a_month)
    cells: list[Cell] = [
        (row.name, "bold"), f"{row.buckets:,}",
        amount("objects", f"{row.objects:,}"),
        size("bytes"), size("old_bytes"), size("locked_bytes"), until,
    ]  # fmt: skip
    cells += [size("unfinished_bytes")] * uploads + [size("expiring_bytes")] * expires + [grown] * grows
    cells += [size("quota_bytes") if row.quota_bytes or "quota_bytes" in row.missing else ""] * quotas
    if row.cost is not None:
        lacking = bool(row.cost.unpriced_bytes or row.cost.uncounted_buckets)
        nothing = row.missing.get("bytes", 0) >= row.buckets or row.cost.unpriced_bytes >= row.bytes + row.old_bytes > 0
        old = "old_bytes" in row.missing or (lacking and not row.cost.old_versions_month)
        cells += [_money(row.cost.month, lacking=lacking, nothing=nothing)]
        cells += [_money(row.cost.old_versions_month, lacking=lacking, nothing=nothing or old)]
    return cells


def _money(amount: float, *, lacking: bool, nothing: bool) -> Cell:
    """An amount; unknown where nothing of it is known."""
    if nothing:
        return "unknown", STYLES["unknown"]
    return (f"≥ {amount:,.2f}", STYLES["unknown"]) if lacking else f"{amount:,.2f}"


def _signed(number: int) -> str:
    return f"{'+' if number >= 0 else '-'}{show_bytes(abs(number))}"


def _costs(screen: Console, result: UsageResult) -> None:
    """What the costs leave out, and what cannot be saved yet."""
    cost = result.total.cost
    if cost is None:
        return
    screen.print()
    if cost.locked_until_free:
        words = (
            f"what is locked costs {cost.locked_until_free:,.2f} {result.currency}, each version until its period ends"
        )
        line(screen, words + (f"; the last {result.total.locked_until:%Y-%m-%d}" if result.total.locked_until else ""))
    if cost.legal_hold_bytes:
        words = (
            f"{show_bytes(cost.legal_hold_bytes)} are under a legal hold: what they cost until it is lifted is unknown"
        )
        line(screen, (words, STYLES["unknown"]))
    if cost.restore:
        line(screen, f"reading back what has to be restored first would cost {cost.restore:,.2f} {result.currency}")
    if cost.unfinished_uploads_month:
        oldest = result.total.oldest_upload
        since = f", the oldest of {oldest:%Y-%m-%d}," if oldest else ""
        words = "unfinished uploads{} cost {:,.2f} {} a month; no listing shows them"
        line(screen, words.format(since, cost.unfinished_uploads_month, result.currency))
    if cost.early_deletion:
        words = "deleting everything now would still be billed {:,.2f} {}: the shortest billed periods of its tiers"
        line(screen, words.format(cost.early_deletion, result.currency))
    if cost.unpriced_bytes:
        line(screen, (f"{show_bytes(cost.unpriced_bytes)} have no price in prices.yaml", STYLES["unknown"]))
    if cost.uncounted_buckets:
        words = f"{many(cost.uncounted_buckets, 'bucket')} not counted whole: the costs are at least that"
        line(screen, (words, STYLES["unknown"]))
    if cost.unlisted_buckets:
        words = f"{many(cost.unlisted_buckets, 'bucket')} without a list of versions: what locks, restores and early "
        line(screen, (words + "deletion cost there is unknown", STYLES["unknown"]))
    line(screen, ("requests for anything else, transfer and taxes are not in it", "dim"))
