"""Signature version 4, with the signing key cached per day: about as cheap as one hash a question.

Source: the published description of Signature Version 4. Held in the tests against another implementation.
"""

from __future__ import annotations

import hashlib
import hmac
from collections.abc import Iterable, Mapping
from datetime import datetime
from functools import lru_cache
from urllib.parse import quote

from rusty_lantern.stores.http.credentials import AccessKey

EMPTY_BODY = hashlib.sha256(b"").hexdigest()
ALGORITHM = "AWS4-HMAC-SHA256"


def encode(text: str, safe: str = "") -> str:
    """Percent-encode as the signature wants it: everything but the unreserved characters."""
    return quote(text, safe=safe + "-_.~")


def canonical_query(parameters: Iterable[tuple[str, str]]) -> str:
    """The query string, sorted and encoded; also the form that is sent."""
    return "&".join(f"{name}={value}" for name, value in sorted((encode(n), encode(v)) for n, v in parameters))


@lru_cache(maxsize=64)
def signing_key(secret: str, day: str, place: str, service: str) -> bytes:
    """The key for one day, place and service."""
    key = f"AWS4{secret}".encode()
    for part in (day, place, service, "aws4_request"):
        key = hmac.digest(key, part.encode(), "sha256")
    return key


@lru_cache(maxsize=64)
def _stamp(moment: datetime) -> str:
    return moment.strftime("%Y%m%dT%H%M%SZ")


def signature(
    secret: str, method: str, path: str, query: str, headers: Mapping[str, str], stamp: str, place: str, service: str
) -> tuple[str, str]:
    """The signature of a request and the list of signed headers. `path` and `query` are encoded already."""
    lowered = sorted((name.lower(), " ".join(value.split())) for name, value in headers.items())
    names = ";".join(name for name, _ in lowered)
    block = "".join(f"{name}:{value}\n" for name, value in lowered)
    body = headers.get("x-amz-content-sha256", EMPTY_BODY)
    request = f"{method}\n{path}\n{query}\n{block}\n{names}\n{body}"
    scope = f"{stamp[:8]}/{place}/{service}/aws4_request"
    to_sign = f"{ALGORITHM}\n{stamp}\n{scope}\n{hashlib.sha256(request.encode()).hexdigest()}"
    key = signing_key(secret, stamp[:8], place, service)
    return hmac.digest(key, to_sign.encode(), "sha256").hex(), names


def sign(
    key: AccessKey,
    method: str,
    host: str,
    path: str,
    query: str,
    moment: datetime,
    place: str,
    extra: Mapping[str, str],
    service: str = "s3",
) -> dict[str, str]:
    """The headers that make a request signed. `moment` is in UTC, by the store's clock."""
    stamp = _stamp(moment.replace(microsecond=0))
    headers = {"host": host, "x-amz-content-sha256": EMPTY_BODY, "x-amz-date": stamp, **extra}
    if key.session:
        headers["x-amz-security-token"] = key.session
    signed, names = signature(key.secret, method, path, query, headers, stamp, place, service)
    scope = f"{stamp[:8]}/{place}/{service}/aws4_request"
    headers["authorization"] = f"{ALGORITHM} Credential={key.key_id}/{scope}, SignedHeaders={names}, Signature={signed}"
    return headers
