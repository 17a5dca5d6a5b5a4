"""The facts `access.NAME`: what somebody can do with a bucket who is named, by everything that is known.

What the bucket's rules grant; and of an identity of the store's own also what its own permissions let it do there.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from typing import Protocol

from rusty_lantern.core.access.effective_permissions import EffectivePermissions, Seen
from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.access.policy.principals import Principal
from rusty_lantern.core.access.solver.exposure import Exposures
from rusty_lantern.core.access.solver.principal_reach import Reach
from rusty_lantern.core.answer import Answer, Fact, Partly
from rusty_lantern.core.model.identity import Identity, Verb
from rusty_lantern.core.model.store_index import StoreIndex

OUTSIDE = "outside"
"""In the place of a name: everybody named who is not trusted."""


class NamedView(Seen, Protocol):
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
    def across(self) -> EffectivePermissions | None:
        """What identities can do across the store's buckets; None for a bucket that is only supposed."""

    @property
    def verdicts(self) -> Exposures:
        """What everybody can do."""

    def granted(self, identity: Principal) -> Mapping[Verb, Reach]:
        """What the rules grant an identity that they name."""

    def holder(self, name: str) -> Identity | None:
        """The store's own identity that goes by a name."""

    def trusts(self, identity: Principal) -> Fact:
        """Whether an identity is one of the owner's account or of a trusted one."""


def access_fact(view: NamedView, name: str) -> Fact:
    """The verbs of a named identity, or of everybody `outside`; partly known where some hang on what is not known."""
    holder = None if name == OUTSIDE else view.holder(name)
    if holder is not None:
        return _fact(view, [(verb, reach, True) for verb, reach in _by_both_sides(view, holder)])
    if name != OUTSIDE:
        named = [who for who in view.named if who.is_called(name)] or [view.rules.principal(name)]
        reaches = [(verb, reach, True) for who in named for verb, reach in view.granted(who).items()]
        return _fact(view, reaches, unread_side(view, name))
    trusted = {who: view.trusts(who) for who in view.named}
    outsiders = {who: fact for who, fact in trusted.items() if fact.value != "on"}
    reaches = [
        (v, reach, fact.value == "off") for who, fact in outsiders.items() for v, reach in view.granted(who).items()
    ]
    reaching = (who for who in outsiders if any(reach.level != "closed" for reach in view.granted(who).values()))
    unsure = next((who for who in reaching if outsiders[who].value != "off"), None)
    why = f"whether {unsure.name} is one of the store's own is not known: {trusted[unsure].reason}" if unsure else ""
    return _fact(view, reaches, why, ", ".join(who.name for who in outsiders))


def _fact(view: NamedView, reaches: Iterable[tuple[str, Reach, bool]], doubt: str = "", note: str = "") -> Fact:
    """The fact that verbs make up, each with how far it goes and whether its holder is certainly meant."""
    reaches, evidence = list(reaches), view.bucket.policy.evidence
    sure = {verb for verb, reach, meant in reaches if meant and reach.level in ("restricted", "open")}
    open_to_question = [reach for verb, reach, _ in reaches if reach.level == "unknown" and verb not in sure]
    unknown = (reach.doubts[0] for reach in open_to_question if reach.doubts)
    why = next(unknown, "") or next(iter(view.rules.doubted.values()), "") or doubt
    if why and len(sure) < len(VERBS):
        return Partly("failed", None, why, evidence, certain=_words(sure))
    return Answer("known", _words({verb for verb, reach, _ in reaches if reach.level != "closed"}), note, evidence)


def _words(verbs: set[str]) -> str:
    return " ".join(verb for verb in VERBS if verb in verbs)


def _by_both_sides(view: NamedView, holder: Identity) -> Iterator[tuple[str, Reach]]:
    """What one of the store's own can do, by its own permissions and the rules together, and as everybody can."""
    if view.across is not None:
        yield from view.across.by_bucket(holder).get(view.bucket.name, {}).items()
    else:
        yield from EffectivePermissions({view.bucket.name: view}, view.index).on(holder, view.bucket.name).items()
    for (_, verb), verdict in view.verdicts.items():
        yield verb, Reach(verdict.level, doubts=verdict.doubts)


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
