"""Two surveys → what changed between them.

What came and went, each fact before and after, and who gained or lost access: not as a difference of texts, but as the
exact difference of the rules, with a request that passes now and did not before, or the other way round. What was known
before and is not now is a change as well. Counts that move by themselves are left out.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from datetime import datetime
from operator import attrgetter
from typing import Any, Literal

import msgspec

from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.access.policy.condition_keys import AUDIENCES
from rusty_lantern.core.access.rules.rule_inputs import holds_nothing
from rusty_lantern.core.access.solver.audience_view import BUDGET
from rusty_lantern.core.access.solver.difference import Asker, difference
from rusty_lantern.core.access.solver.sets import Budget
from rusty_lantern.core.access.solver.witness import Witness
from rusty_lantern.core.answer import Answer, Fact
from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.audit.coverage import NO_LIMITS, Coverage, Limits, coverage
from rusty_lantern.core.audit.proposed_bucket import beside
from rusty_lantern.core.audit.store_subject import PartSubject, StoreSubject
from rusty_lantern.core.baseline.finding_words import show_fact
from rusty_lantern.core.config.declared_bucket import DeclaredBucket
from rusty_lantern.core.facts.catalogue import REGISTER
from rusty_lantern.core.facts.registry import lookup
from rusty_lantern.core.history.identity_access import access_changes
from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.core.model.dossier import undisturbed
from rusty_lantern.core.model.subjects import OVER
from rusty_lantern.core.value_types import show_names

ChangeKind = Literal["new", "gone", "changed", "gained", "lost", "no longer known", "now known"]


class Change(msgspec.Struct, frozen=True):
    """One difference between two surveys."""

    store: str
    subject: str
    name: str
    change: ChangeKind
    fact: str = ""
    before: str = ""
    after: str = ""
    audience: str = ""
    verb: str = ""
    witness: Witness | None = None
    note: str = ""
    buckets: tuple[str, ...] = ()
    """Where an identity, or a credential of one, gained or lost access: on which buckets. `verb` has all the verbs."""

    def within(self, wanted: Callable[[str, str], bool]) -> Change | None:
        """As far as it is of a wanted store and name: of the subject itself, or of buckets that it names."""
        if wanted(self.store, self.name):
            return self
        kept = tuple(bucket for bucket in self.buckets if wanted(self.store, bucket))
        return msgspec.structs.replace(self, buckets=kept) if kept else None


@undisturbed()
def changes(
    before: list[StoreSubject],
    after: list[StoreSubject],
    limits: tuple[Limits, Limits] = (NO_LIMITS, NO_LIMITS),
) -> list[Change]:
    """Everything that changed, store by store. The same survey twice gives nothing.

    `limits`: the buckets that either survey was limited to; what one of them was not to look at is not compared.
    """
    old = {store_subject.index.dossier.store: store_subject for store_subject in before}
    new = {store_subject.index.dossier.store: store_subject for store_subject in after}
    seen = coverage(before, limits[0]), coverage(after, limits[1])
    differences: list[Change] = []
    for store in sorted(old.keys() | new.keys()):
        was, now = old.get(store), new.get(store)
        if was is not None and now is not None:
            differences += _store(store, was, now, seen)
        elif not limits[0 if was is None else 1].only:
            differences.append(Change(store, "store", store, "new" if was is None else "gone"))
    return differences


def against(
    declared: Sequence[DeclaredBucket], store_subjects: list[StoreSubject], limits: Limits = NO_LIMITS
) -> list[Change]:
    """Where reality left a declaration: what was declared is *before*, what is there is *after*. Settings that a
    declaration does not mention are free. In a store that a declaration names, a bucket that none declares is new.
    `limits`: the buckets that the survey was limited to.
    """
    seen = coverage(store_subjects, limits)
    differences: list[Change] = []
    spoken: dict[str, set[str]] = {}
    for one in declared:
        there = [c for c in store_subjects if one.store in ("", c.name)]
        homes = [c for c in there if one.name in c.buckets]
        for store_subject in homes or there if one.store else homes:
            spoken.setdefault(store_subject.name, set()).add(one.name)
        for store_subject in homes:
            view = store_subject.buckets[one.name]
            differences += _bucket(beside(view, one.over(view.bucket)), view)
        if not homes:
            differences += _not_found(one, there, seen)
    for store_subject in store_subjects:
        store = store_subject.index.dossier.store
        undeclared = [name for name in store_subject.buckets if name not in spoken[store]] if store in spoken else []
        differences += [Change(store, "bucket", name, "new", note="there, and not declared") for name in undeclared]
    return differences


def _not_found(one: DeclaredBucket, there: Sequence[StoreSubject], seen: Coverage) -> Iterator[Change]:
    """What it means that no store has a declared bucket; `there`: those that it may be in."""
    missing = {c.name: seen.missing(c.name, "bucket", one.name) for c in there}
    unread = next((c.index.dossier for c in there if missing[c.name] == "not read"), None)
    if unread is not None:
        yield Change(one.store, "bucket", one.name, "no longer known", note=f"{unread.store}: {unread.listing.reason}")
    elif "not asked" not in missing.values() and (there or not seen.limits.only):
        where = "not there" if one.store and there else "in no store" if there else "its store was not surveyed"
        yield Change(one.store, "bucket", one.name, "gone", note=f"declared, and {where}")


def _store(store: str, was: StoreSubject, now: StoreSubject, seen: tuple[Coverage, Coverage]) -> Iterator[Change]:
    read = [store_subject.index.dossier.listing for store_subject in (was, now)]
    if read[0].settled != read[1].settled:
        yield Change(store, "store", store, _settled(read[1]), note=read[0].reason or read[1].reason)
    around = was.inputs == now.inputs
    came, went = _by_creation(now, was), _by_creation(was, now)
    for name in sorted(was.buckets.keys() | now.buckets.keys()):
        old, new = was.buckets.get(name), now.buckets.get(name)
        if new is None and old is not None:
            yield from _in_one(old, "gone", came, now, seen[1])
        elif old is None and new is not None:
            yield from _in_one(new, "new", went, was, seen[0])
        elif old is not None and new is not None and not (around and _same(old, new)):
            yield from _bucket(old, new)
    yield from _others(store, was, now)
    for one in access_changes(was, now):
        yield Change(
            store, one.subject, one.name, one.turn, f"{one.subject}.permissions", one.before, one.after,
            verb=" ".join(one.verbs), note=f"on {show_names(one.buckets)}" if one.turn == "changed" else "",
            buckets=one.buckets,
        )  # fmt: skip


def _in_one(
    view: BucketSubject,
    change: Literal["new", "gone"],
    alike: Mapping[datetime, list[BucketSubject]],
    other: StoreSubject,
    seen: Coverage,
) -> Iterator[Change]:
    """A bucket that the other survey does not have; `alike`: what that one has instead, by creation date."""
    missing = seen.missing(other.name, "bucket", view.name)
    if missing == "not there":
        yield Change(other.name, "bucket", view.name, change, note=_renamed(view, alike))
    elif missing == "not read" and other.index.dossier.listing.settled:  # otherwise it is said of the whole store
        yield Change(
            other.name, "bucket", view.name, "no longer known" if change == "gone" else "now known", note=other.blind
        )


def _by_creation(store: StoreSubject, other: StoreSubject) -> dict[datetime, list[BucketSubject]]:
    """When it was created → the buckets of a store that another reading of it does not have."""
    by_creation: dict[datetime, list[BucketSubject]] = {}
    for name in sorted(store.buckets.keys() - other.buckets.keys()):
        view = store.buckets[name]
        created = view.bucket.created.value
        if created is not None:
            by_creation.setdefault(created, []).append(view)
    return by_creation


def _renamed(view: BucketSubject, others: Mapping[datetime, list[BucketSubject]]) -> str:
    """Whether a bucket that is new or gone looks like another with its creation date and steward under a new name."""
    created, tags = view.bucket.created.value, view.bucket.tags.value
    alike = others.get(created, []) if created is not None else []
    twin = next((other for other in alike if other.bucket.tags.value == tags), None)
    return f"looks like {twin.name} under another name" if twin is not None else ""


_UNCOMPARED = ("name", "usage", "counters", "versions", "table", "anonymous_test", "uploads", "before")
_ANSWERS = attrgetter(*(name for name in Bucket.__struct_fields__ if name not in _UNCOMPARED))


def _same(old: BucketSubject, new: BucketSubject) -> bool:
    """Whether nothing was answered otherwise of a bucket. What its rules are made from is among that, but for one."""
    for was, now in zip(_ANSWERS(old.bucket), _ANSWERS(new.bucket), strict=True):
        if was is not now and (was.state != now.state or was.value != now.value):
            return False
    holding = holds_nothing(old.bucket) == holds_nothing(new.bucket)
    return holding and old.let_in == new.let_in and _same_trust(old, new)


def _same_trust(old: BucketSubject, new: BucketSubject) -> bool:
    """Whether the same accounts and networks are the owner's own, or trusted."""
    mine, now = ((one.account, one.trusted_accounts, one.trusted_networks) for one in (old, new))
    return mine == now


def _same_rules(old: BucketSubject, new: BucketSubject) -> bool:
    """Whether the rules of a bucket were made from the same."""
    return old.around == new.around and old.inputs == new.inputs and _same_trust(old, new)


def _bucket(old: BucketSubject, new: BucketSubject) -> Iterator[Change]:
    store, name = new.dossier.store, new.bucket.name
    if not _same_rules(old, new):
        yield from _access(store, name, old, new)
        yield from _known(store, name, old, new)
    elif old.let_in != new.let_in:
        yield from _known(store, name, old, new)
    tags = {f"tags.{tag}" for view in (old, new) for tag in view.bucket.tags.value or ()}
    facts = [fact for fact, entry in REGISTER.items() if entry.subject == "bucket" and not fact.endswith(".*")]
    yield from _facts(store, "bucket", name, [*facts, *sorted(tags), "access.outside"], old.fact, new.fact)


def _facts(store: str, subject: str, name: str, facts: list[str], was: Any, now: Any) -> Iterator[Change]:
    for fact in facts:
        if lookup(fact).restless or lookup(fact).grows:
            continue
        before: Fact = was(fact)
        after: Fact = now(fact)
        known = before.settled, after.settled
        if not any(known) or (all(known) and before.value == after.value):
            continue
        words = show_fact(fact, before), show_fact(fact, after)
        if all(known):
            yield Change(store, subject, name, "changed", fact, *words, note=after.note)
        else:
            yield Change(store, subject, name, _settled(after), fact, *words, note=after.reason or before.reason)


def _access(store: str, name: str, old: BucketSubject, new: BucketSubject) -> Iterator[Change]:
    for audience in AUDIENCES:
        for verb in VERBS:
            levels = old.verdicts[audience, verb].level, new.verdicts[audience, verb].level
            if levels == ("closed", "closed"):
                continue
            compared = difference(old.rules, new.rules, new.surroundings, Asker(audience), verb, Budget(BUDGET))
            note = "" if compared.sure else "something that was not understood or not read could hide more"
            for change, witness in (("gained", compared.gained), ("lost", compared.lost)):
                if witness is not None:
                    yield Change(
                        store, "bucket", name, change, f"exposure.{audience}.{verb}",  # type: ignore[arg-type]
                        *levels, audience, verb, witness, note,
                    )  # fmt: skip


def _known(store: str, name: str, old: BucketSubject, new: BucketSubject) -> Iterator[Change]:
    """The verbs of which the public access was known and is not any more, or the other way round."""
    for verb in VERBS:
        before, after = old.exposures[verb], new.exposures[verb]
        not_tested_again = verb in old.let_in and not new.bucket.anonymous_test.value
        if before.settled != after.settled and not not_tested_again:
            fact, change = f"exposure.{verb}", _settled(after)
            words = show_fact(fact, before), show_fact(fact, after)
            yield Change(store, "bucket", name, change, fact, *words, note=after.reason or before.reason)


def _settled(after: Answer[Any]) -> ChangeKind:
    return "now known" if after.settled else "no longer known"


def _others(store: str, was: StoreSubject, now: StoreSubject) -> Iterator[Change]:
    """Identities, credentials, encryption keys, links, and the store itself."""
    old, new = _subjects(was), _subjects(now)
    for kind, title in sorted(old.keys() | new.keys()):
        before, after = old.get((kind, title)), new.get((kind, title))
        if before is None or after is None:
            unseen = next((one for one in (before, after) if one is not None), None)
            if unseen is not None and unseen.unseen:
                change: ChangeKind = "now known" if after is None else "no longer known"
                yield Change(store, kind, title, change, note=unseen.view.reason)
            elif (kind, f"any {kind}") not in (old if before is None else new):
                over = _over(now if after is None else was, kind, title)
                note = over and f"{'now' if after is None else 'before'}: {over}"
                yield Change(store, kind, title, "new" if before is None else "gone", note=note)
            continue
        if before.unseen:
            continue
        facts = [fact for fact, entry in REGISTER.items() if entry.subject == kind]
        yield from _facts(store, kind, title, facts, before.fact, after.fact)


def _over(store_subject: StoreSubject, kind: str, title: str) -> str:
    """Why a credential or a link that is there is none that opens anything; empty where it is not there."""
    dossier = store_subject.index.dossier
    if kind == "credential":
        credentials = map(store_subject.any_credential, dossier.credentials.value or ())
        mine = (one.view.credential for one in credentials if one.label == title)
        return "disabled" if any(one.state.value == "disabled" for one in mine) else ""
    links = (store_subject.any_link(one) for one in dossier.links.value or ()) if kind == "link" else ()
    return next((one.view.status for one in links if one.label == title and one.view.status in OVER), "")


def _subjects(store_subject: StoreSubject) -> Mapping[tuple[str, str], PartSubject]:
    return {(subject.kind, subject.label): subject for subject in store_subject.subjects()}
