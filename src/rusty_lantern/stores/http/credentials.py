"""Credentials by name only. A secret lives in memory while questions are signed; it is never shown or written."""

from __future__ import annotations

import configparser
import logging
import os
import shlex
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

from rusty_lantern.core.errors import Problem
from rusty_lantern.core.model.identity import masked
from rusty_lantern.stores.http.errors import NoCredential

if TYPE_CHECKING:
    from rusty_lantern.core.config.estate import Credential


@dataclass(frozen=True, slots=True)
class AccessKey:
    """An access key. Only the key id may ever be shown, and then masked."""

    key_id: str
    secret: str = field(repr=False)
    session: str = field(default="", repr=False)

    @property
    def masked(self) -> str:
        """Enough of the key id to match it by eye."""
        return masked(self.key_id)


def find(credential: Credential, folder: Path) -> AccessKey:
    """Find the access key that an estate's entry names; paths are relative to `folder`. Raises `NoCredential`."""
    finder = {"environment": _environment, "file": _file, "profile": _provider_chain, "chain": _provider_chain}
    try:
        return finder[credential.kind](credential, folder)
    except _NotFound as error:
        raise NoCredential(Problem(str(error), credential.place)) from None


def find_token(credential: Credential, folder: Path) -> str:
    """The bearer token that an estate's entry names; empty where it names none. Raises `NoCredential`."""
    return find_secret(credential, folder) if credential.kind == "token" else ""


def find_secret(credential: Credential, folder: Path) -> str:
    """The one line of text that an estate's entry names as `env:VARIABLE` or `file:PATH`. Raises `NoCredential`."""
    what = credential.kind.replace("-", " ")
    kind, _, name = credential.name.partition(":")
    if kind == "env":
        secret = os.environ.get(name, "")
        why = f"the environment variable {name} is not set"
    else:
        try:
            warn_of(folder / Path(name).expanduser())
            secret = (folder / Path(name).expanduser()).read_text(encoding="utf-8").strip()
            why = f"the {what} file {name} is empty"
        except (OSError, UnicodeDecodeError) as error:
            reason = error.strerror if isinstance(error, OSError) else "it is not text"
            secret, why = "", f"the {what} file {name} cannot be read: {reason}"
    if not secret or not secret.isascii() or not secret.isprintable():
        raise NoCredential(
            Problem(why if not secret else f"the {what} {name} is not one line of text", credential.place)
        )
    return secret


def warn_of(path: Path) -> None:
    """Warn of a file with a secret in it that others on this machine may read."""
    try:
        mode = path.stat().st_mode
    except OSError:
        return
    if os.name == "posix" and mode & 0o077 and path not in _WARNED:
        _WARNED.add(path)
        command = f"chmod 600 {shlex.quote(str(path))}"
        logging.getLogger(__name__).warning("others can read the credential file %s; mend it with: %s", path, command)


_WARNED: set[Path] = set()


class _NotFound(Exception):
    pass


def _environment(credential: Credential, _: Path) -> AccessKey:
    prefix = credential.name.rstrip("_")
    names = [f"{prefix}_{part}" for part in ("ACCESS_KEY_ID", "SECRET_ACCESS_KEY", "SESSION_TOKEN")]
    key_id, secret, session = (os.environ.get(name, "") for name in names)
    if not key_id or not secret:
        missing = [name for name, value in zip(names[:2], (key_id, secret), strict=True) if not value]
        verb = "variable {} is" if len(missing) == 1 else "variables {} are"
        raise _NotFound(f"the environment {verb.format(' and '.join(missing))} not set")
    return AccessKey(key_id, secret, session)


def _file(credential: Credential, folder: Path) -> AccessKey:
    section = _section(credential, folder)
    key_id, secret = section.get("aws_access_key_id", ""), section.get("aws_secret_access_key", "")
    if not key_id or not secret:
        raise _NotFound(f"[{section.name}] in {credential.name} lacks aws_access_key_id or aws_secret_access_key")
    return AccessKey(key_id, secret, section.get("aws_session_token", ""))


def _section(credential: Credential, folder: Path) -> configparser.SectionProxy:
    path = folder / Path(credential.name).expanduser()
    warn_of(path)
    parser = configparser.ConfigParser(interpolation=None)
    try:
        with path.open(encoding="utf-8") as stream:
            parser.read_file(stream)
    except (OSError, UnicodeDecodeError) as error:
        reason = error.strerror if isinstance(error, OSError) else "it is not text"
        raise _NotFound(f"the credential file {credential.name} cannot be read: {reason}") from None
    except configparser.Error:
        raise _NotFound(f"the credential file {credential.name} is not in the [profile] name = value form") from None
    profile = credential.profile or "default"
    if not parser.has_section(profile):
        raise _NotFound(f"the credential file {credential.name} has no [{profile}]")
    return parser[profile]


def read_values(
    credential: Credential, folder: Path, names: tuple[str, ...], optional: tuple[str, ...] = ()
) -> list[str]:
    """Values of a credential file, such as a user and its key; an optional one may be empty. Raises `NoCredential`."""
    try:
        section = _section(credential, folder)
        missing = next((name for name in names if not section.get(name, "")), "")
        if missing:
            raise _NotFound(f"[{section.name}] in {credential.name} lacks {missing}")
    except _NotFound as error:
        raise NoCredential(Problem(str(error), credential.place)) from None
    return [section.get(name, "") for name in (*names, *optional)]


def _provider_chain(credential: Credential, _: Path) -> AccessKey:
    from botocore.exceptions import BotoCoreError
    from botocore.session import Session

    try:
        credentials = Session(profile=credential.name or None).get_credentials()
        frozen = credentials.get_frozen_credentials() if credentials else None
    except BotoCoreError as error:
        raise _NotFound(str(error)) from None
    if frozen is None or not frozen.access_key or not frozen.secret_key:
        where = f'the profile "{credential.name}"' if credential.name else "the standard credential chain"
        raise _NotFound(f"{where} has no credential")
    return AccessKey(frozen.access_key, frozen.secret_key, frozen.token or "")
