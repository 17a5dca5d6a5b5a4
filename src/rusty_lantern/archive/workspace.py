"""A workspace: the folder that holds `estate.yaml`, `baseline.yaml` and `surveys/`."""

from __future__ import annotations

from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from rusty_lantern.archive.errors import write_problem
from rusty_lantern.archive.folder_layout import ESTATE, SURVEYS, upwards
from rusty_lantern.core.audit.waiver_file import Waiver, read_waivers
from rusty_lantern.core.baseline.loader import Baseline, read_baseline
from rusty_lantern.core.config.estate import Estate
from rusty_lantern.core.config.estate_file import read_estate
from rusty_lantern.core.errors import BadInput, LanternError, Place, Problem
from rusty_lantern.intake.dialect_files import find_dialect

if TYPE_CHECKING:
    from rusty_lantern.archive.sealed import Sealed
    from rusty_lantern.archive.signing import Signer
    from rusty_lantern.core.usage.prices import Prices

BASELINE, WAIVERS, PRICES = "baseline.yaml", "waivers.yaml", "prices.yaml"


class Workspace(msgspec.Struct, frozen=True, dict=True):
    """One team's folder. What its people wrote is read once."""

    folder: Path

    @property
    def surveys(self) -> Path:
        """Where surveys are kept."""
        return self.folder / SURVEYS

    def estate(self) -> Estate:
        """The estate file, read and checked, with the dialects that it names. Raises `BadInput`."""
        return self._estate

    @cached_property
    def _estate(self) -> Estate:
        estate = read_estate(self._text(ESTATE), ESTATE)
        for store in estate.stores:
            if store.dialect:
                find_dialect(store.dialect, self.folder, store.place)
        return estate

    def baseline(self) -> Baseline:
        """The baseline, read and checked. Raises `BadInput`."""
        return self._baseline[0]

    def waivers(self) -> list[Waiver]:
        """The accepted drift, read and checked; none where there is no such file."""
        return read_waivers(self._text(WAIVERS), WAIVERS) if (self.folder / WAIVERS).is_file() else []

    @cached_property
    def signer(self) -> Signer | None:
        """The team's signing key; None where estate.yaml names none. Raises `BadInput` for one that cannot be read."""
        if self.estate().sign is None:
            return None
        from rusty_lantern.archive.signing import find_signer

        return find_signer(self.estate().sign, self.folder)

    @cached_property
    def sealed(self) -> Sealed:
        """How what is kept beside the surveys is written and read. Who has not the key does without signatures."""
        from rusty_lantern.archive.sealed import Sealed

        try:
            return Sealed(self.signer)
        except BadInput:
            return Sealed()

    def prices(self) -> Prices | None:
        """The team's price list, read and checked; None where there is no such file. Raises `BadInput`."""
        if not (self.folder / PRICES).is_file():
            return None
        from rusty_lantern.core.usage.prices import read_prices

        return read_prices(self._text(PRICES), PRICES, [store.name for store in self.estate().stores])

    def judging_texts(self) -> dict[str, str]:
        """Every text that judging depends on besides the survey, by its file; a waivers file may be missing."""
        waivers = self._text(WAIVERS) if (self.folder / WAIVERS).is_file() else ""
        return {ESTATE: self._text(ESTATE), **self.baseline_texts(), WAIVERS: waivers}

    def baseline_texts(self) -> dict[str, str]:
        """The baseline as it is written, and every file that it includes, by path."""
        return dict(self._baseline[1])

    @cached_property
    def _baseline(self) -> tuple[Baseline, dict[str, str]]:
        texts = {BASELINE: self._text(BASELINE)}

        def opened(path: str) -> str:
            texts[path] = self._text(path)
            return texts[path]

        return read_baseline(texts[BASELINE], BASELINE, opened), texts

    def _text(self, name: str) -> str:
        try:
            return (self.folder / name).read_bytes().decode("utf-8-sig")
        except FileNotFoundError:
            remedy = "lantern init writes one to start from" if name in (ESTATE, BASELINE) else ""
            complaint = Problem(f"{name} is missing", Place(str(self.folder)), remedy)
        except UnicodeDecodeError as error:
            complaint = Problem(f"not UTF-8 text (byte {error.start})", Place(name), "save the file as UTF-8")
        except OSError as error:
            complaint = Problem(f"cannot be read: {error.strerror}", Place(name))
        raise BadInput(complaint)


def find(start: Path, named: Path | None) -> Workspace:
    """The workspace named, or the nearest one upwards of `start`. Raises `BadInput`."""
    if named is not None:
        if (named / ESTATE).is_file():
            return Workspace(named)
        raise BadInput(Problem(f"no {ESTATE} in {named}", remedy=f"make a workspace with: lantern init {named}"))
    folder = upwards(start)
    if folder is not None:
        return Workspace(folder)
    what = f"no workspace here: no {ESTATE} in {start} or above it"
    raise BadInput(Problem(what, remedy="make one with: lantern init FOLDER, or name one with --workspace"))


class CannotMake(LanternError):
    """A file could not be written."""


def make(folder: Path, files: dict[str, tuple[str, int]]) -> None:
    """Make a workspace of these files (name → content, mode). Raises `BadInput` if one exists already."""
    taken = next((name for name in files if (folder / name).exists()), None)
    if taken:
        raise BadInput(Problem(f"{folder / taken} exists already", remedy="nothing was changed; choose another folder"))
    try:
        folder.mkdir(parents=True, exist_ok=True)
        (folder / SURVEYS).mkdir(mode=0o700, exist_ok=True)
        for name, (content, mode) in files.items():
            path = folder / name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.touch(mode=mode)
            path.write_text(content, encoding="utf-8")
    except OSError as error:
        raise CannotMake(write_problem("cannot be written to", folder, error)) from None
