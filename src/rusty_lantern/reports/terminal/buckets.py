"""Each command's result as a terminal view."""

from __future__ import annotations

from rich.console import Console

from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.value_types import show_bytes
from rusty_lantern.reports.results.buckets import BucketRow, BucketsResult
from rusty_lantern.reports.terminal.heading import heading
from rusty_lantern.reports.terminal.layout import STYLES, Cell, join, left_out, line, many, next_step, styled
from rusty_lantern.reports.terminal.table import Table

STATUS_ORDER = ("drift", "unknown", "waived", "ok")


def buckets_view(screen: Console, result: BucketsResult) -> None:
    """One line a bucket, and totals."""
    heading(screen, "Buckets", result)
    grid = Table(
        "bucket", "region", "created", "objects", "bytes", "exposure", "versions", "encryption", "lock", "steward",
        shrink=(5, 9), right=(3, 4), drop=(2, 3, 1, 8), lead=0, floors={5: 16},
    )  # fmt: skip
    for row in result.buckets:
        grid.add(
            (f"{row.store}/{row.bucket}", "bold"),
            _or_unknown(row, "region", row.region),
            row.created[:10] if isinstance(row.created, str) else "unknown",
            f"{row.objects:,}" if isinstance(row.objects, int) else "unknown",
            show_bytes(row.bytes) if isinstance(row.bytes, int) else "unknown",
            _exposure_cell(row),
            _or_unknown(row, "versioning", row.versioning),
            _or_unknown(row, "encryption.at-rest", row.encryption),
            _short_lock(row.lock),
            _or_unknown(row, "tags.steward", row.steward),
        )
    grid.show(screen)
    screen.print()
    least = "" if result.complete else "at least "
    totals = [
        many(len(result.buckets), "bucket"),
        f"{least}{result.total_objects:,} objects",
        least + show_bytes(result.total_bytes),
    ]
    line(screen, (join(totals), "bold"))
    left_out(screen, grid.dropped)
    exposed = [row for row in result.buckets if "open" in row.exposure.values()]
    if exposed:
        next_step(screen, f"lantern exposure {exposed[0].store}/{exposed[0].bucket}", "who has public access, and how")


def _short_lock(words: str) -> Cell:
    """A lock in few letters: a period cut in the middle would read as another period."""
    if words == "unknown":
        return styled(words)
    return words.replace("governance", "gov.").replace("compliance", "compl.")


def _or_unknown(row: BucketRow, fact: str, value: object) -> Cell:
    if fact in row.unknown:
        return styled("unknown")
    return "-" if value is None else str(value)


def _exposure_cell(row: BucketRow) -> Cell:
    """The verbs that are open; else those that are restricted or unknown; with the level in front."""
    for level in ("open", "unknown", "restricted"):
        verbs = [verb for verb in VERBS if row.exposure.get(verb) == level]
        if len(verbs) == len(VERBS):
            return f"{level} all", STYLES[level]
        if verbs:
            return f"{level} {' '.join(verbs)}", STYLES[level]
    return styled("closed")


TRANSPORTS = {
    "tls": ("TLS", ""),
    "plain": ("plain http: anyone on the way reads along", STYLES["medium"]),
    "file": ("a file on this machine", ""),
}
