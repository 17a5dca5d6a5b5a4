"""What can go wrong with the archive."""

from __future__ import annotations

from rusty_lantern.core.errors import LanternError


class CannotWrite(LanternError):
    """Something could not be written; no finished survey was made, and none that was kept before is touched."""


class OutOfTime(LanternError):
    """The survey's deadline passed before it was whole; what was answered is journalled."""

    exit_code = 3


class UnderWay(LanternError):
    """Another survey is being taken in this workspace."""
