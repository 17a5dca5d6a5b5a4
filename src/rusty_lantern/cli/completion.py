"""What a shell may complete: buckets, stores, surveys and facts, taken from the last saved survey. Silent where there
is none: a completion is no place for an error."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import msgspec

from rusty_lantern.archive.folder_layout import SURVEYS, names, upwards

MOST = 2_000
"""More than this are not offered."""


class _Named(msgspec.Struct):
    name: str


class _Store(msgspec.Struct):
    """The names in a dossier, and nothing else of it."""

    store: str
    buckets: list[_Named] = []


def _last() -> list[_Store]:
    folder = upwards(Path.cwd())
    kept = names(folder / SURVEYS) if folder else []
    if folder is None or not kept:
        return []
    stores = []
    for path in sorted((folder / SURVEYS / kept[-1] / "stores").glob("*.json")):
        try:
            stores.append(msgspec.json.decode(path.read_bytes(), type=_Store))
        except (OSError, msgspec.DecodeError, UnicodeDecodeError):
            continue  # the commands report a damaged survey
    return stores


def _plain(names: Iterator[str], incomplete: str) -> list[str]:
    fits = (name for name in names if name.startswith(incomplete) and name.isprintable())
    return sorted(name for name, _ in zip(fits, range(MOST), strict=False))


def buckets(incomplete: str) -> list[str]:
    """`STORE/BUCKET` of the last survey."""
    return _plain((f"{one.store}/{bucket.name}" for one in _last() for bucket in one.buckets), incomplete)


def stores(incomplete: str) -> list[str]:
    """Stores of the last survey."""
    return _plain((one.store for one in _last()), incomplete)


def surveys(incomplete: str) -> list[str]:
    """Names of saved surveys."""
    folder = upwards(Path.cwd())
    return _plain(iter(names(folder / SURVEYS) if folder else ()), incomplete)


def facts(incomplete: str) -> list[str]:
    """Facts of the register; families without their star."""
    from rusty_lantern.core.facts.catalogue import REGISTER

    return _plain((name.removesuffix("*") for name in REGISTER), incomplete)
