"""What the headers of accounts, containers and objects say in the Swift protocol.

A store leaves ACLs, synchronization and keys of temporary URLs out of its answers to lesser callers. Nothing shown
then means nothing known: `Sight` holds what proves that this credential is shown them.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from datetime import UTC, datetime
from typing import Any
from urllib.parse import unquote

import msgspec

from rusty_lantern.core.answer import Answer, Evidence
from rusty_lantern.core.model.bucket import (
    ContainerAcl,
    CrossOrigin,
    Quota,
    ReplicationRule,
    SharedQuota,
    Versioning,
    Website,
)
from rusty_lantern.core.model.bucket_contents import Usage
from rusty_lantern.stores.account_acl import read_account_acl
from rusty_lantern.stores.http.some_page import EVERY_METHOD, GRANTS, lets_in_any_page

Headers = Mapping[str, str]
HIDDEN = "this credential may not be shown it: nothing proves that it sees ACLs"
_PRIVILEGED = re.compile(
    r"x-container-(read|write|sync-to|sync-key)|x-account-access-control|x-(account|container)-meta-temp-url-key(-2)?"
)
"""Headers that only owners are shown."""
_SETTINGS = re.compile(r"(quota-(bytes|count)|web-.*|access-control-.*|temp-url-key(-2)?)")
"""Settings among a container's metadata."""
_META = "x-container-meta-"
_YES = ("true", "1", "yes", "on", "t", "y")
OWNERS_ONLY = ("container_acl", "replication", "temporary_url_key", "synchronization_key")
"""The fields of a bucket that only owners are shown."""
SHOWN_BY_HEAD = (
    "created", "container_acl", "versioning", "tier", "quota", "website", "cross_origin", "replication",
    "temporary_url_key", "synchronization_key", "tags", "counters",
)  # fmt: skip


def shows_privileged(headers: Headers) -> bool:
    """Whether an answer holds something that only owners are shown."""
    return any(_PRIVILEGED.fullmatch(name) for name in headers)


def is_gateway(headers: Headers) -> bool:
    """Whether a gateway answers: it counts what objects take up on its disks, which servers of this protocol do not."""
    return any(name.endswith("-bytes-used-actual") for name in headers)


def container_fields(headers: Headers, evidence: Evidence, *, gateway: bool) -> dict[str, Answer[Any]]:
    """The fields of a bucket from the HEAD of its container."""
    meta = {n.removeprefix(_META): v for n, v in headers.items() if n.startswith(_META)}
    read, write = headers.get("x-container-read", ""), headers.get("x-container-write", "")
    shown = gateway or shows_privileged(headers)

    def known(value: Any) -> Answer[Any]:
        return Answer("known" if value else "absent", value or None, "", evidence)

    def owners(value: Any) -> Answer[Any]:
        """What only owners are shown."""
        return known(value) if value or shown else Answer("hidden", None, HIDDEN, evidence)

    return {
        "created": known(_moment(headers)),
        "container_acl": owners(ContainerAcl(read, write) if read or write else None),
        "versioning": _versioning(headers, evidence, gateway=gateway),
        "tier": known(headers.get("x-storage-policy")),
        "quota": _quota(meta, evidence) if not gateway else Answer("hidden", None, _NOT_AT_THIS_DOOR, evidence),
        "website": known(_website(meta)),
        "cross_origin": known(_cross_origin(meta, headers)),
        "replication": owners(_synchronized(headers.get("x-container-sync-to", ""))),
        "temporary_url_key": owners(any(name.startswith("temp-url-key") for name in meta)),
        "synchronization_key": owners("x-container-sync-key" in headers) if not gateway else Answer("unsupported"),
        "tags": known({name: value for name, value in meta.items() if not _SETTINGS.fullmatch(name)}),
        "counters": _counters(headers, evidence),
    }  # fmt: skip


def _synchronized(target: str) -> list[ReplicationRule] | None:
    """`//REALM/CLUSTER/ACCOUNT/CONTAINER`, or an address that ends so."""
    above = target.rstrip("/").split("/")[:-1]
    return [ReplicationRule(target, account=unquote(above[-1]) if above else "")] if target else None


def versions_kept_in(headers: Headers) -> tuple[str, bool] | None:
    """The other container in which a container's earlier versions are kept, and whether a deletion takes the latest
    back out of it. Source: the middleware `versioned_writes`."""
    for name, takes_back in (("x-versions-location", True), ("x-history-location", False)):
        if headers.get(name):
            return unquote(headers[name]).strip("/"), takes_back
    return None


def account_fields(headers: Headers, evidence: Evidence, *, sees_all: bool, gateway: bool) -> dict[str, Answer[Any]]:
    """The fields of a store from the HEAD of its account."""
    written = headers.get("x-account-access-control", "")
    key = any(name.startswith("x-account-meta-temp-url-key") for name in headers)
    hidden: Answer[Any] = Answer("hidden", None, HIDDEN, evidence)
    acl: Answer[Any] = Answer("absent", evidence=evidence) if sees_all or gateway else hidden
    if written:
        acl = read_account_acl(written, evidence)
    keyed: Answer[Any] = Answer("known", True, "", evidence)
    if not key:
        keyed = Answer("absent", evidence=evidence) if sees_all else hidden
    return {"account_acl": acl, "temporary_url_key": keyed}


def _moment(headers: Headers) -> datetime | None:
    try:
        return datetime.fromtimestamp(float(headers.get("x-timestamp", "")), UTC)
    except (ValueError, OverflowError, OSError):
        return None


_NOT_AT_THIS_DOOR = "a gateway does not show it at its Swift door"
"""Tried on 16.2: it shows neither a quota that was set by this protocol, and is in force, nor versioning."""


def _versioning(headers: Headers, evidence: Evidence, *, gateway: bool) -> Answer[Versioning]:
    written = headers.get("x-versions-enabled", "").lower()
    if written in _YES or headers.keys() & {"x-versions-location", "x-history-location"}:
        return Answer("known", Versioning("on"), "", evidence)
    if gateway:
        return Answer("hidden", None, _NOT_AT_THIS_DOOR, evidence)
    return Answer("known", Versioning("suspended" if written else "never"), "", evidence)


def _number(written: str) -> int:
    return int(written) if re.fullmatch("[0-9]{1,18}", written) else 0


def _quota(meta: Headers, evidence: Evidence) -> Answer[Quota]:
    """A container's own quota. Source: the middleware `container_quotas`."""
    limits = [meta.get(f"quota-{kind}", "") for kind in ("bytes", "count")]
    if "0" in limits:
        return Answer("failed", None, NOTHING_MORE, evidence)
    size, count = map(_number, limits)
    return Answer("known", Quota(size, count), "", evidence) if size or count else Answer("absent", evidence=evidence)


NOTHING_MORE = "a quota of 0 is set: nothing more can be stored"


def account_quotas(headers: Headers) -> list[SharedQuota]:
    """The quotas of an account, which its containers share: of all of them, and of those of one storage policy. As the
    server has it, 0 lets nothing be stored; -1: no limit of that kind.
    Source: the middleware `account_quotas`; the form with `meta` is the older one."""
    limits: dict[str, dict[str, int]] = {}
    for name, written in sorted(headers.items()):  # the older form comes first, and the newer one has precedence
        match = _ACCOUNT_QUOTA.fullmatch(name)
        if match and re.fullmatch("[0-9]{1,18}", written):
            limits.setdefault(match["policy"] or "", {})[match["kind"] or "bytes"] = int(written)
    return [SharedQuota(one.get("bytes", -1), one.get("count", -1), tier) for tier, one in sorted(limits.items())]


_ACCOUNT_QUOTA = re.compile(r"x-account-(meta-quota-bytes|quota-(?P<kind>bytes|count)(-policy-(?P<policy>.+))?)")


def with_account_quotas(
    quota: Answer[Quota], tier: str, shared: Sequence[SharedQuota], enforced: tuple[bool, bool]
) -> Answer[Quota]:
    """A container's quotas with those of its account. `enforced`: whether the server says that it enforces quotas of
    containers, and of accounts; what it does not enforce is so much metadata."""
    mine = [limits for limits in shared if limits.tier.lower() in ("", tier.lower())]
    own_in_force, shared_in_force = enforced
    if quota.unread:
        return quota
    if (quota.value is not None and not own_in_force) or (mine and not shared_in_force):
        return Answer("failed", None, "it is set; the server does not say that it enforces quotas", quota.evidence)
    if any(0 in (one.bytes, one.objects) for one in mine):
        return Answer("failed", None, NOTHING_MORE, quota.evidence)
    if not mine:
        return quota
    shared = [SharedQuota(max(0, one.bytes), max(0, one.objects), tier if one.tier else "") for one in mine]
    return Answer("known", msgspec.structs.replace(quota.value or Quota(), shared=shared), "", quota.evidence)


def _website(meta: Headers) -> Website | None:
    lists = meta.get("web-listings", "").lower() in _YES
    index = meta.get("web-index", "").strip()
    return Website(index, lists=lists) if lists or index else None


def with_site(acl: Answer[ContainerAcl], site: Answer[Website]) -> Answer[ContainerAcl]:
    """A container's ACLs, where the server shows its containers as sites: whoever has no token gets the index page,
    if there is one, in place of a listing; and where listings of a site are not switched on, nothing else.
    Source: the middleware `staticweb`."""
    if site.value is None or not site.value.index or site.value.lists:
        return acl
    return acl.map(lambda own: msgspec.structs.replace(own, index_alone=True))


def _cross_origin(meta: Headers, headers: Headers) -> list[CrossOrigin]:
    """By the container's own header, and by what the server granted some page (`cors_allow_origin`,
    `strict_cors_mode`)."""
    origins = meta.get(GRANTS, "").split()
    origins += ["*"] if lets_in_any_page(headers) and "*" not in origins else []
    return [CrossOrigin(origins, EVERY_METHOD)] if origins else []


def _counters(headers: Headers, evidence: Evidence) -> Answer[Usage]:
    objects, size = (headers.get(f"x-container-{name}", "") for name in ("object-count", "bytes-used"))
    if not re.fullmatch("[0-9]{1,18}", objects) or not re.fullmatch("[0-9]{1,18}", size):
        return Answer("unsupported", None, "the answer to HEAD has none", evidence)
    return Answer("known", Usage(int(objects), int(size), by="counters"), "", evidence)
