"""Who gets at what a bucket holds by way of the copies that the store makes of it, or makes in it."""

from __future__ import annotations

from collections.abc import Iterator

import msgspec

from rusty_lantern.core.answer import Partly
from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.facts.bucket_replication import COPIED_ON, targets
from rusty_lantern.core.model.identity import Verb
from rusty_lantern.core.value_sets import NAMES

INTO: tuple[Verb, ...] = ("write",)
"""What somebody can do to the bucket who can do it to one that is copied into it."""
OUT_OF: tuple[Verb, ...] = ("list", "read")
"""The same of one that the bucket is copied into."""


class CopyAccessRow(msgspec.Struct, frozen=True, kw_only=True):
    """Everybody who can use one verb on a bucket by way of another one."""

    store: str
    bucket: str
    verb: str
    """`write`: on a bucket that is copied into this one; `list`, `read`: on one that this one is copied into."""
    other: str
    """The other bucket. Empty: it is not known which; `unknown_because` says why."""
    between: str
    """The bucket in between: copies go from one to it, and from it to the other. Empty: they go directly."""
    part: str
    """What narrows the part that is copied. Empty: everything is copied."""
    names: list[str]
    """Identities, and the public as `anyone` and `any-account`."""
    unknown_because: str
    """Why there may be others, or why these may have no access; empty where these are all."""


def who_can_by_copies(view: BucketSubject) -> list[CopyAccessRow]:
    """Everybody who can do something to a bucket by way of copies, bucket by bucket and verb by verb."""
    return [*_into(view), *_out_of(view)]


def _into(view: BucketSubject) -> Iterator[CopyAccessRow]:
    index, name = view.index, view.name
    if view.bucket.replication.state == "unsupported":
        return
    direct, by_address = index.copied_into.get(name, {}), index.copied_by_address.get(name, {})
    for other, between in index.sources_of(name).items():
        doubt = "its copies go to a container of this name, perhaps another's" * (not between and other in by_address)
        part = direct.get(other, by_address.get(other, ""))
        yield from _rows(view, INTO, other, between, part, doubt)
    unread = [f"whether {other} is copied here: {why.reason}" for other, why in index.replication_unread.items()
              if other != name]  # fmt: skip
    why = f"{unread[0]}{f'; the same of {len(unread) - 1} more' if unread[1:] else ''}" if unread else ""
    why = index.unseen_buckets or why
    if why:
        yield from _rows(view, INTO, "", "", "", why)


def _out_of(view: BucketSubject) -> Iterator[CopyAccessRow]:
    rules, index = view.bucket.replication, view.index
    if rules.unread and rules.state != "unsupported":
        yield from _rows(view, OUT_OF, "", "", "", rules.reason)
    for target, part in targets(rules.value or ()).items():
        yield from _rows(view, OUT_OF, target, "", part, "")
    for other, between in index.targets_of(view.name).items():
        if between:
            yield from _rows(view, OUT_OF, other, between, "", "")
        if other in index.replication_unread:
            why = f"whether {other} is copied on: {index.replication_unread[other].reason}"
            yield from _rows(view, OUT_OF, "", other, "", why)


def _rows(
    view: BucketSubject, verbs: tuple[Verb, ...], other: str, between: str, part: str, doubt: str
) -> Iterator[CopyAccessRow]:
    """A row for each verb; `doubt`: why more is unknown than who can use the other bucket."""
    neighbour = view.neighbour(other) if other else None
    if other and neighbour is None:
        doubt = "it is not in this store, or was not read"
    if part and not doubt:
        doubt = f"only a part is copied ({part}), perhaps not what they have access to"
    if between and not doubt:
        doubt = COPIED_ON
    for verb in verbs:
        names, unknown = "", doubt
        if neighbour is not None:
            fact = neighbour.principals[verb]
            names = str((fact.certain if isinstance(fact, Partly) else fact.value) or "")
            unknown = doubt or ("" if fact.settled else fact.reason)
        yield CopyAccessRow(
            store=view.store, bucket=view.name, verb=verb, other=other, between=between, part=part,
            names=sorted(NAMES.members(names)), unknown_because=unknown,
        )  # fmt: skip
