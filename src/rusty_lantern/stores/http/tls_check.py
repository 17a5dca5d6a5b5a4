"""What an address shows before any question is answered: its certificate, and whether it answers plain http too."""

from __future__ import annotations

import asyncio
import ssl
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Literal, NamedTuple
from urllib.parse import urlsplit

import msgspec

from rusty_lantern.core.answer import Answer, Evidence
from rusty_lantern.core.config.estate import StoreConfig
from rusty_lantern.core.model.resources import Certificate
from rusty_lantern.stores.http.client import Client
from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.http.reply import Memory

Verdict = Literal["trusted", "expired", "not-yet", "other-name", "self-signed", "not-trusted"]
_VERDICTS: dict[int, Verdict] = {9: "not-yet", 10: "expired", 18: "self-signed", 19: "self-signed", 62: "other-name",
                                 64: "other-name"}  # fmt: skip
"""The verification library's codes (X509_V_ERR_…) → what the certificate is worth."""


@dataclass(frozen=True)
class SeparateMemory:
    """The memory of another client, for questions that read the same and are not: these get a mark of their own."""

    memory: Memory
    mark: str

    def recall(self, question: str) -> tuple[int, dict[str, str], bytes] | None:
        """The answer that a question already got."""
        return self.memory.recall(f"{self.mark} {question}")

    def note(self, question: str, status: int, headers: dict[str, str], body: bytes) -> None:
        """Keep an answer."""
        self.memory.note(f"{self.mark} {question}", status, headers, body)


def apart(memory: Memory | None, mark: str) -> SeparateMemory | None:
    """The memory for a mark's questions; None where there is none."""
    return SeparateMemory(memory, mark) if memory else None


def at_any(main: Answer[bool], others: Iterable[tuple[str, Answer[bool]]]) -> Answer[bool]:
    """What is true of a store where it is true at one of its addresses, and false where it is false at all of them.
    `main`: of the address that it is read at; `others`: each of its other addresses, and what was seen there."""
    every = [("", main), *others]
    true, lost = [one for one in every if one[1].value], [one for one in every if not one[1].settled]
    where, shown = next(iter(true or lost), every[0])
    if not where:
        return shown
    note = f"at {where}: {shown.note}" if shown.note else f"at {where}"
    return Answer(shown.state, shown.value, note, shown.evidence)


async def read_certificate(store: StoreConfig, folder: Path, moment: datetime) -> Answer[Certificate]:
    """What the store shows in the TLS handshake, and what that is worth by the trust that the estate file names."""
    parts = urlsplit(store.at)
    if parts.scheme != "https":
        return Answer("unsupported", None, "the store is not spoken to over TLS")
    host, port = parts.hostname or "", parts.port or 443
    question = f"TLS handshake with {host}:{port}"
    verdict: Verdict = "trusted"
    try:
        ca = str(folder / Path(store.ca)) if store.ca else None
        way = Route(host, port, store.proxy, store.timeout)
        shown, protocol = await _handshake(way, ssl.create_default_context(cafile=ca))
    except ssl.SSLCertVerificationError as error:
        verdict = _VERDICTS.get(error.verify_code, "not-trusted")
        try:
            shown, protocol = await _handshake(way, _trusting())
        except (OSError, ValueError) as again:
            return _none_shown(again, store, Evidence(question, "failed", moment))
    except (OSError, ValueError) as error:
        return _none_shown(error, store, Evidence(question, "failed", moment))
    certificate = _read(shown, verdict, protocol)
    return Answer("known", certificate, "", Evidence(question, verdict, moment))


def _none_shown(error: Exception, store: StoreConfig, evidence: Evidence) -> Answer[Certificate]:
    why = f"no answer within {store.timeout} s" if isinstance(error, TimeoutError) else str(error)
    return Answer("failed", None, f"no certificate was shown: {why}", evidence)


def _trusting() -> ssl.SSLContext:
    """A context that looks at whatever is shown; nothing is ever asked through it."""
    context = ssl.create_default_context()
    context.check_hostname = False
    context.verify_mode = ssl.CERT_NONE
    return context


class Route(NamedTuple):
    """How an address is got to: host and port, through which proxy, and in how many seconds."""

    host: str
    port: int
    proxy: str
    seconds: int


async def _connected(way: Route) -> asyncio.StreamWriter:
    """A connection to the host, or through the proxy to it (RFC 9110, section 9.3.6). Raises `OSError`."""
    proxy = urlsplit(way.proxy)
    if not way.proxy:
        return (await asyncio.open_connection(way.host, way.port))[1]
    sealed = ssl.create_default_context() if proxy.scheme == "https" else None
    reader, writer = await asyncio.open_connection(proxy.hostname, proxy.port or (443 if sealed else 80), ssl=sealed)
    name = f"[{way.host}]" if ":" in way.host else way.host
    writer.write(f"CONNECT {name}:{way.port} HTTP/1.1\r\nHost: {name}:{way.port}\r\n\r\n".encode())
    try:
        answer = (await reader.readuntil(b"\r\n\r\n")).split(b" ", 2)
    except (asyncio.IncompleteReadError, asyncio.LimitOverrunError):
        answer = []
    if answer[1:2] != [b"200"]:
        writer.transport.abort()
        raise ConnectionError(f"the proxy gives no way to {way.host}")
    return writer


async def _handshake(way: Route, context: ssl.SSLContext) -> tuple[bytes, str]:
    async with asyncio.timeout(way.seconds):
        writer = await _connected(way)
        try:
            await writer.start_tls(context, server_hostname=way.host)
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


async def answers_plain_http(
    store: StoreConfig,
    folder: Path,
    moment: datetime,
    memory: Memory | None = None,
    log: Callable[[dict[str, object]], None] | None = None,
) -> Answer[bool]:
    """Whether the same host answers over plain http: at port 80 where the address names no port, else at that one."""
    parts = urlsplit(store.at)
    if parts.scheme == "http":
        return Answer("known", True, "it is spoken to over plain http", Evidence("its address", "http", moment))
    at = f"http://{parts.netloc}"
    question = f"HEAD {at}/"
    if store.proxy:
        return Answer("failed", None, "not tried through a proxy, which may answer itself")
    asked_at = msgspec.structs.replace(store, at=at, timeout=min(store.timeout, 3))
    try:
        async with Client(asked_at, None, folder, memory=apart(memory, f"plain {at}"), log=log, tries=1) as plain:
            reply = await plain.ask(method="HEAD")
    except RequestFailed as error:
        evidence = Evidence(question, error.answer, moment)
        if error.answer in ("no connection", "connection lost"):
            return Answer("known", False, "nobody answers there in plain http", evidence)
        return Answer(error.state, None, error.note, evidence)
    away = 300 <= reply.status < 400 and reply.headers.get("location", "").startswith("https:")
    refused = reply.status in (400, 426)
    return Answer("known", not (away or refused), "", Evidence(question, str(reply.status), moment))
