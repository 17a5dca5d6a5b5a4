"""Looking at one version: its headers, and where that is asked for its tags and its ACL. Read verbs only.

A store leaves the lock headers out for whoever may not read retention, exactly as for a version without retention.
So in a bucket with object lock a version that shows none only counts as unprotected once the question was put in full.
Versions in an archive tier are not looked at: nothing here ever asks for a restore.
"""

from __future__ import annotations

import asyncio
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import msgspec

from rusty_lantern.core.model.acl import MOST_NAMED, ObjectGrant, first_of_each
from rusty_lantern.core.model.object_version import Inspected, Keeper, Mode, ObjectVersion, Public
from rusty_lantern.stores.http.client import Client
from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.http.refusal import error_code, read_status
from rusty_lantern.stores.http.reply import Memory, Reply, content_headers
from rusty_lantern.stores.http.timestamps import read_time
from rusty_lantern.stores.http.xml import child, children, name, parse, raw_text
from rusty_lantern.stores.reader import WantedDetails
from rusty_lantern.stores.s3.settings import QUESTIONS, with_owners

ARCHIVED = ("GLACIER", "DEEP_ARCHIVE")
"""Tiers whose objects cannot be read without a restore."""


@dataclass
class Inspector:
    """Looks at the versions of one bucket."""

    client: Client
    bucket: str
    wanted: WantedDetails = field(default_factory=WantedDetails)
    locks: bool = True
    """Whether versions in this bucket may be locked: then those that show no lock are asked about in full."""
    memory: Memory | None = None
    disabled: bool = False
    """Whether the bucket puts all ACLs out of force: then none grants anything, and none is asked for."""
    questions_asked: int = 0
    _granted: dict[tuple[str, str, str], ObjectGrant] = field(default_factory=dict)
    """Whom and what → the first key whose ACL grants it."""
    _proofs: dict[str, asyncio.Future[bool]] = field(default_factory=dict)
    """`retention` or `legal-hold` → whether this credential may read it here."""

    async def inspect(self, version: ObjectVersion) -> ObjectVersion:
        """The version with everything that can be seen of it. Never raises for what the store does."""
        if version.marker:
            return version
        if version.tier in ARCHIVED:
            return _but(version, inspected="archived")
        try:
            reply = await self._ask(version, "", method="HEAD")
            read_status(reply)
        except RequestFailed as error:
            return _but(version, inspected="denied" if error.state == "denied" else "failed")
        seen = _but(version, **_described(reply.headers))
        seen = await self._with_lock(seen, reply.headers)
        if self.wanted.tags:
            seen = _but(seen, tags=await self._tags(version))
        if self.wanted.acl:
            seen = _but(seen, public="none" if self.disabled else await self._public(version))
        return seen

    @property
    def granted(self) -> list[ObjectGrant]:
        """What ACLs that were read here grant."""
        return [grant for _, grant in sorted(self._granted.items())]

    async def _ask(self, version: ObjectVersion, question: str, *, method: Any = "GET") -> Reply:
        query = [(question, "")] if question else []
        if version.version != "null" or not version.current:
            query.append(("versionId", version.version))
        self.questions_asked += 1
        headers = {"x-amz-checksum-mode": "ENABLED"} if method == "HEAD" else {}
        return await self.client.ask(
            self.bucket, tuple(query), key=version.key, method=method, headers=headers, memory=self.memory
        )

    async def _with_lock(self, version: ObjectVersion, headers: Mapping[str, str]) -> ObjectVersion:
        mode, hold = headers.get("x-amz-object-lock-mode", ""), headers.get("x-amz-object-lock-legal-hold", "")
        until = read_time(headers.get("x-amz-object-lock-retain-until-date", ""))
        # What is kept until a date that cannot be read is kept: for how long is not known.
        if (mode and until is None) or (not mode and self.locks and not await self._may_read(version, "retention")):
            version = _but(version, mode=None)
        else:
            version = _but(version, mode=_mode(mode), until=until)
        if not hold and self.locks and not await self._may_read(version, "legal-hold"):
            return _but(version, hold=None)
        return _but(version, hold={"ON": True, "OFF": False, "": False}.get(hold))

    async def _may_read(self, version: ObjectVersion, question: str) -> bool:
        """Whether a setting that the headers do not show would be shown if it were there. Asked once a bucket."""
        if question not in self._proofs:
            self._proofs[question] = asyncio.ensure_future(self._prove(version, question))
        return await self._proofs[question]

    async def _prove(self, version: ObjectVersion, question: str) -> bool:
        try:
            reply = await self._ask(version, question)
        except RequestFailed:
            return False
        return reply.status == 200 or _says_none(reply)

    async def _tags(self, version: ObjectVersion) -> dict[str, str] | None:
        try:
            reply = await self._ask(version, "tagging")
            if reply.status == 404 and "Tag" in error_code(reply.body)[0]:
                return {}
            read_status(reply)
            root = parse(reply.body)
        except RequestFailed:
            return None
        tag_set = child(root, "TagSet")
        if tag_set is None:
            return {} if name(root) == "Tagging" else None
        return {raw_text(tag, "Key"): raw_text(tag, "Value") for tag in children(tag_set, "Tag")}

    async def _public(self, version: ObjectVersion) -> Public | None:
        try:
            reply = await self._ask(version, "acl")
            read_status(reply)
            root = parse(reply.body)
            if not _GRANTS.answered_by(root):
                return None
            acl = with_owners(_GRANTS.decode(root), root)
        except RequestFailed:
            return None
        for grant in acl:
            if grant.to != "log-delivery" and (grant.to != "named" or len(self._granted) <= MOST_NAMED):
                grants = ObjectGrant(grant.to, grant.permission, version.key, grant.identity, more=False)
                first_of_each(self._granted, grants)
        public = {grant.permission for grant in acl if grant.public}
        if public & {"write", "write-acp", "full-control"}:
            return "write"
        return "read" if "read" in public else "none"


_GRANTS = next(question for question in QUESTIONS if question.field == "acl")
_but = msgspec.structs.replace


def _says_none(reply: Reply) -> bool:
    """Whether the store says that nothing of the kind is configured, rather than that one may not ask."""
    code = error_code(reply.body)[0]
    return reply.status in (400, 404) and ("ObjectLock" in code or code in _SAYS_NONE)


_SAYS_NONE = ("InvalidRequest", "NoSuchRetention", "NoSuchObjectLegalHold")
"""Further codes that say so (measured: an object gateway, a SeaweedFS server)."""


def _mode(written: str) -> Mode | None:
    modes: dict[str, Mode] = {"": "", "GOVERNANCE": "governance", "COMPLIANCE": "compliance"}
    return modes.get(written.upper())


def _described(headers: Mapping[str, str]) -> dict[str, Any]:
    """What the headers say, without the lock."""
    keeper, key = _encryption(headers)
    sums = [name.removeprefix("x-amz-checksum-") for name in headers if name.startswith("x-amz-checksum-")]
    looked: Inspected = "yes"
    return {
        "inspected": looked,
        **content_headers(headers, "x-amz-meta-"),
        "encryption": keeper,
        "encryption_key": key,
        "replication": headers.get("x-amz-replication-status", "").lower(),
        "checksum": " ".join(sorted(s for s in sums if s not in ("type", "mode"))),
    }


def _encryption(headers: Mapping[str, str]) -> tuple[Keeper | None, str]:
    if "x-amz-server-side-encryption-customer-algorithm" in headers:
        return "customer-provided", ""
    algorithm = headers.get("x-amz-server-side-encryption", "")
    key = headers.get("x-amz-server-side-encryption-aws-kms-key-id", "")
    if not algorithm:
        return "none", ""
    return (
        "provider-managed" if algorithm == "AES256" else "customer-managed" if algorithm.startswith("aws:kms") else None
    ), key
