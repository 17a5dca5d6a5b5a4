"""Questions over HTTP to one store: GET and HEAD, signed or not, paced, bounded, never redirected.

The only methods this module can send are in `Method`; nothing else in the program opens a connection to a store.
"""

from __future__ import annotations

import asyncio
import itertools
import os
import ssl
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from email.utils import parsedate_to_datetime
from pathlib import Path
from random import Random
from types import TracebackType
from typing import Literal, Protocol, Self
from urllib.parse import urlsplit

import aiohttp
from yarl import URL

from rusty_lantern.core.errors import Complaint
from rusty_lantern.core.estate import Store
from rusty_lantern.stores.credentials import AccessKey
from rusty_lantern.stores.errors import NoCredential, NoLongerAccepted, Unanswered
from rusty_lantern.stores.s3.gate import Gate
from rusty_lantern.stores.s3.signature import canonical_query, encode, sign

Method = Literal["GET", "HEAD"]
MAX_BODY = 16 << 20
"""No honest answer to any question asked here is larger."""
TRIES = 5
RECONNECTS = 8
"""Tries of a question that finds nobody at an address that has answered before: a store may be starting again."""
FIRST_WAIT, LONGEST_WAIT = 0.25, 8.0
BUSY = (429, 500, 502, 503, 504)
"""Answers after which a question is put again."""
DISOWNED = (b"<Code>InvalidAccessKeyId</Code>", b"<Code>ExpiredToken</Code>", b"<Code>InvalidToken</Code>")
"""What a store says of a credential that it does not know, or not any more."""
AGENT = "rusty-lantern"


@dataclass(frozen=True, slots=True)
class Reply:
    """What came back: status, headers (lower-case names), body."""

    status: int
    headers: Mapping[str, str]
    body: bytes


class Memory(Protocol):
    """Answers that are known already, and a place for new ones."""

    def recall(self, question: str) -> tuple[int, dict[str, str], bytes] | None:
        """The answer that a question already got."""

    def note(self, question: str, status: int, headers: dict[str, str], body: bytes) -> None:
        """Keep an answer."""


@dataclass(slots=True)
class Client:
    """One store, asked through one credential (or, with `key=None`, without any)."""

    store: Store
    key: AccessKey | None
    folder: Path
    clock: Callable[[], datetime] = lambda: datetime.now(UTC)
    skew: timedelta = timedelta()
    asked: int = 0
    answers: bool = False
    """Whether somebody answered, and nobody has been missed for long since."""
    _session: aiohttp.ClientSession | None = None
    memory: Memory | None = None
    log: Callable[[dict[str, object]], None] | None = None
    renew: Callable[[], AccessKey] | None = None
    accepted: bool = False
    """Whether the credential opened something before."""
    most: int = MAX_BODY
    """Bytes of the largest answer that is taken."""
    service: str = "s3"
    """The service that questions are signed for."""
    tries: int = TRIES
    """How often a question is put whose connection is lost."""
    gate: Gate = field(default_factory=lambda: Gate(1))
    _next: float = 0.0
    _dice: Random = field(default_factory=lambda: Random(1))  # noqa: S311  (spreads retries, guards nothing)

    async def __aenter__(self) -> Self:
        self.gate = Gate(self.store.pace.at_once)
        connector = aiohttp.TCPConnector(limit=self.store.pace.at_once, ssl=self._tls())
        timeout = aiohttp.ClientTimeout(total=self.store.timeout, sock_connect=min(10, self.store.timeout))
        self._session = aiohttp.ClientSession(
            connector=connector,
            timeout=timeout,
            auto_decompress=False,
            trust_env=False,
            cookie_jar=aiohttp.DummyCookieJar(),
        )
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if self._session:
            await self._session.close()

    def _tls(self) -> ssl.SSLContext | bool:
        if not self.store.ca:
            return True
        try:
            return ssl.create_default_context(cafile=str(self.folder / Path(self.store.ca).expanduser()))
        except (OSError, ssl.SSLError):
            raise NoCredential(Complaint(f"the CA bundle {self.store.ca} cannot be read", self.store.place)) from None

    def target(self, bucket: str, key: str = "") -> tuple[str, str]:
        """Host and encoded path of a bucket or object, as the store is addressed."""
        parts = urlsplit(self.store.at)
        path = parts.path.rstrip("/")
        host = parts.netloc
        if bucket and self.store.addressing == "virtual":
            host = f"{bucket}.{host}"
        elif bucket:
            path += "/" + encode(bucket)
        return host, path + "/" + encode(key, "/") if key or not bucket or host != parts.netloc else path

    async def ask(
        self,
        bucket: str = "",
        query: tuple[tuple[str, str], ...] = (),
        *,
        key: str = "",
        path: str = "",
        method: Method = "GET",
        headers: Mapping[str, str] | None = None,
        memory: Memory | None = None,
    ) -> Reply:
        """Put one question. Retries what is safe to repeat; raises `Unanswered` if there is no answer at all.

        `memory`: where this question's answer is kept, if not with the others.
        """
        memory = memory or self.memory
        host, target = self.target(bucket, key)
        target = path or target
        question = f"{method} {target}" + (f"?{canonical_query(query)}" if query else "")
        known = memory.recall(question) if memory else None
        if known is not None:
            return Reply(*known)
        reply = await self._persist(method, host, target, query, headers or {})
        if memory and reply.status not in BUSY:
            memory.note(question, reply.status, dict(reply.headers), reply.body)
        return reply

    async def _persist(
        self, method: Method, host: str, target: str, query: tuple[tuple[str, str], ...], headers: Mapping[str, str]
    ) -> Reply:
        """Ask until there is an answer, the tries are used up, or asking again would not help."""
        wait = FIRST_WAIT
        tries = itertools.count(1)
        while True:
            attempt = next(tries)
            await self._pace()
            try:
                async with self.gate:
                    used = self.key
                    reply = await self._timed(method, host, target, query, headers)
            except Unanswered as error:
                if not self._again(error, attempt):
                    raise
            else:
                self.answers = True
                if attempt < TRIES and self._renewed(reply, used):
                    continue
                self._check_accepted(reply)
                if reply.status not in BUSY or attempt >= TRIES:
                    return reply
                wait = max(wait, _retry_after(reply))
            await asyncio.sleep(wait * self._dice.uniform(0.75, 1.25))
            wait = min(wait * 2, LONGEST_WAIT)

    def _again(self, error: Unanswered, attempt: int) -> bool:
        """Whether to put a question again that got no answer."""
        if error.answer == "no connection" and self.answers:
            self.answers = attempt < RECONNECTS
            return self.answers
        return attempt < {"connection lost": self.tries, "timed out": min(self.tries, 2)}.get(error.answer, 0)

    async def _timed(
        self, method: Method, host: str, target: str, query: tuple[tuple[str, str], ...], headers: Mapping[str, str]
    ) -> Reply:
        """One try, with what it took told to the gate and the log."""
        start = asyncio.get_running_loop().time()
        outcome: int | str = "interrupted"
        try:
            reply = await self._once(method, host, target, query, headers)
            outcome = reply.status
            if reply.status in (429, 503):
                self.gate.busy()
            else:
                self.gate.answered(asyncio.get_running_loop().time() - start)
            return reply
        except Unanswered as error:
            outcome = error.answer
            self.gate.busy()
            raise
        finally:
            if self.log:
                taken = round((asyncio.get_running_loop().time() - start) * 1000, 1)
                told = canonical_query(query)
                self.log({"store": self.store.name, "method": method, "path": target, "query": told,
                          "outcome": outcome, "milliseconds": taken})  # fmt: skip

    def _check_accepted(self, reply: Reply) -> None:
        """Raise `NoLongerAccepted` when the store stops knowing a credential midway; refusals would tell nothing."""
        if self.key is not None and reply.status == 200:
            self.accepted = True
        if self.accepted and reply.status in (400, 401, 403) and any(c in reply.body[:4096] for c in DISOWNED):
            what = f"store {self.store.name} no longer accepts its credential"
            remedy = "every answer so far is kept; put a valid one in its place, then: lantern survey --resume"
            raise NoLongerAccepted(Complaint(what, self.store.credential.place or self.store.place, remedy))

    def _renewed(self, reply: Reply, used: AccessKey | None) -> bool:
        """Whether the credential that was used had expired, and there is another one now."""
        if self.renew is None or reply.status not in (400, 401, 403) or b"ExpiredToken" not in reply.body[:4096]:
            return False
        if self.key == used:
            self.key = self.renew()
        return self.key != used

    async def _pace(self) -> None:
        """Keep to the ceiling of questions per second."""
        loop = asyncio.get_running_loop()
        now = loop.time()
        self._next = max(self._next, now) + 1 / self.store.pace.per_second
        delay = self._next - now - 1 / self.store.pace.per_second
        if delay > 0:
            await asyncio.sleep(delay)

    async def _once(
        self, method: Method, host: str, path: str, query: tuple[tuple[str, str], ...], headers: Mapping[str, str]
    ) -> Reply:
        assert self._session is not None
        text = canonical_query(query)
        sent = {"host": host, **headers}
        if self.key is not None:
            moment = self.clock() + self.skew
            sent = sign(self.key, method, host, path, text, moment, self.store.signing_place, headers, self.service)
        sent.setdefault("user-agent", AGENT)
        url = URL(f"{urlsplit(self.store.at).scheme}://{host}{path}" + (f"?{text}" if text else ""), encoded=True)
        self.asked += 1
        try:
            async with self._session.request(method, url, headers=sent, allow_redirects=False) as answer:
                body = await _body(answer, self.most)
                return Reply(answer.status, {k.lower(): v for k, v in answer.headers.items()}, body)
        except TimeoutError:
            raise Unanswered("failed", f"no answer within {self.store.timeout} s", "timed out") from None
        except aiohttp.ClientConnectorCertificateError as error:
            reason = getattr(error.certificate_error, "verify_message", "") or "not trusted"
            raise Unanswered("failed", f"the store's certificate is not accepted: {reason}") from None
        except aiohttp.ClientConnectorError as error:
            number = error.os_error.errno
            reason = os.strerror(number).lower() if number and number > 0 else "no such host"
            raise Unanswered("failed", f"cannot connect to {host}: {reason}", "no connection") from None
        except (aiohttp.ClientError, ConnectionError) as error:
            raise Unanswered(
                "failed", f"the connection to {host} broke off ({type(error).__name__})", "connection lost"
            ) from None

    def note_skew(self, reply: Reply) -> timedelta:
        """How far the store's clock is ahead of ours, by its Date header; later questions are signed by it."""
        ahead = clock_difference(reply, self.clock())
        self.skew = ahead if abs(ahead) > timedelta(seconds=60) else timedelta()
        return ahead


async def _body(answer: aiohttp.ClientResponse, most: int) -> bytes:
    chunks: list[bytes] = []
    total = 0
    async for chunk in answer.content.iter_chunked(1 << 16):
        total += len(chunk)
        if total > most:
            answer.close()
            raise Unanswered("failed", f"the answer is larger than {most >> 20} MiB and was cut off", "too large")
        chunks.append(chunk)
    return b"".join(chunks)


def _retry_after(reply: Reply) -> float:
    text = reply.headers.get("retry-after", "")
    return min(float(text), 30.0) if text.isdigit() else 0.0


def clock_difference(reply: Reply, now: datetime) -> timedelta:
    """How far the store's clock is ahead; zero if it does not say."""
    try:
        said = parsedate_to_datetime(reply.headers.get("date", ""))
    except (TypeError, ValueError):
        return timedelta()
    return said.astimezone(UTC) - now.replace(microsecond=0) if said.tzinfo else timedelta()
