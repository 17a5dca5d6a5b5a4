"""Terminal views of the access commands."""

from __future__ import annotations

import re
import shlex
from collections.abc import Mapping, Sequence

from rich.console import Console

from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.audit.other_requests import OtherRequests
from rusty_lantern.core.value_types import DURATION, show_bytes, show_moment, show_names
from rusty_lantern.reports.results.access import (
    AccessResult,
    AccessRow,
    DecisionResult,
    IdentityAccessRow,
    WhoCanRow,
)
from rusty_lantern.reports.results.proposal import ChangeResult, RetentionCostResult, TryResult
from rusty_lantern.reports.terminal.exposure import CAN, WHO, read_otherwise_lines, show_witness
from rusty_lantern.reports.terminal.heading import heading
from rusty_lantern.reports.terminal.layout import (
    STYLES,
    VERB_HEADINGS,
    join,
    line,
    many,
    next_step,
    styled,
    terse,
    verbs_in_short,
)
from rusty_lantern.reports.terminal.table import Grid

_SAYS = {
    "allows": STYLES["open"],
    "denies": "bold",
    "not understood": STYLES["unknown"],
    "ignored": "dim",
    "shuts": "dim",
}
SIDES = {True: ("inside", "dim"), False: ("outside", STYLES["restricted"]), None: ("unknown", STYLES["unknown"])}
"""Whether somebody is one of the owner's account or of a trusted one."""


def why_view(screen: Console, result: DecisionResult) -> None:
    """The request, each rule's word on it, and the decision."""
    request = result.request
    line(screen, (f"{result.store}/{result.bucket}", "bold"), f"  {request.action}")
    line(screen, (request.request, "bold"), indent=2)
    line(screen, (join([f"from {request.address}", request.caller, request.at]), "dim"), indent=2)
    for name, value in {**request.headers, **request.circumstances}.items():
        line(screen, f"{name}: {value}", indent=2)
    screen.print()
    grid = Grid("rule", "says", "why", shrink=(2, 0), floors={2: 24})
    for step in result.steps:
        grid.add(step.rule, (step.says, _SAYS.get(step.says, "dim")), (step.why, "dim"))
    if result.steps:
        grid.show(screen, indent=2)
        screen.print()
    word, style = {True: ("allowed", "open"), False: ("refused", "ok"), None: ("unknown", "unknown")}[result.allowed]
    line(screen, (word, STYLES[style]), f": {result.by}")
    if result.note:
        line(screen, (result.note, "dim"))
    if result.other_requests is not None:
        _other_requests(screen, result.other_requests)


def _other_requests(screen: Console, found: OtherRequests) -> None:
    """That the caller has the verb all the same, by another request."""
    if found.level == "unknown":
        line(screen, (f"whether another {found.verb} request is allowed is unknown", STYLES["unknown"]))
        return
    under = f", {found.restriction}" if found.restriction else ""
    line(screen, (f"another {found.verb} request is allowed{under}", STYLES[found.level]))
    if found.example is not None:
        line(screen, f"for example  {found.example.request}", indent=2)
        line(screen, (join([f"from {found.example.address}", found.example.at]), "dim"), indent=15)
        for name, value in {**found.example.headers, **found.example.circumstances}.items():
            line(screen, f"{name}: {value}", indent=15)


_LONG_ID = re.compile(r"([0-9a-f]{4})[0-9a-f]{28}")


def _named(row: AccessRow) -> str:
    """Whom a rule names; by the names of the store's own identities, where it names them by ids."""
    if row.identities is None:
        return row.identity
    short = _LONG_ID.sub(r"\1…", row.identity)
    more = f" and {len(row.identities) - 2} more" if len(row.identities) > 2 else ""
    return f"{short} = {', '.join(row.identities[:2])}{more}" if row.identities else f"{short} = nobody there"


def access_view(screen: Console, result: AccessResult, *, in_full: bool = False) -> None:
    """One line for each identity and bucket, then what the stores' own identities may; `in_full` names all buckets."""
    title = "Access that buckets give to named identities"
    if result.who_can:
        _who_can(screen, result)
        line(screen, (title, "bold"))
    else:
        heading(screen, title, result)
    grid = Grid("identity", "account", "bucket", "permissions", "condition", shrink=(3, 4), lead=0,
                floors={3: 12, 4: 14}, sparse=(4,))  # fmt: skip
    for row in result.access:
        side = SIDES[row.inside]
        if set(row.verbs.values()) == {"unknown"}:
            grid.add(_named(row), side, f"{row.store}/{row.bucket}", ("unknown", STYLES["unknown"]), "")
            continue
        may = _granted(row.verbs)
        grid.add(_named(row), side, f"{row.store}/{row.bucket}", may, ("; ".join(row.restrictions), "dim"))
    if result.access:
        grid.show(screen)
    else:
        known = "that were read " if result.unread_rules or result.unread_stores else ""
        line(screen, (f"no rules {known}name such an identity", "dim"))
    _unread_rules(screen, result)
    _own(screen, result, in_full)
    screen.print()
    outside = len({row.identity for row in result.access if row.inside is False})
    named = len({row.identity for row in result.access})
    mine = len({(row.store, row.identity) for row in result.identities})
    parts = [
        f"{many(named, 'identity', 'identities')} named in rules",
        f"{outside} outside",
        f"{mine:,} of the stores' own",
    ]
    line(screen, join(parts))
    if not in_full and result.identities:
        next_step(screen, f"lantern access --who {shlex.quote(result.identities[0].identity)}", "every bucket by name")


def _who_can(screen: Console, result: AccessResult) -> None:
    """Verb by verb, everybody who can use it on the buckets that were named."""
    by_bucket: dict[str, list[WhoCanRow]] = {}
    for row in result.who_can:
        by_bucket.setdefault(f"{row.store}/{row.bucket}", []).append(row)
    for number, (bucket, rows) in enumerate(by_bucket.items()):
        if number:
            line(screen, (f"Who can use {bucket}", "bold"))
        else:
            heading(screen, f"Who can use {bucket}", result)
        grid = Grid("verb", "who", shrink=(1,))
        for row in rows:
            others = bool(row.unknown_because)
            who = ", ".join([*row.names, "perhaps others"] if others else row.names) or "nobody"
            grid.add(
                row.verb, (who if row.names else "unknown" if others else who, STYLES["unknown"] if others else "")
            )
        grid.show(screen, indent=2)
        word = "perhaps others" if any(row.names for row in rows) else "unknown"
        for why in dict.fromkeys(row.unknown_because for row in rows if row.unknown_because):
            line(screen, (f"{word}: {why}", STYLES["unknown"]), indent=2)
        screen.print()


def _unread_rules(screen: Console, result: AccessResult) -> None:
    """The buckets whose rules are not all known, those together of which the reason is the same."""
    alike: dict[str, list[str]] = {}
    for title, why in result.unread_rules.items():
        alike.setdefault(why, []).append(title)
    for why, titles in alike.items():
        words = f"  the rules are not all known: {why}"
        line(screen, (show_names(titles, MANY), "bold"), (words, STYLES["unknown"]), hang=2)


def _own(screen: Console, result: AccessResult, in_full: bool) -> None:
    if result.identities:
        screen.print()
        line(
            screen, ("What the stores' own identities can do, by their own permissions and the buckets' rules", "bold")
        )
        grid = Grid("identity", "permissions", "buckets", "which", "condition", shrink=(1, 3, 4), right=(2,), lead=0,
                    floors={1: 14, 3: 18, 4: 14}, sparse=(4,))  # fmt: skip
        folded = {} if in_full else _unknown_for_many(result.identities)
        for row in result.identities:
            if _blank(row) in folded:
                continue
            names = ", ".join(row.buckets[:3]) + (", …" if row.count > 3 else "")
            only = "; ".join([*row.restrictions, *row.unknown_because[:1]])
            grid.add(
                (f"{row.store}/{row.identity}", "bold"), _granted(row.verbs), f"{row.count:,}", names, (only, "dim")
            )
        if grid.rows:
            grid.show(screen)
        for (store, why), rows in folded.items():
            titles = sorted({f"{store}/{bucket}" for row in rows for bucket in row.buckets})
            told = f"  what {len(rows):,} identities can do there is unknown: {why}"
            line(screen, (show_names(titles, MANY), "bold"), (told, STYLES["unknown"]), hang=2)
    if in_full:
        for row in result.identities:
            screen.print()
            words, style = _granted(row.verbs)
            line(screen, (words, style or "bold"), f" on {many(row.count, 'bucket')} of {row.store}")
            line(screen, ", ".join(row.buckets), indent=2)
            for words in (*row.restrictions, *row.unknown_because):
                line(screen, (words, "dim"), indent=4)
    for store, reason in result.unread.items():
        if result.unread_stores.get(store) != reason:
            line(screen, (f"{store}: its identities are unknown: {reason}", STYLES["unknown"]))


MANY = 3


def _blank(row: IdentityAccessRow) -> tuple[str, str]:
    """Store and reason of a row of which nothing is known; empty texts for any other."""
    nothing = set(row.verbs.values()) == {"unknown"} and len(row.unknown_because) == 1
    return (row.store, row.unknown_because[0]) if nothing else ("", "")


def _unknown_for_many(rows: Sequence[IdentityAccessRow]) -> dict[tuple[str, str], list[IdentityAccessRow]]:
    """Store and reason → what is unknown of many identities for it."""
    alike: dict[tuple[str, str], list[IdentityAccessRow]] = {}
    for row in rows:
        alike.setdefault(_blank(row), []).append(row)
    return {blank: found for blank, found in alike.items() if blank[0] and len(found) >= MANY}


def _granted(verbs: Mapping[str, str]) -> tuple[str, str]:
    """What an identity may, in words and their style; what is unknown is never among it."""
    sure = [verb for verb in VERBS if verbs.get(verb, "unknown") != "unknown"]
    if "unknown" not in verbs.values():
        return verbs_in_short(sure), ""
    return f"{' '.join(sure)} and more?" if sure else "unknown", STYLES["unknown"]


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
    grid = Grid("audience", *(VERB_HEADINGS.get(verb, verb) for verb in VERBS), shrink=(0,))
    for audience, verdicts in result.exposure.items():
        cells = [verdicts[verb].verdict for verb in VERBS]
        grid.add(audience, *(("·" if cell == "closed" else cell, STYLES[cell]) for cell in cells))
    grid.show(screen)
    for audience, verdicts in result.exposure.items():
        doubts = {doubt: verb for verb in VERBS for doubt in verdicts[verb].unknown_because}
        for doubt in doubts:
            line(screen, (f"unknown for {audience}: ", STYLES["unknown"]), doubt, indent=2)
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
    told = set()
    for change in changes:
        if change.audience not in WHO:
            continue
        if (change.verb, change.before, change.after) not in told:  # what anyone gains, any account gains as well
            _change(screen, change)
        told.add((change.verb, change.before, change.after))
    by_name: dict[str, list[ChangeResult]] = {}
    by_everybody = {change.verb for change in changes if change.audience in WHO and change.gained is not None}
    for change in changes:
        gained_with_all = change.gained is not None and change.lost is None and change.verb in by_everybody
        if change.audience not in WHO and not gained_with_all:
            by_name.setdefault(change.audience, []).append(change)
    alike: dict[tuple[object, ...], list[str]] = {}
    for name, mine in by_name.items():
        told_of = (name,) if len(by_name) < MANY_NAMES else ()
        kind = tuple((one.verb, one.gained is None, one.lost is None, one.sure) for one in mine)
        alike.setdefault((*kind, *told_of), []).append(name)
    for names in alike.values():
        _changes_of(screen, show_names(names), by_name[names[0]])
    if unseen:
        line(screen, (f"{unseen}: what they gain or lose is not known", STYLES["unknown"]))


MANY_NAMES = 4
"""From so many on, those who gain and lose the same verbs are told together, with an example of the first."""


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


def _retention(screen: Console, told: RetentionCostResult) -> None:
    """What another default retention comes to."""
    screen.print()
    before, after = (
        "unknown" if n is None else DURATION.show(n) if n else "none" for n in (told.now_seconds, told.proposed_seconds)
    )
    line(screen, ("default retention  ", "bold"), f"{before} → {after}; what is stored already is not touched by it")
    if told.written_bytes_a_month is None or told.locked_bytes is None:
        words = f"how much is written a month is unknown, and so is the cost: {told.counted_from}"
        line(screen, (words, STYLES["unknown"]), indent=2)
        return
    words = f"{show_bytes(told.written_bytes_a_month)} are written a month ({told.counted_from}), "
    line(screen, f"{words}so {show_bytes(told.locked_bytes)} will be locked at any time", indent=2)
    if told.cost_month is None:
        line(screen, ("what that costs is unknown: prices.yaml has no price for it", STYLES["unknown"]), indent=2)
        return
    more = told.more_a_month
    words = "" if more is None else f", {abs(more):,.2f} {told.currency} {'more' if more >= 0 else 'less'} than now"
    line(screen, f"that costs {told.cost_month:,.2f} {told.currency} a month{words}", indent=2)


def _would(screen: Console, result: TryResult) -> None:
    """What would drift, what would be fixed, and what is unknown."""
    if result.drift is None:
        return
    screen.print()
    if not result.drift:
        line(screen, ("It would not drift from the baseline.", STYLES["ok"] if not result.unknown else ""))
    else:
        line(screen, ("It would drift from the baseline", STYLES["drift"]))
        grid = Grid(
            "severity",
            "fact",
            "required",
            "proposed",
            "",
            "set by (line, sheet)",
            shrink=(5, 3, 2),
            floors={2: 10, 3: 10},
        )
        for found in result.drift:
            news = ("new", STYLES["critical"]) if found.fact in result.new_drift and result.against else ("", "")
            place = found.line.split(":")[-2] if found.line.count(":") >= 2 else found.line
            grid.add(styled(found.severity), found.fact, terse(found.required), (found.observed, "bold"), news,
                     (f"{place} {found.sheet}", "dim"))  # fmt: skip
        grid.show(screen)
    if result.fixed:
        line(screen, ("fixed: ", STYLES["ok"]), ", ".join(result.fixed))
    for found in result.unknown:
        line(screen, ("unknown ", STYLES["unknown"]), f"{found.fact}: {found.reason}")
    for found in result.waived:
        line(screen, ("waived ", STYLES["waived"]), f"{found.fact}: {found.reason}")


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
