"""A simulated store of another kind: it hands out its owner's dossier over HTTP, to whoever has the token."""

from __future__ import annotations

import hashlib
import hmac
from dataclasses import dataclass, field

from aiohttp import web

from rusty_lantern.core.model.dossier import Dossier, encode


@dataclass
class DossierServer:
    """Serves one dossier. `requests` records what was asked, and with which ETag."""

    dossier: Dossier
    token: str = field(repr=False)
    requests: list[tuple[str, str, str]] = field(default_factory=list)

    def application(self) -> web.Application:
        """The server as an aiohttp application."""
        app = web.Application()
        app.router.add_get("/dossier.json", self._serve)
        return app

    async def _serve(self, request: web.Request) -> web.Response:
        known = request.headers.get("if-none-match", "")
        self.requests.append((request.method, request.path, known))
        if not hmac.compare_digest(request.headers.get("authorization", ""), f"Bearer {self.token}"):
            return web.Response(status=401, headers={"www-authenticate": "Bearer"})
        document = encode(self.dossier)
        tag = f'"{hashlib.sha256(document).hexdigest()[:16]}"'
        if known == tag:
            return web.Response(status=304, headers={"etag": tag})
        return web.Response(body=document, content_type="application/json", headers={"etag": tag})
