"""Answers of the blob protocol, decoded: service properties, containers, their policies, and blobs.

Source: the protocol's documentation of each operation, and what a server answered (`docs/stores.md`).
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from datetime import UTC, datetime, timedelta
from email.utils import parsedate_to_datetime
from typing import Literal
from urllib.parse import unquote

import msgspec

from rusty_lantern.core.model.acl import Right
from rusty_lantern.core.model.bucket import CrossOrigin, LinkPolicy
from rusty_lantern.core.model.identity import Verb
from rusty_lantern.core.model.object_version import Keeper, Mode, ObjectVersion
from rusty_lantern.intake.signed_link import verbs_of
from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.http.xml import (
    Element,
    child,
    children,
    name,
    parse,
    raw_text,
    restored,
    switch,
    text,
)

ACCOUNT_KEY = "$account-encryption-key"
"""What the default encryption scope is called that is none of the account's own."""
Level = Literal["", "blob", "container"]
RIGHTS: Mapping[str, tuple[Verb, ...]] = {
    "": (),
    "blob": ("read",),
    "container": ("list", "read", "read-settings"),
}
"""Public access level → what anyone may do: at the widest, the container's properties and its stored policies are
public too. Measured on a server; the documentation says the same."""
DAY = 86_400


class Container(msgspec.Struct, frozen=True, kw_only=True):
    """One entry of the list of containers."""

    name: str
    level: Level
    metadata: dict[str, str]
    modified: datetime | None
    leased: bool | None
    """Whether a lease without an end is on it; None where the list does not say."""
    retained: bool | None
    """Whether it has a retention policy; None where the list does not say."""
    held: bool | None
    by_version: bool
    """Whether each version may have a retention of its own."""
    scope: str
    """Its default encryption scope; empty: the account's own."""
    enforced: bool
    """Whether uploads cannot choose another one."""


class ServiceProperties(msgspec.Struct, frozen=True, kw_only=True):
    """What is set for all containers of an account, as far as the protocol shows."""

    logs: tuple[str, ...]
    """What is logged in the way of the protocol itself: `Read`, `Write`, `Delete`."""
    cross_origin: list[CrossOrigin]
    soft_delete: int
    """For how many seconds deleted blobs can be brought back; 0: not at all."""
    website: str | None
    """The index document of the static site; None without one."""


def read_properties(body: bytes) -> ServiceProperties:
    """Decode service properties. Raises `RequestFailed`."""
    root = _root(body, "StorageServiceProperties")
    site = child(root, "StaticWebsite")
    served = site is not None and switch(site, "Enabled")
    rules = child(root, "Cors")
    kept = child(root, "DeleteRetentionPolicy")
    return ServiceProperties(
        logs=tuple(what for what in ("Read", "Write", "Delete") if switch(root, "Logging", what)),
        cross_origin=[
            CrossOrigin(_listed(rule, "AllowedOrigins"), _listed(rule, "AllowedMethods"))
            for rule in (children(rules, "CorsRule") if rules is not None else ())
        ],
        soft_delete=_days(kept) if kept is not None and switch(kept, "Enabled") else 0,
        website=text(site, "IndexDocument") if served and site is not None else None,
    )


def _days(kept: Element) -> int:
    days = text(kept, "Days")
    if not re.fullmatch("[0-9]{1,5}", days):
        raise RequestFailed("failed", "soft delete is on, for no number of days", "unreadable answer")
    return int(days) * DAY


def _listed(element: Element, what: str) -> list[str]:
    return [part.strip() for part in text(element, what).split(",") if part.strip()]


def read_containers(body: bytes) -> tuple[list[Container], str]:
    """A page of the list of containers, without deleted ones, and where the next begins. Raises `RequestFailed`."""
    root = _root(body, "EnumerationResults")
    listed = child(root, "Containers")
    containers = [_container(one) for one in (children(listed, "Container") if listed is not None else ())
             if not switch(one, "Deleted")]  # fmt: skip
    return containers, text(root, "NextMarker")


def _container(entry: Element) -> Container:
    properties = child(entry, "Properties")
    if properties is None or not raw_text(entry, "Name"):
        raise RequestFailed("failed", "the list of containers has an entry without a name", "unreadable answer")
    scope = text(properties, "DefaultEncryptionScope")
    state = text(properties, "LeaseState")
    return Container(
        name=raw_text(entry, "Name"),
        level=level_of(text(properties, "PublicAccess")),
        metadata=_pairs(child(entry, "Metadata")),
        modified=read_date(text(properties, "Last-Modified")),
        leased=(state == "leased" and text(properties, "LeaseDuration") == "infinite") if state else None,
        retained=_mark(text(properties, "HasImmutabilityPolicy")),
        held=_mark(text(properties, "HasLegalHold")),
        by_version=switch(properties, "ImmutableStorageWithVersioningEnabled"),
        scope="" if scope == ACCOUNT_KEY else scope,
        enforced=switch(properties, "DenyEncryptionScopeOverride"),
    )


def level_of(written: str) -> Level:
    """A public access level. Raises `RequestFailed` for a word that is none: it may open anything."""
    if written == "blob":
        return "blob"
    if written == "container":
        return "container"
    if written in ("", "none"):
        return ""
    raise RequestFailed("failed", f'"{written[:40]}" is no public access level', "unreadable answer")


def _mark(written: str) -> bool | None:
    return {"true": True, "false": False}.get(written)


def _pairs(element: Element | None) -> dict[str, str]:
    return {name(one): (one.text or "") for one in element if name(one)} if element is not None else {}


def rights_of(level: Level) -> list[Right]:
    """What a public access level grants anyone."""
    if not level:
        return []
    return [Right("anyone", list(RIGHTS[level]), source=f"public access level: {level}", door="blob")]


def read_policies(body: bytes) -> list[LinkPolicy]:
    """The policies for links that a container stores. Raises `RequestFailed`."""
    root = _root(body, "SignedIdentifiers")
    return [_policy(one) for one in children(root, "SignedIdentifier")]


def _policy(entry: Element) -> LinkPolicy:
    said = text(entry, "AccessPolicy", "Permission")
    dates = {}
    for which in ("Start", "Expiry"):
        written = text(entry, "AccessPolicy", which)
        dates[which] = read_date(written)
        if written and dates[which] is None:
            raise RequestFailed("failed", f'a stored policy has a date that is none: "{written[:40]}"', "unreadable")
    return LinkPolicy(raw_text(entry, "Id"), list(verbs_of(said)), dates["Start"], dates["Expiry"])


class ListedBlob(msgspec.Struct, frozen=True):
    """One entry of a container's listing."""

    version: ObjectVersion
    deleted: bool
    """Whether it was deleted, and can still be brought back."""


def read_blobs(body: bytes) -> tuple[list[ListedBlob], str]:
    """A page of a container's listing, and where the next begins. Raises `RequestFailed`."""
    root = _root(body, "EnumerationResults")
    listed = child(root, "Blobs")
    return [_blob(one) for one in (children(listed, "Blob") if listed is not None else ())], text(root, "NextMarker")


def _blob(entry: Element) -> ListedBlob:
    properties = child(entry, "Properties")
    named = child(entry, "Name")
    key = restored(named.text or "") if named is not None else ""
    if properties is None or named is None or not key:
        raise RequestFailed("failed", "a listing has an entry without a name", "unreadable answer")
    if named.get("Encoded") == "true":
        key = unquote(key)
    snapshot, version = text(entry, "Snapshot"), text(entry, "VersionId")
    gone = switch(entry, "Deleted")
    current = not snapshot and not gone and (not version or switch(entry, "IsCurrentVersion"))
    size = text(properties, "Content-Length")
    if not re.fullmatch("[0-9]{1,18}", size or "0"):
        raise RequestFailed("failed", f'a listing gives a size that is no number of bytes: "{size[:40]}"', "unreadable")
    return ListedBlob(
        ObjectVersion(
            key=key,
            version=(f"snapshot {snapshot}" if snapshot else version) or ("deleted" if gone else "null"),
            current=current,
            size=int(size or 0),
            etag=text(properties, "Etag").strip('"'),
            written=read_date(text(properties, "Last-Modified")),
            tier=text(properties, "AccessTier"),
            expires=_gone_at(properties) if gone else read_date(text(properties, "Expiry-Time")),
        ),
        gone,
    )


def _gone_at(properties: Element) -> datetime | None:
    """When a deleted blob can no longer be brought back."""
    deleted, left = read_date(text(properties, "DeletedTime")), text(properties, "RemainingRetentionDays")
    return deleted + timedelta(days=int(left)) if deleted and re.fullmatch("[0-9]{1,5}", left) else None


def described(headers: Mapping[str, str], *, whole: bool, held: bool | None) -> dict[str, object]:
    """What the headers of a blob say of its protection. `whole`: whether the container keeps it besides, for a period
    that the protocol does not show; `held`: whether a legal hold is on the container."""
    mode = _MODES.get(headers.get("x-ms-immutability-policy-mode", "").lower())
    until = read_date(headers.get("x-ms-immutability-policy-until-date", ""))
    if mode and until is None:  # kept until a moment that cannot be read: it is kept, for how long is not known
        mode = None
    own = {"true": True, "false": False, "": False}.get(headers.get("x-ms-legal-hold", "").lower())
    return {
        "mode": None if whole else mode,
        "until": None if whole or mode is None else until,
        "hold": True if own or held else held if own is False else None,
        "encryption": _keeper(headers),
        "encryption_key": headers.get("x-ms-encryption-scope"),
        "checksum": "md5" if headers.get("content-md5") else "",
        "replication": headers.get("x-ms-or-policy-id"),
    }


_MODES: dict[str, Mode] = {"": "", "mutable": "", "unlocked": "governance", "locked": "compliance"}


def _keeper(headers: Mapping[str, str]) -> Keeper | None:
    """Who keeps a blob's key, where the answer says so: of the account's key and of a scope's, it does not."""
    if "x-ms-encryption-key-sha256" in headers:
        return "customer-provided"
    return "none" if headers.get("x-ms-server-encrypted") == "false" else None


def read_tags(body: bytes) -> dict[str, str]:
    """A blob's tags. Raises `RequestFailed`."""
    tag_set = child(_root(body, "Tags"), "TagSet")
    return {
        raw_text(tag, "Key"): raw_text(tag, "Value")
        for tag in (children(tag_set, "Tag") if tag_set is not None else ())
    }


def read_date(written: str) -> datetime | None:
    """A moment as the protocol writes it, in either of its two forms; None if it is not one."""
    try:
        if written[:4].isdigit():
            moment = datetime.fromisoformat(_SHORT.sub(r"\1", written))
        else:
            moment = parsedate_to_datetime(written)
        return (moment if moment.tzinfo else moment.replace(tzinfo=UTC)).astimezone(UTC)
    except (ValueError, TypeError, OverflowError, IndexError):
        return None


_SHORT = re.compile(r"(\.[0-9]{6})[0-9]+")
"""Fractions of a second beyond the sixth digit."""


def _root(body: bytes, wanted: str) -> Element:
    root = parse(body)
    if name(root) != wanted:
        raise RequestFailed("failed", f"the answer is a {name(root)[:40]}, not a {wanted}", "unreadable answer")
    return root


def redundancy_of(sku: str) -> str:
    """Over what an account's data are spread, by the name of what was bought; empty where that says nothing.

    >>> redundancy_of("Standard_RAGRS"), redundancy_of("Premium_ZRS"), redundancy_of("Standard_LRS")
    ('several-regions', 'several-zones', 'one-zone')
    """
    endings = (("GRS", "several-regions"), ("GZRS", "several-regions"), ("ZRS", "several-zones"), ("LRS", "one-zone"))
    return next((spread for ending, spread in endings if sku.upper().endswith(ending)), "")
