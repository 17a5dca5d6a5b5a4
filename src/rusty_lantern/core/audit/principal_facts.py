"""The facts `principals.VERB`: everybody who may use a verb on a bucket, by name.

The public, as `anyone` and `any-account` (the latter, where others may use it than those whom the rules name); the
store's own identities, by their own permissions and the bucket's rules together; and whoever else the rules name. A
group or a role of the store, and its account as a whole, are shown as the identities in them.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping

import msgspec

from rusty_lantern.core.access.effective_permissions import EffectivePermissions
from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.access.policy.condition_keys import ACCOUNT, ARN, AUDIENCES
from rusty_lantern.core.access.policy.document import Condition, Principals, Statement
from rusty_lantern.core.access.policy.principals import Principal
from rusty_lantern.core.access.reaching import WhoCan
from rusty_lantern.core.access.rules.named_identities import granted_on_objects, is_whole_tenant, stands_for_several
from rusty_lantern.core.access.solver.exposure import Exposures, exposures
from rusty_lantern.core.access.solver.principal_reach import Reach
from rusty_lantern.core.answer import Answer, Fact, Partly
from rusty_lantern.core.audit.named_access import NamedView, by_who_asks
from rusty_lantern.core.value_sets import NAMES


def principals_facts(view: NamedView) -> dict[str, Fact]:
    """Who may use each verb; partly known where it is not known of somebody, or not everybody is known. Of buckets that
    the same may use alike, the names are put together once."""
    across = view.across or EffectivePermissions({view.bucket.name: view}, view.index)
    reaching = across.reaching
    groups = reaching.groups_on(view.bucket.name)
    others = tuple(_public(view)) + tuple(_named(view))
    rules = view.rules
    unlisted = next(iter(rules.doubted.values()), "") or _unlisted(view)
    by_objects = granted_on_objects(rules) if rules.named_on_objects else frozenset()
    not_all = tuple(unlisted or (rules.named_on_objects if verb in by_objects else "") for verb in VERBS)
    key = (tuple(map(id, groups)), others, not_all)
    if key not in reaching.who_can:
        own = [
            (who.name, verb, reach) for who, reaches in reaching.on(view.bucket.name) for verb, reach in reaches.items()
        ]
        reaching.who_can[key] = _who_can([*others, *own], dict[str, str](zip(VERBS, not_all, strict=True)))
    evidence = view.bucket.policy.evidence
    return {
        verb: Partly("failed", None, why, evidence, certain=names) if why else Answer("known", names, "", evidence)
        for verb, (names, why) in reaching.who_can[key].items()
    }


Somebody = tuple[str, str, Reach]
"""Somebody, a verb that one may use or perhaps may, and how far that goes."""


def _who_can(reaches: Iterable[Somebody], not_all: Mapping[str, str]) -> WhoCan:
    """Who may use each verb. `not_all`: verb → why there may be more; empty where there are not."""
    sure: dict[str, set[str]] = {verb: set() for verb in VERBS}
    perhaps: dict[str, list[tuple[str, Reach]]] = {verb: [] for verb in VERBS}
    for name, verb, reach in reaches:
        if reach.level == "unknown":
            perhaps[verb].append((name, reach))
        else:
            sure[verb].add(name)
    return {
        verb: (
            NAMES.join(names),
            next((_why(*one) for one in perhaps[verb] if one[0] not in names), "") or not_all[verb],
        )
        for verb, names in sure.items()
    }


def _public(view: NamedView) -> Iterator[Somebody]:
    beyond: Exposures | None = None
    for (audience, verb), verdict in view.verdicts.items():
        if audience == "any-account" and by_who_asks(view.verdicts, verb) and verdict.level == "restricted":
            beyond = beyond or _beyond_named(view)
            if beyond[audience, verb].level == "closed":
                continue  # whom the rules name is listed by name
        if verdict.level != "closed":
            yield audience, verb, Reach(verdict.level, doubts=verdict.doubts)


def _beyond_named(view: NamedView) -> Exposures:
    """What the public could do if the rules refused everybody from other accounts whom they name."""
    named = [who for who in view.named if not _is_listed_identity(view, who)]
    accounts = tuple(who.name for who in named if who.kind == "account")
    arns = tuple(who.name for who in named if who.kind == "identity")
    refused = [("stringequals", ACCOUNT, accounts), ("arnlike", ARN, arns)]
    denies = tuple(
        Statement(
            "whom the rules name", "Deny", principals=Principals(everyone=True), actions=("*",), resources=("*",),
            conditions=(Condition(operator, key, values, ""),),
        )
        for operator, key, values in refused if values
    )  # fmt: skip
    policy = msgspec.structs.replace(view.rules.policy, statements=(*view.rules.policy.statements, *denies))
    return exposures(msgspec.structs.replace(view.rules, policy=policy), view.surroundings)


def _named(view: NamedView) -> Iterator[Somebody]:
    for who in view.named:
        if not _is_listed_identity(view, who):
            yield from ((who.label, verb, one) for verb, one in view.granted(who).items() if one.level != "closed")


def _is_listed_identity(view: NamedView, who: Principal) -> bool:
    """Whether the store's own identities explain whom the rules name: it is one of them, or a group of some."""
    people = view.index.dossier.identities.value
    if not people:
        return False
    if view.identity_named(who.name) is not None or who.label in {view.account, view.bucket.owner.value}:
        return True
    if stands_for_several(who) and who.account == view.account:
        return True
    in_groups = who.kind == "group" and who.name in view.index.groups
    return in_groups or who.label in view.index.aliases or is_whole_tenant(who, view.index.tenants)


def _why(name: str, reach: Reach) -> str:
    said = reach.doubts[0] if reach.doubts else "its permissions are not understood"
    return said if name in AUDIENCES else f"{name}: {said}"


def _unlisted(view: NamedView) -> str:
    """Why the store may have identities that are not known; empty where all are."""
    listed = view.index.dossier.identities
    why = listed.reason if listed.unread else next(iter(view.index.unlisted.values()), "")
    return why and f"who else may use it by permissions of their own is not known: {why}"
