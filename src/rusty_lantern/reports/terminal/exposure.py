"""The terminal view of exposures: the matrix, then each door with a sentence and its witness."""

from __future__ import annotations

from rich.console import Console

from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.access.policy.condition_keys import AUDIENCES
from rusty_lantern.core.access.solver.witness import Witness
from rusty_lantern.core.value_types import show_moment
from rusty_lantern.reports.results.exposure import ExposureResult, ExposureRow, Probed, VerdictResult
from rusty_lantern.reports.terminal.layout import STYLES, Cell, join, line, many
from rusty_lantern.reports.terminal.table import Grid

WHO = {
    "anyone": "Anyone on the Internet, without credentials,",
    "any-account": "Any signed-in account, whoever owns it,",
}
CAN = {
    "list": "can list the keys",
    "read": "can read objects",
    "write": "can store and overwrite objects",
    "delete": "can delete objects",
    "govern": "can change the settings",
    "unlock": "can bypass governance retention",
    "inspect": "can read the settings",
}
_ORDER = ("open", "narrow", "unknown", "closed")


def widest(row: ExposureRow, verb: str) -> tuple[str, str, VerdictResult]:
    """Audience, level and verdict of the widest exposure of a verb; for equal ones, the wider audience."""
    found = [(audience, row.exposure[audience][verb]) for audience in AUDIENCES]
    audience, verdict = min(found, key=lambda pair: _ORDER.index(pair[1].verdict))
    return audience, verdict.verdict, verdict


def exposure_view(screen: Console, result: ExposureResult) -> None:
    """Print the matrix and the doors."""
    line(screen, ("Who can get in", "bold"))
    line(
        screen,
        (
            join(
                [f"survey {result.survey}", f"as of {show_moment(result.as_of)}", many(len(result.buckets), "bucket")]
            ),
            "dim",
        ),
    )
    screen.print()
    grid = Grid("bucket", *VERBS, shrink=(0,))
    several = len({row.store for row in result.buckets}) > 1
    for row in result.buckets:
        grid.add(f"{row.store}/{row.bucket}" if several else row.bucket, *(_cell(row, verb) for verb in VERBS))
    grid.show(screen)
    screen.print()
    line(
        screen,
        ("open: anyone   open*: any signed-in account   narrow: only with a fence   ?: unknown   ·: closed", "dim"),
    )
    for row in result.buckets:
        _doors(screen, row)
    if result.probed is not None:
        _probed(screen, result.probed)


def _probed(screen: Console, probed: list[Probed]) -> None:
    screen.print()
    line(screen, ("Tried from here, without credentials", "bold"))
    if not probed:
        line(screen, ("no bucket was tried, so nothing is confirmed", STYLES["unknown"]))
        return
    grid = Grid("bucket", "verb", "verdict", "answer", "outcome", "note", shrink=(5, 0))
    styles = {"agrees": STYLES["held"], "disagrees": STYLES["critical"], "ambiguous": STYLES["unknown"]}
    agreed = [found for found in probed if found.outcome == "agrees"]
    line(screen, (f"{len(agreed)} of {len(probed)} answers agree with the verdict", STYLES["held"] if agreed else ""))
    shown = [found for found in probed if found.outcome != "agrees" or (len(probed) <= 4)]
    if not shown:
        return
    for found in shown:
        verdict = (found.verdict, STYLES[found.verdict])
        outcome = (found.outcome, styles[found.outcome])
        grid.add(f"{found.store}/{found.bucket}", found.verb, verdict, found.answer, outcome, (found.note, "dim"))
    grid.show(screen)


def _cell(row: ExposureRow, verb: str) -> Cell:
    audience, level, _ = widest(row, verb)
    star = "*" if audience == "any-account" else ""
    shown = {"closed": "·", "unknown": "?"}.get(level, level + star)
    return shown, STYLES[level]


def _doors(screen: Console, row: ExposureRow) -> None:
    doors: dict[tuple[str, str, str, str], list[str]] = {}
    unknown: dict[tuple[str, ...], list[str]] = {}
    for verb in VERBS:
        audience, level, verdict = widest(row, verb)
        if level == "unknown":
            unknown.setdefault(tuple(verdict.doubts), []).append(verb)
        elif level != "closed":
            fence = verdict.fence.words if verdict.fence else ""
            fence += f", until {show_moment(verdict.until)}" if verdict.until else ""
            doors.setdefault((audience, level, fence, verdict.because), []).append(verb)
    if not doors and not unknown:
        return
    screen.print()
    line(screen, (f"{row.store}/{row.bucket}", "bold"))
    for (audience, level, fence, because), verbs in doors.items():
        can = _and([CAN[verb] for verb in verbs])
        sentence = f"{WHO[audience]} {can}" + (f", {fence.removeprefix(', ')}" if fence else "") + "."
        line(screen, (f"{level:<7} ", STYLES[level]), sentence, indent=2, hang=8)
        line(screen, (f"let through by {because}", "dim"), indent=10)
        for opened in verbs:
            witness = row.exposure[audience][opened].witness
            if witness:
                show_witness(screen, witness)
    for reasons, unsure in unknown.items():
        line(screen, ("unknown ", STYLES["unknown"]), f"{', '.join(unsure)}: {'; '.join(reasons)}", indent=2, hang=8)


def _and(parts: list[str]) -> str:
    return " and ".join([", ".join(parts[:-1]), parts[-1]]) if len(parts) > 1 else parts[0]


def show_witness(screen: Console, witness: Witness) -> None:
    """A witness: the request line, where from and as whom, and what it must carry."""
    line(screen, ("for example  ", "dim"), (witness.request, "bold"), indent=10)
    line(screen, (join([f"from {witness.address}", witness.caller, witness.at]), "dim"), indent=23)
    for name, value in {**witness.headers, **witness.circumstances}.items():
        line(screen, (f"{name}: {value}", ""), indent=23)
