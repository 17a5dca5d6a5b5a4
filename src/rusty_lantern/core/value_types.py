"""The scales on which facts are measured: how a value is written, read, ordered and shown.

A scale turns the text of a baseline into a value (`read`), and a value into text for a person (`show`).
A value read from what `show` printed is the same value. Values of ordered scales compare with `rank`.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from datetime import UTC, datetime
from decimal import Decimal, InvalidOperation
from typing import Protocol

import msgspec

from rusty_lantern.core.errors import nearest

Value = str | int | datetime
"""What a fact's value may be: a word or text, a whole number (count, bytes, seconds), or a moment in UTC."""


class InvalidValue(ValueError):
    """The text is no value of this scale; the message says what would be."""


class Scale(Protocol):
    """One way to measure a fact."""

    @property
    def name(self) -> str:
        """A word or two for the reference page."""

    @property
    def ordered(self) -> bool:
        """Whether `at least` and `at most` mean anything here."""

    @property
    def numeric(self) -> bool:
        """Whether values are quantities."""

    def read(self, text: str) -> Value:
        """The value that `text` names. Raises `InvalidValue`."""

    def show(self, value: Value) -> str:
        """The value in words."""

    def rank(self, value: Value) -> int | float:
        """The rank of an ordered value."""


class Levels(msgspec.Struct, frozen=True):
    """A few named levels, weakest first where they are ordered."""

    levels: tuple[str, ...]
    ordered: bool = False
    numeric: bool = False

    @property
    def name(self) -> str:
        """The levels, joined by `<` where they are ordered."""
        return (" < " if self.ordered else " · ").join(self.levels)

    def read(self, text: str) -> Value:
        """A level by its name."""
        if text not in self.levels:
            hint = nearest(text, self.levels) if len(self.levels) > 2 else ""  # of two, a guess may be the wrong one
            raise InvalidValue(f'"{text}" is none of {", ".join(self.levels)}' + (f"; {hint}" if hint else ""))
        return text

    def show(self, value: Value) -> str:
        """The level's name."""
        return str(value)

    def rank(self, value: Value) -> int:
        """The level's place in the order."""
        return self.levels.index(str(value))


class Text(msgspec.Struct, frozen=True):
    """Any text."""

    name: str = "text"
    ordered: bool = False
    numeric: bool = False

    def read(self, text: str) -> Value:
        """The text itself."""
        return text

    def show(self, value: Value) -> str:
        """The text itself."""
        return str(value)

    def rank(self, value: Value) -> int:
        """Text has no order here."""
        raise TypeError("text is not ordered")


class Quantity(msgspec.Struct, frozen=True):
    """A whole number of some smallest unit, written with any of the units of its kind."""

    name: str
    units: tuple[tuple[str, int], ...]
    """Unit names with their size in the smallest unit, smallest first; plural forms are understood."""
    bare: bool = False
    """Whether a number without a unit is understood."""
    ordered: bool = True
    numeric: bool = True

    def read(self, text: str) -> Value:
        """A number with its unit, e.g. `30 days`, `20 MB`; or several that are added, e.g. `1 day 6 hours`."""
        parts = re.findall(r"[0-9][0-9_,.]*\s*[A-Za-z]+", text)
        if len(parts) > 1 and "".join(text.split()) == "".join("".join(parts).split()):
            return sum(self._read_one(part) for part in parts)
        return self._read_one(text)

    def _read_one(self, text: str) -> int:
        match = re.fullmatch(r"([0-9][0-9_,]*(?:\.[0-9]+)?)\s*([A-Za-z]*)", text.strip())
        names = ", ".join(unit for unit, _ in self.units)
        if not match:
            raise InvalidValue(f'"{text}" is not a {self.name}' + (f" (a number and one of {names})" if names else ""))
        number, unit = match.groups()
        size = self._size(unit, text, names)
        try:
            value = Decimal(number.replace(",", "").replace("_", "")) * size
        except InvalidOperation:
            raise InvalidValue(f'"{text}" is not a {self.name}') from None
        if value != int(value):
            raise InvalidValue(f'"{text}" is not a whole number of the smallest unit')
        return int(value)

    def _size(self, unit: str, text: str, names: str) -> int:
        if not unit:
            if self.bare:
                return 1
            raise InvalidValue(f'"{text}" needs a unit: one of {names}')
        for known, size in self.units:
            if unit in (known, known + "s") or (len(known) > 1 and unit.lower() == known.lower()):
                return size
        hint = nearest(unit, [name for name, _ in self.units])
        raise InvalidValue(f'"{unit}" is not a unit of {self.name}: {hint or "use one of " + names}')

    def show(self, value: Value) -> str:
        """The value in the largest unit that divides it; where that is none, in several, each less than the next.

        >>> [DURATION.show(number) for number in (90 * DAY, 36 * 3600, 2 * DAY + 90)]
        ['90 days', '36 hours', '2 days 1 minute 30 seconds']
        """
        number = int(value)  # type: ignore[arg-type]
        if not self.units:
            return f"{number:,}"
        if self.name == "size":
            return show_bytes(number)
        for unit, size in reversed(self.units):
            if unit == "week":
                continue  # nobody writes 35 days as 5 weeks
            if number and number % size == 0 and number // size <= _WELL.get(unit, number):
                return _count(number // size, unit)
        return " ".join(self._parts(number)) or _count(0, self.units[0][0])

    def roughly(self, value: Value) -> str:
        """A duration in its two largest units, for what grows by itself.

        >>> DURATION.roughly(2025 * DAY + 3 * 3600 + 5), DURATION.roughly(90 * DAY)
        ('2,025 days 3 hours', '90 days')
        """
        exact = self.show(value)
        parts = list(self._parts(int(value)))  # type: ignore[arg-type]
        return " ".join(parts[:2]) if exact == " ".join(parts) else exact

    def _parts(self, number: int) -> Iterator[str]:
        """How many of each unit, the largest first, without weeks and years, which are days to most people."""
        for unit, size in reversed(self.units):
            if unit not in ("week", "year") and number >= size:
                yield _count(number // size, unit)
                number %= size

    def rank(self, value: Value) -> int:
        """The number itself."""
        return int(value)  # type: ignore[arg-type]


_WELL = {"second": 120, "minute": 120, "hour": 96}
"""How many of a unit one still says, instead of so many of the next one and a rest."""


def _count(number: int, unit: str) -> str:
    return f"{number:,} {unit}" + ("s" if number != 1 else "")


class Timestamp(msgspec.Struct, frozen=True):
    """A moment in UTC, written as ISO 8601 date or date and time."""

    name: str = "date"
    ordered: bool = True
    numeric: bool = True

    def read(self, text: str) -> Value:
        """`2026-11-02` (midnight UTC) or `2026-11-02T06:00:00Z`."""
        return read_moment(text)

    def show(self, value: Value) -> str:
        """The date, with the time where it is not midnight."""
        assert isinstance(value, datetime)
        return show_moment(value)

    def rank(self, value: Value) -> float:
        """Seconds since 1970."""
        assert isinstance(value, datetime)
        return value.timestamp()


def read_moment(text: str) -> datetime:
    """A moment in UTC from ISO 8601 text; without an offset it is taken as UTC. Raises `InvalidValue`."""
    try:
        moment = datetime.fromisoformat(text.strip())
        return moment.astimezone(UTC) if moment.tzinfo else moment.replace(tzinfo=UTC)
    except (ValueError, OverflowError):
        raise InvalidValue(f'"{text}" is not a date (2026-11-02 or 2026-11-02T06:00:00Z)') from None


def show_moment(moment: datetime) -> str:
    """ISO 8601 in UTC, to the second; the date alone at midnight.

    >>> show_moment(datetime(2026, 11, 2, 6, 0, tzinfo=UTC))
    '2026-11-02T06:00:00Z'
    """
    text = moment.astimezone(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")
    return text.removesuffix("T00:00:00Z")


def show_bytes(number: int) -> str:
    """A number of bytes in decimal units, three figures.

    >>> show_bytes(20_000_000)
    '20 MB'
    """
    if number < 1000:
        return f"{number} B"
    unit, size = next((u, s) for u, s in reversed(SIZE_UNITS) if len(u) == 2 and number >= s)
    amount = number / size
    places = 2 if amount < 9.995 else 1 if amount < 99.95 else 0
    text = f"{amount:,.{places}f}"
    return f"{text.rstrip('0').rstrip('.') if places else text} {unit}"


SIZE_UNITS: tuple[tuple[str, int], ...] = (
    ("B", 1),
    ("kB", 10**3),
    ("KiB", 2**10),
    ("MB", 10**6),
    ("MiB", 2**20),
    ("GB", 10**9),
    ("GiB", 2**30),
    ("TB", 10**12),
    ("TiB", 2**40),
    ("PB", 10**15),
)

SECOND, DAY = 1, 86_400
YEAR = 365 * DAY
"""The protocol counts a retention year as 365 days."""

SWITCH = Levels(("off", "on"), ordered=True)
TEXT = Text()
COUNT = Quantity("count", (), bare=True)
SIZE = Quantity("size", SIZE_UNITS)
DURATION = Quantity(
    "duration",
    (("second", SECOND), ("minute", 60), ("hour", 3600), ("day", DAY), ("week", 7 * DAY), ("year", YEAR)),
)
MOMENT = Timestamp()


def show_names(names: Sequence[str], most: int = 3) -> str:
    """The first few names, and how many more there are.

    >>> show_names(["a", "b"]), show_names(["a", "b", "c", "d"], 2)
    ('a, b', 'a, b and 2 more')
    """
    more = len(names) - most
    return ", ".join(names[:most]) + (f" and {more:,} more" if more > 0 else "")
