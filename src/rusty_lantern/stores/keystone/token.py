"""Tokens of a Keystone identity service. They are the only thing that this program gets by POST.

`POST /v3/auth/tokens` makes a token and changes nothing else. The request is built whole in `_post`, which takes no
method and no path, so that nothing else can be sent that way. What is shown goes out in that one body; neither it nor
the token is ever journalled or logged.
"""

from __future__ import annotations

import asyncio
import math
import os
import time
from datetime import datetime
from functools import partial
from typing import Any
from urllib.parse import urlsplit

import aiohttp
import msgspec

from rusty_lantern.core.config.estate import Credential
from rusty_lantern.core.errors import Problem
from rusty_lantern.stores.http.authorization import Token
from rusty_lantern.stores.http.client import AGENT, BUSY, FIRST_WAIT
from rusty_lantern.stores.http.connection import NO_ANSWER, read_body, trusted_authorities, unanswered
from rusty_lantern.stores.http.credentials import read_values
from rusty_lantern.stores.http.errors import NoCredential, RequestFailed
from rusty_lantern.stores.reader import Visit

TRIES = 3
"""How often a token is asked for where nobody answers. A refusal is final: a user may be locked out after a few."""
LARGEST = 4 << 20
"""Bytes of the largest answer that is read: with the token comes the list of all services."""


class _Token(msgspec.Struct):
    expires_at: str | None = None
    issued_at: str | None = None


class _Answer(msgspec.Struct):
    token: _Token


async def fetch_keystone_token(visit: Visit, credential: Credential) -> Token:
    """The token that a credential gets. Raises `NoCredential` where there is none to show, `RequestFailed` where the
    service gives no token for it."""
    shown = msgspec.json.encode({"auth": _auth(visit, credential)})
    wait = FIRST_WAIT
    for attempt in range(1, TRIES + 1):
        try:
            status, token, body, factor = await _post(visit, credential.at, shown)
        except RequestFailed:
            if attempt == TRIES:
                raise
        else:
            if status not in BUSY or attempt == TRIES:
                return _token(status, token, body, factor, partial(fetch_keystone_token, visit, credential))
        await asyncio.sleep(wait)
        wait *= 2
    raise AssertionError("the last try ends the loop")


def _token(status: int, token: str, body: bytes, factor: bool, again: Any) -> Token:
    if factor:
        raise RequestFailed("denied", "a second factor is wanted; an application credential needs none", str(status))
    if status != 201 or not token:
        raise RequestFailed("denied", "the identity service gives no token for this credential", str(status))
    return Token(token, time.monotonic() + _lifetime(body), again)


async def _post(visit: Visit, at: str, shown: bytes) -> tuple[int, str, bytes, bool]:
    """Status, token, body, and whether another factor is wanted. Raises `RequestFailed` if there is no answer."""
    host = urlsplit(at).netloc
    connector = aiohttp.TCPConnector(ssl=trusted_authorities(visit.store, visit.folder))
    limit = aiohttp.ClientTimeout(total=visit.store.timeout)
    start, outcome = time.monotonic(), "no answer"
    try:
        async with (
            aiohttp.ClientSession(connector=connector, timeout=limit, cookie_jar=aiohttp.DummyCookieJar()) as session,
            session.post(
                f"{at}/auth/tokens",
                data=shown,
                headers={"content-type": "application/json", "user-agent": AGENT},
                allow_redirects=False,
                proxy=visit.store.proxy or None,
            ) as answer,
        ):
            body = await read_body(answer, LARGEST)
            outcome = str(answer.status)
            factor = "openstack-auth-receipt" in answer.headers
            return answer.status, answer.headers.get("x-subject-token", ""), body, factor
    except NO_ANSWER as error:
        raise unanswered(error, host, visit.store.timeout) from None
    finally:
        if visit.log is not None:
            taken = round((time.monotonic() - start) * 1000, 1)
            path = f"{urlsplit(at).path}/auth/tokens"
            visit.log({"store": visit.store.name, "method": "POST", "path": path, "query": "", "outcome": outcome,
                       "milliseconds": taken})  # fmt: skip


def _lifetime(body: bytes) -> float:
    """For how many seconds a token is good, by the service's own clock; endless where it does not say."""
    try:
        token = msgspec.json.decode(body, type=_Answer).token
        ends, starts = (datetime.fromisoformat(moment or "") for moment in (token.expires_at, token.issued_at))
        return (ends - starts).total_seconds()
    except (msgspec.DecodeError, ValueError, TypeError):
        return math.inf


def _auth(visit: Visit, credential: Credential) -> dict[str, Any]:
    """What is shown. Source: the Identity API v3, "Password authentication" and "with application credential"."""
    if credential.sort == "application-credential":
        id_, secret = _values(visit, credential, ("id", "secret"))
        return {"identity": {"methods": ["application_credential"],
                             "application_credential": {"id": id_, "secret": secret}}}  # fmt: skip
    user, password, domain = _values(visit, credential, ("user", "password", "domain"))
    home = {"name": domain or "Default"}
    who = {"name": user, "password": password, "domain": home}
    shown: dict[str, Any] = {"identity": {"methods": ["password"], "password": {"user": who}}}
    kind, _, name = credential.scope.partition(":")
    scopes: dict[str, Any] = {
        "system": {"system": {"all": True}},
        "project": {"project": {"name": name, "domain": home}},
        "domain": {"domain": {"name": name}},
    }
    return shown | ({"scope": scopes[kind]} if kind else {})


def _values(visit: Visit, credential: Credential, names: tuple[str, ...]) -> list[str]:
    """What a credential's name leads to: environment variables `PREFIX_NAME`, or entries of a file's `[default]`. The
    third may be missing."""
    kind, _, where = credential.name.partition(":")
    if kind == "file":
        named = msgspec.structs.replace(credential, kind="file", name=where)
        return read_values(named, visit.folder, names[:2], names[2:])
    variables = [f"{where.rstrip('_')}_{name.upper()}" for name in names]
    values = [os.environ.get(variable, "") for variable in variables]
    missing = next((name for name, value in zip(variables[:2], values[:2], strict=True) if not value), "")
    if missing:
        raise NoCredential(Problem(f"the environment variable {missing} is not set", credential.place))
    return values
