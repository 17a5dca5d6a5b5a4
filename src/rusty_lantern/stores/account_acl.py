"""Account ACLs of the Swift protocol, as a Swift server and a gateway's administration door write them."""

from __future__ import annotations

import msgspec

from rusty_lantern.core.answer import Answer, Evidence
from rusty_lantern.core.model.bucket import AccountAcl


def read_account_acl(written: str, evidence: Evidence) -> Answer[AccountAcl]:
    """An account ACL as it is written; absent where nothing is."""
    if not written:
        return Answer("absent", evidence=evidence)
    try:
        return Answer("known", msgspec.json.decode(written, type=_Written).as_acl, "", evidence)
    except (msgspec.DecodeError, RecursionError):
        return Answer("failed", None, "the account ACL is not JSON that can be read", evidence)


class _Written(msgspec.Struct, rename={"read_only": "read-only", "read_write": "read-write"}):
    read_only: list[str] = []
    read_write: list[str] = []
    admin: list[str] = []

    @property
    def as_acl(self) -> AccountAcl:
        return AccountAcl(self.read_only, self.read_write, self.admin)
