"""One concrete request, who sends it, and what a decision about it says."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

import msgspec


class Caller(msgspec.Struct, frozen=True):
    """Who asks. Without an account: nobody in particular, a request without credentials."""

    account: str = ""
    arn: str = ""
    canonical: str = ""
    session: str = ""
    """The resource name of the session, for a caller that has assumed a role; `arn` is then the role's."""
    aliases: tuple[str, ...] = ()
    """Further names by which rules let it in."""

    @property
    def anonymous(self) -> bool:
        """Whether the request carries no credentials."""
        return not (self.account or self.arn or self.canonical)


ANONYMOUS = Caller()


class Request(msgspec.Struct, frozen=True):
    """One concrete request. `context` maps lower-case condition keys to the values the request carries."""

    action: str
    key: str = ""
    caller: Caller = ANONYMOUS
    context: Mapping[str, tuple[str, ...]] = msgspec.field(default_factory=dict)


class Step(msgspec.Struct, frozen=True):
    """What one rule said to the request."""

    rule: str
    says: Literal["allows", "denies", "does not match", "not understood", "not read", "shuts", "ignored"]
    why: str = ""


class Decision(msgspec.Struct, frozen=True):
    """Allowed, refused, or (None) undecidable; the rule that decided; and all steps on the way."""

    allowed: bool | None
    by: str
    steps: tuple[Step, ...] = ()
