"""What `lantern history` prints on a terminal."""

from __future__ import annotations

from rich.console import Console

from rusty_lantern.core.baseline.loader import SEVERITIES
from rusty_lantern.core.value_types import show_moment
from rusty_lantern.reports.results.surveys import DriftDurationResult, HistoryResult, HistoryRow
from rusty_lantern.reports.terminal.layout import STYLES, Cell, join, line, many, next_step
from rusty_lantern.reports.terminal.table import Table

STATUS_ORDER = ("drift", "unknown", "waived", "ok")


def history_view(screen: Console, result: HistoryResult) -> None:
    """One line a survey with its result; what is wrong in full; how long drifts lasted."""
    grid = Table(
        "survey", "buckets", *SEVERITIES, "unknown", "waived", "open to anyone", "sha-256", "integrity", "stores",
        "limited to", shrink=(8, 11, 12), right=(1, 2, 3, 4, 5, 6, 7), drop=(12, 9, 11, 8, 1), lead=0, sparse=(12,),
        floors={8: 26},
    )  # fmt: skip
    for row in result.surveys:
        if row.pruned_before:
            grid.add(("…", "dim"), "", *[""] * 6, (many(row.pruned_before, "survey") + " pruned", "dim"), *[""] * 4)
        _history_row(grid, row, result)
    if result.surveys:
        grid.show(screen)
        screen.print()
    for row in result.surveys:
        _what_is_missing(screen, row)
    for stopped in result.unfinished:
        line(screen, (f"{stopped}  was stopped before it was whole", STYLES["unknown"]))
    if result.drift_duration is not None:
        _duration(screen, result.drift_duration)
    for words in result.integrity_errors:
        line(screen, (words, STYLES["critical"]))
    if result.signer:
        line(screen, ("signatures checked by key ", "dim"), result.signer)
    if result.anchored:
        line(screen, ("the archive fits the anchor", STYLES["ok"]))
    wrong = sum(bool(row.integrity_error) for row in result.surveys) + len(result.integrity_errors)
    checked = f"{wrong} altered" if wrong else "integrity: verified" if result.verified else "not checked"
    line(screen, (join([many(len(result.surveys), "survey"), checked if result.surveys else ""]), "bold"))
    if result.unfinished:
        next_step(screen, "lantern survey --resume", "ask only what is missing")
    elif not result.verified and result.surveys:
        next_step(screen, "lantern history --verify", "hash every file and follow the chain")


def _what_is_missing(screen: Console, row: HistoryRow) -> None:
    """The stores that are not in it, or not whole; and what is not as it was written."""
    for stores, words in ((_unread(row), "not read"), (row.stores_not_all_listed, "not all buckets listed")):
        if stores:
            line(screen, (f"{row.survey}  {words}: {', '.join(stores)}", STYLES["unknown"]))
    if row.integrity_error:
        line(screen, (f"{row.survey}  ", STYLES["critical"]), row.integrity_error)


def _unread(row: HistoryRow) -> list[str]:
    """The stores that were not read."""
    return [name for name, number in row.stores.items() if number is None]


def _state(row: HistoryRow, result: HistoryResult) -> Cell:
    """Whether a survey is as it was written, and by whom that is known."""
    if row.integrity_error:
        return "altered", STYLES["critical"]
    if not result.verified:
        return "not checked", "dim"
    signed = "signed" if result.signer else "signature not checked"
    if not row.signed_by:
        return ("verified, not signed" if result.signer else "verified"), STYLES["ok"]
    return f"verified, {signed}", STYLES["ok"]


def _history_row(grid: Table, row: HistoryRow, result: HistoryResult) -> None:
    read = sum(number for number in row.stores.values() if number is not None)
    unread = _unread(row)
    whole = f"{len(row.stores) - len(unread)} read"
    stores: Cell = (f"{whole}, {len(unread)} unread", STYLES["unknown"]) if unread else whole
    state = _state(row, result)
    drift: list[Cell] = [("", "")] * len(SEVERITIES)
    if row.drift_by_severity is not None:
        drift = [
            (f"{row.drift_by_severity.get(word, 0):,}", STYLES[word] if row.drift_by_severity.get(word) else "dim")
            for word in SEVERITIES
        ]
    exposed = ", ".join(f"{verb} {number}" for verb, number in (row.exposed or {}).items() if number)
    if row.exposure_unknown:
        exposed = join([exposed, f"unknown in {many(row.exposure_unknown, 'bucket')}"])
    unknown = "" if row.unknown is None else f"{row.unknown:,}"
    counts: list[Cell] = [
        (unknown, STYLES["unknown"] if row.unknown else "dim"), "" if row.waived is None else f"{row.waived:,}"
    ]  # fmt: skip
    grid.add(
        (row.survey, "bold"), f"{read:,}", *drift, *counts, exposed, (row.sha256[:8], "dim"), state, stores,
        (", ".join(row.only), "dim"),
    )  # fmt: skip


def _duration(screen: Console, duration: DriftDurationResult) -> None:
    """How long drifts were open, in a sentence."""
    parts = []
    if duration.resolved:
        parts.append(
            f"{many(duration.resolved, 'drift')} resolved, after {_days(duration.median_days_resolved)} (median)"
        )
    if duration.open:
        parts.append(f"{duration.open:,} still drift, for {_days(duration.median_days_open)} (median)")
    if parts:
        line(screen, "; ".join(parts))
    if duration.oldest_since is not None:
        line(
            screen,
            "the oldest: ",
            (duration.oldest, "bold"),
            f", since {show_moment(duration.oldest_since)}",
        )


def _days(days: float | None) -> str:
    return "0 days" if days is None else f"{days:g} day" + ("" if days == 1 else "s")
