"""Tokens of the Swift protocol: fetched by one GET at the store's own address, given by an identity service, or taken
from where they are kept.

The user's key goes out in that one question's headers, and nowhere else; the token is never journalled or logged.
"""

from __future__ import annotations

import math
import os
import re
import time
from functools import partial

from rusty_lantern.core.config.estate import Credential
from rusty_lantern.core.errors import Problem
from rusty_lantern.stores.http.authorization import Token
from rusty_lantern.stores.http.client import Client
from rusty_lantern.stores.http.credentials import find_token, read_values
from rusty_lantern.stores.http.errors import NoCredential, RequestFailed
from rusty_lantern.stores.keystone.token import fetch_keystone_token
from rusty_lantern.stores.reader import Visit

TOKEN_PATH = "/auth/v1.0"  # noqa: S105  (a path)


async def fetch_token(visit: Visit, shown: Credential | None = None) -> Token:
    """The token that a credential gets. Raises `NoCredential` where there is none to show, `RequestFailed` where the
    store gives no token for it. `shown`: the credential, where it is not the store's own."""
    credential = shown or visit.store.credential
    if credential.kind == "token":
        return Token(find_token(credential, visit.folder))
    if credential.kind == "keystone":
        return await fetch_keystone_token(visit, credential)
    user, key = _user(visit, credential)
    # this one answer holds a secret by design: it is neither journalled nor cleaned of it
    async with Client(visit.store, None, visit.folder, log=visit.log, cleans=False) as asking:
        reply = await asking.ask(path=TOKEN_PATH, headers={"x-auth-user": user, "x-auth-key": key})
    token = reply.headers.get("x-auth-token", "")
    if not 200 <= reply.status < 300 or not token:
        raise RequestFailed("denied", f"{TOKEN_PATH} gives no token for this user and key", str(reply.status))
    lasts = reply.headers.get("x-auth-token-expires", "")
    ends = time.monotonic() + int(lasts) if re.fullmatch(r"[0-9]{1,9}", lasts) else math.inf
    return Token(token, ends, partial(fetch_token, visit))


def _user(visit: Visit, credential: Credential) -> tuple[str, str]:
    """The user and the key that a credential names: of two environment variables, or of a file."""
    if credential.kind == "file":
        user, key = read_values(credential, visit.folder, ("user", "key"))
        return user, key
    if credential.kind != "environment":
        what = (
            "the Swift protocol takes {environment: PREFIX}, {file: PATH}, {token: …} or {keystone: URL}, "
            f"not {credential.kind}"
        )
        raise NoCredential(Problem(what, credential.place))
    prefix = credential.name.rstrip("_")
    names = (f"{prefix}_USER", f"{prefix}_KEY")
    user, key = (os.environ.get(name, "") for name in names)
    if not user or not key:
        missing = next(name for name, value in zip(names, (user, key), strict=True) if not value)
        raise NoCredential(Problem(f"the environment variable {missing} is not set", credential.place))
    return user, key
