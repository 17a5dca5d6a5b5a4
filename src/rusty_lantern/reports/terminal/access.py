"""Terminal views of the access commands: one decision, and who may do what."""

from __future__ import annotations

import re
import shlex
from collections.abc import Iterable, Mapping, Sequence

from rich.console import Console

from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.access.policy.condition_keys import AUDIENCES
from rusty_lantern.core.audit.other_requests import OtherRequests
from rusty_lantern.core.value_types import show_names
from rusty_lantern.reports.results.access import AccessResult, AccessRow, IdentityAccessRow, WhoCanRow
from rusty_lantern.reports.results.copies import INTO, CopyAccessRow
from rusty_lantern.reports.results.decisions import DecisionResult, RoleDecision
from rusty_lantern.reports.terminal.heading import heading
from rusty_lantern.reports.terminal.layout import (
    STYLES,
    join,
    line,
    many,
    next_step,
    verbs_in_short,
)
from rusty_lantern.reports.terminal.table import Table

_SAYS = {
    "allows": STYLES["open"],
    "denies": "bold",
    "not understood": STYLES["unknown"],
    "not read": STYLES["unknown"],
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
    grid = Table("rule", "says", "why", shrink=(2, 0), floors={2: 24})
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
    for one in result.by_roles:
        _by_role(screen, one)


def _by_role(screen: Console, one: RoleDecision) -> None:
    """That a role which the caller may assume has the request allowed, or may have."""
    if one.unsure:
        line(screen, (f"allowed, perhaps, as {one.role}", STYLES["unknown"]), (f": {one.unsure}", "dim"))
        return
    word, style = ("allowed", "open") if one.allowed else ("unknown", "unknown")
    line(screen, (f"{word} as {one.role}, which the caller may assume", STYLES[style]), (f": {one.by}", "dim"))


def _other_requests(screen: Console, others: OtherRequests) -> None:
    """That the caller has the verb all the same, by another request."""
    if others.level == "unknown":
        line(screen, (f"whether another {others.verb} request is allowed is unknown", STYLES["unknown"]))
        return
    under = f", {others.restriction}" if others.restriction else ""
    line(screen, (f"another {others.verb} request is allowed{under}", STYLES[others.level]))
    if others.example is not None:
        line(screen, f"for example  {others.example.request}", indent=2)
        line(screen, (join([f"from {others.example.address}", others.example.at]), "dim"), indent=15)
        for name, value in {**others.example.headers, **others.example.circumstances}.items():
            line(screen, f"{name}: {value}", indent=15)


_LONG_ID = re.compile(r"([0-9a-f]{4})[0-9a-f]{28}")


def _named(row: AccessRow) -> str:
    """Whom a rule names; by the names of the store's own identities, where it names them by ids."""
    if row.identities is None:
        return row.identity
    short = _LONG_ID.sub(r"\1…", row.identity)
    more = f" and {len(row.identities) - 2} more" if len(row.identities) > 2 else ""
    return f"{short} = {', '.join(row.identities[:2])}{more}" if row.identities else f"{short} = no such user"


def access_view(screen: Console, result: AccessResult, *, in_full: bool = False) -> None:
    """One line for each identity and bucket, then what the stores' own identities may; `in_full` names all buckets."""
    title = "Access that buckets give to named identities"
    if result.who_can:
        _who_can(screen, result)
        line(screen, (title, "bold"))
    else:
        heading(screen, title, result)
    grid = Table("identity", "account", "bucket", "permissions", "condition", shrink=(3, 4), lead=0,
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
    _assumed(screen, result)
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
        grid = Table("verb", "who", shrink=(1,))
        for row in rows:
            others = bool(row.unknown_because)
            names = _public_first(row.names)
            who = ", ".join([*names, "perhaps others"] if others else names) or "nobody"
            grid.add(
                row.verb, (who if row.names else "unknown" if others else who, STYLES["unknown"] if others else "")
            )
        grid.show(screen, indent=2)
        word = "perhaps others" if any(row.names for row in rows) else "unknown"
        for why in dict.fromkeys(row.unknown_because for row in rows if row.unknown_because):
            line(screen, (f"{word}: {why}", STYLES["unknown"]), indent=2)
        anyway = {row.verb: frozenset(row.names) for row in rows}
        _by_copies(screen, [row for row in result.by_copies if f"{row.store}/{row.bucket}" == bucket], anyway)
        screen.print()


def _by_copies(screen: Console, rows: Sequence[CopyAccessRow], anyway: Mapping[str, frozenset[str]]) -> None:
    """Who can use a bucket by way of the copies that the store makes, another bucket at a time. `anyway`: verb → who
    can use it on the bucket itself."""
    if rows:
        screen.print()
        line(screen, ("By copies that the store makes: no rule of the bucket stops them", "bold"), indent=2)
    for row in rows:
        more = [name for name in _public_first(row.names) if name not in anyway.get(row.verb, ())]
        others = len(row.names) - len(more)
        words = [(f"{row.verb:<5}  ", ""), (f"{_way(row)}: " if row.other else "", "")]
        words.append((", ".join(more), STYLES["open"] if more[:1] and more[0] in AUDIENCES else "bold"))
        words.append((f"{' and ' * bool(more)}{others} who can anyway" if others else "", ""))
        if row.unknown_because:
            word = "; perhaps others" if row.names else "unknown"
            words.append((f"{word}: {row.unknown_because}", STYLES["unknown"]))
        elif not row.names:
            words.append(("nobody", ""))
        line(screen, *words, indent=4, hang=7)


def copies_lines(screen: Console, bucket: str, rows: Sequence[CopyAccessRow]) -> None:
    """That a request which the rules refuse may not be needed: the store copies past them."""
    ways = dict.fromkeys(_way(row) for row in rows if row.other)
    if ways:
        line(screen, ("copies that the store makes go past these rules: ", "bold"), "; ".join(ways))
    elif rows:
        line(screen, ("whether the store makes copies that go past these rules is unknown", STYLES["unknown"]))
    if rows:
        next_step(screen, f"lantern access {shlex.quote(bucket)}", "who gets in by them")


def _public_first(names: Iterable[str]) -> list[str]:
    return sorted(names, key=lambda name: AUDIENCES.index(name) if name in AUDIENCES else len(AUDIENCES))


def _way(row: CopyAccessRow) -> str:
    way = f"{row.other} is copied here" if row.verb in INTO else f"copied to {row.other}"
    return f"{way} by way of {row.between}" if row.between else way


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
        grid = Table("identity", "permissions", "buckets", "which", "condition", shrink=(1, 3, 4), right=(2,), lead=0,
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
            sentence = f"  what {len(rows):,} identities can do there is unknown: {why}"
            line(screen, (show_names(titles, MANY), "bold"), (sentence, STYLES["unknown"]), hang=2)
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


def _assumed(screen: Console, result: AccessResult) -> None:
    """The roles that identities may assume."""
    if not result.assumes:
        return
    screen.print()
    line(screen, ("Roles that they may assume: each then can do what the role can", "bold"))
    grid = Table("identity", "may assume", "not determined", shrink=(1, 2), lead=0, floors={1: 14, 2: 14}, sparse=(2,))
    for row in result.assumes:
        unknown = (", ".join(row.unknown), STYLES["unknown"])
        grid.add((f"{row.store}/{row.identity}", "bold"), ", ".join(row.roles), unknown)
    grid.show(screen)


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
    return {blank: rows_alike for blank, rows_alike in alike.items() if blank[0] and len(rows_alike) >= MANY}


def _granted(verbs: Mapping[str, str]) -> tuple[str, str]:
    """What an identity may, in words and their style; what is unknown is never among it."""
    sure = [verb for verb in VERBS if verbs.get(verb, "unknown") != "unknown"]
    if "unknown" not in verbs.values():
        return verbs_in_short(sure), ""
    return f"{' '.join(sure)} and more?" if sure else "unknown", STYLES["unknown"]
