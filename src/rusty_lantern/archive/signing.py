"""Signatures over what is kept: who wrote a survey, a pruning record, a report, a folder of evidence.

Ed25519 (RFC 8032). What is signed is a line that says what it is of, and the SHA-256 of the content: a signature of one
survey fits no other. The private key is never in the workspace by itself; estate.yaml names where it is.
"""

from __future__ import annotations

import base64
import hashlib
import os
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from rusty_lantern.archive.atomic_write import make_folder
from rusty_lantern.archive.errors import CannotWrite, write_problem
from rusty_lantern.core.config.estate import Credential
from rusty_lantern.core.errors import BadInput, Place, Problem

if TYPE_CHECKING:  # the library takes long to load, and who does not sign can do without
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey, Ed25519PublicKey

ENDING = ".sig"
"""Of the file that holds the signature of the one beside it."""


class Signature(msgspec.Struct, frozen=True):
    """The content of a signature file."""

    signature: int
    """The version of this form."""
    algorithm: str
    key: str
    """The fingerprint of the public key: the first 16 hexadecimal digits of the SHA-256 of its 32 bytes."""
    value: str
    """The signature in base 64."""


class PublicKey(msgspec.Struct, frozen=True):
    """Whose signatures count."""

    key: Ed25519PublicKey

    @property
    def fingerprint(self) -> str:
        """By which it is known again."""
        from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat

        return hashlib.sha256(self.key.public_bytes(Encoding.Raw, PublicFormat.Raw)).hexdigest()[:16]

    def fits(self, signature: Signature, purpose: str, content: bytes) -> bool:
        """Whether it made this signature of that content."""
        from cryptography.exceptions import InvalidSignature

        try:
            self.key.verify(base64.b64decode(signature.value), _signed(purpose, content))
        except (InvalidSignature, ValueError):
            return False
        return True


class Signer(msgspec.Struct, frozen=True):
    """Signs what is kept."""

    key: Ed25519PrivateKey

    @property
    def public(self) -> PublicKey:
        """The key that its signatures are checked with."""
        return PublicKey(self.key.public_key())

    def sign(self, purpose: str, content: bytes) -> bytes:
        """The signature file of a content."""
        value = base64.b64encode(self.key.sign(_signed(purpose, content))).decode()
        made = Signature(1, "Ed25519", self.public.fingerprint, value)
        return msgspec.json.format(msgspec.json.encode(made), indent=1) + b"\n"


def _signed(purpose: str, content: bytes) -> bytes:
    return f"rusty-lantern {purpose}\n{hashlib.sha256(content).hexdigest()}\n".encode()


def read_signature(path: Path) -> Signature | None:
    """The signature in a file; None where there is no such file. Raises `ValueError` for one that cannot be read."""
    try:
        return msgspec.json.decode(path.read_bytes(), type=Signature)
    except FileNotFoundError:
        return None
    except (OSError, msgspec.DecodeError) as error:
        raise ValueError(f"the signature cannot be read: {error}") from None


def new_key(path: Path) -> str:
    """Make a signing key: the private one at `path` (mode 0600), the public one beside it. Its fingerprint.

    Raises `CannotWrite`; a key that is there is never written over.
    """
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
    from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat, PublicFormat

    signer = Signer(Ed25519PrivateKey.generate())
    secret = signer.key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())
    public = signer.public.key.public_bytes(Encoding.PEM, PublicFormat.SubjectPublicKeyInfo)
    make_folder(path.parent, 0o700)
    try:
        for target, content, mode in ((path, secret, 0o600), (public_path(path), public, 0o644)):
            with os.fdopen(os.open(target, os.O_WRONLY | os.O_CREAT | os.O_EXCL, mode), "wb") as stream:
                stream.write(content)
    except FileExistsError as error:
        raise CannotWrite(
            Problem("a key is there already, and is not written over", Place(str(error.filename)))
        ) from None
    except OSError as error:
        raise CannotWrite(write_problem("the key cannot be written", path, error)) from None
    return signer.public.fingerprint


def public_path(path: Path) -> Path:
    """Where the public half of a signing key is."""
    return path.with_name(f"{path.stem}.public.pem")


def find_signer(named: Credential | None, folder: Path) -> Signer | None:
    """The key that estate.yaml names under `sign:`; None where it names none. Raises `BadInput`."""
    if named is None:
        return None
    from cryptography.exceptions import UnsupportedAlgorithm
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
    from cryptography.hazmat.primitives.serialization import load_pem_private_key

    kind, _, name = named.name.partition(":")
    try:
        if kind == "env":
            content = os.environ.get(name, "").encode()
        else:
            content = (folder / Path(name).expanduser()).read_bytes()
        key = load_pem_private_key(content, None)
    except OSError as error:
        raise BadInput(Problem(f"the signing key {name} cannot be read: {error.strerror}", named.place)) from None
    except (ValueError, TypeError, UnsupportedAlgorithm):
        raise BadInput(Problem(f"the signing key {name} is no private key in PEM form", named.place, _HOW)) from None
    if not isinstance(key, Ed25519PrivateKey):
        raise BadInput(Problem(f"the signing key {name} is not of Ed25519", named.place, _HOW))
    return Signer(key)


_HOW = "lantern init --signing-key FILE makes one"


def read_public(path: Path) -> PublicKey:
    """A public key in PEM form. Raises `BadInput`."""
    from cryptography.exceptions import UnsupportedAlgorithm
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PublicKey
    from cryptography.hazmat.primitives.serialization import load_pem_public_key

    try:
        key = load_pem_public_key(path.read_bytes())
    except OSError as error:
        raise BadInput(Problem(f"cannot be read: {error.strerror}", Place(str(path)))) from None
    except (ValueError, UnsupportedAlgorithm):
        raise BadInput(Problem("no public key in PEM form", Place(str(path)), "it ends in .public.pem")) from None
    if not isinstance(key, Ed25519PublicKey):
        raise BadInput(Problem("not a key of Ed25519", Place(str(path))))
    return PublicKey(key)
