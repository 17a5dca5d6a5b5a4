"""The facts of objects, which a baseline can require of every version or of the current ones.

They are judged in columns (`objects/`), not one by one; here they are named, measured and explained.
"""

from __future__ import annotations

from typing import Literal

from rusty_lantern.core.answer import Answer, Fact
from rusty_lantern.core.facts.registry import REGISTER, Definition, Subject
from rusty_lantern.core.value_types import DURATION, SIZE, SWITCH, TEXT, Scale, Words

Scope = Literal["current", "versions"]
KEEPERS = Words(("none", "provider-key", "managed-key", "customer-key"), ordered=True)
SCOPES: dict[str, Scope] = {}
"""Fact → whether it speaks of current objects only, or of every version."""
LISTED: set[str] = set()
"""Facts that a listing tells; the others need each version to be inspected."""


def _enter(name: str, scope: Scope, scale: Scale, meaning: str, *, unit: str = "", listed: bool = False) -> None:
    spoken = "current objects" if scope == "current" else "every version"
    whole = f"{meaning} ({spoken})"
    REGISTER[f"objects.{name}"] = Definition(f"objects.{name}", scale, unit, whole, _not_of_a_bucket, "object")
    SCOPES[f"objects.{name}"] = scope
    if listed:
        LISTED.add(f"objects.{name}")


def _not_of_a_bucket(_: Subject, name: str) -> Fact:
    return Answer("failed", None, f"{name} is judged version by version")


_enter("name", "current", TEXT, "the key", listed=True)
_enter(
    "extension", "current", TEXT, "what stands after the key's last dot, in lower case; absent without one", listed=True
)
_enter("size", "current", SIZE, "the size", unit="bytes", listed=True)
_enter("age", "current", DURATION, "how long ago it was stored", unit="seconds", listed=True)
_enter("tier", "current", TEXT, "the storage tier, as the store names it", listed=True)
_enter("content-type", "current", TEXT, "the content type it is served with")
_enter(
    "type-fits", "current", SWITCH, "whether the content type fits the extension, where the extension is a common one"
)
_enter("cache-control", "current", TEXT, "what caches are told; absent where nothing")
_enter("metadata.*", "current", TEXT, "the value of the user metadata of that name")
_enter(
    "tags.*", "current", TEXT, "the value of the object's tag of that name (asked for where the baseline requires it)"
)
_enter(
    "public", "current", Words(("none", "read", "write"), ordered=True),
    "what the object's own access list grants the public (asked for where the baseline requires it)",
)  # fmt: skip
_enter("checksum", "current", TEXT, "the checksums that the store keeps of it; absent where none")
_enter("encryption", "versions", KEEPERS, "the encryption that was in fact applied")
_enter(
    "encryption-against-default", "versions", Words(("weaker", "equal", "stronger"), ordered=True),
    "the encryption applied, against the bucket's default of today",
)  # fmt: skip
_enter("encryption-key", "versions", TEXT, "the key that it is encrypted with; absent where none is named")
_enter("under-default-key", "versions", SWITCH, "whether it is encrypted with the key of the bucket's default of today")
_enter(
    "mode",
    "versions",
    Words(("governance", "compliance"), ordered=True),
    "its retention mode; absent without retention",
)
_enter(
    "keep",
    "versions",
    DURATION,
    "from when it was stored until its retention ends; absent without retention",
    unit="seconds",
)
_enter("hold", "versions", SWITCH, "whether it is under legal hold")
_enter(
    "deletable-by", "versions", Words(("anyone", "bypass", "nobody"), ordered=True),
    "who of those who may delete can delete it for good now: anyone, holders of the bypass permission, nobody",
)  # fmt: skip
_enter(
    "current-version", "current", Words(("shadowing", "hidden", "bare", "protected"), ordered=True),
    "how a key's current version stands: bare over a protected one, a delete marker over a protected one, bare, or "
    "protected",
)  # fmt: skip
