"""One request, put together from the few words in which a person or a file asks about it."""

from __future__ import annotations

import re
from collections.abc import Iterable
from datetime import UTC, datetime
from functools import lru_cache
from urllib.parse import urlsplit

import msgspec

from rusty_lantern.core.access.evaluator.condition_tests import parsed_address
from rusty_lantern.core.access.evaluator.request import ANONYMOUS, Caller, Request
from rusty_lantern.core.access.policy.actions import ACTIONS, BY_LOWER_NAME, FIRST_ACTION, VERBS
from rusty_lantern.core.access.policy.condition_keys import (
    KEYS,
    OUTSIDER_ACCOUNT,
    OUTSIDER_NAME,
    POINT_ACCOUNT,
    POINT_ARN,
    POINT_ORIGIN,
    REFERER_HOST,
    always_carried,
    context_key,
)
from rusty_lantern.core.access.policy.key_names import NO_POLICYS, key_name
from rusty_lantern.core.access.policy.principals import read_principal
from rusty_lantern.core.access.policy.request_constraints import ENDPOINT_KEYS, impossible
from rusty_lantern.core.errors import BadInput, Place, Problem, nearest
from rusty_lantern.core.value_types import InvalidValue, read_moment


class RequestSpec(msgspec.Struct, frozen=True, rename="kebab", forbid_unknown_fields=True):
    """A question: may this caller do this? The words of `lantern why`, and of a line of its requests file."""

    caller: str = "anyone"
    verb: str = "read"
    action: str = ""
    key: str = "a"
    address: str = "203.0.113.9"
    headers: dict[str, str] = {}
    carrying: dict[str, str] = {}
    """Condition keys and their values, for what is neither a header nor the address."""
    at: str = ""


_HEADERS = {"referer": "aws:referer", "user-agent": "aws:useragent"}


class Sender(msgspec.Struct, frozen=True):
    """Who sends a request, and which condition keys their requests are known to carry."""

    caller: Caller
    known: dict[str, tuple[str, ...]] = {}


def request_of(asking: RequestSpec, moment: datetime, sender: Sender | None = None) -> Request:
    """The request that is asked about, by a `sender` that is known already if there is one. Raises `BadInput`."""
    action = action_of(asking)
    context = _said(asking)
    if not context.keys() & set(ENDPOINT_KEYS):
        context.setdefault("aws:sourceip", (_address(asking.address),))
    context.setdefault("aws:securetransport", ("true",))
    context |= _at(moment)
    sender = sender or Sender(_caller(asking.caller))
    caller = sender.caller
    if not caller.anonymous:
        context.setdefault("aws:principalaccount", (caller.account,))
    if caller.arn:
        context.setdefault("aws:principalarn", (caller.arn,))
    context = always_carried(anonymous=caller.anonymous, arn=caller.arn) | sender.known | context
    wrong = impossible(context)
    if wrong:
        raise BadInput(Problem(f"no such request can be sent: {wrong}", remedy="leave out one of --with or --header"))
    key = asking.key if ACTIONS[action].target == "object" else ""
    return Request(action, key, caller, {name: values for name, values in context.items() if values})


@lru_cache(maxsize=256)
def _at(moment: datetime) -> dict[str, tuple[str, ...]]:
    """What requests at a moment carry of it."""
    written = moment.astimezone(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")
    return {"aws:currenttime": (written,), "aws:epochtime": (str(int(moment.timestamp())),)}


def _said(asking: RequestSpec) -> dict[str, tuple[str, ...]]:
    context: dict[str, tuple[str, ...]] = {}
    for name, value in asking.headers.items():
        lowered = name.lower()
        context[_HEADERS.get(lowered, f"s3:{lowered}")] = (value,)
        if lowered == "referer":
            context[REFERER_HOST] = (host_of(value),)
    for name, value in asking.carrying.items():
        if context_key(key_name(name)) is None:
            known = [name for name in KEYS if name.rstrip("/") not in NO_POLICYS]
            remedy = nearest(name.lower(), known) or "docs/access-tables.md lists them"
            raise BadInput(Problem(f'no condition key "{name}" is known', remedy=remedy))
        context[key_name(name)] = (value,)
    return context | _through_point(context)


def _through_point(context: dict[str, tuple[str, ...]]) -> dict[str, tuple[str, ...]]:
    """What a request through an access point carries besides, where nothing else was said."""
    arn = context.get(POINT_ARN, ("",))[0].split(":")
    if len(arn) < 6:
        return {}
    origin = "VPC" if context.keys() & set(ENDPOINT_KEYS) else "Internet"
    return {POINT_ACCOUNT: (arn[4],), POINT_ORIGIN: (origin,)} | context


def host_of(referer: str) -> str:
    """The host in a Referer header, as servers take it; empty where there is none.

    >>> host_of("http://Good.example/page")
    'good.example'
    """
    try:
        return urlsplit(referer).hostname or ""
    except ValueError:
        return ""


def action_of(asking: RequestSpec) -> str:
    """The protocol action that is asked about. Raises `BadInput`."""
    if not asking.action:
        verb = next((verb for verb in VERBS if verb == asking.verb), None)
        if verb is None:
            remedy = nearest(asking.verb, VERBS) or f"one of {', '.join(VERBS)}"
            raise BadInput(Problem(f'no verb "{asking.verb}"', remedy=remedy))
        return FIRST_ACTION[verb]
    known = BY_LOWER_NAME.get(asking.action.lower()) or BY_LOWER_NAME.get(f"s3:{asking.action.lower()}")
    if known is None:
        remedy = nearest(asking.action, ACTIONS) or "docs/access-tables.md lists them"
        raise BadInput(Problem(f'no action "{asking.action}"', remedy=remedy))
    return known


def _address(text: str) -> str:
    try:
        return str(parsed_address(text))
    except ValueError:
        raise BadInput(Problem(f'"{text}" is not an address', remedy="write it as 203.0.113.9")) from None


_CALLERS_NAME = re.compile(r"arn:[^:]*:(iam|sts)::[^:]*:(root|(user|role|assumed-role|federated-user)/.+)")


def _caller(name: str) -> Caller:
    if name == "anyone":
        return ANONYMOUS
    if name == "any-account":
        return Caller(OUTSIDER_ACCOUNT, OUTSIDER_NAME)
    identity = read_principal(name)
    if identity.kind == "canonical":
        return Caller(OUTSIDER_ACCOUNT, "", identity.name)
    if identity.kind == "identity":
        if not _CALLERS_NAME.fullmatch(identity.name):
            remedy = "as arn:aws:iam::ACCOUNT:user/NAME, …:role/NAME, arn:aws:sts::ACCOUNT:assumed-role/NAME/SESSION"
            raise BadInput(Problem(f'"{name}" is not the resource name of a caller', remedy=remedy))
        session = identity.name if identity.name != identity.arn else ""
        return Caller(identity.account, identity.arn, session=session)
    if not identity.account:
        remedy = "anyone, any-account, an account number, a resource name, or a canonical id"
        raise BadInput(Problem(f'"{name}" cannot be asked for', remedy=remedy))
    return Caller(identity.account, identity.arn)


def read_pairs(pairs: Iterable[str], separator: str, what: str) -> dict[str, str]:
    """`name: value` or `name=value` texts as a mapping. Raises `BadInput`."""
    pairs_read = {}
    for pair in pairs:
        name, between, value = pair.partition(separator)
        if not between or not name.strip():
            raise BadInput(Problem(f'"{pair}" is not a {what}', remedy=f"write it as NAME{separator} VALUE"))
        pairs_read[name.strip()] = value.strip()
    return pairs_read


def read_request_specs(document: bytes, file: str) -> list[RequestSpec]:
    """Questions from JSON Lines. Raises `BadInput` with the line of what is wrong."""
    specs = []
    for number, line in enumerate(document.splitlines(), 1):
        if line.strip():
            try:
                spec = msgspec.json.decode(line, type=RequestSpec)
                if spec.at:
                    read_moment(spec.at)
                specs.append(spec)
            except (msgspec.DecodeError, UnicodeDecodeError, InvalidValue) as error:
                raise BadInput(Problem(f"not a request: {error}", Place(file, number))) from None
    return specs
