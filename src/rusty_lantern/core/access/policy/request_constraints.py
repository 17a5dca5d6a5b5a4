"""What can occur together in one request: a table of alternatives, of which every real request takes one in each row.

The solver splits its domain by it (`alternatives`), so that no region holds a request that no client can send; the
plain decider's requests are held against the same table (`impossible`). What follows from a caller's name is in
`callers`; what one key alone can carry is in its row of `keys`.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from functools import lru_cache

import msgspec

from rusty_lantern.core.access.policy.condition_keys import KEYS, ContextKey, Presence, context_key

Carried = Mapping[str, Presence]

ENDPOINT_KEYS = (
    "aws:sourcevpc", "aws:sourcevpce", "aws:vpcsourceip", "aws:vpceaccount", "aws:sourcevpcarn",
)  # fmt: skip
_ENDPOINT_MAYBE = ("aws:vpceorgid", "aws:vpceorgpaths")
_GRANT_KEYS = tuple(name for name in KEYS if name.startswith("s3:x-amz-grant-"))
_SSE, _SSE_KEY = "s3:x-amz-server-side-encryption", "s3:x-amz-server-side-encryption-aws-kms-key-id"
_SSE_OWN = "s3:x-amz-server-side-encryption-customer-algorithm"
_LOCK_KEYS = ("s3:object-lock-mode", "s3:object-lock-retain-until-date", "s3:object-lock-remaining-retention-days")


class Alternatives(msgspec.Struct, frozen=True):
    """A choice that every request makes: which keys it then carries always, or never; others it may carry."""

    reason: str
    choices: tuple[Carried, ...]


def _all(names: Iterable[str], presence: Presence) -> dict[str, Presence]:
    return dict.fromkeys(names, presence)


TABLE: tuple[Alternatives, ...] = (
    Alternatives(
        "a request shows its address, or comes through a private endpoint, which hides it; never both",
        (
            {"aws:sourceip": "always", **_all((*ENDPOINT_KEYS, *_ENDPOINT_MAYBE), "never")},
            {"aws:sourceip": "never", **_all(ENDPOINT_KEYS, "always"), **_all(_ENDPOINT_MAYBE, "maybe")},
        ),
    ),
    Alternatives(
        "an upload names a canned ACL, or ACL grants, not both",
        (_all(_GRANT_KEYS, "never"), {"s3:x-amz-acl": "never"}),
    ),
    Alternatives(
        "an upload is encrypted with the sender's own key, or with one of the store's, which alone can be named",
        (
            {_SSE_OWN: "never", _SSE_KEY: "never"},
            {_SSE_OWN: "never", _SSE: "always", _SSE_KEY: "always"},
            {_SSE_OWN: "always", _SSE: "never", _SSE_KEY: "never"},
        ),
    ),
    Alternatives(
        "a retention has a mode and a date, or there is none",
        (_all(_LOCK_KEYS, "always"), _all(_LOCK_KEYS, "never")),
    ),
    Alternatives(
        "only a copy says what becomes of an object's metadata",
        ({"s3:x-amz-metadata-directive": "never"}, {"s3:x-amz-copy-source": "always"}),
    ),
)
"""Each row from the published pages on the operations and keys that it is about."""

_TAG, TAG_KEYS = "s3:requestobjecttag/", "s3:requestobjecttagkeys"
_SENT_OR_NOT: tuple[Presence, ...] = ("always", "never")
MOST_TAGS = 3
"""Rules that ask for more tags of an upload, and for the list of them too, are not split: none do."""


def alternatives(used: Iterable[str]) -> Iterator[Carried]:
    """The ways in which a request can carry these condition keys, as far as carrying one bears on another."""
    keys = set(used)
    tags = [key for key in sorted(keys) if key.startswith(_TAG)] if TAG_KEYS in keys else []
    rows = [row.choices for row in TABLE]
    ways: list[dict[str, Presence]] = [{}]
    for tag in tags[:MOST_TAGS]:
        ways = [{**one, tag: presence} for one in ways for presence in _SENT_OR_NOT]
    for choices in rows:
        distinct: list[Carried] = []
        for choice in choices:
            mine: Carried = {key: presence for key, presence in choice.items() if key in keys}
            if mine not in distinct:
                distinct.append(mine)
        if {} in distinct or len({key for mine in distinct for key in mine}) == 1:
            continue  # a choice that says nothing of these keys takes in the others; one key alone is there or is not
        ways = [{**one, **more} for one in ways for more in distinct]
    yield from ways


def joined(one: Presence, other: Presence) -> Presence | None:
    """Whether a key is carried where two rules apply to it; None where they contradict each other."""
    if "maybe" in (one, other):
        return other if one == "maybe" else one
    return one if one == other else None


def tag_of(key: str) -> str:
    """The tag that a condition key on an upload's tag asks for; empty for other keys."""
    return key.removeprefix(_TAG) if key.startswith(_TAG) else ""


def impossible(context: Mapping[str, tuple[str, ...]]) -> str:
    """Why no client can send a request that carries this; empty where one can."""
    carried = frozenset(context)
    contradiction = _contradiction(carried)
    if contradiction:
        return contradiction
    for known, key in _with_rules(carried):
        values = context[key]
        if known.words and not set(values) <= set(known.words):
            return f"{key} is one of {', '.join(known.words)}"
        if known.whole and not all(value.isdigit() for value in values):
            return f"{key} is a whole number"
    listed = context.get(TAG_KEYS)
    if listed is not None and not {tag_of(key) for key in context if key.startswith(_TAG)} <= set(listed):
        return "a tag that is sent is among the tags that are sent"
    return ""


@lru_cache(maxsize=1_024)
def _with_rules(carried: frozenset[str]) -> list[tuple[ContextKey, str]]:
    """Those of these keys that not every value is right for, in alphabetical order."""
    known = [(context_key(key), key) for key in sorted(carried)]
    return [(row, key) for row, key in known if row is not None and (row.words or row.whole)]


@lru_cache(maxsize=1_024)
def _contradiction(carried: frozenset[str]) -> str:
    """Why no request carries just these keys; empty where one can."""
    for reason, choices in _CONSTRAINTS:
        if not any(all((key in carried) is wanted for key, wanted in choice) for choice in choices):
            return reason
    return ""


_TELLING = frozenset({"aws:sourceip", *_LOCK_KEYS[:2], _SSE, _SSE_KEY, _SSE_OWN, "s3:x-amz-copy-source"})
"""Keys that a request as we write one out always shows where it carries them."""
_CONSTRAINTS = [
    (
        row.reason,
        [
            [(key, presence == "always") for key, presence in choice.items()
             if presence == "never" or (presence == "always" and key in _TELLING)]
            for choice in row.choices
        ],
    )
    for row in TABLE
]  # fmt: skip
"""Each row's reason, and of its choices which keys must be carried, and which must not be."""
