"""Facts of what the store itself copies between buckets.

A copy is a way in that no rule of the bucket shows: what is copied out of it can be read by whoever reads the copy, and
what is copied into it was stored by whoever writes to the other bucket. Both are the store's doing, by its own
permissions: the rules of the bucket at the other end are not asked who stored the original.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any
from urllib.parse import unquote

from rusty_lantern.core.answer import NO_EVIDENCE, Answer, Evidence, Fact, fact_of, lost
from rusty_lantern.core.facts.bucket_access import LEVEL
from rusty_lantern.core.facts.bucket_settings import part_of
from rusty_lantern.core.facts.registry import BucketView, fact
from rusty_lantern.core.model.bucket import ReplicationRule
from rusty_lantern.core.value_types import TEXT, Levels

REPLICATION_ACTIONS = "PutBucketReplication PutReplicationConfiguration DeleteBucketReplication"


@fact(
    "replication",
    Levels(("off", "part", "on"), ordered=True),
    "whether the store itself copies what is stored to another bucket: nothing, what rules choose by prefix or tag, or "
    "everything",
    advice="set up replication: {wanted}",
    causes=REPLICATION_ACTIONS,
    habit=False,
)
def replication(subject: BucketView, _: str) -> Fact:
    """On where one enabled rule is for everything."""
    rules = subject.bucket.replication
    return fact_of(rules.map(lambda r: "part" if all(one.narrowed for one in r) else "on").default("off"))


def targets(rules: Iterable[ReplicationRule]) -> dict[str, str]:
    """Target → what narrows what is copied there; empty: everything is."""
    parts: dict[str, str] = {}
    for rule in sorted(rules, key=lambda one: one.target):
        parts[rule.target] = rule.narrowed and parts.get(rule.target, rule.narrowed)
    return parts


# Absent where nothing is copied.
fact(
    "replication.target",
    TEXT,
    "the buckets that are written to as well, joined by commas",
    advice="set up replication: {wanted}",
    causes=REPLICATION_ACTIONS,
    habit=False,
)(lambda subject, _: part_of(subject.bucket.replication, lambda rules: ", ".join(targets(rules))))


@fact(
    "replication.target-exposure",
    LEVEL,
    "public access to the copies: the widest verdict on listing and reading the buckets that are written to as well",
    area="access",
    advice="restrict or remove what lets the public read the copies ({note}), or copy to another bucket",
    causes=REPLICATION_ACTIONS,
    habit=False,
    grave=True,
)
def target_exposure(subject: BucketView, _: str) -> Fact:
    """Closed where nothing is copied. Of a target that is not in the store, or was not read, nothing is known; nor of
    one that the public reads, where only what is a copy itself would be copied there."""
    rules = subject.bucket.replication
    if rules.state == "absent":
        return Answer("known", "closed", "nothing is copied", rules.evidence)
    if rules.value is None:
        return lost(rules)
    doubt: Fact | None = None
    for name, between in subject.index.targets_of(subject.bucket.name).items():
        unread = subject.index.replication_unread.get(name)
        if unread is not None:
            doubt = Answer(unread.state, None, f"whether {name} is copied on: {unread.note}", unread.evidence)
        elif between and not _shut(subject.neighbour(name), "list", "read"):
            doubt = Answer("failed", None, f"{between} is copied into {name}; {COPIED_ON}", rules.evidence)
    return _widest(subject, targets(rules.value), ("list", "read"), rules.evidence, doubt)


COPIED_ON = "whether the store copies on what is a copy itself is not known"


@fact(
    "replication.sources",
    TEXT,
    "the buckets of this store that are copied into this one, joined by commas",
    advice="take the rule out of the bucket that is copied here ({observed}), unless that is wanted",
    causes=REPLICATION_ACTIONS,
    habit=False,
)
def sources(subject: BucketView, _: str) -> Fact:
    """Absent where none is: of other stores and other accounts, no bucket shows whether they are."""
    index = subject.index
    into, doubt = _sources(subject, index.replication_unread, index.copied_by_address.get(subject.bucket.name, ()))
    if doubt is not None:
        known = f"; copied into it: {', '.join(into)}" * bool(into)
        return Answer(doubt.state, None, f"{doubt.note}{known}", doubt.evidence)
    return Answer("known", ", ".join(into)) if into else Answer("absent")


@fact(
    "replication.source-exposure",
    LEVEL,
    "public access to write by way of copies: the widest verdict on writing to the buckets that are copied into this "
    "one",
    area="access",
    advice="restrict or remove what lets the public write to the bucket that is copied here ({note}), or take the rule "
    "out of it",
    causes=REPLICATION_ACTIONS,
    habit=False,
    grave=True,
)
def source_exposure(subject: BucketView, _: str) -> Fact:
    """Closed where no bucket of the store is copied into this one. One that the public does not write to adds nothing,
    whatever it is copied into."""
    by_address = subject.index.copied_by_address.get(subject.bucket.name, ())
    written = [name for name in by_address if not _shut(subject.neighbour(name), "write")]
    into, doubt = _sources(subject, subject.perhaps_copied, written)
    for name, between in subject.index.sources_of(subject.bucket.name).items():
        if between and doubt is None and not _shut(subject.neighbour(name), "write"):
            doubt = Answer("failed", None, f"{name} is copied into {between}; {COPIED_ON}")
    return _widest(subject, into, ("write",), doubt=doubt)


def _shut(subject: BucketView | None, *verbs: str) -> bool:
    """Whether the public can do none of these; not so of a bucket that was not read."""
    return subject is not None and all(subject.exposures[verb].value == "closed" for verb in verbs)


def _sources(
    subject: BucketView, unread: Mapping[str, Answer[Any]], by_address: Iterable[str]
) -> tuple[dict[str, str], Fact | None]:
    """The buckets that are copied into this one, with what narrows that; and why there may be others. `unread`: those
    that may be, since nobody read what they are copied into; `by_address`: those that are copied into one of its name,
    which may be another store's."""
    own = subject.bucket.replication
    if own.state == "unsupported":
        return {}, lost(own)
    name, index = subject.bucket.name, subject.index
    into = {one: narrowed for one, narrowed in index.copied_into.get(name, {}).items() if one != name}
    doubt: Fact | None = None
    if index.unseen_buckets:
        doubt = Answer("failed", None, index.unseen_buckets)
    for other, why in unread.items():
        if other != name:
            doubt = Answer(why.state, None, f"whether {other} is copied here: {why.note}", why.evidence)
            break
    elsewhere = next((one for one in by_address if one not in (name, *into)), None)
    if elsewhere is not None and doubt is None:
        doubt = Answer("failed", None, f"{elsewhere}: its copies go to a container of this name, perhaps another's")
    return into, doubt


def _widest(
    subject: BucketView,
    names: Mapping[str, str],
    verbs: Sequence[str],
    evidence: Evidence = NO_EVIDENCE,
    doubt: Fact | None = None,
) -> Fact:
    """The widest public verdict of these verbs on these buckets of the store. `names`: each with what narrows the copy:
    the public may have no access to that part. `doubt`: why there may be other buckets. Where there is a doubt, only
    `open` is settled."""
    widest: tuple[float, Fact] = (-1, Answer("known", "closed", ", ".join(names) or "nothing is copied", evidence))
    for name, narrowed in names.items():
        other = subject.neighbour(name)
        if other is None:
            doubt = Answer("failed", None, f"{unquote(name)} is not in this store, or was not read", evidence)
            continue
        for way in [_by_way_of(name, verb, narrowed, other.exposures[verb]) for verb in verbs]:
            if not way.settled:
                doubt = way
            elif LEVEL.rank(str(way.value)) > widest[0]:
                widest = LEVEL.rank(str(way.value)), way
    return widest[1] if doubt is None or widest[1].value == "open" else doubt


def _by_way_of(name: str, verb: str, narrowed: str, verdict: Fact) -> Fact:
    """What the public's verdict on one verb on another bucket means for the copies: of a part that is copied, it may be
    that the public has access to the rest alone."""
    if not verdict.settled:
        return Answer(verdict.state, None, f"{name}: {verdict.note}", verdict.evidence)
    if verdict.value == "closed":
        return Answer("known", "closed", name, verdict.evidence)
    if narrowed:
        words = f"{name}: {verdict.value} to {verb}; only a part is copied ({narrowed}), perhaps another one"
        return Answer("failed", None, words, verdict.evidence)
    return Answer("known", verdict.value, f"{name}: {verb} by {verdict.note}", verdict.evidence)
