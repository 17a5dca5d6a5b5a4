"""Minimal documents, one construct each, with the requests that tell readings of it apart.

A row stands for one question to the software: does a document with this construct let this request in? Its name says
which construct and which request; the outcome is compared with what the dialect says.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import quote

ANY = {"Effect": "Allow", "Principal": "*", "Action": "s3:GetObject", "Resource": "arn:aws:s3:::{bucket}/*"}
REFERER, AGENT = "https://a.example/x", "probe"
KEYS = ("pub/x", "priv/z", "deck/x", "pub/a.b.jpg", "pub/a.jpg", "${x}/x", "${aws:username}/x")
"""The keys of the objects that rows ask for."""


@dataclass(frozen=True)
class Row:
    """One document and one request. `{bucket}` in the document stands for the bucket's name."""

    name: str
    statements: tuple[dict[str, Any], ...]
    action: str = "s3:GetObject"
    key: str = "pub/x"
    headers: dict[str, str] = field(default_factory=dict)
    parameters: dict[str, str] = field(default_factory=dict)
    """What a listing asks for: `prefix`, `delimiter`, `max-keys`."""
    signed: bool = False
    version: str = "2012-10-17"


def _documents(condition: dict[str, Any]) -> Iterator[tuple[str, tuple[dict[str, Any], ...]]]:
    yield "Allow", ({**ANY, "Condition": condition},)
    yield "Deny", (ANY, {**ANY, "Effect": "Deny", "Condition": condition})


_TEXT_VALUES: dict[str, tuple[str, ...]] = {
    "one value that fits": (REFERER,),
    "one value that does not": ("https://b.example/x",),
    "two values, one fits": (REFERER, "https://b.example/x"),
    "two values, none fits": ("https://b.example/x", "https://c.example/x"),
}
_TEXTS = ("StringEquals", "StringEqualsIgnoreCase", "StringLike")
_NEGATED = ("StringNotEquals", "StringNotEqualsIgnoreCase", "StringNotLike")
_CARRYING: dict[str, dict[str, str]] = {"carried": {"Referer": REFERER}, "absent": {}}


def texts() -> Iterator[Row]:
    """Text operators, plain and negated, with IfExists and with quantifiers, on a key that is carried or not."""
    for base in (*_TEXTS, *_NEGATED):
        for operator in (base, f"{base}IfExists", f"ForAllValues:{base}", f"ForAnyValue:{base}"):
            for words, values in _TEXT_VALUES.items():
                for effect, document in _documents({operator: {"aws:Referer": list(values)}}):
                    for carried, headers in _CARRYING.items():
                        yield Row(f"{effect} {operator}, {words}, key {carried}", document, headers=headers)


def presence() -> Iterator[Row]:
    """`Null`."""
    for value in ("true", "false"):
        for effect, document in _documents({"Null": {"aws:Referer": value}}):
            for carried, headers in _CARRYING.items():
                yield Row(f"{effect} Null {value}, key {carried}", document, headers=headers)


def switches() -> Iterator[Row]:
    """`Bool` on the transport, over plain http."""
    for operator in ("Bool", "BoolIfExists", "StringEquals", "StringNotEquals"):
        for value in ("true", "false"):
            for effect, document in _documents({operator: {"aws:SecureTransport": value}}):
                yield Row(f"{effect} {operator} {value} on aws:SecureTransport over http", document)


def addresses() -> Iterator[Row]:
    """Networks, which every request carries."""
    for operator in ("IpAddress", "NotIpAddress", "IpAddressIfExists", "NotIpAddressIfExists"):
        for words, values in (
            ("one that fits", ["127.0.0.0/8"]), ("one that does not", ["198.51.100.0/24"]),
            ("two, one fits", ["127.0.0.0/8", "198.51.100.0/24"]),
            ("two, none fits", ["203.0.113.0/24", "198.51.100.0/24"]),
        ):  # fmt: skip
            for effect, document in _documents({operator: {"aws:SourceIp": values}}):
                yield Row(f"{effect} {operator}, {words}", document)


def moments() -> Iterator[Row]:
    """Dates."""
    for operator in ("DateLessThan", "DateGreaterThan", "DateLessThanEquals", "DateGreaterThanEquals", "DateNotEquals"):
        for year in ("2020", "2099"):
            for effect, document in _documents({operator: {"aws:CurrentTime": f"{year}-01-01T00:00:00Z"}}):
                yield Row(f"{effect} {operator} {year}", document)
    for operator in ("NumericLessThan", "NumericGreaterThan"):
        for seconds in ("1577836800", "4070908800"):
            for effect, document in _documents({operator: {"aws:EpochTime": seconds}}):
                yield Row(f"{effect} {operator} aws:EpochTime {seconds}", document)


def several() -> Iterator[Row]:
    """Several operators and several keys in one statement."""
    both = {"StringEquals": {"aws:Referer": REFERER, "aws:UserAgent": AGENT}}
    two = {"StringEquals": {"aws:Referer": REFERER}, "StringLike": {"aws:UserAgent": "pro*"}}
    for words, condition in (("two keys", both), ("two operators", two)):
        for effect, document in _documents(condition):
            for carried, headers in (
                ("both fit", {"Referer": REFERER, "User-Agent": AGENT}),
                ("one fits", {"Referer": REFERER, "User-Agent": "other"}),
                ("neither", {"User-Agent": "other"}),
            ):
                yield Row(f"{effect} {words}, {carried}", document, headers=headers)
    for words, pattern in (("star", "https://a.example/*"), ("mark", "https://?.example/x"), ("case", "HTTPS://A.*")):
        for operator in ("StringLike", "StringNotLike", "StringEquals"):
            for effect, document in _documents({operator: {"aws:Referer": pattern}}):
                yield Row(f"{effect} {operator} with a {words}", document, headers={"Referer": REFERER})


def elements() -> Iterator[Row]:
    """`NotAction`, `NotResource`, `NotPrincipal`, globs, principals, versions of the language."""
    arn = "arn:aws:s3:::{bucket}"
    base: dict[str, Any]
    document: dict[str, Any]
    principal: Any
    for effect in ("Allow", "Deny"):
        first = () if effect == "Allow" else (ANY,)
        base = {"Effect": effect, "Principal": "*", "Action": "s3:GetObject", "Resource": f"{arn}/*"}
        not_action = {**base, "NotAction": "s3:PutObject"}
        del not_action["Action"]
        yield Row(f"{effect} NotAction of another action", (*first, not_action))
        yield Row(f"{effect} NotAction of the action", (*first, {**not_action, "NotAction": "s3:GetObject"}))
        for words, resource in (("another key", f"{arn}/priv/*"), ("the key", f"{arn}/pub/*")):
            document = {**base, "NotResource": resource}
            del document["Resource"]
            yield Row(f"{effect} NotResource of {words}", (*first, document))
        for words, who in (("the caller", "arn:aws:iam:::user/deck"), ("another", "arn:aws:iam:::user/nobody")):
            document = {**base, "NotPrincipal": {"AWS": who}}
            del document["Principal"]
            for signed in (False, True):
                said = "a user" if signed else "nobody"
                yield Row(f"{effect} NotPrincipal {words}, asked by {said}", (*first, document), signed=signed)
        for words, principal in (
            ("star", "*"), ("AWS star", {"AWS": "*"}), ("the user", {"AWS": "arn:aws:iam:::user/deck"}),
            ("another user", {"AWS": "arn:aws:iam:::user/nobody"}), ("the account", {"AWS": "arn:aws:iam:::root"}),
            ("a wildcard in a name", {"AWS": "arn:aws:iam:::user/d*"}), ("a canonical id", {"CanonicalUser": "deck"}),
        ):  # fmt: skip
            for signed in (False, True):
                said = "a user" if signed else "nobody"
                document = {**base, "Principal": principal}
                yield Row(f"{effect} Principal {words}, asked by {said}", (*first, document), signed=signed)
        for words, resource in (
            ("the key", f"{arn}/pub/x"), ("a star", f"{arn}/p*"), ("marks", f"{arn}/pub/?"),
            ("another", f"{arn}/priv/*"),
            ("every bucket", "*"), ("every name", "arn:aws:s3:::*"), ("the bucket alone", arn),
            ("case", f"{arn}/PUB/*"),
            ("a star across slashes", f"{arn}/*x"),
        ):  # fmt: skip
            yield Row(f"{effect} Resource {words}", (*first, {**base, "Resource": resource}))
        for words, action in (
            ("star", "*"), ("s3 star", "s3:*"), ("Get star", "s3:Get*"), ("mark", "s3:GetObjec?"),
            ("case", "S3:getobject"),
            ("star Object", "s3:*Object"), ("another", "s3:PutObject"), ("a star before another", "*:PutObject"),
            ("a star before nothing known", "*Nothing"), ("a star before Object", "*Object"),
        ):  # fmt: skip
            yield Row(f"{effect} Action {words}", (*first, {**base, "Action": action}))
        listing = {**base, "Action": "s3:ListBucket", "Resource": arn}
        yield Row(f"{effect} Action of the bucket, listing", (*first, listing), "s3:ListBucket", "")
    for version in ("2008-10-17", "2012-10-17"):
        named = {**ANY, "Resource": "arn:aws:s3:::{bucket}/${aws:username}/*"}
        yield Row(f"variable in Resource, version {version}", (named,), key="deck/x", signed=True, version=version)


def keys() -> Iterator[Row]:
    """Which keys requests carry: a text operator that takes any value."""
    for signed in (False, True):
        said = "a user" if signed else "nobody"
        for key in (
            "aws:Referer", "aws:UserAgent", "aws:username", "aws:userid", "aws:PrincipalType", "aws:PrincipalArn",
            "aws:PrincipalAccount", "s3:authType", "s3:signatureversion", "s3:ResourceAccount", "aws:RequestedRegion",
            "aws:PrincipalOrgID", "aws:SourceVpce",
            "aws:SourceVpc", "aws:SourceVpcArn", "aws:VpcSourceIp", "aws:SourceArn", "aws:SourceAccount",
            "aws:SourceOwner", "aws:SourceOrgID", "aws:SourceOrgPaths", "aws:ViaAWSService", "aws:CalledVia",
            "aws:CalledViaFirst", "aws:CalledViaLast", "aws:PrincipalOrgPaths", "aws:PrincipalIsAWSService",
            "aws:PrincipalServiceName", "aws:PrincipalServiceNamesList", "aws:ResourceAccount",
            "aws:ResourceOrgID", "aws:ResourceOrgPaths", "aws:VpceAccount", "aws:VpceOrgID", "aws:VpceOrgPaths",
        ):  # fmt: skip
            document = {**ANY, "Condition": {"StringLike": {key: "*"}}}
            yield Row(f"{key} of a read by {said}", (document,), headers={"Referer": REFERER}, signed=signed)
        for key in ("s3:prefix", "s3:delimiter"):
            listing = {**ANY, "Action": "s3:ListBucket", "Resource": "arn:aws:s3:::{bucket}",
                       "Condition": {"StringLike": {key: "*"}}}  # fmt: skip
            yield Row(f"{key} of a listing by {said}", (listing,), "s3:ListBucket", "", signed=signed)


MOMENTS = (
    "2000", "2000-01", "2000-01-01", "2000-01-01T00Z", "2000-01-01T00:00Z", "2000-01-01T00:00:00Z",
    "2000-01-01T00:00:00.5Z", "2000-01-01T00:00:00", "2000-01-01T00:00:00+02:00", "2099-01-01T00:00:00+02:00",
    "2000-01-01T00:00:00z", "2000-01-01t00:00:00Z", "2000-01-01 00:00:00Z", " 2000-01-01", "2000-01-01 ", "20000101",
    "2000-W01-1", "2000-1-1", "1969-12-31", "1970-01-01", "2553-01-01", "2555-01-01", "3000-01-01", "9999-12-31",
    "10000-01-01", "0", " 1", "1 ", "+1", ".5", "1e3", "4070908800", "4070908800.5", "18446744073", "18446744074", "",
    "x",
)  # fmt: skip
NETWORKS = (
    "127.0.0.1", "127.0.0.1/8", "127.0.0.1/32", "127.0.0.1/33", "127.0.0.1/08", "127.0.0.1/", "127.0.0.1/ 8",
    " 127.0.0.1", "127.000.0.1", "127.1", "10.0.0.0/8", "0.0.0.0/0", "::/0", "::/96", "::/97", "::1", "::7f00:1",
    "::ffff:127.0.0.1", "2001:db8::/32", "127.0.0.1/255.0.0.0", "", "x",
)  # fmt: skip
NUMBERS = ("5", "05", "5.0", " 5", "5 ", "+5", "5e0", "6", "-1", "1000", "2000", "", "x")


def forms() -> Iterator[Row]:
    """The forms of moments, networks and numbers, alone and beside another value."""
    for value in MOMENTS:
        for operator in ("DateLessThan", "DateGreaterThan", "DateNotEquals"):
            for effect, document in _documents({operator: {"aws:CurrentTime": value}}):
                yield Row(f"{effect} {operator} '{value}'", document)
    for value in NETWORKS:
        for operator in ("IpAddress", "NotIpAddress"):
            for effect, document in _documents({operator: {"aws:SourceIp": value}}):
                yield Row(f"{effect} {operator} '{value}'", document)
    for operator, key, values in (
        ("DateNotEquals", "aws:CurrentTime", ["2000-01-01", "2099-01-01"]),
        ("DateGreaterThan", "aws:EpochTime", ["x", "2000-01-01"]), ("IpAddress", "aws:SourceIp", ["x", "127.0.0.1"]),
        ("NotIpAddress", "aws:SourceIp", ["x", "127.0.0.1"]),
    ):  # fmt: skip
        for effect, document in _documents({operator: {key: values}}):
            yield Row(f"{effect} {operator} of {key}, two values", document)


def parameters() -> Iterator[Row]:
    """The parameters of a listing: sent, empty, or left away."""
    base = {**ANY, "Action": "s3:ListBucket", "Resource": "arn:aws:s3:::{bucket}"}

    def listings(words: str, condition: dict[str, Any], **asked: str) -> Iterator[Row]:
        named = {**base, "Condition": condition}
        for effect, document in (("Allow", (named,)), ("Deny", (base, {**named, "Effect": "Deny"}))):
            sent = {name.replace("_", "-"): value for name, value in asked.items()}
            yield Row(f"{effect} {words}, asked for {sent}", document, "s3:ListBucket", "", parameters=sent)

    asked: dict[str, str]
    for value, operator in itertools.product(NUMBERS, ("NumericEquals", "NumericNotEquals", "NumericGreaterThan")):
        for asked in ({}, {"max_keys": "5"}, {"max_keys": "2000"}):
            yield from listings(f"{operator} '{value}'", {operator: {"s3:max-keys": value}}, **asked)
    for key in ("s3:prefix", "s3:delimiter", "s3:max-keys"):
        for asked in ({}, {"prefix": "pub/"}, {"prefix": ""}, {"delimiter": ""}, {"max_keys": "5"}):
            for value in ("true", "false"):
                yield from listings(f"Null {value} {key}", {"Null": {key: value}}, **asked)
    for operator in (
        "StringEquals",
        "StringNotEquals",
        "StringLike",
        "StringEqualsIfExists",
        "StringNotEqualsIfExists",
    ):
        for words, values in (("nothing", [""]), ("nothing or pub/", ["", "pub/"]), ("a star", ["*"])):
            for asked in ({}, {"prefix": "pub/"}, {"prefix": ""}, {"prefix": "priv/"}):
                yield from listings(f"{operator} {words}", {operator: {"s3:prefix": values}}, **asked)


def letters() -> Iterator[Row]:
    """Keys in other letters than they are published in, with operators that hold or do not where the key is there."""
    for key in ("aws:SourceIP", "aws:sourceip", "AWS:SourceIp"):
        for operator, network in itertools.product(("IpAddress", "NotIpAddress"), ("127.0.0.0/8", "10.0.0.0/8")):
            for effect, document in _documents({operator: {key: network}}):
                yield Row(f"{effect} {operator} {key} {network}", document)
    for key in ("aws:referer", "aws:REFERER", "AWS:Referer"):
        for operator in ("StringEquals", "StringNotEquals", "StringLikeIfExists", "ForAllValues:StringEquals"):
            for effect, document in _documents({operator: {key: REFERER}}):
                yield Row(f"{effect} {operator} {key}", document, headers={"Referer": REFERER})


def other_requests() -> Iterator[Row]:
    """What a statement about every action says of a read, where its condition is about what only a listing asks for;
    and conditions on the name of whoever asks, which hold where there is none."""
    resources = ["arn:aws:s3:::{bucket}", "arn:aws:s3:::{bucket}/*"]
    whole = {**ANY, "Action": "s3:*", "Resource": resources}
    operators = ("NumericGreaterThan", "NumericLessThan", "NumericGreaterThanIfExists", "NumericNotEquals", "Null")
    both: dict[str, Any] = {"Action": ["s3:GetObject", "s3:ListBucket"]}  # a Deny of more would keep the owner out
    for operator in operators:
        condition = {operator: {"s3:max-keys": "true" if operator == "Null" else "10"}}
        for effect, named in (
            ("Deny", both), ("Deny", {"NotAction": "s3:PutObject"}), ("Allow", both), ("Allow", {"Action": "s3:*"}),
            ("Allow", {"Action": "*Nothing"}), ("Allow", {"NotAction": "s3:PutObject"}),
        ):  # fmt: skip
            [(element, actions)] = named.items()
            rest: dict[str, Any] = {key: value for key, value in whole.items() if key != "Action"} | named
            limited = {**rest, "Effect": effect, "Condition": condition}
            document: tuple[dict[str, Any], ...] = (limited,) if effect == "Allow" else (whole, limited)
            named_as = "Action a star before nothing known" if actions == "*Nothing" else f"{element} {actions}"
            title = f"{effect} {operator} of s3:max-keys, {named_as}"
            yield Row(f"{title}, a read", document)
            yield Row(f"{title}, a listing", document, "s3:ListBucket", "")
            yield Row(f"{title}, a listing of 5", document, "s3:ListBucket", "", parameters={"max-keys": "5"})
    for operator, value in (("Null", "true"), ("Null", "false"), ("StringEqualsIfExists", "nobody-of-that-name")):
        for effect, written in _documents({operator: {"aws:username": value}}):
            for signed in (False, True):
                said = "a user" if signed else "nobody"
                yield Row(f"{effect} {operator} {value} of aws:username, by {said}", written, signed=signed)


PATTERNS = (
    "*.jpg", "pub/*.jpg", "pub/a*.*", "*b*.jpg", "*?jpg", "*?", "?*", "**", "**.jpg", "*.b*", "p*b/a*", "*/a.*",
    "${*}/*", "${?}/*", "pub/${*}",
)  # fmt: skip


def patterns() -> Iterator[Row]:
    """Patterns with stars, which a text may fit in several ways: in resources, and in a condition."""
    for pattern, effect, element in itertools.product(PATTERNS, ("Allow", "Deny"), ("Resource", "NotResource")):
        named = {name: value for name, value in ANY.items() if name != "Resource"}
        named |= {"Effect": effect, element: f"arn:aws:s3:::{{bucket}}/{pattern}"}
        document: tuple[dict[str, Any], ...] = (named,) if effect == "Allow" else (ANY, named)
        for key in (*KEYS[3:6], "pub/x"):
            yield Row(f"{effect} {element} {pattern}, of {key}", document, key=key)
    for pattern, operator in itertools.product(PATTERNS, ("StringLike", "StringNotLike", "StringLikeIfExists")):
        for effect, document in _documents({operator: {"aws:Referer": pattern}}):
            for sent in ("pub/a.b.jpg", "pub/a?jpg", "a*b.jpg", "${x}/x"):
                yield Row(f"{effect} {operator} {pattern}, sent {sent}", document, headers={"Referer": sent})


def variables() -> Iterator[Row]:
    """Variables in the values of a condition: the whole, a part, beside others; where there is a value, or none."""
    user = "${aws:username}"
    for values in ([user], [f"x-{user}"], [user, "deck"], ["x", user], ["${*}"], ["${AWS:username}"], ["x${*}"]):
        for operator in ("StringEquals", "StringNotEquals", "StringLike", "StringEqualsIfExists"):
            for effect, document in _documents({operator: {"aws:Referer": values}}):
                for sent in ("deck", "anonymous", user, "x-deck", f"x-{user}", "${*}", "x${y}", "${AWS:username}"):
                    for signed in (False, True):
                        words = f"{effect} {operator} {values}, sent {sent}, by {'a user' if signed else 'nobody'}"
                        yield Row(words, document, headers={"Referer": sent}, signed=signed)
    named = {**ANY, "Resource": f"arn:aws:s3:::{{bucket}}/{user}/*"}
    for key in ("deck/x", f"{user}/x"):
        yield Row(f"variable in Resource, nobody asks for {key}", (named,), key=key)


def lets_in(send: Callable[..., int], user: tuple[str, str], bucket: str, row: Row) -> bool:
    """Whether a server lets in a row's request. `send`: gives the status of a request; `user`: whose keys sign it."""
    query = "&".join(["list-type=2", *(f"{k}={quote(v, '')}" for k, v in row.parameters.items())])
    listing = row.action == "s3:ListBucket"
    path = f"/{bucket}" + ("" if listing else f"/{quote(row.key)}")
    status = send(user if row.signed else None, "GET", path, query if listing else "", dict(row.headers))
    assert status in (200, 403), (row.name, status)
    return status == 200


def rows(forms_of_each: int = 1) -> list[Row]:
    """Every row; of the many forms of values only one in so many."""
    made = [*texts(), *presence(), *switches(), *addresses(), *moments(), *several(), *elements(), *keys()]
    made += [*letters(), *other_requests()]
    made += [*forms(), *parameters(), *patterns(), *variables()][::forms_of_each]
    assert len({row.name for row in made}) == len(made)
    return made
