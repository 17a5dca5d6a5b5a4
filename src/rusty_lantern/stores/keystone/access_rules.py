"""What the access rules of an application credential let through to one account of a store.

A rule is a method and a pattern of paths. The store's filter (keystonemiddleware, `auth_token`) compares the pattern
with the path of a request as it is sent, percent-encoded: `*` and `{name}` match one part of it, `**` anything.

Behind that filter no rule is looked at again. So the server itself goes where the credential could not: a request that
*puts* an object may name any other as its source, and one that *deletes* a large object deletes its parts wherever they
are. Both were tried on a real server.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Iterator
from itertools import groupby
from typing import Final, NamedTuple
from urllib.parse import quote, unquote

from rusty_lantern.stores.keystone.documents import AccessRule

PART, ANYTHING, ONE = "part", "anything", "one"
"""Tokens of a pattern that are not a character: one or more characters but `/`; any number; one."""
LONGEST, MOST_WILDCARDS = 1024, 12
"""An access rule that is longer, or has more wildcards, is not looked into."""

_TOKEN: Final = re.compile(r"(?P<part>\{[^}]*\}|\*(?!\*))|(?P<anything>\*\*)|(?P<literal>[^{}*])")
_REGEX_SIGNS = frozenset("?$()[]|+^\\")
_NEVER_ENCODED = "/~!$&'()*+,;=:@"
"""What the filter leaves as it is in the path of a request, beside letters, digits and `_.-`."""
_POLICY = {PART: "?*", ANYTHING: "*", ONE: "?"}

Pattern = tuple[str, ...]


class Methods(NamedTuple):
    """What one method does: to the whole account, to a container, to an object."""

    account: tuple[str, ...] = ()
    container: tuple[str, ...] = ()
    object: tuple[str, ...] = ()


_SETTINGS = ("s3:PutBucketAcl", "s3:PutBucketTagging", "s3:PutBucketVersioning", "s3:PutBucketCORS")
_READ, _DELETE = ("s3:GetObject", "s3:GetObjectVersion"), ("s3:DeleteObject",)
_METHODS = {
    "GET": Methods(container=("s3:ListBucket", "s3:ListBucketVersions", "s3:GetBucketAcl"), object=_READ),
    "HEAD": Methods(container=("s3:GetBucketAcl",)),
    "PUT": Methods(container=("s3:CreateBucket", *_SETTINGS), object=("s3:PutObject",)),
    # a key for temporary URLs, set on the account, opens every container
    "POST": Methods(account=_SETTINGS, container=_SETTINGS, object=("s3:PutObject",)),
    "DELETE": Methods(container=("s3:DeleteBucket",), object=_DELETE),
}


class Place(NamedTuple):
    """What a pattern takes in."""

    account: bool = False
    """The account itself."""
    container: str = ""
    """Containers, as a pattern of a policy; empty: none."""
    key: str = ""
    """Objects of them; empty: none."""
    itself: bool = False
    """The containers themselves, beside their objects."""


class _Unclear(Exception):
    """What a pattern matches is not clear."""


def limited(rules: Iterable[AccessRule], account: str) -> str | None:
    """A policy document that allows what access rules let through to the account; None where one is not understood.

    Source: the Identity API v3, "Application credentials: access rules"; the filter's own `_path_matches`.
    """
    allowed: list[tuple[tuple[str, ...], str]] = []
    objects: dict[str, list[Pattern]] = {}
    try:
        for rule in rules:
            if rule.service != "object-store":
                continue
            pattern = _read(rule.path)
            place = _place(pattern, account)
            if place.key:
                objects.setdefault(rule.method, []).append(pattern)
            allowed += _allowed(_METHODS.get(rule.method, Methods()), place)
    except _Unclear:
        return None
    for other, actions in (("GET", _READ), ("DELETE", _DELETE)):
        if any(_meet(put, one) for put in objects.get("PUT", ()) for one in objects.get(other, ())):
            allowed.append((actions, "*/*"))
    return json.dumps(
        {"Version": "2012-10-17",
         "Statement": [{"Effect": "Allow", "Action": list(actions), "Resource": f"arn:aws:s3:::{resource}"}
                       for actions, resource in dict.fromkeys(allowed)]}
    )  # fmt: skip


def _allowed(does: Methods, place: Place) -> Iterator[tuple[tuple[str, ...], str]]:
    """Actions and the resources that they are allowed on."""
    if place.account and does.account:
        yield does.account, "*"
    if place.itself and does.container:
        yield does.container, place.container
    if place.key and does.object:
        yield does.object, f"{place.container}/{place.key}"


def _read(path: str) -> Pattern:
    """The tokens of a pattern, as the filter has them. A brace that has no other is skipped there."""
    if len(path) > LONGEST:
        raise _Unclear
    tokens = tuple(
        match.lastgroup if match.lastgroup in (PART, ANYTHING) else ONE if match[0] == "." else match[0]
        for match in _TOKEN.finditer(path)
    )
    # the filter puts every other character into a regular expression as it is
    if _REGEX_SIGNS.intersection(tokens) or sum(map(_is_wildcard, tokens)) > MOST_WILDCARDS:
        raise _Unclear
    return tokens


def _place(pattern: Pattern, account: str) -> Place:
    """What a pattern takes in of an account."""
    root = f"/v1/{account}"
    head = _parts(pattern, 3)
    if ANYTHING in head:
        # "/v1/**": what begins before the containers ends nowhere, or is not looked into
        if pattern.index(ANYTHING) != len(pattern) - 1:
            raise _Unclear
        fits = _meet(pattern, tuple(f"{root}/"))
        return Place(account=True, container="*", key="*", itself=True) if fits else Place()
    if not _meet(head, tuple(root)):
        return Place()
    rest = pattern[len(head) + 1 :]
    if not rest:
        return Place(account=True)
    first, slash, keys = _split(rest)
    if ANYTHING in first:
        if rest.index(ANYTHING) != len(rest) - 1:
            raise _Unclear
        named = _policy(first)
        return Place(account=first == (ANYTHING,), container=named, key="*" if named else "", itself=bool(named))
    container, key = _policy(first), _policy(keys) if slash else ""
    if not container:
        return Place()
    itself = not slash or all(token == ANYTHING for token in keys)
    return Place(container=container, key=key, itself=itself)


def _parts(pattern: Pattern, count: int) -> Pattern:
    """The tokens before the slash that follows so many."""
    slashes = [at for at, char in enumerate(pattern) if char == "/"]
    return pattern[: slashes[count - 1]] if len(slashes) >= count else pattern


def _split(pattern: Pattern) -> tuple[Pattern, bool, Pattern]:
    """The text before the first slash, whether there is one, and the text after it."""
    at = pattern.index("/") if "/" in pattern else len(pattern)
    return pattern[:at], at < len(pattern), pattern[at + 1 :]


def _policy(pattern: Pattern) -> str:
    """The same as a pattern of a policy, of names that are not encoded; empty where no request fits.

    A policy's wildcards go beyond a slash: of the keys below `*` it says more than the filter, of a container nothing.
    """
    resources = []
    for wildcard, run in groupby(pattern, _is_wildcard):
        if wildcard:
            resources += [_POLICY[token] for token in run]
            continue
        written = "".join(run)
        name = unquote(written)
        if quote(name, safe=_NEVER_ENCODED) != written:
            return ""
        if {"?", "*"} & set(name):
            raise _Unclear
        resources.append(name)
    return "".join(resources)


def _is_wildcard(token: str) -> bool:
    return len(token) > 1


def _meet(one: Pattern, other: Pattern) -> bool:
    """Whether a path fits both."""
    first, second = _steps(one), _steps(other)
    waiting, seen = [(0, 0)], {(0, 0)}
    while waiting:
        here, there = waiting.pop()
        if here == len(first) and there == len(second):
            return True
        a, b = (steps[at] if at < len(steps) else None for steps, at in ((first, here), (second, there)))
        reached = []
        if a is not None and a.loops:
            reached.append((here + 1, there))
        if b is not None and b.loops:
            reached.append((here, there + 1))
        if a is not None and b is not None and a.shares(b):
            reached.append((here + (not a.loops), there + (not b.loops)))
        waiting += [state for state in reached if state not in seen]
        seen.update(reached)
    return False


class _Step(NamedTuple):
    """One character of a path, or any number of them."""

    char: str
    """Empty: any."""
    slash: bool
    """Whether it may be a slash, where any is meant."""
    loops: bool

    def shares(self, other: _Step) -> bool:
        """Whether one character is right for both."""
        if self.char and other.char:
            return self.char == other.char
        named = self.char or other.char
        return named != "/" or (self.slash if not self.char else other.slash)


_WILDCARDS = {
    PART: (_Step("", slash=False, loops=False), _Step("", slash=False, loops=True)),
    ANYTHING: (_Step("", slash=True, loops=True),),
    ONE: (_Step("", slash=True, loops=False),),
}


def _steps(pattern: Pattern) -> list[_Step]:
    return [step for token in pattern for step in _WILDCARDS.get(token, (_Step(token, slash=True, loops=False),))]
