"""One version of one object, with everything that is known of it: a row of a version table.

Listing gives the first group of fields; inspecting (one question a version, sometimes three) the others. What was
not asked or not answered is None, which is `unknown`, never fine; `inspected` says why.
"""

from datetime import datetime
from typing import Literal

import msgspec

Inspected = Literal["yes", "not sampled", "archived", "denied", "failed", "not asked"]
Mode = Literal["", "governance", "compliance"]
Keeper = Literal["none", "provider-managed", "customer-managed", "customer-provided"]
Public = Literal["none", "read", "write"]


class ObjectVersion(msgspec.Struct, frozen=True, omit_defaults=True, kw_only=True):
    """One version, or one delete marker."""

    key: str
    version: str = "null"
    current: bool = True
    marker: bool = False
    size: int = 0
    etag: str = ""
    written: datetime | None = None
    tier: str = ""
    inspected: Inspected = "not asked"
    content_type: str | None = None
    cache_control: str | None = None
    content_encoding: str | None = None
    disposition: str | None = None
    metadata: dict[str, str] | None = None
    tags: dict[str, str] | None = None
    encryption: Keeper | None = None
    encryption_key: str | None = None
    mode: Mode | None = None
    """The retention mode; empty where there is none, None where it is not known."""
    until: datetime | None = None
    hold: bool | None = None
    replication: str | None = None
    expires: datetime | None = None
    """When the store deletes it; None where it does not, or where that is not known."""
    points_to: str = ""
    """Where the data is, of an object that has none of its own; empty for all others."""
    checksum: str | None = None
    """Names of the checksums that the store keeps, joined by spaces; empty where there is none."""
    public: Public | None = None
    """What the object's own ACL grants the public."""

    @property
    def multipart(self) -> bool:
        """Whether the ETag is that of an upload in parts, and so no hash of the content."""
        return "-" in self.etag
