"""A simulated store with the S3-compatible protocol on loopback.

It verifies signatures, and answers requests without credentials by its buckets' real rules, decided by the plain
decider. It keeps nothing: an upload or deletion that the rules allow is answered as done, and forgotten. The header
`x-standin-from` simulates the address that a request comes from, `x-standin-through` the access point.
"""

from __future__ import annotations

import hmac
from bisect import bisect_left, bisect_right
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from itertools import islice, takewhile
from urllib.parse import parse_qsl, unquote

from aiohttp import web

from rusty_lantern.core.access.evaluator.evaluate import decide
from rusty_lantern.core.access.evaluator.request import ANONYMOUS, Request
from rusty_lantern.core.access.evaluator.request_builder import host_of
from rusty_lantern.core.access.policy.actions import ACTIONS
from rusty_lantern.core.access.policy.condition_keys import (
    POINT_ACCOUNT,
    POINT_ARN,
    POINT_ORIGIN,
    REFERER_HOST,
    always_carried,
)
from rusty_lantern.core.access.rules.bucket_rules import EvaluationContext, rules_of
from rusty_lantern.core.access.solver.audience_view import BUDGET, public_policy
from rusty_lantern.core.access.solver.exposure import as_match
from rusty_lantern.core.access.solver.sets import Budget
from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.core.model.bucket_contents import Uploads
from rusty_lantern.core.model.object_version import ObjectVersion
from rusty_lantern.core.remediation.s3_documents import document, element, guards_document, tags_document
from rusty_lantern.simulator import iam_server as identity_service
from rusty_lantern.simulator import s3_answers as documents
from rusty_lantern.simulator.account_door import ROOT as ACCOUNT_ROOT
from rusty_lantern.simulator.account_door import answer_about_account
from rusty_lantern.simulator.admin_server import ROOT, AdminDoor
from rusty_lantern.simulator.contents import StandinKey, StoreContents
from rusty_lantern.simulator.s3_call import Call, action_of
from rusty_lantern.simulator.swift_server import SwiftDoor
from rusty_lantern.stores.http.sigv4 import ALGORITHM, canonical_query, signature
from rusty_lantern.stores.s3.settings import ACCOUNT_GUARDS_PATH

MAX_SKEW = timedelta(minutes=15)
PAGE = 1000


class Refused(Exception):
    """An answer with an error document."""

    def __init__(self, status: int, code: str, message: str = "") -> None:
        super().__init__(code)
        self.status, self.code, self.message = status, code, message or code


async def _number_as_a_gateway(_: web.Request, response: web.StreamResponse) -> None:
    """The form in which a gateway numbers requests, by which it is recognized."""
    response.headers["x-amz-request-id"] = f"tx{0:021x}-{0:010x}-1000-south"


@dataclass
class Standin:
    """One simulated store. `requests` records method and target of everything that was asked."""

    holdings: StoreContents
    moment: datetime
    requests: list[tuple[str, str]] = field(default_factory=list)
    door: SwiftDoor | None = None
    """Its second door, at the same address."""
    admin: AdminDoor | None = None
    """Its administration door, at the same address."""

    def application(self) -> web.Application:
        """The store as an aiohttp application."""
        app = web.Application(client_max_size=1 << 20)
        app.router.add_route("*", r"/{tail:[\s\S]*}", self._serve)
        software = self.holdings.dossier.software.value
        if software is not None and software.dialect.startswith("gateway"):
            app.on_response_prepare.append(_number_as_a_gateway)
        return app

    async def _serve(self, request: web.Request) -> web.Response:
        self.requests.append((request.method, request.raw_path))
        if self.door is not None and self.door.has(request.raw_path.partition("?")[0]):
            return await self.door.serve(request)
        try:
            if self.admin is not None and request.path.startswith(ROOT):
                return self._administer(self.admin, request)
            if request.path.startswith(ACCOUNT_ROOT) and request.path != ACCOUNT_GUARDS_PATH:
                return self._about_account(request)
            call = self._understand(request)
            return self._answer(call)
        except Refused as refused:
            body = documents.error(refused.code, refused.message) if request.method != "HEAD" else b""
            return web.Response(status=refused.status, body=body, content_type="application/xml")

    def _identity_service(self, query: dict[str, str]) -> web.Response:
        if self.holdings.dossier.identities.state == "unsupported":
            raise Refused(501, "NotImplemented")
        status, body = identity_service.answer(self.holdings.dossier, query)
        return web.Response(status=status, body=body, content_type="text/xml")

    def _administer(self, door: AdminDoor, request: web.Request) -> web.Response:
        path, _, query = request.raw_path.partition("?")
        pairs = parse_qsl(query, keep_blank_values=True)
        access = self._authenticate(request.method, path, pairs, _headers(request))
        return door.answer(access.account if access else "", request.method, path, dict(pairs), self.holdings)

    def _about_account(self, request: web.Request) -> web.Response:
        path, _, query = request.raw_path.partition("?")
        pairs = parse_qsl(query, keep_blank_values=True)
        if self._authenticate(request.method, path, pairs, _headers(request)) is None or request.method != "GET":
            raise Refused(403, "AccessDenied")
        status, body = answer_about_account(path, self.holdings.dossier.buckets)
        return web.Response(status=status, body=body, content_type="application/xml")

    def _understand(self, request: web.Request) -> Call:
        path, _, query = request.raw_path.partition("?")
        bucket, _, key = path.lstrip("/").partition("/")
        headers = _headers(request)
        pairs = parse_qsl(query, keep_blank_values=True)
        access = self._authenticate(request.method, path, pairs, headers)
        if path == ACCOUNT_GUARDS_PATH:
            return Call(request.method, "", ACCOUNT_GUARDS_PATH, dict(pairs), headers, access)
        return Call(request.method, unquote(bucket), unquote(key), dict(pairs), headers, access)

    def _authenticate(
        self, method: str, path: str, pairs: list[tuple[str, str]], headers: dict[str, str]
    ) -> StandinKey | None:
        """Verify signature version 4. None for a request without credentials."""
        written = headers.get("authorization")
        if written is None:
            return None
        try:
            algorithm, _, rest = written.partition(" ")
            parts = dict(part.strip().split("=", 1) for part in rest.split(","))
            key_id, _, place, service, _ = parts["Credential"].split("/")
            stamp = headers["x-amz-date"]
            sent = datetime.strptime(stamp, "%Y%m%dT%H%M%SZ").replace(tzinfo=UTC)
            signed = {name: headers[name] for name in parts["SignedHeaders"].split(";")}
        except (KeyError, ValueError):
            raise Refused(400, "AuthorizationHeaderMalformed") from None
        access = self.holdings.keys.get(key_id)
        if access is None or algorithm != ALGORITHM:
            raise Refused(403, "InvalidAccessKeyId")
        if abs(datetime.now(UTC) - sent) > MAX_SKEW:
            raise Refused(403, "RequestTimeTooSkewed")
        expected, _ = signature(access.secret, method, path, canonical_query(pairs), signed, stamp, place, service)
        if not hmac.compare_digest(expected, parts["Signature"]):
            raise Refused(403, "SignatureDoesNotMatch")
        return access

    def _answer(self, call: Call) -> web.Response:
        if not call.bucket:
            return self._store_wide(call)
        bucket = self.holdings.bucket(call.bucket)
        if bucket is None:
            raise Refused(404 if call.access else 403, "NoSuchBucket" if call.access else "AccessDenied")
        action = action_of(call)
        if call.access is None and not self._lets_in(bucket, action, call):
            raise Refused(403, "AccessDenied")
        if call.access is not None and call.method not in ("GET", "HEAD"):
            raise Refused(403, "AccessDenied", "this key only reads")
        if call.key:
            return self._parts(call) if "uploadId" in call.query else self._object(call)
        if call.method != "GET":
            return web.Response(status=200)
        if "uploads" in call.query:
            return _xml(documents.uploads(call.bucket, bucket.uploads.value or Uploads(0)))
        question = next((q for q in call.query if q in documents.WRITERS), None)
        return self._setting(call, bucket, question) if question else self._listing(call)

    def _store_wide(self, call: Call) -> web.Response:
        if call.access is None:
            raise Refused(403, "AccessDenied")
        if "Action" in call.query:
            return self._identity_service(call.query)
        if call.key == ACCOUNT_GUARDS_PATH:
            public_access_guards = self.holdings.dossier.public_access_guards.value
            if public_access_guards is None:
                raise Refused(404, "NoSuchPublicAccessBlockConfiguration")
            return _xml(guards_document(public_access_guards))
        owner, buckets = call.access.account, self.holdings.dossier.buckets
        return _xml(documents.list_of_buckets(owner, [one for one in buckets if one.owner.value in (None, owner)]))

    def _setting(self, call: Call, bucket: Bucket, question: str) -> web.Response:
        if call.access and (bucket.name, question) in call.access.refused:
            raise Refused(403, "AccessDenied")
        field_name, write, absent_code = documents.WRITERS[question]
        answer = getattr(bucket, field_name)
        if answer.state == "unsupported":
            raise Refused(501, "NotImplemented")
        if answer.value is None and absent_code:
            raise Refused(404, absent_code)
        return _xml(write(answer.value))

    def _listing(self, call: Call) -> web.Response:
        query = call.query
        several = "versions" in query
        wanted = self.holdings.versions.get(call.bucket, [])
        if not several:
            wanted = [version for version in wanted if version.current and not version.marker]
        after, within = query.get("key-marker") or query.get("start-after", ""), query.get("version-id-marker", "")
        start = bisect_right(wanted, after.encode(), key=lambda version: version.key.encode()) if after else 0
        if within:
            first = bisect_left(wanted, after.encode(), key=lambda version: version.key.encode())
            start = next((n + 1 for n in range(first, start) if wanted[n].version == within), start)
        rest = (v for v in islice(wanted, start, None) if v.key.startswith(query.get("prefix", "")))
        written = query.get("max-keys", str(PAGE))
        most = min(int(written), PAGE) if written.isdigit() else PAGE
        page = list(islice(rest, most))
        more, encoded = next(rest, None) is not None, query.get("encoding-type") == "url"
        write = documents.versions if several else documents.listing
        return _xml(write(call.bucket, page, more=more, encoded=encoded))

    def _object(self, call: Call) -> web.Response:
        if call.method not in ("GET", "HEAD"):
            return web.Response(status=200 if call.method == "PUT" else 204)
        version = self._version(call)
        if call.access and (call.bucket, call.key) in call.access.refused:
            raise Refused(403, "AccessDenied")
        if "tagging" in call.query:
            return _xml(tags_document(version.tags or {}))
        if "acl" in call.query:
            return _xml(documents.object_acls(version, self._owner(call.bucket)))
        if "retention" in call.query or "legal-hold" in call.query:
            return self._kept(version, "retention" in call.query)
        headers = documents.headers(version)
        if call.method == "HEAD":
            return web.Response(headers={**headers, "content-length": str(version.size)})
        if version.tier == "GLACIER":
            raise Refused(403, "InvalidObjectState")
        return web.Response(body=b" " * min(version.size, 1024), headers=headers)

    def _owner(self, name: str) -> str:
        bucket = self.holdings.bucket(name)
        return (bucket.owner.value if bucket else None) or self.holdings.dossier.account.value or ""

    def _parts(self, call: Call) -> web.Response:
        bucket = self.holdings.bucket(call.bucket)
        uploads = bucket.uploads.value if bucket else None
        document = documents.parts(call.bucket, uploads or Uploads(0), call.query["uploadId"])
        if document is None:
            raise Refused(404, "NoSuchUpload")
        return _xml(document)

    def _kept(self, version: ObjectVersion, period: bool) -> web.Response:
        if period and version.mode:
            return _xml(documents.retention(version))
        if not period and version.hold:
            return _xml(document("LegalHold", element("Status", "ON")))
        raise Refused(404, "NoSuchObjectLockConfiguration")

    def _version(self, call: Call) -> ObjectVersion:
        versions = self.holdings.versions.get(call.bucket, [])
        first = bisect_left(versions, call.key.encode(), key=lambda version: version.key.encode())
        of_key = takewhile(lambda version: version.key == call.key, islice(versions, first, None))
        wanted = call.query.get("versionId")
        version = next((v for v in of_key if (v.version == wanted if wanted else v.current)), None)
        if version is None or version.marker:
            raise Refused(404 if version is None or not wanted else 405, "NoSuchKey")
        return version

    def _lets_in(self, bucket: Bucket, action: str, call: Call) -> bool:
        """Whether the bucket's rules allow the request to somebody without credentials."""
        if action not in ACTIONS:
            return False
        address = call.headers.get("x-standin-from", "127.0.0.1")
        if self.holdings.believes_headers:
            address = call.headers.get("x-forwarded-for", address).partition(",")[0].strip()
        context: dict[str, tuple[str, ...]] = {
            "aws:sourceip": (address,),
            "aws:securetransport": ("false",),
            "aws:currenttime": (self.moment.strftime("%Y-%m-%dT%H:%M:%SZ"),),
            "aws:epochtime": (str(int(self.moment.timestamp())),),
        }
        for header, key in (("referer", "aws:referer"), ("user-agent", "aws:useragent")):
            if header in call.headers:
                context[key] = (call.headers[header],)
        if through := call.headers.get("x-standin-through"):  # an access point's address, which it has none of
            context |= {POINT_ARN: (through,), POINT_ACCOUNT: (through.split(":")[4],), POINT_ORIGIN: ("Internet",)}
        context[REFERER_HOST] = (host_of(call.headers.get("referer", "")),)
        context |= {f"s3:{name}": (value,) for name, value in call.headers.items() if name.startswith("x-amz-")}
        context |= {f"s3:{name}": (value,) for name, value in call.query.items() if name in ("prefix", "max-keys")}
        rules = rules_of(bucket, self.holdings.dossier)
        around = EvaluationContext(self.moment, self.holdings.dossier.account.value or "")
        context = always_carried(anonymous=True) | context
        public = as_match(public_policy(rules, around, Budget(BUDGET)))
        return decide(rules, Request(action, call.key, ANONYMOUS, context), public=public).allowed is True


def _headers(request: web.Request) -> dict[str, str]:
    return {name.lower(): value for name, value in request.headers.items()}


def _xml(body: bytes) -> web.Response:
    return web.Response(body=body, content_type="application/xml")
