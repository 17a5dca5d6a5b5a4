"""Two surveys → what changed between them.

What came and went, each fact before and after, and who gained or lost access: not as a difference of texts, but as the
exact difference of the rules, with a request that passes now and did not before, or the other way round. What could be
told before and cannot now is a change as well. Counts that move by themselves are left out.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from operator import attrgetter, itemgetter
from typing import Any, Literal

import msgspec

from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.access.policy.condition_keys import AUDIENCES
from rusty_lantern.core.access.solver.audience_view import BUDGET
from rusty_lantern.core.access.solver.difference import Asker, difference
from rusty_lantern.core.access.solver.sets import Budget
from rusty_lantern.core.access.solver.witness import Witness
from rusty_lantern.core.answer import Fact
from rusty_lantern.core.audit.audit import Audit
from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.audit.proposed_bucket import beside
from rusty_lantern.core.audit.store_subject import PartSubject, StoreSubject, credential_title
from rusty_lantern.core.audit.waivers import is_worse, observed_now
from rusty_lantern.core.baseline.evaluation import Finding, by_key, show_fact
from rusty_lantern.core.config.declared_bucket import Declared
from rusty_lantern.core.facts.catalogue import REGISTER
from rusty_lantern.core.facts.registry import lookup
from rusty_lantern.core.history.drift_history import Area, Standing
from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.core.model.dossier import undisturbed

Sort = Literal["new", "gone", "changed", "gained", "lost", "no longer known", "now known"]
Turn = Literal["new", "worse", "resolved", "waived", "now known", "no longer known"]


class Change(msgspec.Struct, frozen=True):
    """One difference between two surveys."""

    store: str
    subject: str
    name: str
    sort: Sort
    fact: str = ""
    before: str = ""
    after: str = ""
    audience: str = ""
    verb: str = ""
    witness: Witness | None = None
    note: str = ""


class DriftChange(msgspec.Struct, frozen=True):
    """A requirement that stands otherwise than before."""

    turn: Turn
    finding: Finding
    """As it is now; for drift that closed, as it was."""
    before: str
    after: str


@undisturbed()
def changes(before: list[StoreSubject], after: list[StoreSubject]) -> list[Change]:
    """Everything that changed, store by store. The same survey twice gives nothing."""
    old = {store_subject.index.dossier.store: store_subject for store_subject in before}
    new = {store_subject.index.dossier.store: store_subject for store_subject in after}
    found: list[Change] = []
    for store in sorted(old.keys() | new.keys()):
        was, now = old.get(store), new.get(store)
        if was is None or now is None:
            found.append(Change(store, "store", store, "new" if was is None else "gone"))
            continue
        found += _store(store, was, now)
    return found


def against(declared: Sequence[Declared], store_subjects: list[StoreSubject]) -> list[Change]:
    """Where reality left a declaration: what was declared is *before*, what is there is *after*. Settings that a
    declaration does not mention are free. In a store that a declaration speaks of, a bucket that none declares is new.
    """
    found: list[Change] = []
    spoken: dict[str, set[str]] = {}
    for one in declared:
        there = [c for c in store_subjects if one.store in ("", c.index.dossier.store)]
        homes = [c for c in there if one.name in c.buckets] or there[:1]
        if not homes:
            found.append(Change(one.store, "bucket", one.name, "gone", note="no such store was surveyed"))
        for store_subject in homes:
            store = store_subject.index.dossier.store
            spoken.setdefault(store, set()).add(one.name)
            view = store_subject.buckets.get(one.name)
            if view is not None:
                found += _bucket(beside(view, one.over(view.bucket)), view)
            elif store_subject.index.dossier.listing.settled:
                found.append(Change(store, "bucket", one.name, "gone", note="declared, and not there"))
            else:
                reason = store_subject.index.dossier.listing.reason
                found.append(Change(store, "bucket", one.name, "no longer known", note=reason))
    for store_subject in store_subjects:
        store = store_subject.index.dossier.store
        undeclared = [name for name in store_subject.buckets if name not in spoken[store]] if store in spoken else []
        found += [Change(store, "bucket", name, "new", note="there, and not declared") for name in undeclared]
    return found


def _store(store: str, was: StoreSubject, now: StoreSubject) -> Iterator[Change]:
    read = [store_subject.index.dossier.listing for store_subject in (was, now)]
    if read[0].settled != read[1].settled:
        sort: Sort = "now known" if read[1].settled else "no longer known"
        yield Change(store, "store", store, sort, note=read[0].reason or read[1].reason)
        return
    for name in sorted(was.buckets.keys() | now.buckets.keys()):
        old, new = was.buckets.get(name), now.buckets.get(name)
        if old is None or new is None:
            yield Change(
                store, "bucket", name, "new" if old is None else "gone", note=_renamed(name, old, new, was, now)
            )
        elif not _same(old, new):
            yield from _bucket(old, new)
    yield from _others(store, was, now)


def _renamed(
    name: str, old: BucketSubject | None, new: BucketSubject | None, was: StoreSubject, now: StoreSubject
) -> str:
    """Whether a bucket that is new or gone looks like another with its creation date and steward under a new name."""
    mine = old or new
    assert mine is not None
    others = now.buckets if old is not None else was.buckets
    here = was.buckets if old is not None else now.buckets
    for other, view in others.items():
        known = view.bucket.created.value is not None and view.bucket.tags.value == mine.bucket.tags.value
        if other not in here and known and view.bucket.created.value == mine.bucket.created.value:
            return f"looks like {other} under another name"
    return ""


_UNCOMPARED = ("name", "usage", "counters", "versions", "table", "anonymous_test", "uploads", "before")
_COMPARED = attrgetter(
    *(f"{name}.{part}" for name in Bucket.__struct_fields__ if name not in _UNCOMPARED for part in ("state", "value"))
)
"""What a bucket was answered: states and values, without the evidence."""


def _same(old: BucketSubject, new: BucketSubject) -> bool:
    """Whether nothing was answered otherwise of a bucket, nor of what its rules depend on around it."""
    return _COMPARED(old.bucket) == _COMPARED(new.bucket) and _same_rules(old, new)


def _same_rules(old: BucketSubject, new: BucketSubject) -> bool:
    """Whether the rules of a bucket were made from the same."""
    return (
        (old.account, old.trusted_accounts, old.trusted_networks)
        == (new.account, new.trusted_accounts, new.trusted_networks)
        and old.around == new.around
        and old.inputs == new.inputs
    )


def _bucket(old: BucketSubject, new: BucketSubject) -> Iterator[Change]:
    store, name = new.dossier.store, new.bucket.name
    if not _same_rules(old, new):
        yield from _access(store, name, old, new)
    tags = {f"tags.{tag}" for view in (old, new) for tag in view.bucket.tags.value or ()}
    facts = [fact for fact, entry in REGISTER.items() if entry.subject == "bucket" and not fact.endswith(".*")]
    yield from _facts(store, "bucket", name, [*facts, *sorted(tags), "access.outside"], old.fact, new.fact)


def _facts(store: str, subject: str, name: str, facts: list[str], was: Any, now: Any) -> Iterator[Change]:
    for fact in facts:
        if lookup(fact).restless or lookup(fact).grows:
            continue
        before: Fact = was(fact)
        after: Fact = now(fact)
        words = show_fact(fact, before), show_fact(fact, after)
        if before.settled and after.settled:
            if before.value != after.value:
                yield Change(store, subject, name, "changed", fact, *words, note=after.note)
        elif before.settled != after.settled:
            sort: Sort = "now known" if after.settled else "no longer known"
            yield Change(store, subject, name, sort, fact, *words, note=after.reason or before.reason)


def _access(store: str, name: str, old: BucketSubject, new: BucketSubject) -> Iterator[Change]:
    for audience in AUDIENCES:
        for verb in VERBS:
            found = difference(old.rules, new.rules, new.surroundings, Asker(audience), verb, Budget(BUDGET))
            levels = old.verdicts[audience, verb].level, new.verdicts[audience, verb].level
            note = "" if found.sure else "something that was not understood or not read could hide more"
            for sort, witness in (("gained", found.gained), ("lost", found.lost)):
                if witness is not None:
                    yield Change(
                        store, "bucket", name, sort, f"exposure.{audience}.{verb}",  # type: ignore[arg-type]
                        *levels, audience, verb, witness, note,
                    )  # fmt: skip


def _others(store: str, was: StoreSubject, now: StoreSubject) -> Iterator[Change]:
    """Identities, credentials, encryption keys, links, and the store itself."""
    old, new = _subjects(was), _subjects(now)
    for kind, title in sorted(old.keys() | new.keys()):
        before, after = old.get((kind, title)), new.get((kind, title))
        if before is None or after is None:
            unseen = next((one for one in (before, after) if one is not None), None)
            if unseen is not None and unseen.unseen:
                sort: Sort = "now known" if after is None else "no longer known"
                yield Change(store, kind, title, sort, note=unseen.view.reason)
            elif (kind, f"any {kind}") not in (old if before is None else new):
                note = _disabled(now, title) if kind == "credential" and after is None else ""
                yield Change(store, kind, title, "new" if before is None else "gone", note=note)
            continue
        if before.unseen:
            continue
        facts = [fact for fact, entry in REGISTER.items() if entry.subject == kind]
        yield from _facts(store, kind, title, facts, before.fact, after.fact)


def _disabled(store_subject: StoreSubject, title: str) -> str:
    """Whether a credential that is told of no more is there still, disabled."""
    for credential in store_subject.index.dossier.credentials.value or ():
        if credential.state.value == "disabled" and title == credential_title(credential):
            return "it is disabled"
    return ""


def _subjects(store_subject: StoreSubject) -> Mapping[tuple[str, str], PartSubject]:
    return {(subject.kind, subject.label): subject for subject in store_subject.subjects()}


@undisturbed()
def drift_changes(before: Audit, after: Audit) -> list[DriftChange]:
    """The requirements that stand otherwise than before, on subjects that both surveys judged or one has drift of."""
    return [change for _, change in sorted(_turned(before, after), key=itemgetter(0))]


def _turned(before: Audit, after: Audit) -> Iterator[tuple[tuple[str, str, str, str], DriftChange]]:
    old, new = (by_key(audit.findings) for audit in (before, after))
    # What is ok is looked up only where it stands otherwise on the other side.
    odd = old.keys() ^ new.keys()
    for audit, known in ((before, old), (after, new)):
        known.update(by_key(audit.met.findings(odd - known.keys())))
    for key in old.keys() | new.keys():
        was, now = old.get(key), new.get(key)
        if was is not None and now is not None and _stands_as_before(was, now):
            continue
        accepted = observed_now(was) if was and was.status == "drift" else ""
        turn = _turn(was.status if was else None, now, accepted)
        shown = now if now is not None and turn != "resolved" else was
        if turn is not None and shown is not None:
            yield key, DriftChange(turn, shown, _seen(was), _seen(now))


def _stands_as_before(was: Finding, now: Finding) -> bool:
    """Whether a requirement stands as before without a doubt: most do, and need no words."""
    if was.status != now.status or was.status != "drift":
        return was.status == now.status
    then, seen = was.observed, now.observed
    return was.tally == now.tally and then.settled and (then.state, then.value) == (seen.state, seen.value)


def turns_since(before: Standing, after: Audit) -> Counter[Turn]:
    """How many drifts opened, got worse or closed since another survey, of which only the standing is kept.

    The numbers are those of `drift_changes`. What held before and is unknown now is not counted: a standing does not
    tell what held.
    """
    old, new = before.by_area(), _by_area(after.findings)
    found: Counter[Turn | None] = Counter()
    for area in old.keys() | new.keys():
        then, there = old.get(area, {}), new.get(area, {})
        for name in then.keys() | there.keys():
            was, now = then.get(name), there.get(name)
            found[_turn(was.status if was else None, now, was.observed if was else "")] += 1
    return Counter({turn: number for turn, number in found.items() if turn is not None})


def _by_area(findings: Iterable[Finding]) -> dict[Area, dict[str, Finding]]:
    found: dict[Area, dict[str, Finding]] = {}
    for finding in findings:
        found.setdefault((finding.store, finding.kind, finding.requirement.fact), {})[finding.name] = finding
    return found


def _seen(finding: Finding | None) -> str:
    if finding is None:
        return ""
    return finding.status if finding.status == "unknown" else observed_now(finding)


def _turn(before: str | None, now: Finding | None, accepted: str) -> Turn | None:
    """How a requirement turned. `before`: its status then; `accepted`: what was seen then, in words."""
    after = now.status if now else None
    if after == "drift":
        if before in ("ok", None):
            return "new"
        if before == "unknown":
            return "now known"
        return "worse" if before == "drift" and now and _worse(now, accepted) else "new" if before == "waived" else None
    if before == "drift":
        turns: dict[str | None, Turn] = {"waived": "waived", "unknown": "no longer known"}
        return turns.get(after, "resolved")
    if before == "ok" and after == "unknown":
        return "no longer known"
    return None


def _worse(now: Finding, accepted: str) -> bool:
    return not lookup(now.requirement.fact).grows and is_worse(now, accepted)
