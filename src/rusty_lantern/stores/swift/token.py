"""Tokens of the Swift protocol: fetched by one GET at the store's own address, or taken from where they are kept.

The user's key goes out in that one question's headers, and nowhere else; the token is never journalled or logged.
"""

from __future__ import annotations

import os
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime

from rusty_lantern.core.errors import Problem
from rusty_lantern.stores.http.authorization import Authorization
from rusty_lantern.stores.http.client import Client
from rusty_lantern.stores.http.credentials import find_token, read_pair
from rusty_lantern.stores.http.errors import NoCredential, RequestFailed
from rusty_lantern.stores.http.reply import Method, Reply
from rusty_lantern.stores.reader import Visit

TOKEN_PATH = "/auth/v1.0"  # noqa: S105  (a path)


@dataclass
class Token(Authorization):
    """A token in the header of its own that the protocol has. Empty until it was fetched."""

    value: str = field(default="", repr=False)

    def headers(
        self, method: Method, host: str, path: str, query: str, moment: datetime, extra: Mapping[str, str]
    ) -> dict[str, str]:
        """The request's headers with the token."""
        return {"host": host, **extra, "x-auth-token": self.value}

    def disowned(self, reply: Reply) -> bool:
        """Whether the store does not take the token: a refusal of what the token may not do is 403."""
        return reply.status == 401

    def expired(self, reply: Reply) -> bool:
        """A store does not say whether it took the token before."""
        return False

    def renewed(self) -> None:
        """There is no other token; a survey that is gone on with fetches one."""


async def fetch_token(visit: Visit) -> str:
    """The token that a credential gets. Raises `NoCredential` where there is none to show, `RequestFailed` where the
    store gives no token for it."""
    if visit.store.credential.kind == "token":
        return find_token(visit.store.credential, visit.folder)
    user, key = _user(visit)
    # this one answer holds a secret by design: it is neither journalled nor cleaned of it
    async with Client(visit.store, None, visit.folder, log=visit.log, cleans=False) as asking:
        reply = await asking.ask(path=TOKEN_PATH, headers={"x-auth-user": user, "x-auth-key": key})
    token = reply.headers.get("x-auth-token", "")
    if not 200 <= reply.status < 300 or not token:
        raise RequestFailed("denied", f"{TOKEN_PATH} gives no token for this user and key", str(reply.status))
    return token


def _user(visit: Visit) -> tuple[str, str]:
    """The user and the key that a credential names: of two environment variables, or of a file."""
    credential = visit.store.credential
    if credential.kind == "file":
        return read_pair(credential, visit.folder, ("user", "key"))
    if credential.kind != "environment":
        what = (
            f"the Swift protocol takes {{environment: PREFIX}}, {{file: PATH}} or {{token: …}}, not {credential.kind}"
        )
        raise NoCredential(Problem(what, credential.place))
    prefix = credential.name.rstrip("_")
    names = (f"{prefix}_USER", f"{prefix}_KEY")
    user, key = (os.environ.get(name, "") for name in names)
    if not user or not key:
        missing = next(name for name, value in zip(names, (user, key), strict=True) if not value)
        raise NoCredential(Problem(f"the environment variable {missing} is not set", credential.place))
    return user, key
