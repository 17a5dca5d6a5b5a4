"""What can go wrong with the archive."""

from __future__ import annotations

import errno
import os

from rusty_lantern.core.errors import LanternError, Place, Problem


class CannotWrite(LanternError):
    """Something could not be written; no finished survey was made, and none that was kept before is touched."""


class OutOfTime(LanternError):
    """The survey's deadline passed before it was whole; what was answered is journalled."""

    exit_code = 3


class UnderWay(LanternError):
    """Another survey is being taken in this workspace."""


_SETTLED_BY = {
    errno.ENOENT: "make the folder that it is to be in",
    errno.ENOTDIR: "something on the way to it is a file: name another place",
    errno.EISDIR: "that is a folder: name a file in it",
    errno.EEXIST: "a file of that name is there: name another place",
    errno.EACCES: "name a place that you may write to",
    errno.EPERM: "name a place that you may write to",
    errno.EROFS: "name a place that can be written to",
    errno.ENOSPC: "make room there, or name another place",
    errno.EDQUOT: "make room there, or name another place",
    errno.ENAMETOOLONG: "name it shorter",
}
"""Why a file cannot be written → what to do."""


def write_problem(what: str, path: object, error: OSError) -> Problem:
    """Why something cannot be written, and what to do. `what`: a clause, such as `the log cannot be written`."""
    why = os.strerror(error.errno) if error.errno else str(error)
    return Problem(f"{what}: {why}", Place(str(path)), _SETTLED_BY.get(error.errno or 0, ""))
