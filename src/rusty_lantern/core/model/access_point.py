"""An access point: a further address of a bucket, with a policy and public-access guards of its own."""

from typing import Literal

import msgspec

from rusty_lantern.core.answer import Answer, unread
from rusty_lantern.core.model.guards import Guards


class AccessPoint(msgspec.Struct, frozen=True, omit_defaults=True):
    """One access point of a bucket."""

    name: str
    arn: str
    """Its resource name, which holds its region and its account: `arn:aws:s3:north:400100200300:accesspoint/maps`."""
    origin: Literal["internet", "vpc", ""] = ""
    """From which networks it takes requests: from any, or from one private network. Empty: not known."""
    vpc: str = ""
    """That private network."""
    policy: Answer[str] = unread()
    public_access_guards: Answer[Guards] = unread()

    @property
    def account(self) -> str:
        """The number of the account that it is in."""
        parts = self.arn.split(":", 5)
        return parts[4] if len(parts) > 5 else ""
