"""Questions over HTTP to one store: GET and HEAD, signed or not, paced, bounded, never sent where an answer points.

The only methods this module can send are in `Method`. Nothing else in the program opens a connection to a store, but
for the one request that gets a token (`stores.keystone.token`).
"""

from __future__ import annotations

import asyncio
import itertools
from collections.abc import Callable, Coroutine, Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from pathlib import Path
from random import Random
from types import TracebackType
from typing import Self

import aiohttp
from yarl import URL

from rusty_lantern.core.config.estate import StoreConfig
from rusty_lantern.core.errors import Problem
from rusty_lantern.stores.http.authorization import Authorization
from rusty_lantern.stores.http.concurrency_limit import LATE, ConcurrencyLimit
from rusty_lantern.stores.http.connection import NO_ANSWER, read_body, trusted_authorities, unanswered
from rusty_lantern.stores.http.errors import NoLongerAccepted, RequestFailed
from rusty_lantern.stores.http.question import Method, Question, split_address
from rusty_lantern.stores.http.redaction import cleaned, cleaned_headers
from rusty_lantern.stores.http.regions import Region, Regions
from rusty_lantern.stores.http.reply import Memory, Reply, clock_difference, faithful, retry_after
from rusty_lantern.stores.http.sigv4 import canonical_query, encode
from rusty_lantern.stores.http.time_budget import CURRENT, USUAL, nobody_waits

MAX_BODY = 16 << 20
"""No honest answer to any question asked here is larger."""
TRIES = 5
RECONNECTS = 8
"""Tries of a question that finds nobody at an address that has answered before: a store may be starting again."""
FIRST_WAIT, LONGEST_WAIT = 0.25, 8.0
BUSY = (429, 500, 502, 503, 504)
"""Answers after which a question is put again."""
AGENT = "rusty-lantern"


HARDLY = 0.001
"""Seconds that are not worth a wait: whoever comes next waits for them as well."""


@dataclass(slots=True)
class Client:
    """One store, asked through one credential, or without any (`auth=None`)."""

    store: StoreConfig
    auth: Authorization | None
    folder: Path
    clock: Callable[[], datetime] = lambda: datetime.now(UTC)
    skew: timedelta = timedelta()
    questions_asked: int = 0
    answers: bool = False
    """Whether somebody answered, and nobody has been missed for long since."""
    heard: float = 0.0
    """When the store last answered anything, by the loop's clock."""
    _asking: int = 0
    _since: float = 0.0
    """Since when there has been somebody waiting for an answer."""
    _good: Question | None = None
    """A question that the credential opened before."""
    regions: Regions = field(init=False)
    """Where each bucket is asked about."""
    _session: aiohttp.ClientSession | None = None
    memory: Memory | None = None
    log: Callable[[dict[str, object]], None] | None = None
    cleans: bool = True
    """Whether what looks like a secret is taken out of answers. A dossier is checked whole instead, and refused."""
    most: int = MAX_BODY
    """Bytes of the largest answer that is taken."""
    tries: int = TRIES
    """How often a question is put whose connection is lost."""
    gate: ConcurrencyLimit = field(default_factory=lambda: ConcurrencyLimit(1))
    _next: float = 0.0
    _renewing: asyncio.Lock = field(default_factory=asyncio.Lock)
    _dice: Random = field(default_factory=lambda: Random(1))  # noqa: S311  (spreads retries, guards nothing)

    def __post_init__(self) -> None:
        self.regions = Regions(self.store)

    async def __aenter__(self) -> Self:
        self.gate = ConcurrencyLimit(self.store.pace.at_once, USUAL)
        limit = self.store.pace.at_once * (1 + LATE)
        connector = aiohttp.TCPConnector(limit=limit, ssl=trusted_authorities(self.store, self.folder))
        self._session = aiohttp.ClientSession(
            connector=connector,
            timeout=self._timeout(self.store.timeout),
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

    def _timeout(self, seconds: float) -> aiohttp.ClientTimeout:
        return aiohttp.ClientTimeout(total=seconds, sock_connect=min(10, self.store.timeout))

    def target(self, bucket: str, key: str = "", at: str = "") -> tuple[str, str]:
        """Host and encoded path of a bucket or object, as the store is addressed. `at`: its region's address, if that
        is another than the store's own."""
        parts = split_address(at or self.store.at)
        path, host = parts.path.rstrip("/"), parts.netloc
        if bucket and self.store.addressing == "virtual" and ":" not in bucket:  # `TENANT:NAME` is no host's name
            host = f"{bucket}.{host}"
        elif bucket:
            path += "/" + encode(bucket)
        return host, path + "/" + encode(key, "/") if key or not bucket or host != parts.netloc else path

    def _in(self, region: Region, question: Question, bucket: str, key: str) -> Question:
        """The same question, put in a region. One that is about no bucket keeps its path."""
        host, target = self.target(bucket, key, region.at)
        path = target if bucket else question.path
        return question._replace(host=host, path=path, scheme=split_address(region.at).scheme, region=region.name)

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
        reshape: Callable[[bytes], bytes] | None = None,
    ) -> Reply:
        """Put one question. Retries what is safe to repeat; raises `RequestFailed` if there is no answer at all.

        `memory`: where this question's answer is kept, if not with the others. `reshape`: what is made of the body of
        an answer of 200 before anything keeps it, so that what it must not hold is in no text at all.
        """
        memory = memory or self.memory
        text = canonical_query(query)
        host, target = self.target(bucket, key)
        target = path or target
        kept_as = f"{method} {target}?{text}" if query else f"{method} {target}"
        known = memory.recall(kept_as) if memory else None
        if known is not None:
            return Reply(*known)
        question = Question(method, host, target, text, headers or {}, split_address(self.store.at).scheme)
        subject = bucket or path
        region = self.regions.of(subject)
        signed_for = self._in(region, question, bucket, key) if region.name else question
        reply = await self._patiently(self._persist(signed_for))
        other = self.regions.elsewhere(subject, region, reply)
        if other is not None:
            reply = await self._patiently(self._persist(self._in(other, question, bucket, key)))
        if reshape is not None:
            body = reshape(reply.body) if reply.status == 200 else reply.body
            reply = Reply(reply.status, reply.headers, body)
        if self.cleans:
            reply = self._without_secrets(reply, query, listing=not query and not key and not path)
        if memory and reply.status not in BUSY:
            memory.note(kept_as, reply.status, dict(reply.headers), reply.body)
        return reply

    def _without_secrets(self, reply: Reply, query: tuple[tuple[str, str], ...], *, listing: bool) -> Reply:
        """The answer without secrets that the store shows, before anything is made of it or kept."""
        body, headers = cleaned(reply.body, query, listing=listing), cleaned_headers(reply.headers)
        if body is reply.body and headers is reply.headers:
            return reply
        if self.log is not None:
            outcome = "a secret was left out of the answer"
            self.log({"store": self.store.name, "query": canonical_query(query), "outcome": outcome})
        return Reply(reply.status, headers, body)

    async def _patiently(self, asking: Coroutine[None, None, Reply]) -> Reply:
        """Wait for an answer, as long as the bucket that is asked about, and the store, may keep one waiting."""
        patience, now = CURRENT.get(), asyncio.get_running_loop().time
        if not self._asking:
            self._since = now()
        self._asking += 1
        try:
            if now() - max(self.heard, self._since) > self.store.patience.store:
                silent = f"the store did not answer for {self.store.patience.store} s"
                raise RequestFailed("failed", silent, "out of time")
            if patience is None:
                return await asking
            async with patience.turn():
                patience.check()
                return await asking
        finally:
            asking.close()
            self._asking -= 1

    async def _persist(self, question: Question) -> Reply:
        """Ask until there is an answer, the tries are used up, or asking again would not help."""
        wait = FIRST_WAIT
        tries = itertools.count(1)
        while True:
            attempt = next(tries)
            early = self._early()
            if early > HARDLY:
                await asyncio.sleep(early)
            try:
                patience = CURRENT.get()
                async with self.gate.turn(patience.is_late if patience else nobody_waits):
                    used = self.auth
                    reply = await self._timed(question)
            except RequestFailed as error:
                if not self._again(error, attempt):
                    raise
            else:
                self.answers = True
                if attempt < TRIES and used is not None and used.expired(reply) and await self._renewed(used):
                    continue
                if self._good is None and reply.status == 200:
                    self._good = question
                if self._good is not None and self.auth is not None and self.auth.disowned(reply):
                    await self._check_accepted(self.auth, self._good)
                if reply.status not in BUSY or attempt >= TRIES:
                    return reply
                wait = max(wait, retry_after(reply))
            await self._sleep(wait * self._dice.uniform(0.75, 1.25))
            wait = min(wait * 2, LONGEST_WAIT)

    async def _sleep(self, seconds: float) -> None:
        """Wait before asking again. Where the store answers others meanwhile, it is this bucket that is waited for."""
        now, patience = asyncio.get_running_loop().time, CURRENT.get()
        start = now()
        if patience is not None and seconds > USUAL:
            patience.is_late()
        if patience is not None and not patience.answers:
            seconds = min(seconds, patience.left + 0.5)
        await asyncio.sleep(seconds)
        if patience is not None:
            if self.heard > start or not patience.answers:
                patience.waited(start, now(), usual=0)
            patience.check()

    def _again(self, error: RequestFailed, attempt: int) -> bool:
        """Whether to put a question again that got no answer."""
        if error.answer == "no connection" and self.answers:
            self.answers = attempt < RECONNECTS
            return self.answers
        return attempt < {"connection lost": self.tries, "timed out": min(self.tries, 2)}.get(error.answer, 0)

    async def _timed(self, question: Question) -> Reply:
        """One try; the gate and the log learn how long it took."""
        now, patience = asyncio.get_running_loop().time, CURRENT.get()
        start = now()
        within = patience.left + USUAL if patience else self.store.timeout
        outcome: int | str = "interrupted"
        try:
            reply = await self._once(question, within)
            outcome = reply.status
            if patience and reply.status not in BUSY:
                patience.answered()
            if reply.status in (429, 503):
                if patience is None or patience.answers or self.heard < start:  # not this one bucket's word alone
                    self.gate.busy()
            else:
                self.heard = now()
                self.gate.answered(now() - start)
            return reply
        except RequestFailed as error:
            if patience and error.answer == "timed out" and within < self.store.timeout:
                error = patience.gone()
            outcome = error.answer
            if self.heard < start:  # nobody else was answered meanwhile: it is the store that is silent
                self.gate.busy()
            if patience:
                patience.without_answer(error.answer, self.most)
            raise error from None
        finally:
            if patience:
                patience.waited(start, now())
            if self.log:
                taken = round((asyncio.get_running_loop().time() - start) * 1000, 1)
                self.log({"store": self.store.name, "method": question.method, "path": question.path,
                          "query": question.query, "outcome": outcome, "milliseconds": taken})  # fmt: skip

    async def _check_accepted(self, auth: Authorization, good: Question) -> None:
        """Raise `NoLongerAccepted` when the store stops knowing a credential midway; refusals would show nothing.

        One bucket may say so alone, out of spite or by a fault: what counts is that a question which the credential
        opened before is refused too.
        """
        try:
            again = await self._once(good, self.store.timeout)
        except RequestFailed:
            return
        if auth.disowned(again):
            what = f"store {self.store.name} no longer accepts its credential"
            remedy = "every answer so far is saved; put a valid one in its place, then: lantern survey --resume"
            raise NoLongerAccepted(Problem(what, self.store.credential.place or self.store.place, remedy))

    async def _renewed(self, used: Authorization) -> bool:
        """Whether there is another credential now in place of one that has expired."""
        async with self._renewing:
            if self.auth is used:
                self.auth = await used.renewed() or used
        return self.auth is not used

    def _early(self) -> float:
        """For how many seconds the next question has to wait, to keep to the ceiling of questions per second."""
        now = asyncio.get_running_loop().time()
        due = max(self._next, now)
        self._next = due + 1 / self.store.pace.per_second
        return due - now

    async def _once(self, question: Question, within: float) -> Reply:
        """One request. `within`: seconds that it may take, if that is less than the estate file allows."""
        assert self._session is not None
        host = question.host
        sent = {"host": host, **question.headers}
        if self.auth is not None:
            sent = self.auth.headers(question, self.clock() + self.skew)
        sent.setdefault("user-agent", AGENT)
        shown = self.auth.added_query if self.auth is not None else ""
        text = "&".join(part for part in (question.query, shown) if part)
        url = URL(f"{question.scheme}://{host}{question.path}" + (f"?{text}" if text else ""), encoded=True)
        self.questions_asked += 1
        proxy = self.store.proxy or None
        timeout = self._session.timeout if within >= self.store.timeout else self._timeout(within)
        try:
            async with self._session.request(
                question.method, url, headers=sent, allow_redirects=False, timeout=timeout, proxy=proxy
            ) as answer:
                body = await read_body(answer, self.most)
                return Reply(answer.status, {faithful(k).lower(): faithful(v) for k, v in answer.headers.items()}, body)
        except NO_ANSWER as error:
            raise unanswered(error, host, self.store.timeout) from None
        except ValueError:
            raise RequestFailed("failed", "the request cannot be written: a header holds a control character") from None

    def note_skew(self, reply: Reply) -> timedelta:
        """How far the store's clock is ahead of ours, by its Date header; later questions are signed by it."""
        ahead = clock_difference(reply, self.clock())
        self.skew = ahead if abs(ahead) > timedelta(seconds=60) else timedelta()
        return ahead
