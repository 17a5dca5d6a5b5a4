"""Where a bucket is asked about that lives in another region than the one its store is asked in.

A store of several regions lists all its buckets in each of them, and shows a bucket only in the bucket's own. In
another one it points there: it redirects (301, 307), with the region's name (`x-amz-bucket-region`) or only its
address (`Location`), or refuses a signature that was made for another region (400). The question is put again there,
once; and only at an address that estate.yaml names, never at one that an answer names.
"""

from __future__ import annotations

import re
from typing import NamedTuple
from urllib.parse import urlsplit

from rusty_lantern.core.config.estate import StoreConfig
from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.http.reply import Reply
from rusty_lantern.stores.http.xml import parse, text

REDIRECTS = frozenset({301, 302, 307, 308})
_OTHER_SIGNATURE = 400
"""The answer to a signature that was made for another region."""
NAME = re.compile(r"[a-z0-9][a-z0-9-]{0,62}")
"""What can name a region: it becomes a part of an address."""


class Region(NamedTuple):
    """A region of a store: its name, for which questions are signed, and its address."""

    name: str
    at: str


class Regions:
    """Where each bucket of a store is asked about. A `subject` is a bucket, or a path of another question."""

    def __init__(self, store: StoreConfig) -> None:
        self.store = store
        self.unnamed: dict[str, Region] = {}
        """Subject → where the store says that it is asked about, of which the estate file has no address."""
        self._found: dict[str, Region] = {}
        self._own = Region("", store.at)

    def of(self, subject: str) -> Region:
        """Where it is asked about, as far as is known. Without a name: at the store's own address, signed as ever."""
        return self._found.get(subject, self._own)

    def lives_in(self, bucket: str, name: str) -> None:
        """Take a bucket to be in the region of this name, where the estate file has an address of that."""
        region = _named(name, self.store)
        if region is not None:
            self._found[bucket] = region

    def elsewhere(self, subject: str, tried: Region, reply: Reply) -> Region | None:
        """Where to ask instead, by an answer that was given in one region: in one that the estate file has an address
        of, and from now on. None where the answer is the last word."""
        if reply.status not in REDIRECTS and reply.status != _OTHER_SIGNATURE:
            return None
        region = _pointed_to(reply, self.store)
        if region is not None:
            self._found[subject] = region
            return region if region != (tried.name or self.store.signing_place, tried.at) else None
        if reply.status in REDIRECTS:
            self.unnamed[subject] = shown_by(reply)
        return None


def _pointed_to(reply: Reply, store: StoreConfig) -> Region | None:
    """The region in which an answer says to ask instead; None where it says none that estate.yaml has an address of."""
    name = _named_region(reply)
    if name:
        at = store.address_in(name) or (store.at if reply.status == _OTHER_SIGNATURE else "")
        return Region(name, at) if at else None
    return _at(reply.headers.get("location", ""), store)


def _named(name: str, store: StoreConfig) -> Region | None:
    """The region of this name, where estate.yaml has an address of it."""
    at = store.address_in(name) if NAME.fullmatch(name) else ""
    return Region(name, at) if at else None


def redirection(reply: Reply) -> str:
    """What a redirection says, where it was not followed: in words."""
    name, at = shown_by(reply)
    if name:
        return f"it is in region {name}, of which estate.yaml has no address"
    if at:
        return f"redirected to {at}, which estate.yaml names as no region of this store"
    return "redirected elsewhere; not followed with a signature"


def shown_by(reply: Reply) -> Region:
    """The region that a redirection shows, as far as it does: its name, the address, or neither."""
    return Region(_named_region(reply), origin(reply.headers.get("location", ""))[:100])


def origin(address: str) -> str:
    """Scheme, host and port of an address; empty where it has none.

    >>> origin("http://south.example:8080/notes?acl"), origin("/login"), origin("https://[::1")
    ('http://south.example:8080', '', '')
    """
    try:
        parts = urlsplit(address)
    except ValueError:
        return ""
    return f"{parts.scheme}://{parts.netloc}" if parts.scheme in ("http", "https") and parts.hostname else ""


def _named_region(reply: Reply) -> str:
    """The region that an answer names, in a header or in the text of an error."""
    name = reply.headers.get("x-amz-bucket-region", "")
    if not name and reply.body.strip():
        try:
            name = text(parse(reply.body), "Region")
        except RequestFailed:
            return ""
    return name if NAME.fullmatch(name) else ""


def _at(address: str, store: StoreConfig) -> Region | None:
    """The region of the store that has an address, or the address of a bucket in it."""
    shown = origin(address)
    for name, at in store.regions:
        if shown and re.fullmatch(_of_bucket(origin(at)), shown):
            return Region(name, at)
    match = re.fullmatch(_of_bucket(origin(store.pattern)), shown) if shown and store.pattern else None
    return _named(match["region"], store) if match else None


def _of_bucket(at: str) -> str:
    """What matches an address, with a bucket's name before it or without; `{region}` in it is any region."""
    scheme, _, host = re.escape(at).replace(r"\{region\}", f"(?P<region>{NAME.pattern})").partition("://")
    return rf"{scheme}://([^/]+\.)?{host}"
