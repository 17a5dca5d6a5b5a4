"""With which options a survey under way was begun, so that it is gone on with in the same way."""

from __future__ import annotations

from pathlib import Path

import msgspec

from rusty_lantern.archive.atomic_write import make_folder, write_whole
from rusty_lantern.core.errors import BadInput, Problem

FILE = "begun.json"


class Options(msgspec.Struct, frozen=True, rename="kebab", omit_defaults=True):
    """What `lantern survey` was told about what to ask."""

    only: tuple[str, ...] = ()
    probe: bool = False
    objects: str | None = None
    since_last: bool = False
    list_limit: int | None = None

    def keep(self, journals: Path) -> None:
        """Write them beside the journal of a survey that begins."""
        make_folder(journals)
        write_whole(journals / FILE, msgspec.json.encode(self))

    def gone_on(self, journals: Path) -> Options:
        """Those that a survey was begun with. Raises `BadInput` where these ask for something else."""
        try:
            begun = msgspec.json.decode((journals / FILE).read_bytes(), type=Options)
        except (OSError, msgspec.DecodeError):
            return self
        for name in Options.__struct_fields__:
            asked, before = getattr(self, name), getattr(begun, name)
            if asked and asked != before:
                option = f"--{name.replace('_', '-')}"
                what = f"{option} is not what this survey was begun with"
                raise BadInput(Problem(what, remedy=f"leave {option} out, or take a new survey: lantern survey"))
        return begun
