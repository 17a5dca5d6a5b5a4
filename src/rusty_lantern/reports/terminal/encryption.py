"""The terminal view of encryption keys, and of what encrypts each bucket."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from rich.console import Console

from rusty_lantern.core.value_types import show_bytes
from rusty_lantern.reports.results.encryption import EncryptionResult, KeyRow, Other, ProtectionRow
from rusty_lantern.reports.terminal.heading import heading
from rusty_lantern.reports.terminal.identities import in_days, known, remark_words, unread_lines, worst_of
from rusty_lantern.reports.terminal.layout import STYLES, Cell, join, left_out, line, many, next_step, when
from rusty_lantern.reports.terminal.table import Table


def encryption_view(screen: Console, result: EncryptionResult) -> None:
    """The keys, the worst first, with what depends on each; then what encrypts the buckets."""
    heading(screen, "Encryption at rest", result)
    if result.keys:
        grid = Table("encryption key", "state", "region", "kept in", "rotates every", "age", "store can use",
                    "buckets",
                    "drift", shrink=(1, 3, 8), right=(5, 7), lead=0, drop=(4, 5),
                    floors={1: 9, 3: 9, 8: 16})  # fmt: skip
        keys = sorted(result.keys, key=lambda r: (worst_of(r.against_baseline), -len(r.buckets), r.store, r.name))
        for row in keys:
            grid.add(*_key(row))
        grid.show(screen)
        left_out(screen, grid.dropped)
        screen.print()
        for row in keys:
            if row.buckets:
                words = "cannot be read without it"
                names = f"{', '.join(row.buckets[:8])}{', …' if len(row.buckets) > 8 else ''}"
                line(screen, (row.name, "bold"), f"  {names} {words}", indent=2, hang=4)
                if row.scheduled_deletion:
                    day = when(datetime.fromisoformat(row.scheduled_deletion), result.as_of)
                    line(screen, (f"scheduled for deletion: {day}", STYLES["critical"]), indent=4)
        screen.print()
    _protection(screen, result.buckets)
    _others(screen, result.buckets)
    unread_lines(screen, result, result.unread)
    bare, unknown = (sum(row.by == by for row in result.buckets) for by in ("none", None))
    screen.print()
    counts = [many(len(result.buckets), "bucket"), f"{bare:,} without encryption"]
    counts += [f"of {unknown:,} it is unknown"] * bool(unknown)
    counts += [known(len(result.keys), "encryption key", result.unread)]
    line(screen, (join(counts), "bold"))
    next_step(screen, "lantern audit", "check it against the baseline")


def _key(row: KeyRow) -> list[Cell]:
    state = row.state or "unknown"
    partly = "buckets" in row.unknown
    style = "" if state == "enabled" else STYLES["critical"] if row.buckets or partly else STYLES["medium"]
    buckets: Cell = f"{len(row.buckets):,}"
    if partly:
        buckets = f"≥ {len(row.buckets):,}" if row.buckets else "unknown", STYLES["unknown"]
    usable: Cell = "unknown" if row.usable_by_store is None else "yes" if row.usable_by_store == "on" else (
        "no", STYLES["high"])  # fmt: skip
    rotation = "unknown" if "rotation" in row.unknown else "never" if row.rotation is None else in_days(row.rotation)
    return [
        (row.name, "bold"), (state, style), row.region or "unknown", row.kept_in or "unknown", rotation,
        in_days(row.age), usable, buckets, remark_words(row.against_baseline),
    ]  # fmt: skip


def _protection(screen: Console, rows: Sequence[ProtectionRow]) -> None:
    alike: dict[tuple[str, str, str], list[str]] = {}
    several = len({row.store for row in rows}) > 1
    for row in rows:
        by = row.by or "unknown"
        notes = []
        if row.declared:
            notes.append("declared by the owner, not verified")
        if row.key_region == "elsewhere":
            notes.append("key in another region")
        if row.usable_by_store == "off":
            notes.append("store cannot use the key")
        if row.key_state not in (None, "enabled"):
            notes.append(f"key {row.key_state}")
        if row.key and row.key_state is None:
            notes.append("key unknown")
        if row.by is None:
            notes.append(row.unknown.get("at-rest", ""))
        name = f"{row.store}/{row.bucket}" if several else row.bucket
        alike.setdefault((by, row.key or "", "; ".join(notes)), []).append(name)
    order = ("none", "unknown", "provider-managed", "customer-provided", "customer-managed")
    grid = Table("encryption", "encryption key", "buckets", "problem", "which", shrink=(1, 3, 4), right=(2,),
                floors={3: 14, 4: 20})  # fmt: skip
    for (by, key, notes_), names in sorted(alike.items(), key=lambda item: (order.index(item[0][0]), item[0])):
        style = STYLES["medium"] if by == "none" else STYLES["unknown"] if by == "unknown" else ""
        bad = notes_ and by != "unknown" and notes_ not in ("declared by the owner, not verified", "key unknown")
        shown = names if len(names) <= 4 else [*names[:3], f"and {len(names) - 3:,} more"]
        cell = (notes_, STYLES["high"] if bad else "dim")
        grid.add((by, style), key, f"{len(names):,}", cell, (", ".join(shown), "dim"))
    grid.show(screen)


def _others(screen: Console, rows: Sequence[ProtectionRow]) -> None:
    mixed = [row for row in rows if row.others or "others" in row.unknown]
    if not mixed:
        return
    screen.print()
    line(screen, ("Objects that do not have their bucket's present default encryption", "bold"))
    for row in mixed:
        parts = [f"{one.versions:,} {_under(one)} ({show_bytes(one.bytes)})" for one in row.others]
        parts += [f"unknown: {row.unknown['others']}"] if "others" in row.unknown else []
        line(screen, (f"{row.store}/{row.bucket}", "bold"), f"  {'; '.join(parts)}", indent=2, hang=4)


def _under(one: Other) -> str:
    perhaps = ", which may be the default" if one.perhaps_default else ""
    if one.by == "none":
        return f"without encryption{perhaps}"
    return f"under {one.key or one.by or 'a key that is not named'}{perhaps}"
