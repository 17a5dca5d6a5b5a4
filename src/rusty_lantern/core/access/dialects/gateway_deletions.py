"""What a policy says of deletions at a gateway, which holds them against other names and actions than are published.

Bypass: a gateway asks for no permission to bypass governance. Whoever may delete a version may do it with the header
that bypasses governance, unless a Deny names the bypass. A deletion of one object is held against that object's name;
one of several at once, which may be of one as well, against the bucket's: so a Deny of the bypass on `BUCKET/*` alone
does not keep anybody from it who may delete several.

Bulk deletion, at the Swift door: anybody may, unless a Deny names `s3:DeleteBucket` on the bucket.

Measured on release 16.2: `tests/test_gateway_bypass.py` and `tests/test_gateway_acls.py` do it again.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from functools import lru_cache
from itertools import chain
from typing import NamedTuple

import msgspec

from rusty_lantern.core.access.policy.actions import BY_LOWER_NAME
from rusty_lantern.core.access.policy.condition_keys import SEVERAL
from rusty_lantern.core.access.policy.document import Condition, Fault, Principals, Statement

DELETE, DELETE_VERSION, BYPASS = "s3:DeleteObject", "s3:DeleteObjectVersion", "s3:BypassGovernanceRetention"
DELETE_BUCKET = "s3:DeleteBucket"
BULK_DELETION = (DELETE, DELETE_BUCKET)
"""What a gateway's bulk deletion at its Swift door does."""
ONE, MANY = (Condition("null", SEVERAL, (absent,), "") for absent in ("true", "false"))
"""Of a deletion of one object, and of several at once."""


def bypass_as_read(statements: Sequence[Statement]) -> Iterator[Statement]:
    """The statements of a document, so that those about the bypass say what such software makes of them."""
    for statement in statements:
        named = _named(statement)
        if not (named.bypass or named.version or named.one):
            yield statement
        elif statement.effect == "Allow":
            yield from _allowed(statement, named)
        else:
            yield from _denied(statement, named)


_EVERYBODY = Statement("", "Allow", principals=Principals(everyone=True), actions=(BYPASS,))


class _Named(NamedTuple):
    """Which of the actions a statement names: to delete an object, to delete a version, to bypass."""

    one: bool
    version: bool
    bypass: bool


def _named(statement: Statement) -> _Named:
    return _Named(*(_names(statement, name) for name in (DELETE, DELETE_VERSION, BYPASS)))


def _names(statement: Statement, action: str) -> bool:
    return not statement.actions or (action in _reached(statement.actions)) != statement.actions_negated


def bulk_deletion_refused(statements: Sequence[Statement]) -> list[Statement]:
    """What the statements refuse of a gateway's bulk deletion, which asks for `s3:DeleteBucket` on the bucket alone."""
    return [
        msgspec.structs.replace(
            on_bucket, actions=BULK_DELETION, actions_negated=False, conditions=(*statement.conditions, MANY),
            resources=(*on_bucket.resources, *(name for name in statement.resources if "/" not in name)),
            at_every_door=True,
        )
        for statement in statements
        if statement.effect != "Allow" and not statement.at_every_door and _names(statement, DELETE_BUCKET)
        if (on_bucket := _on_bucket(statement)) is not None
    ]  # fmt: skip


def names_bypass(statement: Statement) -> bool:
    """Whether a statement names the permission to bypass."""
    return _named(statement).bypass


def _allowed(statement: Statement, named: _Named) -> Iterator[Statement]:
    """An Allow, as it counts where one object is deleted and where several are."""
    whole = named.one and _names_buckets_whole(statement)
    if named.version and named.bypass and whole:
        yield statement
        return
    yield from _without_bypass(statement) if named.bypass else (statement,)
    on_bucket = _on_bucket(statement) if named.one else None
    if named.version and whole:
        yield _of_bypass(statement)
    elif named.version:
        yield _of_bypass(statement, ONE)
        yield _several(statement, on_bucket)
    if on_bucket is not None and not whole:
        fault = Fault(statement.place, "whether ACLs count for who is allowed to delete in the bucket, and not objects")
        refused = _of_bypass(on_bucket, MANY, (fault,))
        yield msgspec.structs.replace(refused, effect="Deny")


def _several(statement: Statement, on_bucket: Statement | None) -> Statement:
    """An Allow of deleting versions, as it counts where several are deleted: of who may delete in the bucket too."""
    if on_bucket is None:
        fault = Fault(statement.place, "whether who is allowed this may also delete several objects at once")
        return _of_bypass(statement, MANY, (fault,))
    cap = msgspec.structs.replace(_EVERYBODY, place=statement.place, resources=on_bucket.resources)
    cap = msgspec.structs.replace(cap, resources_negated=on_bucket.resources_negated)
    several = _of_bypass(statement, MANY, on_bucket.faults[len(statement.faults) :])
    return msgspec.structs.replace(several, within=cap)


def _names_buckets_whole(statement: Statement) -> bool:
    """Whether all buckets that its resources name are named with all their objects, and objects with their buckets."""
    if statement.resources_negated or not statement.resources:
        return not statement.resources
    names = set(statement.resources)
    return all(_has_counterpart(name, names) for name in names)


def _has_counterpart(name: str, names: set[str]) -> bool:
    """Whether beside a bucket's name there is that of all its objects, and beside objects' that of their bucket."""
    if "/" not in name:
        return name.endswith("*") or f"{name}/*" in names
    return name.endswith("/*") and name.removesuffix("/*") in names


def _denied(statement: Statement, named: _Named) -> Iterator[Statement]:
    """A Deny: of the deletion, on the object's name, whichever way; of the bypass, on the name that each way has."""
    if named.version:
        yield statement
        yield from () if named.bypass else (_of_bypass(statement),)
    elif named.bypass:
        yield from _without_bypass(statement)
        yield _of_bypass(statement, ONE)
    else:
        yield statement
    if named.bypass or named.one:
        on_bucket = _on_bucket(statement)
        yield from () if on_bucket is None else (_of_bypass(on_bucket, MANY),)


def _of_bypass(statement: Statement, how: Condition | None = None, faults: Iterable[Fault] = ()) -> Statement:
    conditions = statement.conditions if how is None else (*statement.conditions, how)
    return msgspec.structs.replace(
        statement, actions=(BYPASS,), actions_negated=False, conditions=conditions,
        faults=(*statement.faults, *faults),
    )  # fmt: skip


def _without_bypass(statement: Statement) -> Iterator[Statement]:
    """The statement without the bypass among its actions; nothing where it names no other."""
    if statement.actions_negated or not statement.actions:
        kept = tuple(sorted(set(BY_LOWER_NAME.values()) - _reached(statement.actions) - {BYPASS}))
    else:
        kept = tuple(
            name
            for pattern in statement.actions
            for name in (sorted(_reached((pattern,)) - {BYPASS}) if BYPASS in _reached((pattern,)) else (pattern,))
        )
    if kept:
        yield msgspec.structs.replace(statement, actions=kept, actions_negated=False)


def _on_bucket(statement: Statement) -> Statement | None:
    """The statement on all objects of the buckets that its resources name; None where they name objects alone."""
    if not statement.resources:
        return statement
    named = [name for name in statement.resources if "/" not in name]
    if not named and not statement.resources_negated:
        return None
    inner = [name for name in named if not {"*", "?"}.isdisjoint(name[:-1]) or name.endswith("?") or "$" in name]
    fault = (Fault(statement.place, "which buckets a name with a wildcard inside means"),) if inner else ()
    wide = tuple(name if name.endswith("*") else f"{name}/*" for name in named)
    return msgspec.structs.replace(
        statement,
        resources=wide or ("*",),
        resources_negated=statement.resources_negated and bool(wide),
        faults=(*statement.faults, *fault),
    )


@lru_cache(maxsize=4096)
def _reached(patterns: tuple[str, ...]) -> frozenset[str]:
    """The published actions that some of the patterns fit."""
    return frozenset(chain.from_iterable(_reached_by(pattern.lower()) for pattern in patterns))


@lru_cache(maxsize=4096)
def _reached_by(pattern: str) -> frozenset[str]:
    if {"*", "?"}.isdisjoint(pattern):
        return frozenset({BY_LOWER_NAME[pattern]} if pattern in BY_LOWER_NAME else ())
    return frozenset(name for lowered, name in BY_LOWER_NAME.items() if _fits(pattern, lowered))


def _fits(pattern: str, text: str) -> bool:
    """Whether a text fits a glob: every place in the pattern where the characters so far may end.

    >>> _fits("s3:*Retention", "s3:PutObjectRetention"), _fits("s3:Get?", "s3:Get")
    (True, False)
    """
    if len(pattern) - pattern.count("*") > len(text):
        return False
    ends = _with_stars({0}, pattern)
    for char in text:
        stepped = {
            n if pattern[n] == "*" else n + 1 for n in ends if n < len(pattern) and pattern[n] in ("*", "?", char)
        }
        ends = _with_stars(stepped, pattern)
    return len(pattern) in ends


def _with_stars(ends: set[int], pattern: str) -> set[int]:
    """The same places, and those behind a star, which may fit nothing."""
    every = set(ends)
    for end in ends:
        while end < len(pattern) and pattern[end] == "*":
            end += 1  # noqa: PLW2901
            every.add(end)
    return every
