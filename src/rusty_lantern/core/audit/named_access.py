"""The facts `access.NAME`: what somebody can do with a bucket who is named, by everything that is known.

What the bucket's rules grant; and of an identity of the store's own also what its own permissions let it do there.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from typing import Any, NamedTuple, Protocol

from rusty_lantern.core.access.effective_permissions import BucketContext, EffectivePermissions
from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.access.policy.principals import Principal
from rusty_lantern.core.access.rules.named_identities import granted_on_objects, is_whole_tenant, unnamed_callers
from rusty_lantern.core.access.rules.provider_services import served_accounts
from rusty_lantern.core.access.solver.exposure import Exposures
from rusty_lantern.core.access.solver.principal_reach import Reach
from rusty_lantern.core.answer import Answer, Fact, Partly, lost
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.core.model.identity import AssumableBy, Identity, Verb
from rusty_lantern.core.model.store_index import StoreIndex

OUTSIDE = "outside"
"""In the place of a name: everybody named who is not trusted."""
THROUGH_ROLES = "through-roles"
"""In the place of a name: whoever assumes a role of the store's from outside its account."""
FROM_OUTSIDE: tuple[AssumableBy, ...] = ("federated", "other-accounts", "anybody")
"""Who is outside, of those that a role's trust policy may name."""


class NamedView(BucketContext, Protocol):
    """A bucket, its rules, and who is known in its store."""

    @property
    def account(self) -> str:
        """The account that the bucket is in."""

    @property
    def index(self) -> StoreIndex:
        """Who there is in the store."""

    @property
    def named(self) -> Iterable[Principal]:
        """The identities that the rules name."""

    @property
    def trusted_accounts(self) -> frozenset[str]:
        """Accounts and organisations that the team trusts."""

    @property
    def across(self) -> EffectivePermissions | None:
        """What identities can do across the store's buckets; None for a bucket that is only supposed."""

    @property
    def verdicts(self) -> Exposures:
        """What everybody can do."""

    def granted(self, identity: Principal) -> Mapping[Verb, Reach]:
        """What the rules grant an identity that they name."""

    def identity_named(self, name: str) -> Identity | None:
        """The store's own identity that goes by a name."""

    @property
    def own_accounts(self) -> frozenset[str]:
        """The account that the bucket is in, by every name that it has."""

    @property
    def dossier(self) -> Dossier:
        """What was read of the store."""


def trusts(view: NamedView, identity: Principal) -> Fact:
    """Whether an identity is one of the owner's account or of a trusted one: `on`, `off`, or not known."""
    inner = view.trusted_accounts | view.own_accounts
    ours = identity.name in view.index.groups or view.identity_named(identity.name) is not None
    ours = ours or is_whole_tenant(identity, view.index.tenants)
    if ours or not inner.isdisjoint((*identity.account_names, identity.name, identity.label)):
        return Answer("known", "on")
    if identity.kind == "group":
        groups = view.dossier.groups
        return lost(groups) if groups.unread else Answer("failed", None, "the store lists no such group")
    if identity.kind == "service":
        served = served_accounts(view.rules.policy.statements, identity.name)
        return Answer("known", "on" if served is not None and served <= inner else "off")
    if identity.kind == "federated":
        return Answer("known", "off")
    if identity.account and view.dossier.account_number:
        return Answer("known", "off")
    needed: list[Answer[Any]] = [view.dossier.account]
    if not identity.account or view.rules.ids_are_names:  # there, the account's place holds a tenant
        needed += [view.bucket.owner, view.dossier.identities]
    return next((lost(one) for one in needed if one.unread), Answer("known", "off"))


def access_fact(view: NamedView, name: str) -> Fact:
    """The verbs of a named identity, of everybody `outside`, or of whoever comes `through-roles`; partly known where
    some depend on what is not known."""
    if name == THROUGH_ROLES:
        return _through_roles(view)
    identity = None if name == OUTSIDE else view.identity_named(name)
    if identity is not None:
        return _fact(view, [(verb, reach, True) for verb, reach in _by_both_sides(view, identity)])
    if name != OUTSIDE:
        named = [who for who in view.named if who.is_called(name)] or [view.rules.principal(name)]
        reaches = [(verb, reach, True) for who in named for verb, reach in view.granted(who).items()]
        return _fact(view, reaches, unread_side(view, name), others=view.rules.named_on_objects)
    trusted = {who: trusts(view, who) for who in view.named}
    outsiders = {who: fact for who, fact in trusted.items() if fact.value != "on"}
    reaches = [
        (v, reach, fact.value == "off") for who, fact in outsiders.items() for v, reach in view.granted(who).items()
    ]
    reaching = (who for who in outsiders if any(reach.level != "closed" for reach in view.granted(who).values()))
    unsure = next((who for who in reaching if outsiders[who].value != "off"), None)
    why = f"whether {unsure.name} is one of the store's own is not known: {trusted[unsure].reason}" if unsure else ""
    names = ", ".join(who.name for who in outsiders)
    return _fact(view, reaches, why or _of_unnamed(view), names, view.rules.named_on_objects)


def _of_unnamed(view: NamedView) -> str:
    """Why others than those who are named may be let in, by who they are; empty where none is."""
    why = unnamed_callers(view.rules, view.trusted_accounts)
    return why if why and any(by_who_asks(view.verdicts, verb) for verb in VERBS) else ""


def by_who_asks(verdicts: Exposures, verb: Verb) -> bool:
    """Whether it is, or may be, by who they are that some accounts can use a verb."""
    of_accounts, of_anyone = verdicts["any-account", verb].level, verdicts["anyone", verb].level
    return of_accounts in ("restricted", "unknown") and of_anyone in ("closed", "unknown")


def _fact(
    view: NamedView, reaches: Iterable[tuple[str, Reach, bool]], doubt: str = "", note: str = "", others: str = ""
) -> Fact:
    """The fact that verbs make up, each with how far it goes and whether its holder is certainly meant. `others`: why
    objects' own ACLs may grant more."""
    reaches, evidence = list(reaches), view.bucket.policy.evidence
    sure = {verb for verb, reach, meant in reaches if meant and reach.level in ("restricted", "open")}
    open_to_question = [reach for verb, reach, _ in reaches if reach.level == "unknown" and verb not in sure]
    unknown = (doubt for reach in open_to_question for doubt in reach.doubts[:1] if doubt != others)
    on_objects = "" if granted_on_objects(view.rules) <= sure else others
    first = next(unknown, "") or next(iter(view.rules.doubted.values()), "") or doubt
    why = "; ".join(filter(None, (first, on_objects)))
    if why and len(sure) < len(VERBS):
        return Partly("failed", None, why, evidence, certain=_words(sure))
    return Answer("known", _words({verb for verb, reach, _ in reaches if reach.level != "closed"}), note, evidence)


def _through_roles(view: NamedView) -> Fact:
    roles = list(ways_through_roles(view))
    doubt = unread_roles(view.index)
    if not roles and not doubt:
        return Answer("known", "", "", view.index.dossier.identities.evidence)
    reaches = [(verb, reach, way.sure) for way in roles for verb, reach in way.reach.items()]
    return _fact(view, reaches, doubt, ", ".join(way.role.name for way in roles))


def unread_roles(index: StoreIndex) -> str:
    """Why a store may have roles that are not known; empty where all are."""
    listed = index.dossier.identities
    return listed.reason if listed.unread else index.unlisted.get("role", "")


class WayThroughRole(NamedTuple):
    """A role that somebody outside the account may assume, and what it can do on a bucket."""

    role: Identity
    reach: Mapping[str, Reach]
    sure: bool
    """Whether somebody outside certainly may; else it is not known who may."""


def ways_through_roles(view: NamedView) -> Iterator[WayThroughRole]:
    """The roles of the store's that reach a bucket and may be assumed from outside, by others than those that the team
    trusts; perhaps, where their trust policy was not read."""
    for role in view.index.dossier.identities.value or ():
        by = role.assumable_by
        if not (by.value in FROM_OUTSIDE or by.unread) or role.assumable_by_trusted(view.trusted_accounts):
            continue
        reach = _by_own_side(view, role)
        if reach:
            unsure = {verb: Reach("unknown", doubts=(f"who may assume {role.name}: {by.reason}",)) for verb in reach}
            yield WayThroughRole(role, reach if by.value else unsure, by.value is not None)


def _words(verbs: set[str]) -> str:
    return " ".join(verb for verb in VERBS if verb in verbs)


def _by_both_sides(view: NamedView, identity: Identity) -> Iterator[tuple[str, Reach]]:
    """What one of the store's own can do, by its own permissions and the rules together, and as everybody can."""
    yield from _by_own_side(view, identity).items()
    for (_, verb), verdict in view.verdicts.items():
        yield verb, Reach(verdict.level, doubts=verdict.doubts)


def _by_own_side(view: NamedView, identity: Identity) -> Mapping[str, Reach]:
    """What one of the store's own can do, itself or by roles, and everybody cannot; closed verbs are left out."""
    if view.across is not None:
        return view.across.by_bucket(identity).get(view.bucket.name, {})
    alone = EffectivePermissions({view.bucket.name: view}, view.index)
    return alone.by_bucket(identity).get(view.bucket.name, {})


def unread_side(view: NamedView, name: str) -> str:
    """Why a name may be one of the store's own, with permissions that were not read; empty where it is not."""
    listed = view.index.dossier.identities
    why = listed.reason if listed.unread else next(iter(view.index.unlisted.values()), "")
    if not why or name in view.index.groups or not _is_a_user(view, name):
        return ""
    return f"whether its own permissions let it do more is not known: {why}"


def _is_a_user(view: NamedView, name: str) -> bool:
    """Whether a name may be one of the store's own users': those of another account need the bucket's rules."""
    who = view.rules.principal(name)
    if who.kind == "identity" and not view.rules.ids_are_names:
        return not view.account or who.account == view.account
    return who.kind in ("identity", "canonical")
