"""The front door of a store: its certificate, whether it answers over plain http too, which signatures it accepts."""

from __future__ import annotations

import asyncio
import base64
import hmac
import ssl
from dataclasses import dataclass
from datetime import UTC, datetime
from email.utils import format_datetime
from pathlib import Path
from typing import Any, Literal
from urllib.parse import urlsplit

import msgspec

from rusty_lantern.core.answer import Answer, Evidence
from rusty_lantern.core.config.estate import Store
from rusty_lantern.core.model.resources import Certificate
from rusty_lantern.stores.http.authorization import Signed
from rusty_lantern.stores.http.client import Client
from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.http.reply import Memory

Verdict = Literal["trusted", "expired", "not-yet", "other-name", "self-signed", "not-trusted"]
_VERDICTS: dict[int, Verdict] = {9: "not-yet", 10: "expired", 18: "self-signed", 19: "self-signed", 62: "other-name",
                                 64: "other-name"}  # fmt: skip
"""The verification library's codes (X509_V_ERR_…) → what the certificate is worth."""


@dataclass(frozen=True)
class _Apart:
    """The memory of another client, for questions that read the same and are not: these get a mark of their own."""

    memory: Memory
    mark: str

    def recall(self, question: str) -> tuple[int, dict[str, str], bytes] | None:
        return self.memory.recall(f"{self.mark} {question}")

    def note(self, question: str, status: int, headers: dict[str, str], body: bytes) -> None:
        self.memory.note(f"{self.mark} {question}", status, headers, body)


def _apart(client: Client, mark: str) -> _Apart | None:
    return _Apart(client.memory, mark) if client.memory else None


async def front_door(client: Client, moment: datetime, *, answered: bool = True) -> dict[str, Any]:
    """The dossier's fields about the door itself. Never raises for what the store does.

    Where the store has not `answered` anything else, only its certificate is looked at: it may be the reason.
    """
    if not answered:
        return {"certificate": await read_certificate(client.store, client.folder, moment)}
    certificate, plain, legacy = await asyncio.gather(
        read_certificate(client.store, client.folder, moment), _plain_http(client, moment), _legacy(client, moment)
    )
    return {"certificate": certificate, "plain_http": plain, "legacy_signatures": legacy}


async def read_certificate(store: Store, folder: Path, moment: datetime) -> Answer[Certificate]:
    """What the store shows in the TLS handshake, and what that is worth by the trust that the estate file names."""
    parts = urlsplit(store.at)
    if parts.scheme != "https":
        return Answer("unsupported", None, "the store is not spoken to over TLS")
    host, port = parts.hostname or "", parts.port or 443
    asked = f"TLS handshake with {host}:{port}"
    verdict: Verdict = "trusted"
    try:
        ca = str(folder / Path(store.ca)) if store.ca else None
        shown, protocol = await _handshake(host, port, ssl.create_default_context(cafile=ca), store.timeout)
    except ssl.SSLCertVerificationError as error:
        verdict = _VERDICTS.get(error.verify_code, "not-trusted")
        try:
            shown, protocol = await _handshake(host, port, _trusting(), store.timeout)
        except (OSError, TimeoutError, ValueError) as again:
            return Answer("failed", None, f"no certificate was shown: {again}", Evidence(asked, "failed", moment))
    except (OSError, TimeoutError, ValueError) as error:
        return Answer("failed", None, f"no certificate was shown: {error}", Evidence(asked, "failed", moment))
    found = _read(shown, verdict, protocol)
    return Answer("known", found, "", Evidence(asked, verdict, moment))


def _trusting() -> ssl.SSLContext:
    """A context that looks at whatever is shown; nothing is ever asked through it."""
    context = ssl.create_default_context()
    context.check_hostname = False
    context.verify_mode = ssl.CERT_NONE
    return context


async def _handshake(host: str, port: int, context: ssl.SSLContext, seconds: int) -> tuple[bytes, str]:
    async with asyncio.timeout(seconds):
        _, writer = await asyncio.open_connection(host, port, ssl=context, server_hostname=host)
        try:
            secured = writer.get_extra_info("ssl_object")
            return secured.getpeercert(binary_form=True) or b"", secured.version() or ""
        finally:
            writer.transport.abort()


def _read(shown: bytes, verdict: Verdict, protocol: str) -> Certificate:
    from cryptography import x509

    certificate = x509.load_der_x509_certificate(shown)
    try:
        others = certificate.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
        names = [str(other.value) for other in others]
    except x509.ExtensionNotFound:
        names = []
    return Certificate(
        names or [certificate.subject.rfc4514_string()],
        certificate.issuer.rfc4514_string(),
        certificate.not_valid_before_utc,
        certificate.not_valid_after_utc,
        verdict,
        protocol,
    )


async def _plain_http(client: Client, moment: datetime) -> Answer[bool]:
    """Whether the same host answers over plain http: at port 80 where the address names no port, else at that one."""
    parts = urlsplit(client.store.at)
    if parts.scheme == "http":
        return Answer("known", True, "it is spoken to over plain http", Evidence("the store's address", "http", moment))
    at = f"http://{parts.netloc}"
    asked = f"HEAD {at}/"
    store = msgspec.structs.replace(client.store, at=at, timeout=min(client.store.timeout, 3))
    try:
        memory = _apart(client, "plain")
        async with Client(store, None, client.folder, memory=memory, log=client.log, tries=1) as plain:
            reply = await plain.ask(method="HEAD")
    except RequestFailed as error:
        evidence = Evidence(asked, error.answer, moment)
        if error.answer in ("no connection", "connection lost"):
            return Answer("known", False, "nobody answers there in plain http", evidence)
        return Answer(error.state, None, error.note, evidence)
    away = 300 <= reply.status < 400 and reply.headers.get("location", "").startswith("https:")
    refused = reply.status in (400, 426)
    return Answer("known", not (away or refused), "", Evidence(asked, str(reply.status), moment))


async def _legacy(client: Client, moment: datetime) -> Answer[bool]:
    """Whether a list of buckets is given to a signature of the first generation (HMAC-SHA1 over the date)."""
    if not isinstance(client.auth, Signed) or client.auth.key.session:
        return Answer("failed", None, "not tried with a session's credential")
    key = client.auth.key
    now = datetime.now(UTC) if client.clock is None else client.clock() + client.skew
    date = format_datetime(now, usegmt=True)
    path = urlsplit(client.store.at).path.rstrip("/") + "/"
    to_sign = f"GET\n\n\n{date}\n{path}"
    signed = base64.b64encode(hmac.digest(key.secret.encode(), to_sign.encode(), "sha1")).decode()
    headers = {"authorization": f"AWS {key.key_id}:{signed}", "date": date}
    asked = "GET / with a signature of the first generation"
    try:
        async with Client(client.store, None, client.folder, memory=_apart(client, "legacy"), log=client.log) as other:
            reply = await other.ask(headers=headers)
    except RequestFailed as error:
        return Answer("failed", None, error.note, Evidence(asked, error.answer, moment))
    if reply.status in (200, 400, 401, 403):
        return Answer("known", reply.status == 200, "", Evidence(asked, str(reply.status), moment))
    return Answer("failed", None, f"answered {reply.status}", Evidence(asked, str(reply.status), moment))
