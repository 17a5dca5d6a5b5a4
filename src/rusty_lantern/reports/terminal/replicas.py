"""The terminal view of mirrors."""

from __future__ import annotations

from rich.console import Console

from rusty_lantern.reports.results.replicas import MirrorRow, MirrorsResult
from rusty_lantern.reports.terminal.heading import heading
from rusty_lantern.reports.terminal.layout import STYLES, join, line, many, next_step
from rusty_lantern.reports.terminal.table import Table

MIRROR_STYLES = {"same": STYLES["ok"], "same-counts": "", "within-lag": "", "unknown": STYLES["unknown"]}


def mirrors_view(screen: Console, result: MirrorsResult) -> None:
    """Each mirrored bucket, with what did not travel."""
    heading(screen, "Mirrors", result)
    grid = Table("mirror", "bucket", "content", "settings", "details", shrink=(0, 4), lead=1)
    for row in result.mirrors:
        differs = f"{len(row.differences)} differ" if row.differences else "unknown" if row.unknown else "same"
        style = STYLES["high"] if row.differences else STYLES["unknown"] if row.unknown else STYLES["ok"]
        content = (row.content, MIRROR_STYLES.get(row.content, STYLES["high"]))
        grid.add(f"{row.source} → {row.target}", (row.bucket, "bold"), content, (differs, style), (row.words, "dim"))
    grid.show(screen)
    for row in result.mirrors:
        _mirror(screen, row)
    bad = sum(bool(row.against_baseline.drift) for row in result.mirrors)
    waived = sum(bool(row.against_baseline.waived) for row in result.mirrors)
    screen.print()
    named = [row for row in result.mirrors if row.bucket != "*"]  # which represents buckets that were not read
    unknown = sum(bool(row.unknown) for row in named)
    others = " and others" if len(named) < len(result.mirrors) else ""
    counts = [many(len(named), "mirrored bucket") + others, f"{bad:,} with drift"]
    counts += [f"{waived:,} waived"] * bool(waived)
    counts += [f"{unknown:,} unknown" + others] * bool(unknown or others)
    line(screen, (join(counts), "bold"))
    worst = next((row for row in result.mirrors if row.differences), None)
    if worst is not None:
        next_step(screen, f"lantern show {worst.target}/{worst.bucket}", "every setting of the copy")


def _mirror(screen: Console, row: MirrorRow) -> None:
    if not row.differences and not row.unknown:
        return
    screen.print()
    line(screen, (f"{row.bucket}", "bold"), f"  {row.source} → {row.target}")
    if row.differences:
        grid = Table("fact", row.source, row.target, shrink=(1, 2))
        for difference in row.differences:
            grid.add(difference.fact, difference.here, (difference.there, STYLES["high"]))
        grid.show(screen, indent=2)
    for name, why in row.unknown.items():
        line(screen, (name, STYLES["unknown"]), f"  {why}", indent=2)
