"""Signed links of the blob protocol (shared access signatures), taken apart by what their query says.

Source: the protocol's documentation of its three forms: for one service (by itself or by a stored policy), for the
account as a whole, and by a key that an identity was lent.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from datetime import UTC, datetime
from typing import Literal, get_args

import msgspec

from rusty_lantern.core.model.identity import Verb

PERMISSIONS: Mapping[str, tuple[Verb, ...]] = {
    "r": ("read",), "l": ("list",), "f": ("list",), "a": ("write",), "c": ("write",), "w": ("write",), "m": ("write",),
    "d": ("delete",), "x": ("delete",), "y": ("bypass-retention",), "e": ("read-settings",), "i": ("change-settings",),
    "p": ("change-settings",), "o": ("change-settings",), "t": ("change-settings", "read-settings"),
}  # fmt: skip
"""Letter of a permission → verbs. `y` deletes for good what soft delete would keep; `t` sets tags, and shows them."""
_OF_ACCOUNT: Mapping[str, Mapping[str, tuple[Verb, ...]]] = {
    "o": {letter: verbs for letter, verbs in PERMISSIONS.items() if letter not in "lfpoe"},
    "c": {"l": ("list",), "f": ("list",), "r": ("read-settings",), "w": ("change-settings",),
          "c": ("change-settings",), "d": ("delete",), "p": ("change-settings",), "i": ("change-settings",)},
    "s": {"r": ("read-settings",), "l": ("read-settings",), "w": ("change-settings",)},
}  # fmt: skip
"""Of a link for the account: type of resource (objects, containers, the service) → letter → verbs. On containers `d`
deletes a container with all that is in it, `w` sets its metadata and makes others; on the service `w` sets what holds
for all of them, such as the static site. Each was sent to a real server: `tests/test_blob.py` does it again."""
_FORMS = re.compile(r"\d{4}-\d\d-\d\d(T\d\d:\d\d(:\d\d(\.\d{1,7})?)?(Z|[+-]\d\d:\d\d))?", re.ASCII)
"""Source: the protocol's documentation, "Formatting DateTime values"."""
SERVICES = {"b": "blobs", "f": "files", "q": "queues", "t": "tables"}


class BlobLink(msgspec.Struct, frozen=True):
    """What the query of a signed link says. Its signature is not kept."""

    form: Literal["ad-hoc", "stored-policy", "account", "identity"]
    scope: Literal["object", "prefix", "bucket", "store"]
    verbs: tuple[Verb, ...]
    starts: str
    expires: str
    policy: str
    networks: tuple[str, ...]
    tls_only: bool
    services: tuple[str, ...]


def verbs_of(letters: str) -> tuple[Verb, ...]:
    """The verbs that letters of permissions mean, in the order of the letters.

    >>> verbs_of("racwdl")
    ('read', 'write', 'delete', 'list')
    """
    return tuple(dict.fromkeys(verb for letter in letters for verb in PERMISSIONS.get(letter, ())))


def read_blob_link(query: Mapping[str, str]) -> BlobLink | None:
    """A signed link by its query (names in lower case); None where it is none."""
    if "sig" not in query or "sv" not in query:
        return None
    account = "ss" in query and "srt" in query
    scope: Literal["object", "prefix", "bucket", "store"] = "store" if account else "object"
    if query.get("sr") == "c":
        scope = "bucket"
    elif query.get("sr") == "d":
        scope = "prefix"
    elif not account and query.get("sr") not in ("b", "bv", "bs"):
        return None
    if "se" not in query and "si" not in query:
        return None  # only one by a stored policy may leave its end to that (measured)
    form: Literal["ad-hoc", "stored-policy", "account", "identity"] = "account" if account else "ad-hoc"
    if "skoid" in query:
        form = "identity"
    elif query.get("si"):
        form = "stored-policy"
    return BlobLink(
        form,
        scope,
        _account_verbs(query) if account else verbs_of(query.get("sp", "")),
        query.get("st", ""),
        query.get("se", ""),
        query.get("si", ""),
        tuple(part for part in (query.get("sip", ""),) if part),
        query.get("spr", "") == "https",
        tuple(word for letter, word in SERVICES.items() if account and letter in query["ss"] and letter != "b"),
    )


def _account_verbs(query: Mapping[str, str]) -> tuple[Verb, ...]:
    """What a link for the account allows, by its types of resource."""
    kinds = [kind for kind in "ocs" if kind in query["srt"]] if "b" in query["ss"] else []
    allowed = {verb for kind in kinds for one in query.get("sp", "") for verb in _OF_ACCOUNT[kind].get(one, ())}
    return tuple(verb for verb in get_args(Verb) if verb in allowed)


def moment_of(written: str) -> datetime | None:
    """A moment as a link writes it; None for any form that the protocol does not name: servers differ in those."""
    if not _FORMS.fullmatch(written):
        return None
    try:
        moment = datetime.fromisoformat(written)
    except ValueError:
        return None
    return moment if moment.tzinfo else moment.replace(tzinfo=UTC)
