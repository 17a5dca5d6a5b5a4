"""A witness: one readable request out of a region, which would be allowed, and how it is shown to people."""

from __future__ import annotations

import ipaddress
from datetime import UTC, datetime
from fractions import Fraction
from functools import lru_cache
from typing import Any, NamedTuple
from urllib.parse import quote, urlencode

import msgspec

from rusty_lantern.core.access.evaluator.request import ANONYMOUS, Caller, Request
from rusty_lantern.core.access.policy.actions import ACTIONS, FIRST_ACTION
from rusty_lantern.core.access.policy.condition_keys import (
    ACCOUNT,
    ADDRESS_PARAMETER,
    ARN,
    FORWARDED,
    OUTSIDER_NAME,
    REFERER_HOST,
    SEVERAL,
    Audience,
    always_carried,
)
from rusty_lantern.core.access.policy.container_acl import BULK_DELETE, SETS_ACL, SETS_END
from rusty_lantern.core.access.policy.key_names import carried_key
from rusty_lantern.core.access.policy.request_constraints import ENDPOINT_KEYS
from rusty_lantern.core.access.rules.bucket_rules import EvaluationContext
from rusty_lantern.core.access.rules.filer import VERSIONS
from rusty_lantern.core.access.solver.boxes import Box
from rusty_lantern.core.access.solver.caller_names import signer, usual_name
from rusty_lantern.core.access.solver.conditions import TIME
from rusty_lantern.core.access.solver.sent_keys import ShownAs, shown_as
from rusty_lantern.core.access.solver.sets import Budget, FiniteSet, OptionalSet
from rusty_lantern.core.access.solver.sets.automata import TextSet
from rusty_lantern.core.access.solver.sets.intervals import (
    PUBLIC_ADDRESSES,
    IntervalSet,
    address_at,
    position,
)
from rusty_lantern.core.access.solver.sets.multivalued import MultivalueSet

_SAMPLE_TEXT = "203.0.113.9"
SAMPLE_ADDRESS = position(ipaddress.ip_address(_SAMPLE_TEXT))
"""A documentation address; a witness's address is the allowed one nearest to it."""

_ADDRESSES = dict.fromkeys(
    ("aws:vpcsourceip", "aws:ec2instancesourceprivateipv4"), position(ipaddress.ip_address("10.0.0.9"))
) | dict.fromkeys(("aws:sourceip", FORWARDED, ADDRESS_PARAMETER), SAMPLE_ADDRESS)
"""Condition keys that hold an address → one that is likely."""


class Witness(msgspec.Struct, frozen=True, omit_defaults=True):
    """A concrete request that would be allowed."""

    caller: str
    action: str
    bucket: str
    at: str
    request: str
    """The request line: method and path."""
    key: str = ""
    address: str = ""
    headers: dict[str, str] = {}
    circumstances: dict[str, str] = {}
    """Condition keys that are neither headers nor parameters, such as a private endpoint."""
    door: str = ""
    """The protocol that the request goes by, where that is not the store's first one."""

    def on(self, bucket: str) -> Witness:
        """The same request on a bucket of another name."""
        request, body = (
            text.replace(f"/{self.bucket}", f"/{bucket}", 1)
            for text in (self.request, self.circumstances.get(BODY, ""))
        )
        circumstances = self.circumstances | ({BODY: body} if body else {})
        return msgspec.structs.replace(self, bucket=bucket, request=request, circumstances=circumstances)


def sample_of(values: Any) -> str | None:
    """One readable value of a condition key's set; None where absent is the simplest."""
    if isinstance(values, MultivalueSet):
        return next(iter(_several(values)), None)
    assert isinstance(values, OptionalSet)
    if values.absent:
        return None
    if isinstance(values.values, TextSet):
        return values.values.pick()
    return None


def _several(values: MultivalueSet) -> tuple[str, ...]:
    """A smallest set of texts that is a member."""
    picked = [values_picked for family in values.families if (values_picked := family.pick(Budget(10_000))) is not None]
    return min((tuple(sorted(values_picked)) for values_picked in picked), key=len, default=())


def request_from(piece: Box, audience: Audience, around: EvaluationContext, sender: Caller | None = None) -> Request:
    """A member of the piece, as a request: simple values, nothing carried that need not be. `sender`: a known one."""
    action = _best_action(piece["action"])
    context: dict[str, tuple[str, ...]] = {}
    for dimension, values in piece.items():
        if dimension not in ("action", "key"):
            context |= _carried(dimension, values, around)
    if "aws:sourceip" not in piece:
        context["aws:sourceip"] = (_SAMPLE_TEXT,)
    context.setdefault("aws:securetransport", ("true",))
    context.setdefault("aws:currenttime", (show_time(around.seconds),))
    context.setdefault("aws:epochtime", (str(around.seconds),))
    context = {carried_key(key): values for key, values in context.items() if values}
    if any(context.get(key) for key in ENDPOINT_KEYS):
        context.pop("aws:sourceip", None)
    caller = ANONYMOUS
    if sender is not None:
        caller = sender
        names = {ACCOUNT: caller.account, ARN: caller.arn}
        context |= {key: (value,) for key, value in names.items() if value}
    elif audience == "any-account":
        arn = context.get(ARN, (OUTSIDER_NAME,))[0]
        account = arn.split(":")[4]
        caller = Caller(account, arn)
        context |= {ARN: (arn,), ACCOUNT: (account,)}
    context = always_carried(anonymous=caller.anonymous, arn=caller.arn) | context
    key = (piece["key"].pick() or "") if "key" in piece else ""
    return Request(action, key, caller, context)


def _best_action(actions: FiniteSet) -> str:
    return min(actions, key=_FROM_THE_BEST.__getitem__)


_FROM_THE_BEST = {
    name: (name not in FIRST_ACTION.values(), not action.method, number)
    for number, (name, action) in enumerate(ACTIONS.items())
}
"""Action → its place among those that a witness can have, the most telling first."""


def _carried(dimension: str, values: Any, around: EvaluationContext) -> dict[str, tuple[str, ...]]:
    if dimension == TIME:
        seconds = int(values.values.pick(around.seconds))
        return {"aws:currenttime": (show_time(seconds),), "aws:epochtime": (str(seconds),)}
    if isinstance(values, MultivalueSet):
        return {dimension: _several(values)}
    line = values.values
    if dimension == ARN and not values.absent and not line.empty:
        return {ARN: (usual_name(line),)}
    usual = _USUAL.get(dimension)
    if usual is not None and line.holds(usual):
        return {dimension: (usual,)}
    if isinstance(line, IntervalSet) and not line.empty and (dimension == "aws:sourceip" or not values.absent):
        return {dimension: (_number_text(dimension, line),)}
    sample = sample_of(values)
    return {dimension: (sample,) if sample is not None else ()}


_USUAL = {
    "aws:securetransport": "true",
    "s3:authtype": "REST-HEADER",
    "s3:signatureversion": "AWS4-HMAC-SHA256",
    REFERER_HOST: "",
}
"""What a request carries most of the time, taken where it is one of the values."""


def _number_text(dimension: str, line: IntervalSet) -> str:
    if dimension in _ADDRESSES:
        likely = line.meet(PUBLIC_ADDRESSES, Budget(10_000)) if dimension == "aws:sourceip" else line
        near = _ADDRESSES[dimension]
        return str(address_at(int((line if likely.empty else likely).pick(near) or 0)))
    number = line.pick(1)
    assert number is not None
    if "date" in dimension:
        return show_time(int(number))
    whole = Fraction(number)
    shown = str(whole.numerator) if whole.denominator == 1 else f"{float(number):.6f}".rstrip("0")
    return f"{shown}.0" if dimension == "s3:tlsversion" and whole.denominator == 1 else shown


@lru_cache(maxsize=256)
def show_time(seconds: int) -> str:
    """Seconds since 1970 as ISO 8601 in UTC; a moment past the calendar as that number, which the language takes too.

    >>> show_time(1_793_599_200), show_time(1_767_225_600_000)
    ('2026-11-02T06:00:00Z', '1767225600000')
    """
    moment = moment_of(seconds)
    return moment.strftime("%Y-%m-%dT%H:%M:%SZ") if moment else str(seconds)


def moment_of(seconds: float) -> datetime | None:
    """A count of seconds since 1970 as a moment; None where the calendar has no such day."""
    try:
        return datetime.fromtimestamp(seconds, UTC)
    except (ValueError, OverflowError, OSError):
        return None


class WayIn(NamedTuple):
    """How a request gets in, where that is not by the store's first door, with what it names."""

    door: str = ""
    """The protocol that it goes by; empty for the first."""
    by_post: str = ""
    """The header of the POST that does it there."""
    through: str = ""
    """The other container in which it is done; see `Statement.through`."""
    by_copy: bool = False
    """Whether nothing is stored there but a copy of another object."""

    def sent(self, request: Request, bucket: str) -> tuple[Request, str]:
        """The request as it is sent, and the container it is sent to: another one's object has its versions here."""
        if not self.through:
            return request, bucket
        return msgspec.structs.replace(request, key=request.key[3:].rpartition("/")[0]), self.through


FIRST_DOOR = WayIn()


def witness_of(request: Request, bucket: str, way: WayIn = FIRST_DOOR) -> Witness:
    """The request as shown to people and written to JSON."""
    door, by_post = way.door, way.by_post
    shown: dict[ShownAs, dict[str, str]] = {"header": {}, "parameter": {}, "other": {}, "elsewhere": {}}
    usual = always_carried(anonymous=request.caller.anonymous, arn=request.caller.arn)
    if not request.caller.anonymous:
        usual |= {ACCOUNT: (request.caller.account,), ARN: (request.caller.arn,)}
    for name, values in sorted(request.context.items()):
        if usual.get(name) == values or (name == FORWARDED and values == request.context.get("aws:sourceip")):
            continue
        part, called = shown_as(name)
        text = ", ".join(values)
        shown[part][called] = f"http://{text}/" if name == REFERER_HOST else text
    headers, other = shown["header"], shown["other"]
    if request.action == "s3:PutObject" and way.by_copy:
        headers.setdefault("x-amz-copy-source", "(any object that the caller may read)")
    if request.action == "s3:BypassGovernanceRetention":
        headers["x-amz-bypass-governance-retention"] = "true"
    other |= _besides(request, bucket, way)
    if by_post in POSTED:
        headers = {by_post: POSTED[by_post]}
    posted = by_post == BULK_DELETE or by_post in POSTED
    method = "POST" if posted else ACTIONS[request.action].method
    line = _line(*way.sent(request, bucket), shown["parameter"], way, method)
    caller = "no credentials" if request.caller.anonymous else signer(request.caller.arn)
    moment = request.context.get("aws:currenttime", ("",))[0]
    address = request.context.get("aws:sourceip", ("",))[0]
    return Witness(caller, request.action, bucket, moment, line, request.key, address, headers, other, door)


def _besides(request: Request, bucket: str, way: WayIn) -> dict[str, str]:
    """What a request needs that is neither a header nor a parameter."""
    needed: dict[str, str] = {}
    if request.context.get("aws:securetransport") == ("false",):
        needed["transport"] = "plain http"
    if way.by_post == BULK_DELETE:
        needed[BODY] = f"/{bucket}/{request.key}".rstrip("/")
    if way.through and ACTIONS[request.action].verb == "read":  # what is taken back can be read
        needed["first"] = _line(*way.sent(request, bucket), {}, way, "DELETE")
    return needed


def _line(request: Request, bucket: str, parameters: dict[str, str], way: WayIn, method: str) -> str:
    """The request line, as the protocol of a door has it."""
    door = way.door
    if SEVERAL in request.context:
        return "POST /?bulk-delete" if door == "swift" else f"POST /{bucket}?delete"
    path = "/" + bucket + ("/" + quote(request.key, safe="/-_.~") if request.key else "")
    query = ACTIONS[request.action].query
    if "s3:versionid" in request.context:
        query = query.replace("versionId=null", f"versionId={quote(request.context['s3:versionid'][0])}")
    if parameters:
        query = "&".join(part for part in (query, urlencode(parameters)) if part)
    if door == "blob":
        method, query = _by_blob_protocol(request.action, method)
    if door == "filer":
        query, path = _by_filer(request, path, versions=way.by_post == VERSIONS)
    if door == "web":
        path = f"/{quote(request.key, safe='/-_.~')}"
    if door == "swift":
        lists = ACTIONS[request.action].verb == "list"
        query, path = ("format=json", f"{path}/") if lists else ("", path)
    return f"{method} {path}" + (f"?{query}" if query else "") if method else f"{request.action} on {path}"


BODY = "body"
"""What stands for the body of a request: the name of a bucket, or of an object in it, that a bulk deletion deletes."""
POSTED = {SETS_ACL: ".r:*", SETS_END: "(seconds since 1970)"}
"""What a POST at a gateway's Swift door says, by header: the bucket's ACL, and from when on the object is deleted."""


def _by_filer(request: Request, path: str, *, versions: bool) -> tuple[str, str]:
    """Query and path at a filer: its folders are the buckets. `versions`: whether an object is a folder of them."""
    path, verb = f"/buckets{path}", ACTIONS[request.action].verb
    query = {"change-settings": "recursive=true", "read-settings": "metadata=true"}.get(verb, "")
    if not request.key:
        return query, path if query else f"{path}/"
    if not versions or verb in ("write", "change-settings"):
        return query, path
    deletes = verb in ("delete", "bypass-retention")
    return ("recursive=true", f"{path}.versions") if deletes else (query, f"{path}.versions/v_(version)")


def _by_blob_protocol(action: str, method: str) -> tuple[str, str]:
    """Method and query of the blob protocol that ask for the same. Source: its published operations."""
    described = ACTIONS[action]
    whole = {
        "list": ("GET", "restype=container&comp=list"), "read-settings": ("GET", "restype=container&comp=acl"),
        "change-settings": ("PUT", "restype=container&comp=acl"),
    }  # fmt: skip
    if described.target == "bucket" and described.verb in whole:
        return whole[described.verb]
    return method, {"read-settings": "comp=tags", "change-settings": "comp=immutabilityPolicies"}.get(
        described.verb, ""
    )
