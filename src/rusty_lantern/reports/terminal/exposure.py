"""The terminal view of public access: the matrix, then each way in with a sentence and its witness."""

from __future__ import annotations

from collections.abc import Callable, Container, Iterable, Sequence
from typing import Any

import msgspec
from rich.console import Console

from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.access.policy.condition_keys import AUDIENCES
from rusty_lantern.core.access.solver.witness import Witness
from rusty_lantern.core.audit.dialect_differences import ReadOtherwise
from rusty_lantern.core.audit.public_buckets import WORST_FIRST
from rusty_lantern.core.value_types import show_moment, show_names
from rusty_lantern.reports.results.exposure import (
    ByCopies,
    ExposureResult,
    ExposureRow,
    Probed,
    ThroughRole,
    VerdictResult,
)
from rusty_lantern.reports.terminal.heading import heading
from rusty_lantern.reports.terminal.layout import (
    LEVELS_LEGEND,
    STYLES,
    VERB_HEADINGS,
    VERBS_LEGEND,
    Cell,
    join,
    line,
    many,
)
from rusty_lantern.reports.terminal.table import Table

WHO = {
    "anyone": "Anyone on the Internet, without credentials,",
    "any-account": "Any authenticated account",
}
CAN = {
    "list": "can list the keys",
    "read": "can read objects",
    "write": "can store and overwrite objects",
    "delete": "can delete objects",
    "change-settings": "can change the settings",
    "bypass-retention": "can bypass governance retention",
    "read-settings": "can read the settings",
}
_ORDER = ("open", "restricted", "unknown", "closed")


def widest(row: ExposureRow, verb: str) -> tuple[str, str, VerdictResult]:
    """Audience, level and verdict of the widest exposure of a verb; of equal ones, that which is certain to be wider,
    then that of the wider audience."""
    verdicts = [(audience, row.exposure[audience][verb]) for audience in AUDIENCES]
    audience, verdict = min(verdicts, key=lambda pair: (_ORDER.index(pair[1].verdict), pair[1].at_least == "closed"))
    return audience, verdict.verdict, verdict


MOST_NAMED = 8
"""Of so many buckets that are alike the names are shown; the matrix has all of them."""
MOST_CLOSED = 4
"""Of more buckets than this, those that are closed are a count."""


def exposure_view(screen: Console, result: ExposureResult) -> None:
    """The matrix, the widest open first, and how each bucket is open; closed buckets are a count."""
    heading(screen, "Public access", result, many(len(result.buckets), "bucket"))
    rows = sorted(result.buckets, key=_how_open)
    shown = rows if len(rows) <= MOST_CLOSED else [row for row in rows if _has_ways(row)]
    grid = Table("bucket", *(VERB_HEADINGS.get(verb, verb) for verb in VERBS), lead=0)
    for row in shown:
        grid.add((f"{row.store}/{row.bucket}", "bold"), *(_cell(row, verb) for verb in VERBS))
    if shown:
        grid.show(screen)
    if len(shown) < len(rows):
        _closed_count(screen, [row for row in rows if not _has_ways(row)], result.unread_roles)
    line(screen, (LEVELS_LEGEND, "dim"))
    line(screen, (VERBS_LEGEND, "dim"))
    if result.unread_roles:
        stores = show_names(sorted(result.unread_roles), MOST_NAMED)
        words = f"which roles callers from outside may assume is unknown in {stores}: lantern credentials says why"
        line(screen, (words, STYLES["unknown"]))
    for row, alike in _alike(shown, _ways):
        _ways_in(screen, row, alike)
    for row, alike in _alike([row for row in rows if row.through_roles], lambda row: row.through_roles):
        _roles(screen, show_names([f"{row.store}/{row.bucket}", *alike]), row.through_roles)
    by_copies = _alike([row for row in rows if row.by_copies], lambda row: row.by_copies)
    for row, alike in sorted(by_copies, key=lambda one: all(way.level == "unknown" for way in one[0].by_copies)):
        _copies(screen, show_names([f"{row.store}/{row.bucket}", *alike], MOST_NAMED), row.by_copies)
    for row, alike in _alike([row for row in rows if row.read_otherwise], lambda row: row.read_otherwise):
        read_otherwise_lines(screen, show_names([f"{row.store}/{row.bucket}", *alike]), row.read_otherwise)
    if result.probed is not None:
        _probed(screen, result.probed)


def _closed_count(screen: Console, closed: Sequence[ExposureRow], unread_roles: Container[str]) -> None:
    """How many buckets are closed, and of how many of them another way in is unknown."""
    doubts = {
        "by copies": sum(bool(row.by_copies) for row in closed),
        "through roles": sum(row.store in unread_roles for row in closed),
    }
    unknown = " and ".join(f"{way} in {number:,}" for way, number in doubts.items() if number)
    words = f"{many(len(closed), 'bucket')} closed to the public" + f"; unknown: ways in {unknown} of them" * bool(
        unknown
    )
    line(screen, (words, STYLES["unknown" if unknown else "ok"]))


def _alike(
    rows: Iterable[ExposureRow], content_of: Callable[[ExposureRow], Any]
) -> list[tuple[ExposureRow, list[str]]]:
    """Rows of one store with the same content: the first, and the names of the other buckets."""
    groups: dict[tuple[str, bytes], list[ExposureRow]] = {}
    for row in rows:
        groups.setdefault((row.store, msgspec.json.encode(content_of(row))), []).append(row)
    return [(first, [row.bucket for row in others]) for first, *others in groups.values()]


def _ways(row: ExposureRow) -> list[VerdictResult]:
    """The widest verdict of each verb, as of a bucket without a name."""
    verdicts = []
    for verb in VERBS:
        _, _, verdict = widest(row, verb)
        if (seen := verdict.witness) is not None:
            verdict = msgspec.structs.replace(verdict, witness=seen.on(""))
        verdicts.append(verdict)
    return verdicts


_ASSUMED_BY = {
    "federated": "whoever signs in through another service",
    "other-accounts": "other accounts",
    "anybody": "anybody with an account",
    None: "who may assume it is unknown",
}


def _roles(screen: Console, title: str, roles: list[ThroughRole]) -> None:
    """Sentences on roles by which callers from outside the account get in."""
    screen.print()
    line(screen, (title, "bold"), "  through a role that callers from outside may assume")
    for one in roles:
        for level in ("open", "restricted", "unknown"):
            verbs = [verb for verb, of in one.verbs.items() if of == level]
            if verbs:
                words = f"{_and(verbs)} by {one.role} ({_ASSUMED_BY[one.assumable_by]})"
                line(screen, (f"{level:<10} ", STYLES[level]), words, indent=2, hang=11)


def read_otherwise_lines(screen: Console, title: str, differences: list[ReadOtherwise]) -> None:
    """Sentences on a bucket whose policy is read otherwise by its store's software, or may be."""
    for one in differences:
        screen.print()
        how = (
            "this store reads its policy in its own way"
            if one.of_store
            else "what software answers here is not known; --probe tests it"
        )
        line(screen, (title, "bold"), f"  {how}")
        by = "by the common reading" if one.of_store else f"where software reads it as {one.dialect} does"
        for (level, other), places in _changes(one).items():
            line(screen, (f"{level:<10} ", STYLES[level]), f"{places}: {other} {by}", indent=2, hang=11)
        for words in one.because:
            line(screen, (words, "dim"), indent=13)


def _changes(one: ReadOtherwise) -> dict[tuple[str, str], str]:
    """The two levels → for whom which verbs."""
    by_levels: dict[tuple[str, str], dict[str, list[str]]] = {}
    for place, levels in one.changes.items():
        audience, _, verb = place.partition(".")
        by_levels.setdefault(levels, {}).setdefault(audience, []).append(verb)
    return {levels: _for_whom(verbs) for levels, verbs in by_levels.items()}


def _for_whom(verbs: dict[str, list[str]]) -> str:
    alike: dict[str, list[str]] = {}
    for audience, each in verbs.items():
        alike.setdefault(_and(each), []).append(audience)
    return "; ".join(f"{words} for {_and(audiences)}" for words, audiences in alike.items())


_COPIED = {
    "write": ("the public writes to what is copied here", "whether the public writes to what is copied here"),
    "read": ("the public reads the copy", "whether the public reads a copy"),
}


def _copies(screen: Console, title: str, ways: list[ByCopies]) -> None:
    """Sentences on what the public can do by way of copies."""
    screen.print()
    line(screen, (title, "bold"), "  by copies that the store makes: no rule of the bucket stops them")
    for one in ways:
        words = f"{_COPIED[one.verb][one.level == 'unknown']} ({one.because})"
        line(screen, (f"{one.level:<10} ", STYLES[one.level]), words, indent=2, hang=11)


def _has_ways(row: ExposureRow) -> bool:
    return bool(row.through_roles) or any(one.level != "unknown" for one in row.by_copies) or not _closed(row)


def _closed(row: ExposureRow) -> bool:
    return all(widest(row, verb)[1] == "closed" for verb in VERBS)


def _how_open(row: ExposureRow) -> tuple[object, ...]:
    levels = [widest(row, verb)[1] for verb in WORST_FIRST]
    first = next((n for n, level in enumerate(levels) if level == "open"), len(levels))
    return not levels.count("open"), first, -levels.count("open"), -levels.count("unknown"), row.store, row.bucket


def _probed(screen: Console, probed: list[Probed]) -> None:
    screen.print()
    line(screen, ("Anonymous test: requests from here, without credentials", "bold"))
    if not probed:
        line(screen, ("no bucket was tested, so nothing is confirmed", STYLES["unknown"]))
        return
    grid = Table("bucket", "verb", "verdict", "answer", "outcome", "note", shrink=(5,), lead=0)
    styles = {"agrees": STYLES["ok"], "disagrees": STYLES["critical"], "ambiguous": STYLES["unknown"]}
    agreed = [probe for probe in probed if probe.outcome == "agrees"]
    line(screen, (f"{len(agreed)} of {len(probed)} answers agree with the verdict", STYLES["ok"] if agreed else ""))
    shown = [probe for probe in probed if probe.outcome != "agrees" or (len(probed) <= 4)]
    if not shown:
        return
    for probe in shown:
        verdict = (probe.verdict, STYLES[probe.verdict])
        outcome = (probe.outcome, styles[probe.outcome])
        grid.add(f"{probe.store}/{probe.bucket}", probe.verb, verdict, probe.answer, outcome, (probe.note, "dim"))
    grid.show(screen)


def _cell(row: ExposureRow, verb: str) -> Cell:
    audience, level, verdict = widest(row, verb)
    unsure = level == "unknown" and verdict.at_least != "closed"
    level = verdict.at_least if unsure else level
    star = "*" if audience == "any-account" else ""
    star += "?" if unsure or _perhaps_more(row, verb) else ""
    shown = {"closed": "·", "unknown": "?"}.get(level, level + star)
    return shown, STYLES[level]


def _perhaps_more(row: ExposureRow, verb: str) -> dict[str, VerdictResult]:
    """The audiences that may have more access than the widest that is known, each with its unknown verdict."""
    audience, level, _ = widest(row, verb)
    if level in ("closed", "unknown") or (audience, level) == (AUDIENCES[0], "open"):
        return {}
    return {one: row.exposure[one][verb] for one in AUDIENCES if row.exposure[one][verb].verdict == "unknown"}


def _ways_in(screen: Console, row: ExposureRow, alike: Sequence[str]) -> None:
    """Each way into a bucket; `alike`: other buckets of the store that have the same."""
    ways: dict[tuple[str, str, str, str], list[str]] = {}
    unknown: dict[tuple[str, ...], list[str]] = {}
    for verb in VERBS:
        audience, level, verdict = widest(row, verb)
        if level == "unknown":
            sure = "" if verdict.at_least == "closed" else f" (at least {verdict.at_least})"
            unknown.setdefault(tuple(verdict.unknown_because), []).append(verb + sure)
        elif level != "closed":
            restriction = verdict.restriction.words if verdict.restriction else ""
            restriction += f", until {show_moment(verdict.until)}" if verdict.until else ""
            ways.setdefault((audience, level, restriction, verdict.because), []).append(verb)
        for more, unsure in _perhaps_more(row, verb).items():
            unknown.setdefault(tuple(unsure.unknown_because), []).append(f"{verb} by {more}")
    if not ways and not unknown:
        return
    screen.print()
    line(screen, (f"{row.store}/{row.bucket}", "bold"))
    for (audience, level, restriction, because), verbs in ways.items():
        can = _and([CAN[verb] for verb in verbs])
        sentence = f"{WHO[audience]} {can}" + (f", {restriction.removeprefix(', ')}" if restriction else "") + "."
        line(screen, (f"{level:<10} ", STYLES[level]), sentence, indent=2, hang=11)
        line(screen, (f"allowed by {because}", "dim"), indent=13)
        for opened in verbs:
            witness = row.exposure[audience][opened].witness
            if witness:
                show_witness(screen, witness)
    for reasons, verbs in unknown.items():
        words = f"{', '.join(verbs)}: {'; '.join(reasons)}"
        line(screen, ("unknown    ", STYLES["unknown"]), words, indent=2, hang=11)
    if alike:
        line(screen, ("also in    ", "dim"), show_names(alike, MOST_NAMED), indent=2, hang=11)


def _and(parts: list[str]) -> str:
    return " and ".join([", ".join(parts[:-1]), parts[-1]]) if len(parts) > 1 else parts[0]


DOORS = {
    "swift": " at the Swift door, below its account",
    "web": " at the address of the static site",
    "filer": " at the server's filer",
    "s3": " at the S3 door",
}
"""Door of a witness → where that is, in words."""


def show_witness(screen: Console, witness: Witness) -> None:
    """A witness: the request line, where from and as whom, and what it must carry."""
    door = DOORS.get(witness.door, "")
    line(screen, ("for example  ", "dim"), (witness.request, "bold"), (door, "dim"), indent=13)
    line(screen, (join([f"from {witness.address}", witness.caller, witness.at]), "dim"), indent=26)
    for name, value in {**witness.headers, **witness.circumstances}.items():
        line(screen, (f"{name}: {value}", ""), indent=26)
