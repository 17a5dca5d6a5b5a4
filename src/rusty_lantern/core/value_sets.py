"""The scales of facts that are sets: of a few known words, and of names."""

from __future__ import annotations

import json
import re
from collections.abc import Iterable

import msgspec

from rusty_lantern.core.errors import nearest
from rusty_lantern.core.value_types import InvalidValue, Value


class WordSet(msgspec.Struct, frozen=True):
    """Some of a few named words, in their order; `nothing` where there are none."""

    words: tuple[str, ...]
    ordered: bool = False
    numeric: bool = False

    @property
    def name(self) -> str:
        """What it may hold."""
        return "some of " + ", ".join(self.words)

    def read(self, text: str) -> Value:
        """Words separated by spaces."""
        written = [] if text == "nothing" else text.split()
        for word in written:
            if word not in self.words:
                hint = nearest(word, self.words)
                known = ", ".join((*self.words, "nothing"))
                raise InvalidValue(f'"{word}" is none of {known}' + (f"; {hint}" if hint else ""))
        return " ".join(word for word in self.words if word in written)

    def show(self, value: Value) -> str:
        """The words, or `nothing`."""
        return str(value) or "nothing"

    def rank(self, value: Value) -> int:
        """Sets of words have no order here."""
        raise TypeError("not ordered")

    def members(self, value: Value) -> frozenset[str]:
        """The words, one by one."""
        return frozenset(str(value).split())

    def fits(self, member: str, allowed: str) -> bool:
        """Whether a word is the one that is written."""
        return member == allowed


class NameSet(msgspec.Struct, frozen=True):
    """A set of names, joined by commas in their order; `nobody` where there are none. A name with a comma or a
    quotation mark in it is put in quotation marks."""

    name: str = "set of names"
    ordered: bool = False
    numeric: bool = False

    def read(self, text: str) -> Value:
        """Names separated by commas.

        >>> NAMES.read('tide-reader, "ann, of the boats", account root'), NAMES.read("nobody")
        ('"ann, of the boats", account root, tide-reader', '')
        """
        if text == "nobody":
            return ""
        try:
            if _NAMES.fullmatch(text.strip()):
                return self.join(self.members(text))
        except ValueError:
            pass
        rule = "separate names by commas; put a name that has a comma or a quotation mark in quotation marks"
        raise InvalidValue(f'"{text}" is no set of names: {rule}')

    def show(self, value: Value) -> str:
        """The names, or `nobody`."""
        return str(value) or "nobody"

    def rank(self, value: Value) -> int:
        """Sets of names have no order here."""
        raise TypeError("not ordered")

    def join(self, names: Iterable[str]) -> str:
        """A set of names as a value."""
        return ", ".join(sorted(_quoted(name) for name in names))

    def members(self, value: Value) -> frozenset[str]:
        """The names, one by one."""
        return frozenset(json.loads(one) if one[0] == '"' else one for one in _ONE_NAME.findall(str(value)))

    def fits(self, member: str, allowed: str) -> bool:
        """Whether a name is the one that is written, in which `*` is anything.

        >>> NAMES.fits("gate-auditor", "*-auditor"), NAMES.fits("a[b]", "a[b]")
        (True, True)
        """
        pieces = (re.escape(piece) for piece in allowed.split("*"))
        return re.fullmatch("[^\0]*".join(pieces), member) is not None


def _quoted(name: str) -> str:
    plain = name and not set('",') & set(name) and name == name.strip() and name != "nobody"
    return name if plain else json.dumps(name, ensure_ascii=False)


_ONE_NAME = re.compile(r'"(?:[^"\\]|\\.)*"|[^\s,"](?:[^,"]*[^\s,"])?')
_NAMES = re.compile(rf"(?:{_ONE_NAME.pattern})(?:\s*,\s*(?:{_ONE_NAME.pattern}))*")


NAMES = NameSet()
