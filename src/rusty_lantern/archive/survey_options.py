"""With which options a survey under way was begun, so that it is gone on with in the same way."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

import msgspec

from rusty_lantern.archive.atomic_write import make_folder, write_whole
from rusty_lantern.core.errors import BadInput, LanternError, Place, Problem

FILE = "begun.json"


class SurveyOptions(msgspec.Struct, frozen=True, rename="kebab", omit_defaults=True):
    """The options of `lantern survey` that say what to ask."""

    only: tuple[str, ...] = ()
    probe: bool = False
    objects: str | None = None
    since_last: bool = False
    list_limit: int | None = None

    def given(self) -> Iterator[str]:
        """Each option as it is typed.

        >>> list(SurveyOptions(("harbour/*",), probe=True, list_limit=7).given())
        ['--only harbour/*', '--probe', '--list-limit 7']
        """
        yield from (f"--only {pattern}" for pattern in self.only)
        if self.probe:
            yield "--probe"
        if self.objects:
            yield f"--objects {self.objects}"
        if self.since_last:
            yield "--since-last"
        if self.list_limit:
            yield f"--list-limit {self.list_limit}"

    @contextmanager
    def kept(self, journals: Path) -> Iterator[None]:
        """Keep them beside the journal of a survey that begins. One that ends before anything is asked, as where its
        log cannot be written, leaves nothing to go on with."""
        make_folder(journals)
        write_whole(journals / FILE, msgspec.json.encode(self))
        try:
            yield
        except LanternError:
            with suppress(OSError):  # the error that ended the survey is the one to report
                if [file.name for file in journals.iterdir()] == [FILE]:
                    (journals / FILE).unlink()
                    journals.rmdir()
                    journals.parent.rmdir()
            raise

    def gone_on(self, journals: Path) -> SurveyOptions:
        """Those that a survey was begun with. Raises `BadInput` where these ask for something else, or where its
        options are not on record."""
        file = journals / FILE
        try:
            begun = msgspec.json.decode(file.read_bytes(), type=SurveyOptions)
        except FileNotFoundError:  # it was stopped before anything was asked
            return self
        except (OSError, msgspec.DecodeError) as error:
            what = f"the options that this survey was begun with cannot be read: {error}"
            raise BadInput(Problem(what, Place(str(file)), "take a new survey: lantern survey")) from None
        other = next((option for option in self.given() if option not in begun.given()), None)
        if other is not None:
            what = f"this survey was not begun with {other}"
            raise BadInput(Problem(what, remedy="leave that out, or take a new survey: lantern survey"))
        return begun
