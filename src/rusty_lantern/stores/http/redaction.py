"""Secrets that a store itself shows are taken out of its answers before anything keeps, logs or prints them.

People write passwords into policies, tags and metadata. What looks like one is replaced by `REMOVED`, which says so
wherever the text is shown. Listings are left as they are: names of objects are not settings, and look random often.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from urllib.parse import quote, unquote

from rusty_lantern.intake.secret_patterns import REMOVED, is_telling, without_secrets

_LISTINGS = frozenset({"versions", "list-type", "uploads", "continuation-token"})
_HINTS = (b"secret", b"passw", b"passphrase", b"private", b"api", b"auth", b"bearer", b"token", b"credential")
_DENSE = re.compile(rb"[A-Za-z0-9/+]{40}")
_PAIR = re.compile(r"(<Key>([^<]*)</Key>\s*<Value>)([^<]{4,})(</Value>)")
"""A tag in an answer."""
_OF_CONTAINERS = re.compile(r"<Metadata>.*?</Metadata>", re.DOTALL)
_ENTRY = re.compile(r"(<([^<>/]+)>)([^<]{4,})(</)")
"""Metadata of containers in the blob protocol: each is an element of its own."""
_ENCODED = re.compile(r"(<(?:PolicyDocument|Document|AssumeRolePolicyDocument)>)([^<]+)(</)")
"""Documents that come percent-encoded."""


def cleaned(body: bytes, query: tuple[tuple[str, str], ...], *, listing: bool) -> bytes:
    """An answer's body without what looks like a secret."""
    of_container = ("restype", "container") in query
    names = of_container and (("comp", "list") in query or ("comp", "acl") in query)  # of blobs, of stored policies
    if listing or names or not _LISTINGS.isdisjoint(name for name, _ in query) or not _worth_a_look(body):
        return body
    try:
        text = body.decode("utf-8")
    except UnicodeDecodeError:
        return body
    clean = _PAIR.sub(lambda tag: f"{tag[1]}{REMOVED}{tag[4]}" if is_telling(tag[2]) else tag[0], text)
    clean = _OF_CONTAINERS.sub(lambda all_of_it: _ENTRY.sub(_without_value, all_of_it[0]), clean)
    clean = _ENCODED.sub(lambda one: one[1] + quote(without_secrets(unquote(one[2])), safe="") + one[3], clean)
    clean = without_secrets(clean)
    return body if clean == text else clean.encode()


def _worth_a_look(body: bytes) -> bool:
    """Whether an answer may hold a secret at all. Most do not, and are not searched thoroughly."""
    lowered = body.lower()
    return any(hint in lowered for hint in _HINTS) or _DENSE.search(body) is not None


def _without_value(entry: re.Match[str]) -> str:
    return f"{entry[1]}{REMOVED}{entry[4]}" if is_telling(entry[2]) else entry[0]


def cleaned_headers(headers: Mapping[str, str]) -> Mapping[str, str]:
    """An answer's headers without metadata that looks like a secret; the same ones where there is none."""
    clean = {name: _cleaned(name, value) for name, value in headers.items() if name.startswith(_TELLING)}
    return headers if all(headers[name] == value for name, value in clean.items()) else {**headers, **clean}


_METADATA = ("x-amz-meta-", "x-object-meta-", "x-container-meta-", "x-account-meta-")
_TELLING = (*_METADATA, "x-container-sync-key", "x-auth-token", "x-storage-token", "x-subject-token")
"""How the headers begin that hold metadata, a key or a token."""
_KEYS = re.compile(r"x-(account|container)-meta-temp-url-key(-2)?|x-container-sync-key|x-(auth|storage|subject)-token")
"""Headers that hold a key or a token: that there is one is all that is kept."""


def _cleaned(name: str, value: str) -> str:
    if _KEYS.fullmatch(name):
        return REMOVED
    if not name.startswith(_METADATA):
        return value
    return REMOVED if is_telling(name) and len(value) >= 4 else without_secrets(value)
