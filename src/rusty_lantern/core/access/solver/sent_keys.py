"""How condition keys stand in a request as it is sent: as parameters, as headers, or not at all."""

from __future__ import annotations

from functools import lru_cache
from typing import Literal, NamedTuple

from rusty_lantern.core.access.evaluator.request import Request
from rusty_lantern.core.access.policy.condition_keys import (
    ADDRESS_PARAMETER,
    FORWARDED,
    IS_SERVICE,
    PARAMETER,
    POINT_ACCOUNT,
    POINT_ARN,
    POINT_ORIGIN,
    REFERER_HOST,
    SERVICE_NAME,
    SEVERAL,
)

_HEADERS = {
    "aws:referer": "Referer",
    REFERER_HOST: "Referer",
    "aws:useragent": "User-Agent",
    "s3:object-lock-mode": "x-amz-object-lock-mode",
    FORWARDED: "X-Forwarded-For",
}
_PARAMETERS = {
    "s3:prefix": "prefix", "s3:delimiter": "delimiter", "s3:max-keys": "max-keys", ADDRESS_PARAMETER: "SourceIp",
}  # fmt: skip
_THROUGH = {POINT_ARN: "through the access point", SERVICE_NAME: "through the service"}
_ELSEWHERE = (
    "aws:sourceip", "aws:securetransport", "aws:currenttime", "aws:epochtime", "s3:versionid", SEVERAL, POINT_ACCOUNT,
    POINT_ORIGIN, IS_SERVICE,
)  # fmt: skip


def parameter_name(key: str) -> str:
    """The parameter that a key stands for, in the letters that a server expects.

    >>> parameter_name("parameter/useragent"), parameter_name("parameter/username")
    ('UserAgent', 'username')
    """
    name = key.removeprefix(PARAMETER)
    return _IN_THESE_LETTERS.get(name, name)


_IN_THESE_LETTERS = {
    "referer": "Referer", "useragent": "UserAgent", "authtype": "authType", "locationconstraint": "LocationConstraint",
}  # fmt: skip


ShownAs = Literal["header", "parameter", "other", "elsewhere"]
"""Where a request as it is written out has a condition key; `elsewhere`: not with the keys, or in the address."""


@lru_cache(maxsize=1_024)
def shown_as(name: str) -> tuple[ShownAs, str]:
    """Where a condition key is shown, and what it is called there."""
    if name.startswith(PARAMETER):
        return "parameter", parameter_name(name)
    if name in _PARAMETERS:
        return "parameter", _PARAMETERS[name]
    if name in _THROUGH:
        return "other", _THROUGH[name]
    if name in _HEADERS or name.startswith("s3:x-amz-"):
        return "header", _HEADERS.get(name, name.removeprefix("s3:"))
    return ("elsewhere" if name in _ELSEWHERE else "other"), name


class SentWith(NamedTuple):
    """What a request carries beside its method and path."""

    parameters: dict[str, str]
    headers: dict[str, str]


def sent_with(request: Request) -> SentWith:
    """What the condition keys of a request are sent as. Names of headers are in lower case."""
    sent = SentWith({}, {})
    for key, values in request.context.items():
        part, name = shown_as(key)
        if part == "parameter":
            sent.parameters[name] = values[0]
        elif part == "header" and key != FORWARDED:
            sent.headers[name.lower()] = f"http://{values[0]}/" if key == REFERER_HOST else values[0]
    return sent
