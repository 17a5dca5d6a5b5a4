"""Share links found in any text: signed addresses of the S3 protocol (both generations), temporary URLs of Swift, and
signed links of the blob protocol.

A signed address says in its query which credential signed it, when, and for how long; which method it is for it does
not say, so the verb follows from the rest of the query where that fits one verb only, and is otherwise taken for a
read. Its signature opens the door and is dropped here, before anything else sees it.
"""

from __future__ import annotations

import re
from collections.abc import Container, Iterable, Iterator, Mapping
from datetime import UTC, datetime, timedelta
from heapq import merge
from typing import Literal
from urllib.parse import parse_qsl, unquote, urlsplit

import msgspec

from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.identity import Verb
from rusty_lantern.core.model.resources import TEMPORARY_URL_KEY, Link
from rusty_lantern.intake.signed_link import BlobLink, moment_of, read_blob_link

OPENS = "it opens"
"""What is said of a link that was tried and let through: it was signed for reading."""
LONGEST = 8_192
"""Bytes of the longest address that is looked at."""
_SIGNATURE, _SIG = re.compile(rb"ignature(?:=|%3[Dd])"), re.compile(rb"sig(?:=|%3[Dd])")
"""What begins with fixed bytes is searched for fifty times faster than alternatives."""
_URL = re.compile(rb"https?://[^\s\"'<>()\[\]{}|\\^`\x00]{4,8192}")


class SignedAddress(msgspec.Struct, frozen=True):
    """A signed address without its signature: the parts that say what it opens."""

    host: str
    path: str
    credential: str
    generation: Literal[0, 1, 2, 3]
    """Of the S3 protocol's signatures; 0: a temporary URL of the Swift protocol; 3: a link of the blob protocol."""
    verb: Verb
    presumed: bool
    """Whether the verb is only what such addresses are usually for."""
    issued: datetime | None
    expires: datetime | None
    prefix: str | None = None
    """What all the keys that it opens begin with, where it opens several; empty: every key of the container."""
    blob: BlobLink | None = None
    """What it says besides, for a link of the blob protocol."""
    networks: tuple[str, ...] = ()
    of_session: bool = False


def find_signed(text: bytes) -> Iterator[tuple[int, SignedAddress, str]]:
    """Every signed address in a piece of text: where it begins, what it says, and all of it, signature and all."""
    done = -1
    for sign in signature_places(text):
        if sign < done:
            continue
        start = _beginning(text, sign)
        match = _URL.match(text, start) if start >= 0 else None
        if match is None:
            continue
        done = match.end()
        address = match[0].decode("ascii", "replace").rstrip(".,;:!?").replace("&amp;", "&")
        signed = read_signed(address)
        if signed is not None:
            yield start, signed, address


def signature_places(text: bytes) -> Iterator[int]:
    """Where the parameters with signatures are, in order.

    >>> list(signature_places(b"?sig=1&X-Amz-Signature=2;temp_url_sig%3d3 design=4"))
    [1, 13, 25]
    """
    whole = (one.start() - 1 for one in _SIGNATURE.finditer(text, 1) if text[one.start() - 1] in b"Ss")
    short = (one.start() for one in _SIG.finditer(text, 1))
    return merge(whole, (at - 9 if text[at - 1] == ord("_") else at for at in short if _named(text, at)))


def _named(text: bytes, at: int) -> bool:
    """Whether a short name begins there, or a temporary URL's ends."""
    return text[at - 1] in b"?&;" or text[max(0, at - 9) : at] == b"temp_url_"


def _beginning(text: bytes, at: int) -> int:
    floor = max(0, at - LONGEST)
    return max(text.rfind(b"http://", floor, at), text.rfind(b"https://", floor, at))


def read_signed(address: str) -> SignedAddress | None:
    """A signed address taken apart; None if it is not one."""
    try:
        parts = urlsplit(address)
        host = parts.netloc.rpartition("@")[2]
        said = [(n.lower(), v) for n, v in parse_qsl(parts.query, keep_blank_values=True, max_num_fields=100)]
    except ValueError:
        return None
    query = dict(said)
    signed = _by_protocol(host, parts.path, query)
    if signed is None or len(query) == len(said):
        return signed
    # which of two a server takes is its own matter: one takes the first, another the last
    return msgspec.structs.replace(signed, expires=None, presumed=True)


def _by_protocol(host: str, path: str, query: Mapping[str, str]) -> SignedAddress | None:
    verb, presumed = _verb(query)
    if "x-amz-signature" in query and "x-amz-credential" in query:
        begun = _stamp(query.get("x-amz-date", ""))
        lasts = query.get("x-amz-expires", "")
        ends = begun + timedelta(seconds=int(lasts)) if begun and re.fullmatch(r"\d{1,8}", lasts) else None
        key, session = query["x-amz-credential"].split("/")[0], "x-amz-security-token" in query
        return SignedAddress(host, path, key, 2, verb, presumed, begun, ends, of_session=session)
    if "temp_url_sig" in query:
        ends = _until(query.get("temp_url_expires", ""))
        prefix = query.get("temp_url_prefix")
        networks = tuple(query[name] for name in ("temp_url_ip_range",) if name in query)
        return SignedAddress(host, path, TEMPORARY_URL_KEY, 0, "read", True, None, ends, prefix, networks=networks)
    blob = read_blob_link(query)
    if blob is not None:
        starts = moment_of(blob.starts)
        return SignedAddress(host, path, "", 3, "read", False, starts, moment_of(blob.expires), None, blob)
    if "signature" in query and "awsaccesskeyid" in query:
        until = query.get("expires", "")
        ends = datetime.fromtimestamp(int(until), UTC) if re.fullmatch(r"\d{1,11}", until) else None
        session = "x-amz-security-token" in query
        return SignedAddress(host, path, query["awsaccesskeyid"], 1, verb, presumed, None, ends, of_session=session)
    return None


def _until(written: str) -> datetime | None:
    """When a temporary URL ends: seconds since 1970, or a date."""
    try:
        if re.fullmatch(r"\d{1,11}", written):
            return datetime.fromtimestamp(int(written), UTC)
        return datetime.strptime(written, "%Y-%m-%dT%H:%M:%SZ").replace(tzinfo=UTC)
    except (ValueError, OverflowError, OSError):
        return None


def _stamp(written: str) -> datetime | None:
    try:
        return datetime.strptime(written, "%Y%m%dT%H%M%SZ").replace(tzinfo=UTC)
    except ValueError:
        return None


_WRITES = ("uploadid", "partnumber", "x-amz-acl", "x-amz-storage-class", "x-amz-server-side-encryption")
_LISTS = ("list-type", "prefix", "delimiter", "versions", "uploads")


def _verb(query: Mapping[str, str]) -> tuple[Verb, bool]:
    named = query.get("x-id", "").lower()
    for start, verb in _NAMED:
        if named.startswith(start):
            return verb, False
    if any(name in query for name in _WRITES):
        return "write", False
    if any(name in query for name in _LISTS):
        return "list", False
    sent = query.get("x-amz-signedheaders", "").split(";")
    if "content-type" in sent or "content-md5" in sent or "content-length" in sent:
        return "write", False
    return "read", not any(name.startswith("response-") for name in query)


_NAMED: tuple[tuple[str, Verb], ...] = (
    ("put", "write"), ("upload", "write"), ("list", "list"), ("delete", "delete"), ("get", "read"), ("head", "read"),
)  # fmt: skip


def is_at(host: str, store: str) -> bool:
    """Whether a link's host is that of a store, or a bucket's name before it. `{region}` is any region's name.

    >>> is_at("tides.store.example", "store.example"), is_at("evil-store.example", "store.example")
    (True, False)
    >>> is_at("tides.south.store.example", "{region}.store.example")
    True
    """
    if "{region}" not in store:
        return host == store or host.endswith("." + store)
    return re.fullmatch(r"(.+\.)?" + re.escape(store).replace(r"\{region\}", "[a-z0-9-]+"), host) is not None


Signers = Mapping[str, tuple[str, Container[str]]]
"""Credential → the one store that knows it, and the buckets of that."""


def as_link(
    signed: SignedAddress, stores: Iterable[tuple[str, str]], where: str, signers: Signers | None = None
) -> tuple[str, Link]:
    """The store that a signed address belongs to (empty: none of the estate) and the link that it is.

    `stores`: name and address of each. The bucket is in the path, or before the store's host name. A store has
    other addresses than the one that the estate names: one that a store's own credential signed, for a bucket that it
    has, is one of its own.
    """
    for store, address in stores:
        at = urlsplit(address)
        if signed.host == at.netloc and signed.path.startswith(at.path.rstrip("/") + "/"):
            bucket, _, key = signed.path[len(at.path.rstrip("/")) + 1 :].partition("/")
            return store, _link(signed, unquote(bucket), unquote(key), where)
        if signed.host.endswith("." + at.netloc):
            return store, _link(signed, signed.host.removesuffix("." + at.netloc), unquote(signed.path[1:]), where)
    store, buckets = (signers or {}).get(signed.credential, ("", ()))
    bucket, _, key = signed.path.lstrip("/").partition("/")
    if unquote(bucket) in buckets:
        return store, _link(signed, unquote(bucket), unquote(key), where)
    for place, char in enumerate(signed.host):
        if char == "." and signed.host[:place] in buckets:
            return store, _link(signed, signed.host[:place], unquote(signed.path[1:]), where)
    return "", _link(signed, unquote(bucket), unquote(key), where)


def _blob_link(signed: SignedAddress, blob: BlobLink, bucket: str, key: str, where: str) -> Link:
    """A link of the blob protocol: one without an end never ends (measured), unless the policy that it names does."""
    keyed = {"object": key, "prefix": f"{key}/"}.get(blob.scope, "")
    unread: Answer[datetime] = Answer("failed", None, "the link does not say when it was made")
    ends: Answer[datetime] = Answer("known", signed.expires) if signed.expires else Answer("absent")
    if blob.expires and signed.expires is None:
        ends = Answer("failed", None, "the link names an end that is no date")
    return Link(
        bucket="" if blob.scope == "store" else bucket,
        key=keyed,
        scope=blob.scope,
        verbs=list(blob.verbs),
        issued=Answer("known", signed.issued) if signed.issued else unread,
        expires=ends,
        found=where,
        form=blob.form,
        policy=blob.policy,
        starts=signed.issued,
        networks=list(blob.networks),
        tls_only=blob.tls_only,
        services=list(blob.services),
    )


def _link(signed: SignedAddress, bucket: str, key: str, where: str) -> Link:
    if signed.blob is not None:
        return _blob_link(signed, signed.blob, bucket, key, where)
    unsaid: Answer[datetime] = Answer("failed", None, "the link does not say")
    scope: Literal["object", "prefix", "bucket"] = "object" if key else "bucket"
    if signed.prefix is not None:
        key, scope = signed.prefix, "prefix" if signed.prefix else "bucket"
    return Link(
        bucket=bucket,
        key=key,
        scope=scope,
        verbs=[signed.verb],
        presumed=signed.presumed,
        credential=signed.credential,
        of_session=signed.of_session,
        networks=list(signed.networks),
        issued=Answer("known", signed.issued) if signed.issued else unsaid,
        expires=Answer("known", signed.expires) if signed.expires else unsaid,
        found=where,
    )
