"""What `lantern changes` prints: as JSON, and on a terminal."""

from __future__ import annotations

import shlex
from collections import Counter
from collections.abc import Callable, Hashable, Sequence
from typing import TypeVar

import msgspec
from rich.console import Console

from rusty_lantern.core.value_types import show_moment, show_names
from rusty_lantern.reports.escape import shorten
from rusty_lantern.reports.results.changes import (
    ChangeRow,
    ChangesResult,
    DeclaredResult,
    DriftRow,
    EventRow,
    EventsRow,
)
from rusty_lantern.reports.terminal.exposure import show_witness
from rusty_lantern.reports.terminal.heading import missing_in_it
from rusty_lantern.reports.terminal.layout import (
    STYLES,
    Cell,
    join,
    line,
    many,
    next_step,
    styled,
    terse,
    verbs_in_short,
)
from rusty_lantern.reports.terminal.table import Table

TURNS = {"new": "drift", "worse": "critical", "resolved": "ok", "waived": "waived", "now known": "",
         "no longer known": "unknown", "new, unknown": "unknown"}  # fmt: skip


MOST_ROWS = 200
"""Of more rows, those that say the same of many subjects are one."""


def changes_view(screen: Console, result: ChangesResult) -> None:
    """Access first, then weakened protection, drift, what is new or gone, and every other fact."""
    line(screen, ("What changed", "bold"))
    span = join([f"from {show_moment(result.before_taken)}", f"to {show_moment(result.after_taken)}"])
    line(screen, (span, "dim"))
    for which, only in (("earlier", result.before_only), ("later", result.after_only)):
        if only:
            words = f"the {which} survey was limited to {', '.join(only)}: nothing else is compared"
            line(screen, (words, STYLES["unknown"]), hang=2)
    for which, only_of in (("earlier", result.before_only_of), ("later", result.after_only_of)):
        for store, patterns in only_of.items() if result.before_only_of != result.after_only_of else ():
            words = f"the {which} survey was limited to {', '.join(patterns)} of {store} by estate.yaml"
            line(screen, (words, STYLES["unknown"]), hang=2)
    access = [row for row in result.changes if row.change in ("gained", "lost")]
    for title, rows in (("Access gained", "gained"), ("Access lost", "lost")):
        _access(screen, title, [row for row in access if row.change == rows and row.subject == "bucket"])
    for title, rows in (("Identities that gained access", "gained"), ("Identities that lost access", "lost")):
        _identities(screen, title, [row for row in access if row.change == rows and row.buckets])
    _weakened(screen, result)
    _drift(screen, result.drift)
    _rest(screen, [row for row in result.changes if row.change not in ("gained", "lost")])
    screen.print()
    turns = Counter(row.change for row in result.drift)
    counts = [many(len(result.changes), "change"), f"{many(turns['new'] + turns['worse'], 'drift')} new or worse"]
    counts += [f"{turns['resolved']:,} resolved"]
    counts += [f"{turns[turn]:,} {turn}" for turn in ("now known", "no longer known", "new, unknown") if turns[turn]]
    line(screen, (join(counts), "bold"))
    if result.events is not None:
        _record(screen, result.events)
    gained = next((row for row in access if row.change == "gained"), None)
    if gained is not None and gained.buckets:
        next_step(screen, f"lantern access --who {shlex.quote(f'{gained.store}/{gained.name}')}", "what it can do")
    elif gained is not None:
        next_step(screen, f"lantern exposure {gained.store}/{gained.name}", "who has public access, and how")


def _weakened(screen: Console, result: ChangesResult) -> None:
    if result.not_compared:
        screen.print()
    for title, why in result.not_compared.items():
        line(screen, (f"{title}: whether protection became weaker is unknown: {why}", STYLES["unknown"]), hang=2)
    if result.weakened:
        screen.print()
        line(screen, ("Protection weakened", STYLES["critical"]))
        for weakened in result.weakened:
            words = f"  {many(weakened.versions, 'version')}: {weakened.what}"
            line(screen, (f"{weakened.store}/{weakened.bucket}", "bold"), words, indent=2)
            line(screen, ("; ".join(weakened.first), "dim"), indent=6)
            _causes(screen, weakened.causes)


def declared_view(screen: Console, result: DeclaredResult) -> None:
    """Where reality left the declaration: access first, then what is missing or undeclared, and every other fact."""
    line(screen, ("Differences from the declared buckets", "bold"))
    span = join([f"survey {result.survey}", many(result.declared, "declared bucket")])
    line(screen, (span, "dim"))
    missing_in_it(screen, result.unread_stores, result.only, result.only_of)
    access = [row for row in result.changes if row.change in ("gained", "lost")]
    for title, rows in (("More access than declared", "gained"), ("Less access than declared", "lost")):
        _access(screen, title, [row for row in access if row.change == rows])
    _rest(
        screen,
        [row for row in result.changes if row.change not in ("gained", "lost")],
        ("Undeclared and missing", "declared", "survey"),
    )
    screen.print()
    whole = not result.unread_stores and not result.only
    as_declared = "everything is as declared" if whole else "everything that was read is as declared"
    words = many(len(result.changes), "difference") if result.changes else as_declared
    line(screen, (words, "bold" if result.changes else STYLES["ok"] if whole else ""))


def _record(screen: Console, events: EventsRow) -> None:
    words = f"{many(events.lines, 'event')} read; {many(events.unexplained, 'change')} without a matching event"
    why = ": not logged, done by an identity excluded from logging, or in a log that was not given"
    line(screen, words, (why if events.unexplained else "", "dim"))
    if events.skipped:
        skipped = f"{many(events.skipped, 'line')} skipped, the first: {events.first_skipped}"
        line(screen, (skipped, STYLES["unknown"]))


def _title(row: ChangeRow | DriftRow) -> str:
    if row.subject == "store":
        return row.store
    if not row.store:  # declared without one
        return row.name
    return f"{row.store}/{row.name}" if row.subject == "bucket" else f"{row.store}: {row.name}"


def _access(screen: Console, title: str, rows: list[ChangeRow]) -> None:
    if not rows:
        return
    screen.print()
    line(screen, (title, STYLES["ok"] if rows[0].change == "lost" else STYLES["open"]))
    shown = {(row.store, row.name, row.verb, row.before, row.after, row.audience) for row in rows}
    merged: dict[tuple[object, ...], list[ChangeRow]] = {}
    for row in rows:
        same = (row.store, row.name, row.verb, row.before, row.after)
        if row.audience == "any-account" and (*same, "anyone") in shown:
            continue  # said together with anyone
        both = row.audience == "anyone" and (*same, "any-account") in shown
        causes = str([(c.actor, c.time) for c in row.causes or ()])
        merged.setdefault((row.store, row.name, row.audience, both, row.before, row.after, causes), []).append(row)
    for (_, _, audience, together, *_), alike in merged.items():
        row, verbs = alike[0], ", ".join(one.verb for one in alike)
        who = f"{audience} and any-account" if together else str(audience)
        words = f"  {who} can {verbs}: {row.before or 'new bucket'} → {row.after or 'bucket gone'}"
        line(screen, (_title(row), "bold"), words, (f"  {row.note}" if row.note else "", STYLES["unknown"]), indent=2)
        if row.witness is not None:
            show_witness(screen, row.witness)
        _causes(screen, row.causes)


def _identities(screen: Console, title: str, rows: list[ChangeRow]) -> None:
    """Which identities can do more, or less, on which buckets; those with the same content together."""
    if not rows:
        return
    screen.print()
    line(screen, (title, STYLES["ok"] if rows[0].change == "lost" else STYLES["open"]))
    alike: dict[Hashable, list[ChangeRow]] = {}
    for row in rows:
        key = (row.store, row.verb, row.before, row.after, tuple(row.buckets), _caused(row))
        alike.setdefault(key, []).append(row)
    for mine in alike.values():
        row, where = mine[0], f"{many(len(mine[0].buckets), 'bucket')}: {show_names(mine[0].buckets)}"
        words = f"  {verbs_in_short(row.verb.split())}: {row.before} → {row.after} on {where}"
        line(screen, (f"{row.store}: {show_names([one.name for one in mine])}", "bold"), words, indent=2, hang=2)
        _causes(screen, row.causes)


def _causes(screen: Console, causes: list[EventRow] | None, indent: int = 6) -> None:
    """Who did it and when, the likeliest; or that nothing in the record explains it."""
    if causes is None:
        return
    if not causes:
        line(screen, ("no matching event in the given logs", STYLES["unknown"]), indent=indent)
        return
    first, more = causes[0], len(causes) - 1
    line(screen, ("by ", "dim"), event_words(first), (f"  or {many(more, 'similar event')}" if more else "", "dim"),
         indent=indent, hang=2)  # fmt: skip


def event_words(event: EventRow) -> str:
    """An event in one line: who, what, when, from where."""
    what = " ".join(part for part in (event.action, event.key or event.about) if part)
    where = f" from {event.address}" if event.address else ""
    return f"{event.actor or 'someone without a name'}  {what}  {show_moment(event.time)}{where}"


def _drift(screen: Console, rows: list[DriftRow]) -> None:
    if not rows:
        return
    screen.print()
    line(screen, ("Drift", "bold"))
    grid = Table("subject", "change", "severity", "fact", "required", "before", "now",
                shrink=(3, 4, 5, 6), lead=0, floors={3: 18, 4: 10, 5: 10, 6: 10})  # fmt: skip
    unlisted: dict[tuple[str, str], list[DriftRow]] = {}
    listed = []
    for row in rows:
        if row.change in ("now known", "no longer known") and not (row.before and row.after):
            unlisted.setdefault((row.store, row.change), []).append(row)
        else:
            listed.append(row)
    for row, title in _folded(
        listed, lambda row: (row.change, row.severity, row.fact, row.required, row.before, row.after)
    ):
        turn: Cell = (row.change, STYLES.get(TURNS[row.change], ""))
        grid.add(
            (title, "bold"),
            turn,
            styled(row.severity),
            row.fact,
            terse(row.required),
            row.before,
            (row.after, "bold"),
        )
    if listed:
        grid.show(screen)
    for (store, change), mine in unlisted.items():
        survey = "the later survey" if change == "no longer known" else "the earlier survey"
        subjects = len({(row.subject, row.name) for row in mine})
        words = f"{many(len(mine), 'drift')} {change}: {many(subjects, 'subject')} that {survey} could not list"
        line(screen, (store, "bold"), f"  {words}", indent=2, hang=2)


def _rest(
    screen: Console, rows: list[ChangeRow], titles: tuple[str, str, str] = ("New and gone", "before", "now")
) -> None:
    come = [row for row in rows if row.change in ("new", "gone")]
    if come:
        screen.print()
        line(screen, (titles[0], "bold"))
        for row, title in _folded(come, lambda row: (row.change, row.note, _caused(row))):
            line(screen, (f"{row.change:<5}", "" if row.change == "new" else STYLES["medium"]), f"{row.subject} ",
                 (title, "bold"), (f"  {row.note}" if row.note else "", "dim"), indent=2)  # fmt: skip
            _causes(screen, row.causes)
    facts = [row for row in rows if row.change not in ("new", "gone")]
    if not facts:
        return
    screen.print()
    line(screen, ("Other changes", "bold"))
    last = "by whom" if any(row.causes is not None for row in facts) else "why"
    grid = Table("subject", "fact", *titles[1:], last, shrink=(1, 2, 3, 4), lead=0, floors={1: 16, 2: 10, 3: 10, 4: 14})
    for row, title in _folded(
        _together(facts), lambda row: (row.change, row.fact, row.before, row.after, row.note, _caused(row))
    ):
        style = STYLES["unknown"] if row.change == "no longer known" else ""
        grid.add((title, "bold"), row.fact or row.change, row.before, (row.after, style), _why(row))
    grid.show(screen)


Row = TypeVar("Row", ChangeRow, DriftRow)


def _folded(rows: Sequence[Row], key_of: Callable[[Row], Hashable]) -> list[tuple[Row, str]]:
    """Rows with their subject; of many, those of one store and kind with the same content are one."""
    if len(rows) <= MOST_ROWS:
        return [(row, _title(row)) for row in rows]
    alike: dict[Hashable, list[Row]] = {}
    for row in rows:
        alike.setdefault((row.store, row.subject, key_of(row)), []).append(row)
    return [
        (mine[0], _title(mine[0]) + (f" and {len(mine) - 1:,} more" if len(mine) > 1 else ""))
        for mine in alike.values()
    ]


def _caused(row: ChangeRow) -> Hashable:
    return None if row.causes is None else tuple((one.actor, one.action, one.time) for one in row.causes)


def _together(rows: list[ChangeRow]) -> list[ChangeRow]:
    """The verbs of a bucket whose public access became known, or unknown, alike are one row."""
    first_of: dict[Hashable, ChangeRow] = {}
    for number, row in enumerate(rows):
        verb = row.fact.removeprefix("exposure.")
        key = number if verb == row.fact else (row.store, row.name, row.change, row.before, row.after, row.note)
        first = first_of.get(key)
        first_of[key] = row if first is None else msgspec.structs.replace(first, fact=f"{first.fact}, {verb}")
    return list(first_of.values())


def _why(row: ChangeRow) -> Cell:
    if row.causes:
        cause = row.causes[0]
        return f"{cause.actor} {cause.action} {cause.time:%Y-%m-%d %H:%M}", ""
    if row.causes is not None:
        return "no matching event", STYLES["unknown"]
    return shorten(row.note, 72), "dim"
