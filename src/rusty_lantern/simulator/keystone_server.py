"""A simulated Keystone identity service on loopback: it gives tokens, and shows a reader of the system who there is.

Its content is a document of plain lists (`Realm`), as the real service has them. It keeps nothing.
"""

from __future__ import annotations

import hashlib
from dataclasses import dataclass, field
from typing import Any, Literal

import msgspec
from aiohttp import web

Sees = Literal["people", "account", "nothing"]
"""What a login opens: the service's own lists, the containers of its project's account, or neither."""


class Login(msgspec.Struct, frozen=True):
    """An application credential (by id) or a user (by name) that can have a token."""

    name: str
    secret: str
    sees: Sees
    by: Literal["application credential", "user"] = "user"


class Realm(msgspec.Struct, frozen=True):
    """Everything that the service knows: lists as it answers them, those of a user or group by its id."""

    logins: list[Login]
    lists: dict[str, list[dict[str, Any]]]
    """Path below `/v3` → its entries. The last part of the path names the list."""


LISTS = {
    "/OS-TRUST/trusts": "trusts",
    "/OS-FEDERATION/identity_providers": "identity_providers",
}
"""Paths of lists that begin with a letter case of their own."""


@dataclass
class KeystoneServer:
    """The service."""

    realm: Realm
    requests: list[tuple[str, str]] = field(default_factory=list)

    def application(self) -> web.Application:
        """The service as an aiohttp application."""
        app = web.Application(client_max_size=1 << 20)
        app.router.add_route("*", r"/{tail:[\s\S]*}", self.serve)
        return app

    def sees(self, token: str) -> Sees:
        """What a token opens."""
        return next((login.sees for login in self.realm.logins if _token_of(login) == token), "nothing")

    async def serve(self, request: web.Request) -> web.Response:
        """Answer one request."""
        self.requests.append((request.method, request.path))
        path = request.path.removeprefix("/v3")
        if (request.method, path) == ("POST", "/auth/tokens"):
            return self._sign_in(await request.json())
        if request.method != "GET" or not request.path.startswith("/v3/"):
            return web.Response(status=405 if request.path.startswith("/v3/") else 404)
        if self.sees(request.headers.get("x-auth-token", "")) != "people":
            return web.json_response({"error": {"code": 403, "title": "Forbidden"}}, status=403)
        return self._document(path)

    def _sign_in(self, body: Any) -> web.Response:
        identity = body["auth"]["identity"]
        if "application_credential" in identity["methods"]:
            shown = identity["application_credential"]
            offered = Login(shown["id"], shown["secret"], "nothing", "application credential")
        else:
            user = identity["password"]["user"]
            offered = Login(user["name"], user["password"], "nothing")
        for login in self.realm.logins:
            if (login.name, login.secret, login.by) == (offered.name, offered.secret, offered.by):
                return web.json_response({"token": {}}, status=201, headers={"x-subject-token": _token_of(login)})
        return web.json_response({"error": {"code": 401, "title": "Unauthorized"}}, status=401)

    def _document(self, path: str) -> web.Response:
        parent, _, name = path.rpartition("/")
        if parent in self.realm.lists:  # one entry of a list, by its id
            shown = next((entry for entry in self.realm.lists[parent] if entry.get("id") == name), None)
            wrapped = LISTS.get(parent, parent.rpartition("/")[2]).removesuffix("s")
            return web.json_response({wrapped: shown} if shown else {}, status=200 if shown else 404)
        listed = LISTS.get(path, "credentials" if name == "OS-EC2" else name)
        return web.json_response({listed: self.realm.lists.get(path, []), "links": {"next": None}})


def _token_of(login: Login) -> str:
    return "gAAAA" + hashlib.sha256(f"{login.by} {login.name} {login.secret}".encode()).hexdigest()[:48]
