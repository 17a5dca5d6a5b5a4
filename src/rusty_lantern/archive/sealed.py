"""Files that are worked out from surveys and kept beside them: with a signing key, one counts only if it was signed.

Whoever may write into `results/` could otherwise make yesterday's audit say what they like, until it is worked out
again.
"""

from __future__ import annotations

from pathlib import Path

import msgspec

from rusty_lantern.archive.atomic_write import private, write_whole
from rusty_lantern.archive.signing import ENDING, Signer, read_signature


class Sealed(msgspec.Struct, frozen=True):
    """How kept files are written and read. `signer`: the team's, where it has one."""

    signer: Signer | None = None

    def write(self, path: Path, content: bytes) -> None:
        """Write a file, and its signature. Raises `CannotWrite`, `OSError`."""
        with private():
            path.parent.mkdir(exist_ok=True)
            write_whole(path, content)
            if self.signer is not None:
                write_whole(path.with_name(path.name + ENDING), self.signer.sign(_purpose(path), content))

    def read(self, path: Path) -> bytes:
        """The content of a file. Raises `OSError`; `ValueError` where it is not as it was signed."""
        content = path.read_bytes()
        if self.signer is not None:
            signature = read_signature(path.with_name(path.name + ENDING))
            if signature is None or not self.signer.public.fits(signature, _purpose(path), content):
                raise ValueError(f"{path} is not as it was signed")
        return content


def _purpose(path: Path) -> str:
    return f"result {path.name}"
