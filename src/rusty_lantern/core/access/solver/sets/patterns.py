"""Patterns of texts as tokens: characters and gaps."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from functools import lru_cache

import msgspec


class Gap(msgspec.Struct, frozen=True):
    """A token for any one character, or a run of any, but for those in `stops`."""

    stops: str
    run: bool


# A pattern is a sequence of tokens: a set of accepted characters, or a gap. Resource names are matched part by part,
# so there the gaps do not cross a colon.
ANY, RUN, ANY_PART, RUN_PART = Gap("", run=False), Gap("", run=True), Gap(":", run=False), Gap(":", run=True)


Token = Gap | frozenset[str]


Pattern = tuple[Token, ...]


def stopping(pattern: Pattern, stops: str) -> Pattern:
    """The pattern, its gaps kept from crossing these characters as well."""
    return tuple(
        Gap("".join(sorted({*stops, *token.stops})), run=token.run) if isinstance(token, Gap) else token
        for token in pattern
    )


def glob(pattern: str, *, fold_case: bool = False) -> Pattern:
    """Tokens of a glob: `*` any run, `?` any one character, everything else itself."""
    return _kept_tokens(pattern, fold_case) if len(pattern) <= SHORT else _tokens(pattern, fold_case)


SHORT = 256
"""Characters of a pattern whose tokens are kept: rules of many buckets have the same short ones."""


def _tokens(pattern: str, fold_case: bool) -> Pattern:
    return tuple(_token(char, ANY, RUN, fold_case) for char in _squeeze(pattern))


_kept_tokens = lru_cache(maxsize=4_096)(_tokens)


def early_glob(pattern: str) -> Pattern:
    """Tokens of a glob of which a star ends where the character that follows it first comes.

    >>> early_glob("*.b") == (Gap(".", run=True), frozenset("."), frozenset("b"))
    True
    """
    return _kept_early(pattern) if len(pattern) <= SHORT else ending_early(_unsqueezed(pattern))


def _unsqueezed(pattern: str) -> Pattern:
    return tuple(_token(char, ANY, RUN, False) for char in pattern)


def ending_early(pattern: Pattern) -> Pattern:
    """A pattern whose runs end where what follows them first comes. What follows is a character: a wildcard that
    follows is that character of a text, so of two stars the first one ends at a star."""
    tokens: list[Token] = []
    at = 0
    while at < len(pattern):
        token, at = pattern[at], at + 1
        if token != RUN:
            tokens.append(token)
            continue
        stars = at
        while at < len(pattern) and pattern[at] == RUN:
            at += 1
        if at == len(pattern):
            tokens.append(RUN)
            break
        if at > stars:
            tokens += [Gap("*", run=True), frozenset("*")]
        following = pattern[at]
        stop = frozenset("?") if isinstance(following, Gap) else following
        tokens += [Gap("".join(sorted(stop)), run=True), stop]
        at += 1
    return tuple(tokens)


_kept_early = lru_cache(maxsize=4_096)(lambda pattern: ending_early(_unsqueezed(pattern)))


def resource_glob(pattern: str) -> Pattern:
    """Tokens of a resource name: six parts between colons; a wildcard stays in its part, except in the last."""
    parts = pattern.split(":", 5)
    tokens: list[Token] = []
    for number, part in enumerate(parts):
        last = number == 5
        tokens += [_token(c, ANY if last else ANY_PART, RUN if last else RUN_PART, False) for c in _squeeze(part)]
        if number < len(parts) - 1:
            tokens.append(frozenset(":"))
    return tuple(tokens)


def plain(text: str, *, fold_case: bool = False) -> Pattern:
    """Tokens of a literal text."""
    return tuple(_token(char, frozenset("?"), frozenset("*"), fold_case) for char in text)


def rests(pattern: Pattern, start: str) -> tuple[Pattern, ...]:
    """What a text that matches `pattern` and begins with `start` may go on with; none where no such text begins so.

    >>> rests(glob("photos/*.tif"), "photos/") == (glob("*.tif"),), rests(glob("photos/*"), "maps/")
    (True, ())
    """
    begun = 0
    for char, token in zip(start, pattern, strict=False):
        if isinstance(token, Gap):
            break
        if char not in token:
            return ()
        begun += 1
    places = {begun}
    for char in start[begun:]:
        places = set(_places_after(pattern, places, char))
    return tuple(pattern[place:] for place in sorted(places))


def _places_after(pattern: Pattern, places: Iterable[int], char: str) -> Iterator[int]:
    """The places in a pattern at which one is after one more character; a run may be empty."""
    for place in places:
        for at in range(place, len(pattern)):
            token = pattern[at]
            if not isinstance(token, Gap):
                if char in token:
                    yield at + 1
                break
            if char not in token.stops:
                yield at if token.run else at + 1
            if not token.run:
                break


def may_be_empty(pattern: Pattern) -> bool:
    """Whether the empty text matches."""
    return all(isinstance(token, Gap) and token.run for token in pattern)


def _squeeze(pattern: str) -> str:
    while "**" in pattern:
        pattern = pattern.replace("**", "*")
    return pattern


def _token(char: str, one: Token, run: Token, fold_case: bool) -> Token:
    if char == "*":
        return run
    if char == "?":
        return one
    if fold_case:
        return frozenset(c for c in (char, char.lower(), char.upper()) if len(c) == 1)
    return frozenset(char)
