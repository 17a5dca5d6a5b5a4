"""The facts of objects, which a baseline can require of every version or of the current ones.

They are judged in columns (`objects/`), not one by one; here they are named, measured and explained.
"""

from __future__ import annotations

from typing import Literal, Unpack

from rusty_lantern.core.answer import Answer, Fact
from rusty_lantern.core.facts.registry import Attributes, BucketView, fact
from rusty_lantern.core.value_types import DURATION, SIZE, SWITCH, TEXT, Levels, Scale

Scope = Literal["current", "versions"]
KEEPERS = Levels(("none", "provider-managed", "customer-managed", "customer-provided"), ordered=True)
SCOPES: dict[str, Scope] = {}
"""Fact → whether it is about current objects only, or of every version."""
BENEATH = frozenset({"objects.current-version"})
"""Facts of current objects that hang on what lies beneath them too."""
LISTED: set[str] = set()
"""Facts that a listing shows; the others need each version to be inspected."""


def needs_old_versions(fact: str) -> bool:
    """Whether a fact cannot be known of all where old versions were left out."""
    return SCOPES.get(fact) == "versions" or fact in BENEATH


def _enter(
    name: str, scope: Scope, scale: Scale, meaning: str, *, listed: bool = False, **more: Unpack[Attributes]
) -> None:
    spoken = "current objects" if scope == "current" else "every version"
    fact(f"objects.{name}", scale, f"{meaning} ({spoken})", of="object", **more)(_not_of_a_bucket)
    SCOPES[f"objects.{name}"] = scope
    if listed:
        LISTED.add(f"objects.{name}")


def _not_of_a_bucket(_: BucketView, name: str) -> Fact:
    return Answer("failed", None, f"{name} is evaluated version by version")


_enter(
    "name",
    "current",
    TEXT,
    "the key",
    listed=True,
    area="objects",
    advice="copy these objects to a key that is {wanted}, and delete the old ones",
)

_enter(
    "extension",
    "current",
    TEXT,
    "the text after the key's last dot, in lower case; absent without one",
    listed=True,
    area="objects",
    advice="copy these objects to a key with an extension that is {wanted}",
)

_enter(
    "size",
    "current",
    SIZE,
    "the size",
    unit="bytes",
    listed=True,
    area="objects",
    advice="ask the owner of these objects: their size is to be {wanted}",
)

_enter(
    "age",
    "current",
    DURATION,
    "how long ago it was stored",
    unit="seconds",
    listed=True,
    area="objects",
    advice="delete or archive what is older, or have an expiry rule do it: {wanted}",
    grows=True,
)

_enter(
    "tier",
    "current",
    TEXT,
    "the storage tier, as the store names it",
    listed=True,
    area="objects",
    advice="move these objects to another tier: {wanted}",
)

_enter(
    "content-type",
    "current",
    TEXT,
    "the content type it is served with",
    area="objects",
    advice="copy each of these objects onto itself with a content type that is {wanted}",
)

_enter(
    "content-type-matches-extension",
    "current",
    SWITCH,
    "whether the content type fits the extension, where the extension is a common one",
    area="objects",
    advice="copy each of these objects onto itself with the content type of its extension, or rename it",
)

_enter(
    "cache-control",
    "current",
    TEXT,
    "the Cache-Control header; absent where there is none",
    area="objects",
    advice="copy each of these objects onto itself with Cache-Control: {wanted}",
)

_enter(
    "metadata.*",
    "current",
    TEXT,
    "the value of the user metadata of that name",
    area="objects",
    advice='copy each of these objects onto itself with the metadata "{last}": {wanted}',
)

_enter(
    "tags.*",
    "current",
    TEXT,
    "the value of the object's tag of that name (asked for where the baseline requires it)",
    area="objects",
    asks_objects="tags",
    advice='tag these objects with "{last}": {wanted}',
)

_enter(
    "public",
    "current",
    Levels(("none", "read", "write"), ordered=True),
    "what the object's own ACL allows the public (asked for where the baseline requires this, or who can read)",
    area="access",
    asks_objects="acl",
    advice="remove the public grant from the ACLs of these objects",
)

_enter(
    "checksum",
    "current",
    TEXT,
    "the checksums that the store keeps of it; absent where there are none",
    area="objects",
    advice="copy each of these objects onto itself and have the store compute a checksum",
)

_enter(
    "expires-in",
    "current",
    DURATION,
    "how long until the store itself deletes it; absent where it does not",
    area="objects",
    advice="set another expiry on these objects, {wanted}",
)

_enter(
    "points-to",
    "current",
    TEXT,
    "where the data is, for an object that is a link or a list of segments; absent where it has its own",
    area="objects",
    advice="copy the data into these objects: whoever may read what they point to reads it past this bucket's rules",
)

_enter(
    "encryption",
    "versions",
    KEEPERS,
    "the encryption that was in fact applied",
    area="encryption",
    advice="copy each of these objects onto itself, so that the default encryption is used",
)

_enter(
    "encryption-against-default",
    "versions",
    Levels(("weaker", "equal", "stronger"), ordered=True),
    "the encryption applied, against the bucket's present default",
    area="encryption",
    advice="copy each of these objects onto itself, so that the default encryption is used",
)

_enter(
    "encryption-key",
    "versions",
    TEXT,
    "the key that it is encrypted with; absent where none is named",
    area="encryption",
    advice="copy each of these objects onto itself, so that the default encryption is used",
)

_enter(
    "under-default-key",
    "versions",
    SWITCH,
    "whether it is encrypted with the key of the bucket's present default",
    area="encryption",
    advice="copy each of these objects onto itself, so that the default key is used",
)

_enter(
    "mode",
    "versions",
    Levels(("governance", "compliance"), ordered=True),
    "its retention mode; absent without retention",
    area="versions and locks",
    advice="set the retention of these versions: a default counts for what is stored later",
)

_enter(
    "retention",
    "versions",
    DURATION,
    "from when it was stored until its retention ends; absent without retention",
    unit="seconds",
    area="versions and locks",
    advice="set the retention of these versions: longer can be set at once, shorter only under governance",
)

_enter(
    "legal-hold",
    "versions",
    SWITCH,
    "whether it is under legal hold",
    area="versions and locks",
    advice="put these versions under legal hold, or remove it: {wanted}",
)

_enter(
    "deletable-by",
    "versions",
    Levels(("delete-permission", "bypass-retention", "nobody"), ordered=True),
    "who can delete it for good now: any principal with delete permission, those with bypass-retention, nobody",
    area="objects",
    advice="set a retention or a legal hold on these versions",
)

_enter(
    "current-version",
    "current",
    Levels(("unprotected-over-protected", "marker-over-protected", "unprotected", "protected"), ordered=True),
    "the state of a key's current version: unprotected over a protected one, a delete marker over a protected one, "
    "unprotected, or protected",
    area="versions and locks",
    advice="set a retention on the current version too, or delete the newer unprotected version",
)
