"""What keeps a version from being deleted, until when, and from whom; all as of a given moment in UTC.

A retention period and a legal hold are independent: either alone keeps the version, and what keeps it is the union
of both. A period binds while its date is in the future. In compliance mode it binds everyone; in governance mode
it yields to holders of the bypass permission. A hold binds everyone until somebody lifts it, so it has no date. A
delete marker protects nothing and is never protected. Source: the published semantics of object lock in the
S3-compatible protocol; held against a real gateway in the tests.
"""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from typing import Literal

import msgspec

from rusty_lantern.core.model.object_version import Mode, ObjectVersion

DeletableBy = Literal["delete-permission", "bypass-retention", "nobody", "unknown"]
"""Who can delete a version for good now: anyone who may delete; of those only holders of the bypass permission;
nobody; or it is not known."""

ProtectedBy = Literal["unprotected", "governance", "compliance", "legal-hold", "unknown"]


class Protection(msgspec.Struct, frozen=True):
    """What protects one version at a moment."""

    mode: Mode = ""
    """The mode of a period that still binds; empty where none does."""
    until: datetime | None = None
    """When that period ends."""
    legal_hold: bool = False
    expired: bool = False
    """Whether there was a period, and it is over."""
    deletable_by: DeletableBy = "delete-permission"
    known: bool = True

    @property
    def protected(self) -> bool:
        """Whether anything certainly keeps it, though perhaps not from everybody."""
        return bool(self.mode) or self.legal_hold

    @property
    def protected_by(self) -> ProtectedBy:
        """What protects the version, the strongest reason first: a hold has no end, compliance yields to nobody."""
        if not self.known and self.deletable_by == "unknown":
            return "unknown"
        return "legal-hold" if self.legal_hold else self.mode or "unprotected"


def protection(version: ObjectVersion, moment: datetime, *, locks_hold: bool | None = True) -> Protection:
    """What protects a version at `moment`. `locks_hold`: whether locked versions cannot be deleted in this store all
    the same (`gateway_expiry`); None: not known.

    What is not known counts for neither side: a version whose hold is not known is `nobody`'s where compliance binds
    anyway, and `unknown` otherwise.
    """
    if version.marker:
        return Protection()
    known = version.mode is not None and version.hold is not None
    binds = bool(version.mode) and version.until is not None and version.until > moment
    period: Mode = (version.mode or "") if binds else ""
    until = version.until if binds else None
    held = version.hold is True
    deletable_by: DeletableBy = "delete-permission"
    if not locks_hold and (locks_hold is False or held or period):
        deletable_by = "delete-permission" if locks_hold is False else "unknown"
    elif held or period == "compliance":
        deletable_by = "nobody"
    elif not known:
        deletable_by = "unknown"
    elif period == "governance":
        deletable_by = "bypass-retention"
    return Protection(period, until, held, bool(version.mode) and not binds, deletable_by, known)


KeyState = Literal["unprotected-over-protected", "marker-over-protected", "unprotected", "protected", "unknown"]
"""A key's current version, the worst first; the first two are over a protected one, which they hide."""


def key_state(versions: list[ObjectVersion], moment: datetime) -> KeyState | None:
    """The state of one key's current version; `versions` are all of that key's, the newest first.

    None where the key has no current object and nothing protected beneath a delete marker.
    """
    current = next((v for v in versions if v.current), None)
    if current is None:
        return None
    beneath = [protection(v, moment) for v in versions if v is not current and not v.marker]
    protected = any(s.protected for s in beneath)
    unsure = any(not s.known for s in beneath)
    if current.marker:
        return "marker-over-protected" if protected else "unknown" if unsure else None
    stands = protection(current, moment)
    if stands.protected or not stands.known:
        return "protected" if stands.protected else "unknown"
    return "unprotected-over-protected" if protected else "unknown" if unsure else "unprotected"


class EarliestDeletion(msgspec.Struct, frozen=True):
    """When a bucket can be emptied: by principals with delete permission, and by those with bypass permission.

    A date of None with no holds and nothing unknown means: now.
    """

    by_delete_permission: datetime | None = None
    by_bypass: datetime | None = None
    legal_holds: int = 0
    """Versions under legal hold: while they last, never."""
    unknown: int = 0
    """Versions whose protection is not known: the dates are the earliest there can be."""

    def join(self, other: EarliestDeletion) -> EarliestDeletion:
        """Both parts of a bucket together. Associative and commutative."""
        return EarliestDeletion(
            _later(self.by_delete_permission, other.by_delete_permission),
            _later(self.by_bypass, other.by_bypass),
            self.legal_holds + other.legal_holds,
            self.unknown + other.unknown,
        )


def earliest_deletion(versions: Iterable[ObjectVersion], moment: datetime) -> EarliestDeletion:
    """When versions can all be deleted."""
    total = EarliestDeletion()
    for version in versions:
        stands = protection(version, moment)
        bypass = stands.until if stands.mode == "compliance" else None
        unknown = int(not stands.known and not version.marker)
        total = total.join(EarliestDeletion(stands.until, bypass, int(stands.legal_hold), unknown))
    return total


def _later(one: datetime | None, other: datetime | None) -> datetime | None:
    return max((moment for moment in (one, other) if moment), default=None)
