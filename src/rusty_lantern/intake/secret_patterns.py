"""Key material lying in configuration files, found by its form. A finding is reported by its place and never repeated.

Three forms: a private key's armour; the secret half of an access key (40 characters of base64, mixed and dense enough
to be random) near a word that says so; a value that a configuration gives to a name that says so.
"""

from __future__ import annotations

import math
import re
from collections import Counter
from collections.abc import Iterator

import msgspec

LONGEST_LINE, OVERLAP = 4_096, 512
_ARMOUR = re.compile(r"-----BEGIN (?:[A-Z]+ )*PRIVATE KEY-----")
_TELLING = r"(?:secret|password|passwd|passphrase|private[_-]?key|api[_-]?key|auth[_-]?token|bearer|sas[_-]?token)"
_NAMED = re.compile(
    rf"""(?=[sSpPaAbB\u017f])(?i:({_TELLING}[\w.-]{{0,40}})["']?\s*(?:=>|[:=])\s*["']?([^\s"',;#]{{8,200}}))"""
)
"""A name that says so, from the word that does, and its value."""
_BEFORE = re.compile(r"[\w.-]{0,40}\Z")
_WORDS = ("secret", "password", "passwd", "passphrase", "private", "api", "auth", "bearer", "sas")
"""One of them is in every text with such a name: most texts have none, and are not looked at by the pattern."""
_KEY_ID = re.compile(r"\b(?=[A-Z0-9]*[0-9])([A-Z][A-Z0-9]{15,31})\b")
_SECRET = re.compile(r"(?<![A-Za-z0-9/+=])([A-Za-z0-9/+]{40})(?![A-Za-z0-9/+=])")
_PLACEHOLDER = re.compile(
    r"(?i)^(?:\$|<|\{|%|env[:.]|file[:.]|vault[:.]|example|changeme|xxx|\*\*\*|null|none|true|false)"
)
DENSE = 3.6
"""Bits of entropy a character, from which on a text of 16 or more is taken for random."""


class Leak(msgspec.Struct, frozen=True):
    """A place of key material: line from 1, what it looks like, and the access key's id if one is close by."""

    line: int
    what: str
    key_id: str = ""


def find_leaks(lines: Iterator[str]) -> Iterator[Leak]:
    """Key material in the lines of a file; an access key's id belongs to a secret at most three lines away."""
    last_id, last_line = "", -9
    for number, whole in enumerate(lines, 1):
        named: set[str] = set()
        for line in _pieces(whole):
            found_id = _KEY_ID.search(line)
            if found_id:
                last_id, last_line = found_id[1], number
            for what in _looks_like(line):
                if what not in named:
                    named.add(what)
                    yield Leak(number, what, last_id if number - last_line <= 3 else "")


def _pieces(line: str) -> Iterator[str]:
    """A line in pieces that overlap by the longest thing that is looked for: some files are one line. Where a piece
    is cut stands `=`, which no secret is next to, so that none is taken for whole that is not."""
    for at in range(0, max(1, len(line) - OVERLAP), LONGEST_LINE - OVERLAP):
        end = at + LONGEST_LINE
        yield "=" * (at > 0) + line[at:end] + "=" * (end < len(line))


def _looks_like(line: str) -> Iterator[str]:
    """What a line has, the plainest form first; of a form that says the same twice, one."""
    if _ARMOUR.search(line):
        yield "a private key"
        return
    telling = re.search(r"(?i)secret|key", line) is not None
    if any(_random(one[1]) and (telling or re.search("[+/]", one[1])) for one in _SECRET.finditer(line)):
        yield "the secret of an access key"
        return
    for named in _NAMED.finditer(line) if _may_name(line) else ():
        if not _PLACEHOLDER.match(named[2]) and _entropy(named[2]) >= min(DENSE, 0.2 * len(named[2]) + 0.9):
            before = _BEFORE.search(line, max(0, named.start() - 40), named.start())
            yield f"a value for {((before[0] if before else '') + named[1])[:40]}"


def _may_name(text: str) -> bool:
    folded = text.casefold()
    return any(word in folded for word in _WORDS)


REMOVED = "(left out: it looks like a secret)"
"""Stands for a secret that a store itself shows."""
_BLOCK = re.compile(r"-----BEGIN (?:[A-Z]+ )*PRIVATE KEY-----.*?(?:-----END (?:[A-Z]+ )*PRIVATE KEY-----|$)", re.DOTALL)


def is_telling(name: str) -> bool:
    """Whether a name says that its value is a secret.

    >>> is_telling("db-password"), is_telling("x-amz-meta-api_key"), is_telling("steward")
    (True, True, False)
    """
    return re.search(f"(?i){_TELLING}", name) is not None


def without_secrets(text: str) -> str:
    """A text with everything that looks like key material replaced by `REMOVED`.

    >>> without_secrets('{"Sid": "password=Tr0ub4dor-and-3"}')
    '{"Sid": "password=(left out: it looks like a secret)"}'
    >>> without_secrets("secret_Tr0ub4dor-and-3: Tr0ub4dor-and-3")
    'secret_Tr0ub4dor-and-3: (left out: it looks like a secret)'
    """
    cleaned = _BLOCK.sub(REMOVED, text)

    def named(match: re.Match[str]) -> str:
        value = re.split(r"[<>&}\]\\]", match[2])[0]
        if len(value) < 8:
            return match[0]
        if _PLACEHOLDER.match(value) or not _chosen(value) or REMOVED.startswith(value):
            return match[0]
        begins = match.start(2) - match.start()
        return f"{match[0][:begins]}{REMOVED}{match[0][begins + len(value) :]}"

    cleaned = _NAMED.sub(named, cleaned) if _may_name(cleaned) else cleaned
    dense = re.search(r"(?i)secret|key", cleaned) is not None
    return _SECRET.sub(
        lambda one: REMOVED if _random(one[1]) and (dense or re.search("[+/]", one[1])) else one[0], cleaned
    )


def _chosen(value: str) -> bool:
    """Whether a text looks like a password that somebody chose: signs of three kinds at least, or as good as random."""
    kinds = sum(re.search(kind, value) is not None for kind in ("[a-z]", "[A-Z]", "[0-9]", "[^A-Za-z0-9]"))
    return kinds >= 3 or _entropy(value) >= min(DENSE, 0.2 * len(value) + 0.9)


def _random(text: str) -> bool:
    shared_by_admin_and_app = re.search("[a-z]", text) and re.search("[A-Z]", text) and re.search("[0-9]", text)
    return bool(shared_by_admin_and_app) and _entropy(text) >= DENSE


def _entropy(text: str) -> float:
    """Bits a character, by how often each is in the text.

    >>> _entropy("aaaa"), _entropy("abcd")
    (0.0, 2.0)
    """
    counts = Counter(text).values()
    return -sum(n / len(text) * math.log2(n / len(text)) for n in counts) + 0.0
