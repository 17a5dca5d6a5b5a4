"""Terminal view of a proposed bucket: what would be so, and what would change."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Console

from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.value_types import DURATION, show_bytes, show_moment, show_names
from rusty_lantern.reports.results.proposal import ChangeResult, RetentionCostResult, TryResult
from rusty_lantern.reports.terminal.exposure import CAN, WHO, read_otherwise_lines, show_witness
from rusty_lantern.reports.terminal.layout import (
    STYLES,
    VERB_HEADINGS,
    line,
    styled,
    terse,
)
from rusty_lantern.reports.terminal.table import Table


def tries_view(screen: Console, results: Sequence[TryResult]) -> None:
    """One after the other."""
    for number, result in enumerate(results):
        if number:
            screen.print()
        try_view(screen, result)


def try_view(screen: Console, result: TryResult) -> None:
    """What would be so, and who would gain or lose what."""
    title = f"{result.bucket}: proposed" + (f" and current {result.against}" if result.against else "")
    line(screen, (title, "bold"))
    line(screen, (f"as of {show_moment(result.as_of)}; nothing was sent anywhere", "dim"))
    screen.print()
    grid = Table("audience", *(VERB_HEADINGS.get(verb, verb) for verb in VERBS), shrink=(0,))
    for audience, verdicts in result.exposure.items():
        cells = [verdicts[verb].verdict for verb in VERBS]
        grid.add(audience, *(("·" if cell == "closed" else cell, STYLES[cell]) for cell in cells))
    grid.show(screen)
    for audience, verdicts in result.exposure.items():
        doubts = {doubt: verb for verb in VERBS for doubt in verdicts[verb].unknown_because}
        for doubt in doubts:
            line(screen, (f"unknown for {audience}: ", STYLES["unknown"]), doubt, indent=2)
    if result.refused:
        line(screen, ("the store may refuse this policy: ", STYLES["drift"]), result.refused, indent=2)
    read_otherwise_lines(screen, "as proposed", result.read_otherwise)
    _would(screen, result)
    if result.retention is not None:
        _retention(screen, result.retention)
    if result.changes is not None:
        _gained_and_lost(screen, result.changes, result.own_unseen)


def _gained_and_lost(screen: Console, changes: Sequence[ChangeResult], unseen: str) -> None:
    """Who would gain or lose what; those who gain and lose the same together, where there are many."""
    screen.print()
    if not changes:
        words = "No access changes." if not unseen else "No access changes that are known."
        line(screen, (words, STYLES["ok"] if not unseen else ""))
    shown = set()
    for change in changes:
        if change.audience not in WHO:
            continue
        if (change.verb, change.before, change.after) not in shown:  # what anyone gains, any account gains as well
            _change(screen, change)
        shown.add((change.verb, change.before, change.after))
    by_name: dict[str, list[ChangeResult]] = {}
    by_everybody = {change.verb for change in changes if change.audience in WHO and change.gained is not None}
    for change in changes:
        gained_with_all = change.gained is not None and change.lost is None and change.verb in by_everybody
        if change.audience not in WHO and not gained_with_all:
            by_name.setdefault(change.audience, []).append(change)
    alike: dict[tuple[object, ...], list[str]] = {}
    for name, mine in by_name.items():
        by_itself = (name,) if len(by_name) < MANY_NAMES else ()
        kind = tuple((one.verb, one.gained is None, one.lost is None, one.sure) for one in mine)
        alike.setdefault((*kind, *by_itself), []).append(name)
    for names in alike.values():
        _changes_of(screen, show_names(names), by_name[names[0]])
    if unseen:
        line(screen, (f"{unseen}: what they gain or lose is not known", STYLES["unknown"]))


MANY_NAMES = 4
"""From so many on, those who gain and lose the same verbs are shown together, with an example of the first."""


def _changes_of(screen: Console, name: str, changes: list[ChangeResult]) -> None:
    """What somebody named gains and loses, with an example each."""
    for word, style, side in (("gains", STYLES["open"], "gained"), ("loses", STYLES["ok"], "lost")):
        mine = [change for change in changes if getattr(change, side) is not None]
        if mine:
            levels = {f"  ({change.before} → {change.after})" for change in mine}
            verbs = ", ".join(change.verb for change in mine)
            line(screen, (f"{word} ", style), f"{name}: {verbs}", (levels.pop() if len(levels) == 1 else "", "dim"))
            show_witness(screen, getattr(mine[0], side))
    hidden = [change.verb for change in changes if not change.sure]
    if hidden:
        line(screen, ("unknown ", STYLES["unknown"]), f"whether {name} gains or loses {', '.join(hidden)}")


def _retention(screen: Console, cost: RetentionCostResult) -> None:
    """What another default retention would cost."""
    screen.print()
    before, after = (
        "unknown" if n is None else DURATION.show(n) if n else "none" for n in (cost.now_seconds, cost.proposed_seconds)
    )
    line(screen, ("default retention  ", "bold"), f"{before} → {after}; what is stored already is not touched by it")
    if cost.written_bytes_a_month is None or cost.locked_bytes is None:
        words = f"how much is written a month is unknown, and so is the cost: {cost.counted_from}"
        line(screen, (words, STYLES["unknown"]), indent=2)
        return
    words = f"{show_bytes(cost.written_bytes_a_month)} are written a month ({cost.counted_from}), "
    line(screen, f"{words}so {show_bytes(cost.locked_bytes)} will be locked at any time", indent=2)
    if cost.cost_month is None:
        line(screen, ("what that costs is unknown: prices.yaml has no price for it", STYLES["unknown"]), indent=2)
        return
    more = cost.more_a_month
    words = "" if more is None else f", {abs(more):,.2f} {cost.currency} {'more' if more >= 0 else 'less'} than now"
    line(screen, f"that costs {cost.cost_month:,.2f} {cost.currency} a month{words}", indent=2)


def _would(screen: Console, result: TryResult) -> None:
    """What would drift, what would be fixed, and what is unknown."""
    if result.drift is None:
        return
    screen.print()
    if not result.drift:
        line(screen, ("It would not drift from the baseline.", STYLES["ok"] if not result.unknown else ""))
    else:
        line(screen, ("It would drift from the baseline", STYLES["drift"]))
        grid = Table(
            "severity",
            "fact",
            "required",
            "proposed",
            "",
            "set by (line, sheet)",
            shrink=(5, 3, 2),
            floors={2: 10, 3: 10},
        )
        for finding in result.drift:
            news = ("new", STYLES["critical"]) if finding.fact in result.new_drift and result.against else ("", "")
            place = finding.line.split(":")[-2] if finding.line.count(":") >= 2 else finding.line
            grid.add(styled(finding.severity), finding.fact, terse(finding.required), (finding.observed, "bold"), news,
                     (f"{place} {finding.sheet}", "dim"))  # fmt: skip
        grid.show(screen)
    if result.fixed:
        line(screen, ("fixed: ", STYLES["ok"]), ", ".join(result.fixed))
    for finding in result.unknown:
        line(screen, ("unknown ", STYLES["unknown"]), f"{finding.fact}: {finding.reason}")
    for finding in result.waived:
        line(screen, ("waived ", STYLES["waived"]), f"{finding.fact}: {finding.reason}")


def _change(screen: Console, change: ChangeResult) -> None:
    for word, style, witness in (("gains", STYLES["open"], change.gained), ("loses", STYLES["ok"], change.lost)):
        if witness is not None:
            can = CAN[change.verb].removeprefix("can ")
            who = WHO[change.audience].rstrip(",")
            shift = f"{change.before} → {change.after}" if change.before != change.after else f"stays {change.after}"
            line(screen, (f"{word} ", style), f"{who}: to {can}", (f"  ({shift})", "dim"))
            show_witness(screen, witness)
    if not change.sure and change.gained is None and change.lost is None:
        words = f"whether {change.audience} gains or loses {change.verb} ({change.before} → {change.after})"
        line(screen, ("unknown ", STYLES["unknown"]), words)
