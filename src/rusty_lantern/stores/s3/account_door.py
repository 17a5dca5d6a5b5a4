"""The account door of the S3 protocol: the public-access guards of a whole account, and its buckets' access points.

A service may have them at an address of their own, one for each region. Source: the published interface for control of
an account, version 2018-08-20, which is also the beginning of each path.
"""

from __future__ import annotations

import re
from collections.abc import AsyncIterator, Collection
from contextlib import asynccontextmanager
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any, Final
from urllib.parse import quote

import msgspec

from rusty_lantern.core.answer import Answer, Evidence, unread
from rusty_lantern.core.config.estate import REGION, DoorEntry
from rusty_lantern.core.model.access_point import AccessPoint
from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.core.model.dossier import Door, Dossier
from rusty_lantern.core.model.guards import Guards
from rusty_lantern.stores.crew import at_once
from rusty_lantern.stores.http.authorization import Signed
from rusty_lantern.stores.http.client import Client
from rusty_lantern.stores.http.credentials import find
from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.http.refusal import error_code, refusal_of
from rusty_lantern.stores.http.tls_check import SeparateMemory
from rusty_lantern.stores.http.xml import Element, child, children, name, parse, raw_text, text
from rusty_lantern.stores.reader import Visit
from rusty_lantern.stores.s3.setting_answers import read_answer
from rusty_lantern.stores.s3.settings import ACCOUNT_GUARDS, ACCOUNT_GUARDS_PATH, guards_in

ACCOUNT: Final = "account"
POINTS = "/v20180820/accesspoint"
OF_SEVERAL_REGIONS = "/v20180820/mrap/instances"
"""Access points that stand for buckets in several regions."""
THEIR_REGION = "us-west-2"
"""Where those are asked for, of a service that has this door in each region. Source: the service's documentation."""
_NOT_SHOWN: Answer[Guards] = Answer("failed", None, "the list does not show them")
MOST = 100_000
_NO_SUCH_POINT = re.compile("NoSuch[A-Za-z]*AccessPoint[A-Za-z]*")
"""How the service says that there is no such access point, or that it has no policy."""
ELSEWHERE = "the account door names no address for the bucket's region: write {region} in it"


@dataclass
class AccountDoor:
    """The account door in one region."""

    client: Client
    account: str
    region: str
    moment: datetime

    async def ask(self, path: str, query: tuple[tuple[str, str], ...] = ()) -> Element | None:
        """The document that answers; None where there is no such thing. Raises `RequestFailed`."""
        reply = await self.client.ask(path=path, query=query, headers={"x-amz-account-id": self.account})
        if reply.status == 404 and _NO_SUCH_POINT.fullmatch(error_code(reply.body)[0]):
            return None
        if reply.status != 200:
            raise refusal_of(reply)
        return parse(reply.body)

    async def guards(self) -> Answer[Guards]:
        """The public-access guards of the account."""
        question = f"GET {ACCOUNT_GUARDS_PATH}"
        try:
            reply = await self.client.ask(path=ACCOUNT_GUARDS_PATH, headers={"x-amz-account-id": self.account})
        except RequestFailed as error:
            return Answer(error.state, None, error.note, Evidence(question, error.answer, self.moment))
        return read_answer(ACCOUNT_GUARDS, reply, question, self.moment)

    async def points(self, wanted: Collection[str]) -> dict[str, list[AccessPoint]]:
        """Wanted bucket → its access points in this region. Raises `RequestFailed`."""
        listed: list[Element] = []
        token = ""
        while True:
            query = (("maxResults", "1000"), *((("nextToken", token),) if token else ()))
            page = _wanted(await self.ask(POINTS, query), "ListAccessPoints")
            listed += _entries(page, "AccessPointList", "AccessPoint", "Name", "Bucket")
            before, token = token, text(page, "NextToken")
            if not token:
                break
            if token == before or len(listed) > MOST:
                raise RequestFailed("failed", "the list of access points never ends", "endless list")
        of_wanted = [entry for entry in listed if raw_text(entry, "Bucket") in wanted]
        read = await at_once([self._point(entry) for entry in of_wanted])
        return _by_bucket(zip((raw_text(entry, "Bucket") for entry in of_wanted), read, strict=True))

    async def _point(self, entry: Element) -> AccessPoint:
        called = raw_text(entry, "Name")
        arn = text(entry, "AccessPointArn") or f"arn:aws:s3:{self.region}:{self.account}:accesspoint/{called}"
        path = f"{POINTS}/{quote(called, safe='')}"
        return AccessPoint(
            called,
            arn,
            {"internet": "internet", "vpc": "vpc"}.get(text(entry, "NetworkOrigin").lower(), ""),  # type: ignore[arg-type]
            text(entry, "VpcConfiguration", "VpcId"),
            await self._answer(f"{path}/policy", _policy),
            await self._answer(path, _guards_within),
        )

    async def points_of_several_regions(self, wanted: Collection[str]) -> dict[str, list[AccessPoint]]:
        """Wanted bucket → the access points that stand for it and for buckets in other regions. Raises
        `RequestFailed`."""
        by_bucket: dict[str, list[AccessPoint]] = {}
        page = _wanted(await self.ask(OF_SEVERAL_REGIONS), "ListMultiRegionAccessPoints")
        if text(page, "NextToken"):
            raise RequestFailed("failed", "there are more access points of several regions than one page has", "")
        for entry in _entries(page, "AccessPoints", "AccessPoint", "Name", "Alias"):
            held = _entries(entry, "Regions", "Region", "Bucket")
            buckets = [bucket for one in held if (bucket := raw_text(one, "Bucket")) in wanted]
            if not buckets:
                continue
            called, alias = raw_text(entry, "Name"), raw_text(entry, "Alias")
            path = f"{OF_SEVERAL_REGIONS}/{quote(called, safe='')}/policy"
            guards = child(entry, "PublicAccessBlock")
            point = AccessPoint(
                called,
                f"arn:aws:s3::{self.account}:accesspoint/{alias}",
                "internet",
                policy=await self._answer(path, _established),
                public_access_guards=_NOT_SHOWN if guards is None else Answer("known", guards_in(guards)),
            )
            for bucket in buckets:
                by_bucket.setdefault(bucket, []).append(point)
        return by_bucket

    async def _answer(self, path: str, decode: Any) -> Answer[Any]:
        question = f"GET {path}"
        try:
            root = await self.ask(path)
            value = None if root is None else decode(root)
        except RequestFailed as error:
            return Answer(error.state, None, error.note, Evidence(question, error.answer, self.moment))
        evidence = Evidence(question, "404" if root is None else "200", self.moment)
        return Answer("absent" if value is None else "known", value, "", evidence)


def _wanted(root: Element | None, operation: str) -> Element:
    """The answer to an operation. Its root is called after it, with one of two endings."""
    if root is None or name(root) not in (f"{operation}Result", f"{operation}Response"):
        raise RequestFailed("failed", f"the answer is not one to {operation}", "unexpected answer")
    return root


def _part(root: Element, called: str) -> Element:
    """A part that an answer has, though it may be empty. Raises `RequestFailed` for one that lacks it."""
    part = child(root, called)
    if part is None:
        raise RequestFailed("failed", f"the answer has no {called}", "unexpected answer")
    return part


def _entries(root: Element, listed: str, entry: str, *needed: str) -> list[Element]:
    """The entries of a list. Raises `RequestFailed` where there is no list, or one lacks what it needs: whose it is
    would not be known."""
    entries = list(children(_part(root, listed), entry))
    missing = next((what for one in entries for what in needed if not raw_text(one, what)), "")
    if missing:
        raise RequestFailed("failed", f"an entry of {listed} has no {missing}", "unexpected answer")
    return entries


def _policy(root: Element) -> str | None:
    return (_part(_wanted(root, "GetAccessPointPolicy"), "Policy").text or "").strip() or None


def _established(root: Element) -> str | None:
    return text(_part(_wanted(root, "GetMultiRegionAccessPointPolicy"), "Policy"), "Established", "Policy") or None


def _guards_within(root: Element) -> Guards:
    return guards_in(_part(_wanted(root, "GetAccessPoint"), "PublicAccessBlockConfiguration"))


def _by_bucket(points: Any) -> dict[str, list[AccessPoint]]:
    by_bucket: dict[str, list[AccessPoint]] = {}
    for bucket, point in points:
        by_bucket.setdefault(bucket, []).append(point)
    return by_bucket


@asynccontextmanager
async def at_account_door(visit: Visit, entry: DoorEntry, region: str) -> AsyncIterator[AccountDoor]:
    """The account door of a region, ready to be asked. Raises `NoCredential`."""
    memory = SeparateMemory(visit.memory, f"account {region}") if visit.memory else None
    at = entry.at.replace(REGION, region)
    credential = entry.credential
    store = msgspec.structs.replace(visit.store, at=at, credential=credential, addressing="path", regions=(), doors=())
    store = msgspec.structs.replace(store, pattern="")
    signed = Signed(find(credential, visit.folder), region)
    async with Client(store, signed, visit.folder, memory=memory, log=visit.log) as client:
        yield AccountDoor(client, entry.account, region, visit.moment)


@dataclass
class _Shown:
    """What the account door shows, in all regions."""

    points: dict[str, list[AccessPoint]] = field(default_factory=dict)
    unread: dict[str, RequestFailed] = field(default_factory=dict)
    """Region → why its access points are not known; for all regions, those of several regions."""


async def with_account_door(visit: Visit, entry: DoorEntry, read: Dossier) -> Dossier:
    """The dossier with the account's guards and its buckets' access points. Raises `NoCredential`, and nothing for what
    the store does."""
    home = visit.store.signing_place
    everywhere = REGION in entry.at
    regions = {_region_of(bucket) for bucket in read.buckets} - {""} if everywhere else set()
    shown, names = _Shown(), {bucket.name for bucket in read.buckets}
    guards: Answer[Guards] = unread()
    for region in sorted(regions | {home}):
        async with at_account_door(visit, entry, region) as door:
            guards = await door.guards() if region == home else guards
            await _add(shown, region, door.points(names))
    async with at_account_door(visit, entry, THEIR_REGION if everywhere else home) as door:
        await _add(shown, OF_SEVERAL_REGIONS, door.points_of_several_regions(names))
    why = "" if guards.settled else guards.reason
    lost = next(iter(shown.unread.values()), None)
    at = Door(ACCOUNT, entry.at, read=not why and lost is None, note=why or (lost.note if lost else ""))
    buckets = [
        msgspec.structs.replace(bucket, access_points=_points_of(bucket, shown, visit, everywhere=everywhere))
        for bucket in read.buckets
    ]
    return msgspec.structs.replace(
        read,
        public_access_guards=guards,
        buckets=buckets,
        account_number=read.account_number or entry.account,
        doors=Answer("known", [*(read.doors.value or ()), at]),
    )


async def _add(shown: _Shown, part: str, asking: Any) -> None:
    try:
        for bucket, points in (await asking).items():
            shown.points.setdefault(bucket, []).extend(points)
    except RequestFailed as error:
        shown.unread[part] = error


def _region_of(bucket: Bucket) -> str:
    """The region of a bucket; empty where it is not known. Two have names of their own in the answers about buckets.
    Source: the documentation of `LocationConstraint`."""
    region = bucket.region.value or ""
    return {"default": "us-east-1", "EU": "eu-west-1"}.get(region, region)


def _points_of(bucket: Bucket, shown: _Shown, visit: Visit, *, everywhere: bool) -> Answer[list[AccessPoint]]:
    home, moment = visit.store.signing_place, visit.moment
    region = _region_of(bucket)
    if everywhere and not region:
        return Answer("failed", None, f"the bucket's region was not read ({bucket.region.reason})")
    lost = shown.unread.get(region if everywhere else home) or shown.unread.get(OF_SEVERAL_REGIONS)
    if lost is not None:
        return Answer(lost.state, None, lost.note, Evidence(f"GET {POINTS}", lost.answer, moment))
    if not everywhere and visit.store.several_regions and region != home:
        return Answer("failed", None, ELSEWHERE)
    points = sorted(shown.points.get(bucket.name, ()), key=lambda point: point.arn)
    evidence = Evidence(f"GET {POINTS}", "200", moment)
    return Answer("known", points, "", evidence) if points else Answer("absent", evidence=evidence)
