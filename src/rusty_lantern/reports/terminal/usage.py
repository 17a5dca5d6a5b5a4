"""What `lantern usage` prints on a terminal."""

from __future__ import annotations

from rich.console import Console

from rusty_lantern.core.value_types import show_bytes, show_moment
from rusty_lantern.reports.results.usage import UsageResult, UsageRow
from rusty_lantern.reports.terminal.identities import heading
from rusty_lantern.reports.terminal.layout import STYLES, Cell, join, line, many, next_step
from rusty_lantern.reports.terminal.table import Grid


def usage_view(screen: Console, result: UsageResult) -> None:
    """One line a group, then all of it; what was not counted, and what the costs leave out."""
    counted = join([f"{number:,} by {who}" for who, number in result.counted_by.items()])
    heading(screen, "Usage", result.survey, show_moment(result.as_of), f"counted: {counted}" if counted else "")
    some = [*result.rows, result.total]
    uploads, quotas = any(row.unfinished_uploads for row in some), any(row.quota_bytes for row in some)
    priced = bool(result.currency)
    grid = Grid(
        result.by, "buckets", "objects", "bytes", "old versions", "locked", "locked until",
        *["unfinished"] * uploads, *["growth a month"] * bool(result.earlier), *["quota"] * quotas,
        *[f"{result.currency} a month", "of it old"] * priced,
        right=range(1, 13), shrink=(0,), lead=0,
    )  # fmt: skip
    for row in some:
        total = row is result.total
        if total and len(result.rows) > 1:
            grid.add(*[""] * (7 + uploads + bool(result.earlier) + quotas + 2 * priced))
        if not total or len(result.rows) > 1:
            grid.add(*_cells(row, uploads=uploads, grows=bool(result.earlier), quotas=quotas))
    grid.show(screen)
    if any(row.missing for row in some):
        screen.print()
        line(screen, ("≥: of some buckets it is unknown, so it is at least that", "dim"))
    for one in result.not_counted:
        line(screen, (f"{one.store}/{one.bucket}", "bold"), (f"  not counted whole: {one.reason}", STYLES["unknown"]))
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


def _cells(row: UsageRow, *, uploads: bool, grows: bool, quotas: bool) -> list[Cell]:
    def amount(name: str, words: str) -> Cell:
        if row.missing.get(name, 0) >= row.buckets:
            return "unknown", STYLES["unknown"]
        return (f"≥ {words}", STYLES["unknown"]) if name in row.missing else words

    def size(name: str) -> Cell:
        return amount(name, show_bytes(getattr(row, name)))

    until = row.locked_until.strftime("%Y-%m-%d") if row.locked_until else ""
    grown = "" if row.growth_bytes_a_month is None else _signed(row.growth_bytes_a_month)
    found: list[Cell] = [
        (row.name, "bold"), f"{row.buckets:,}",
        amount("objects", f"{row.objects:,}"),
        size("bytes"), size("old_bytes"), size("locked_bytes"), until,
    ]  # fmt: skip
    found += [amount("unfinished_uploads", f"{row.unfinished_uploads:,}")] * uploads + [grown] * grows
    found += [show_bytes(row.quota_bytes) if row.quota_bytes else ""] * quotas
    if row.cost is not None:
        lacking = bool(row.cost.unpriced_bytes or row.cost.uncounted_buckets)
        found += [_money(row.cost.month, lacking=lacking), _money(row.cost.old_versions_month, lacking=lacking)]
    return found


def _money(amount: float, *, lacking: bool) -> Cell:
    """An amount; unknown where nothing of it has a price."""
    if lacking and not amount:
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
            f"what is locked costs {cost.locked_until_free:,.2f} {result.currency} until the last of it can be deleted"
        )
        line(screen, words + (f" ({result.total.locked_until:%Y-%m-%d})" if result.total.locked_until else ""))
    if cost.legal_hold_bytes:
        words = (
            f"{show_bytes(cost.legal_hold_bytes)} are under a legal hold: what they cost until it is lifted is unknown"
        )
        line(screen, (words, STYLES["unknown"]))
    if cost.restore:
        line(screen, f"reading back what has to be restored first would cost {cost.restore:,.2f} {result.currency}")
    if cost.unpriced_bytes:
        line(screen, (f"{show_bytes(cost.unpriced_bytes)} have no price in prices.yaml", STYLES["unknown"]))
    if cost.uncounted_buckets:
        words = f"{many(cost.uncounted_buckets, 'bucket')} not counted whole: the costs are at least that"
        line(screen, (words, STYLES["unknown"]))
    line(screen, ("requests, transfer and taxes are not in it", "dim"))
