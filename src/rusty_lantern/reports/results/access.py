"""Results of `lantern access`: what identities can do on which buckets, and who can use each verb on one."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any

import msgspec

from rusty_lantern.core.answer import Partly
from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.audit.named_access import trusts
from rusty_lantern.core.audit.store_subject import StoreSubject
from rusty_lantern.core.errors import BadInput, Problem, nearest
from rusty_lantern.core.model.assumed_roles import AssumedRoles
from rusty_lantern.core.value_sets import NAMES
from rusty_lantern.reports.results.copies import CopyAccessRow, who_can_by_copies
from rusty_lantern.reports.results.decisions import name_of
from rusty_lantern.reports.results.identities import unread_sections
from rusty_lantern.reports.results.of_survey import OfSurvey


class AccessRow(msgspec.Struct, frozen=True, kw_only=True):
    """What one bucket grants one identity. Verbs that are closed are left out."""

    identity: str
    kind: str
    account: str
    inside: bool | None
    """Whether it is one of the owner's account or of a trusted one; null where that is not known."""
    store: str
    bucket: str
    verbs: dict[str, str]
    restrictions: list[str]
    identities: list[str] | None
    """The store's own identities that go by this name; null where nobody knows them, or where rules name them so."""


class IdentityAccessRow(msgspec.Struct, frozen=True, kw_only=True):
    """What one identity may do on buckets that are alike to it."""

    identity: str
    resource: str
    kind: str
    store: str
    verbs: dict[str, str]
    restrictions: list[str]
    unknown_because: list[str]
    count: int
    buckets: list[str]
    """Their names. Where all rows together have over 100,000, without `--who` the first few; `count` is of all."""


class RolesRow(msgspec.Struct, frozen=True, kw_only=True):
    """The roles of the account that one identity may assume: it can do what they can."""

    store: str
    identity: str
    roles: list[str]
    unknown: list[str]
    """The roles that it may assume, or may not."""


class WhoCanRow(msgspec.Struct, frozen=True, kw_only=True):
    """Everybody who can use one verb on a bucket."""

    store: str
    bucket: str
    verb: str
    names: list[str]
    """Identities, and the public as `anyone` and `any-account`; restricted access counts as access."""
    unknown_because: str
    """Why there may be others; empty where these are all."""


class AccessResult(OfSurvey, frozen=True, kw_only=True):
    """`lantern access --json`."""

    who_can: list[WhoCanRow]
    """Of buckets that were named alone: verb by verb, who can use it."""
    by_copies: list[CopyAccessRow]
    """The same by way of the copies that the store makes."""
    access: list[AccessRow]
    """What rules of buckets grant identities that they name."""
    identities: list[IdentityAccessRow]
    """What the stores' own identities may do, by their own permissions and the buckets' rules together, without what
    everybody may (`exposure` shows that)."""
    assumes: list[RolesRow]
    """What identities can do besides, by roles; where buckets were named, by those that reach one of them."""
    unread: dict[str, str]
    """Store → why its identities are unknown."""
    unread_rules: dict[str, str]
    """STORE/BUCKET → why its rules are not all known: they may name others."""


class AccessChoice(msgspec.Struct, frozen=True, kw_only=True):
    """What a listing of access is limited to."""

    who: str | None = None
    """An identity as listings print it; None: everybody."""
    verb: str = ""
    """Empty: every verb."""
    outside: bool = False
    """Only identities outside the trusted accounts: of the store's own, none."""

    def has(self, verbs: Mapping[str, str]) -> bool:
        """Whether somebody with these verbs is listed."""
        return not self.verb or verbs.get(self.verb, "closed") != "closed"


def access_result(
    about: Mapping[str, Any], stores: Sequence[StoreSubject], chosen: Sequence[BucketSubject], choice: AccessChoice
) -> AccessResult:
    """Who can do what: on the buckets chosen, or on all in these stores. Raises `BadInput` for a name nobody has.

    `about`: what the result says about the survey. Of buckets that are chosen, everybody who can use each verb comes
    first, unless somebody is asked for.
    """
    store, name = name_of(choice.who or "", [one.name for one in stores])
    stores = [one for one in stores if store in ("", one.name)]
    views = [view for one in stores for view in one.buckets.values()]
    if chosen:
        views, stores = list(chosen), [one for one in stores if one.name in {view.store for view in chosen}]
    own: list[IdentityAccessRow] = []
    if not choice.outside:
        in_full = choice.who is not None or bool(chosen) or _pairs(stores) <= MOST_PAIRS
        own = [row for one in stores for row in own_rows(one, chosen, in_full=in_full)]
    rows = [row for view in views for row in access_rows(view)]
    if choice.who is not None:
        own = [row for row in own if name in (row.identity, row.resource)]
        if not name or (not own and not any(name in (row.identity, row.account) for row in rows)):
            _refuse_unknown_name(name, stores)
        rows = [row for row in rows if name in (row.identity, row.account, *(row.identities or ()))]
    everybody = chosen if choice.who is None and not choice.outside else ()
    by_copies = [row for view in everybody for row in who_can_by_copies(view) if choice.verb in ("", row.verb)]
    listed = [row for row in rows if choice.has(row.verbs) and not (choice.outside and row.inside)]
    return AccessResult(
        **about,
        who_can=[row for view in everybody for row in who_can(view) if choice.verb in ("", row.verb)],
        by_copies=by_copies,
        access=sorted(
            listed,
            key=lambda row: ((False, None, True).index(row.inside), row.identity, row.store, row.bucket),
        ),
        identities=sorted(
            (row for row in own if choice.has(row.verbs)), key=lambda row: (row.store, row.identity, -row.count)
        ),
        assumes=[] if choice.outside else list(_assumed(stores, name if choice.who is not None else "", chosen)),
        unread=unread_sections(stores, "identities"),
        unread_rules=unread_rules(views),
    )


def _assumed(stores: Sequence[StoreSubject], name: str, chosen: Sequence[BucketSubject]) -> Iterator[RolesRow]:
    """The roles that identities may assume, directly or by way of others; of the one of a name, or of all. `chosen`:
    only roles that can do something on these buckets."""
    for one in stores:
        assumed, buckets = AssumedRoles(one.index), {view.name for view in chosen if view.store == one.name}
        for identity in one.index.dossier.identities.value or ():
            roles = [
                each
                for each in (assumed.of(identity).roles if name in ("", identity.name, identity.resource) else ())
                if not chosen or any(buckets.intersection(group.buckets) for group in one.across.of(each.role))
            ]
            sure, perhaps = (
                [each.role.name for each in roles if bool(each.doubt) is doubted] for doubted in (False, True)
            )
            if sure or perhaps:
                yield RolesRow(store=one.name, identity=identity.name, roles=sure, unknown=perhaps)


def _refuse_unknown_name(who: str, stores: Sequence[StoreSubject]) -> None:
    """Raise `BadInput` for an identity that no rule names and no store knows."""
    known = {name for one in stores for name in one.index.identities_by_name}
    if who not in known:
        hint = nearest(who, known) or "lantern access lists everybody; identities of some stores may not have been read"
        raise BadInput(Problem(f'nobody called "{who}" is named in a rule or known to a store', remedy=hint))


def access_rows(view: BucketSubject) -> list[AccessRow]:
    """What a bucket grants each identity that its rules name."""
    rows = []
    for identity in view.named:
        reached, trusted = view.granted(identity), trusts(view, identity).value
        verbs: dict[str, str] = {verb: reach.level for verb, reach in reached.items() if reach.level != "closed"}
        if verbs:
            rows.append(
                AccessRow(
                    identity=identity.label,
                    kind=identity.kind,
                    account=identity.account,
                    inside=None if trusted is None else trusted == "on",
                    store=view.dossier.store,
                    bucket=view.bucket.name,
                    verbs=verbs,
                    restrictions=sorted({reach.restriction for reach in reached.values() if reach.restriction}),
                    identities=_identities_called(view, identity.label),
                )
            )
    return rows


def unread_rules(views: Iterable[BucketSubject]) -> dict[str, str]:
    """STORE/BUCKET → why its rules, and its objects' own ACLs, are not all known: they may name others."""
    doubted = {view.title: [*view.rules.doubted.values(), view.rules.named_on_objects] for view in views}
    return {title: "; ".join(dict.fromkeys(filter(None, why))) for title, why in doubted.items() if any(why)}


def _identities_called(view: BucketSubject, name: str) -> list[str] | None:
    listed = view.index.dossier.identities
    if (
        not listed.settled
        or name in view.index.identities_by_name
        or not any(one.aliases for one in listed.value or ())
    ):
        return None
    return [one.name for one in listed.value or () if name in one.aliases]


FEW = 10
MOST_PAIRS = 100_000
"""Identities with a bucket each that are listed whole; of more, every row has the first few buckets."""


def _pairs(stores: Iterable[StoreSubject]) -> int:
    """How many pairs of an identity and a bucket there are to list."""
    listed = (one for one in stores if one.index.dossier.listing.settled)
    return sum(
        len(permitted.buckets)
        for one in listed
        for identity in one.index.dossier.identities.value or ()
        for permitted in one.across.of(identity)
    )


def who_can(view: BucketSubject) -> list[WhoCanRow]:
    """Everybody who can use each verb on a bucket."""
    rows = []
    for verb, fact in view.principals.items():
        known = fact.certain if isinstance(fact, Partly) else fact.value
        names = sorted(NAMES.members(known or ""))
        row = WhoCanRow(
            store=view.store,
            bucket=view.name,
            verb=verb,
            names=names,
            unknown_because="" if fact.settled else fact.reason,
        )
        rows.append(row)
    return rows


def own_rows(
    store_subject: StoreSubject, chosen: Sequence[BucketSubject] = (), *, in_full: bool = False
) -> list[IdentityAccessRow]:
    """What each identity of a store may do, buckets that are alike to it together; `in_full` names them all. `chosen`:
    on these buckets alone."""
    if not store_subject.index.dossier.listing.settled:
        return []
    wanted = {view.name for view in chosen if view.store == store_subject.name}
    rows = [
        IdentityAccessRow(
            identity=identity.name,
            resource=identity.resource,
            kind=identity.kind,
            store=store_subject.index.dossier.store,
            verbs={verb: reach.level for verb, reach in permitted.reach.items()},
            restrictions=sorted({reach.restriction for reach in permitted.reach.values() if reach.restriction}),
            unknown_because=sorted({doubt for reach in permitted.reach.values() for doubt in reach.doubts}),
            count=len(permitted.buckets),
            buckets=list(permitted.buckets if in_full else permitted.buckets[:FEW]),
        )
        for identity in store_subject.index.dossier.identities.value or ()
        for permitted in store_subject.across.of(identity)
    ]
    if not chosen:
        return rows
    kept = [(row, [name for name in row.buckets if name in wanted]) for row in rows]
    return [msgspec.structs.replace(row, buckets=names, count=len(names)) for row, names in kept if names]
