"""Values out of a row of an export, by where the layout says that they are, converted to what the field may hold."""

from __future__ import annotations

import re
from collections.abc import Callable
from datetime import UTC, datetime
from typing import Any

from rusty_lantern.core.answer import Answer
from rusty_lantern.core.errors import nearest
from rusty_lantern.core.exports.field_types import FieldType, fields_of
from rusty_lantern.core.exports.json_path import Node, Steps, find, in_general, null_item
from rusty_lantern.core.exports.layout import (
    AS_IT_IS,
    NOTHING,
    UNREAD,
    AllSpec,
    ConstantSpec,
    EachSpec,
    FlagsSpec,
    PartsSpec,
    Spec,
    ValueSpec,
)
from rusty_lantern.core.value_types import DURATION, SIZE, InvalidValue, read_moment

MISSING: Any = object()
"""Nothing is there."""
_ON = {"yes": True, "true": True, "on": True, "1": True, "no": False, "false": False, "off": False, "0": False}
_PERIOD = re.compile(r"P(?:(\d+)Y)?(?:(\d+)W)?(?:(\d+)D)?(?:T(?:(\d+)H)?(?:(\d+)M)?(?:(\d+)S)?)?")
"""A period as ISO 8601 writes it, without months."""
_SIZES = {name for name, _ in SIZE.units}


class Wrong(ValueError):
    """A value that makes no sense: where (a JSON pointer), and why."""

    def __init__(self, node: Node, why: str) -> None:
        super().__init__(f"at {node.pointer}: {why}")


class Unread(Exception):
    """A value that the layout cannot say the meaning of; the field that it belongs to was not read."""


class Maker:
    """Makes the values of one document, and remembers which places of it were looked at."""

    def __init__(self) -> None:
        self.used: set[Steps] = set()
        """Steps to what was taken, places in lists put as `*`."""

    def use(self, node: Node) -> None:
        """Note that a value was taken, with all that is in it."""
        self.used.add(in_general(node.steps))

    def make(self, spec: Spec, kind: FieldType, row: Node) -> Any:
        """The value of a field; `MISSING` where there is none. Raises `Wrong` or `Unread`."""
        if isinstance(spec, ConstantSpec):
            return converted(spec.value, kind, row)
        if isinstance(spec, ValueSpec):
            return self._value(spec, kind, row)
        if isinstance(spec, EachSpec):
            return self._several(spec, kind, row)
        if isinstance(spec, AllSpec):
            return self._all(spec, kind, row)
        if isinstance(spec, FlagsSpec):
            words = [word for word, path in spec.flags if self._is_on(path, row, spec.default)]
            return converted(words, kind, row) if words else MISSING
        made = self._entry(spec, kind.item if kind.form == "list" and kind.item else kind, row)
        return [made] if kind.form == "list" and made is not MISSING else made

    def _all(self, spec: AllSpec, kind: FieldType, row: Node) -> Any:
        """What several say together; of a single value, what the first says that is there."""
        made = (self.make(one, kind, row) for one in spec.items)
        if kind.form == "list":
            return _joined(list(made))
        return next((value for value in made if value is not MISSING), MISSING)

    def _is_on(self, path: str, row: Node, default: bool | None) -> bool:
        node = next(find(path, row), None)
        if node is None and default is None:
            raise Unread(f"the export does not say whether {path} is on")
        if node is None:
            return bool(default)
        self.use(node)
        return _switch(node.value, node)

    def _several(self, spec: EachSpec, kind: FieldType, row: Node) -> Any:
        item = kind.item if kind.form == "list" and kind.item else kind
        values: list[Any] = []
        if (null := null_item(spec.path, row)) is not None:
            raise Wrong(null, "null is here, where an item of a list is wanted")
        for node in find(spec.path, row):
            if not isinstance(node.value, dict | list):
                self.use(node)
            nested = isinstance(spec.of, EachSpec | AllSpec | FlagsSpec)
            made = self.make(spec.of, kind if nested else item, node)
            if made is not MISSING:
                values += made if isinstance(made, list) else [made]
        return values or MISSING

    def _entry(self, spec: PartsSpec, kind: FieldType, row: Node) -> Any:
        """An entry of its fields; missing where none of them but constants is there."""
        made, any_there = self.parts(spec, kind, row)
        if any(isinstance(part, FlagsSpec) and name not in made for name, part in spec.parts):
            return MISSING  # none of its flags is on
        if not any_there and not all(isinstance(part, ConstantSpec) for _, part in spec.parts):
            return MISSING
        return built(kind, made, row)

    def parts(self, spec: PartsSpec, kind: FieldType, row: Node) -> tuple[dict[str, Any], bool]:
        """Field → value, and whether any of them is no constant."""
        assert kind.entry is not None
        types = fields_of(kind.entry)
        made: dict[str, Any] = {}
        any_there = False
        for name, part in spec.parts:
            if name.startswith("*"):
                joined = self._joined_entry(part, types, row)
                made |= joined
                any_there = any_there or bool(joined)
                continue
            value = self.make(part, types[name], row)
            if value is not MISSING:
                made[name] = value
                any_there = any_there or not isinstance(part, ConstantSpec)
        return made, any_there

    def _joined_entry(self, spec: Spec, types: dict[str, FieldType], row: Node) -> dict[str, Any]:
        """The fields of an entry that a word represents."""
        if not isinstance(spec, ValueSpec):
            raise Wrong(row, "what is joined under * is a value with words")
        nodes = list(find(spec.at, row))
        if not nodes:
            return {}
        self.use(nodes[0])
        word = self._word(spec, nodes[0])
        if word is MISSING:
            return {}
        if not isinstance(word, dict):
            raise Wrong(nodes[0], f'the layout has no fields for "{str(nodes[0].value)[:60]}"')
        return {name: converted(value, types[name], nodes[0]) for name, value in word.items() if name in types}

    def _value(self, spec: ValueSpec, kind: FieldType, row: Node) -> Any:
        nodes = [node for node in find(spec.at, row) if node.value != ""]
        if spec.present is None or not nodes or not isinstance(nodes[0].value, dict | list):
            for node in nodes:
                self.use(node)
        if spec.pattern:
            nodes = [matched for node in nodes if (matched := _matched(spec, node)) is not None]
        if not nodes and spec.default == UNREAD:
            raise Unread(f"the export does not say {spec.at}")
        if not nodes:
            return MISSING if spec.default is None else converted(spec.default, kind, row)
        if spec.present is not None:
            return converted(spec.present, kind, nodes[0])
        if kind.form == "list" and not isinstance(nodes[0].value, list):
            return _joined([self._listed(spec, kind, node) for node in nodes])
        if len(nodes) > 1 and spec.take:
            values = [value for node in nodes if (value := self._one(spec, kind, node)) is not MISSING]
            return _TAKES[spec.take](values) if values else MISSING
        if len(nodes) > 1:
            raise Wrong(nodes[1], f"one value is wanted, and {spec.at} finds {len(nodes)}")
        return self._one(spec, kind, nodes[0])

    def _listed(self, spec: ValueSpec, kind: FieldType, node: Node) -> Any:
        """One of several values of a list; its word may represent a list."""
        assert kind.item is not None
        word = self._word(spec, node)
        if word is MISSING:
            return MISSING
        if isinstance(word, list):
            return converted(word, kind, node)
        return [self._measured(spec, word, kind.item, node)]

    def _one(self, spec: ValueSpec, kind: FieldType, node: Node) -> Any:
        if isinstance(node.value, list) and kind.form == "list":
            inner = [Node(value, (*node.steps, number), node.root) for number, value in enumerate(node.value)]
            return _joined([self._listed(spec, kind, one) for one in inner])
        word = self._word(spec, node)
        return MISSING if word is MISSING else self._measured(spec, word, kind, node)

    def _word(self, spec: ValueSpec, node: Node) -> Any:
        """Our word for theirs. Raises `Unread` or `Wrong` for one that the layout does not have."""
        if not spec.words:
            return node.value
        theirs = _shown(node.value)
        for word, ours in spec.words:
            if word == theirs:
                return ours
            if word.endswith("*") and theirs.startswith(word[:-1]):
                return _filled(ours, theirs[len(word) - 1 :])
        if spec.otherwise == UNREAD:
            raise Unread(f'the layout has no word for "{theirs[:80]}" (at {node.pointer})')
        if spec.otherwise in (AS_IT_IS, NOTHING):
            return node.value if spec.otherwise == AS_IT_IS else MISSING
        if spec.otherwise is not None:
            return spec.otherwise
        known = [word for word, _ in spec.words]
        hint = nearest(theirs, known) or f"known: {', '.join(known)}"
        raise Wrong(node, f'"{theirs[:80]}" is not one of the words of the layout; {hint}')

    def _measured(self, spec: ValueSpec, word: Any, kind: FieldType, node: Node) -> Any:
        if spec.unit and kind.form == "whole":
            return _quantity(word, spec.unit, node)
        if spec.form and kind.form == "moment":
            return _dated(word, spec.form, node)
        return converted(word, kind, node)


_TAKES: dict[str, Callable[[list[Any]], Any]] = {
    "first": lambda values: values[0], "last": lambda values: values[-1], "largest": max, "smallest": min,
}  # fmt: skip


def _matched(spec: ValueSpec, node: Node) -> Node | None:
    """A value as its pattern takes it; None where it does not match and the layout says that this is nothing."""
    match = re.search(spec.pattern, _shown(node.value))
    if match is None and spec.otherwise != NOTHING:
        raise Wrong(node, f'"{_shown(node.value)[:80]}" is not as the pattern {spec.pattern} has it')
    if match is None:
        return None
    return Node(match[1] if match.re.groups else node.value, node.steps, node.root)


def _joined(values: list[Any]) -> Any:
    known = [value for value in values if value is not MISSING]
    if not known:
        return MISSING
    return [one for value in known for one in (value if isinstance(value, list) else [value])]


def _filled(ours: Any, rest: str) -> Any:
    """Our word with what follows the beginning of theirs in the place of `*`."""
    if isinstance(ours, dict):
        return {name: _filled(value, rest) for name, value in ours.items()}
    return ours.replace("*", rest) if isinstance(ours, str) else ours


def _shown(value: Any) -> str:
    return str(value).lower() if isinstance(value, bool) else str(value)


def built(kind: FieldType, fields: dict[str, Any], row: Node, states: dict[str, Answer[Any]] | None = None) -> Any:
    """An entry with its fields; those with a state get it. Raises `Wrong` where a field is missing that it needs."""
    assert kind.entry is not None
    types = fields_of(kind.entry)
    answers = {name: Answer("known", value) if types[name].answer else value for name, value in fields.items()}
    try:
        return kind.entry(**(states or {}) | answers)
    except TypeError as error:
        missing = re.search(r"argument '(\w+)'", str(error))
        raise Wrong(row, f'"{missing[1] if missing else "something"}" is missing here') from None


def converted(value: Any, kind: FieldType, node: Node) -> Any:
    """A value as the field holds it. Raises `Wrong`."""
    if kind.form == "list":
        assert kind.item is not None
        return [converted(one, kind.item, node) for one in (value if isinstance(value, list) else [value])]
    if kind.form == "entry":
        if not isinstance(value, dict) or kind.entry is None:
            raise Wrong(node, f"{_kind_of(value)} is here, and an entry with fields is needed")
        types = fields_of(kind.entry)
        unknown = next((name for name in value if name not in types), None)
        if unknown is not None:
            raise Wrong(node, f'the layout gives a field that there is not: "{unknown}"')
        return built(kind, {name: converted(one, types[name], node) for name, one in value.items()}, node)
    return _CONVERTERS[kind.form](value, node) if kind.form != "choice" else _choice(value, kind.options, node)


def _choice(value: Any, options: tuple[str, ...], node: Node) -> str:
    text = _shown(value)
    if text not in options:
        hint = nearest(text, options) or f"one of {', '.join(one or '(empty)' for one in options)}"
        raise Wrong(node, f'"{text[:80]}" is not one of the words allowed here; {hint}; words: {{THEIRS: OURS}}')
    return text


def _text(value: Any, node: Node) -> str:
    if isinstance(value, dict | list):
        raise Wrong(node, f"a text is wanted, and this is {_kind_of(value)}")
    return _shown(value)


def _whole(value: Any, node: Node) -> int:
    text = _shown(value)
    if not re.fullmatch(r"[0-9]{1,18}(\.0+)?", text):
        raise Wrong(node, f'"{text[:80]}" is no whole number')
    return int(text.partition(".")[0])


def _switch(value: Any, node: Node) -> bool:
    text = _shown(value).lower()
    if text not in _ON:
        raise Wrong(node, f'"{text[:80]}" is neither yes nor no; words: {{THEIRS: "yes"}}')
    return _ON[text]


def _moment(value: Any, node: Node) -> datetime:
    try:
        return read_moment(_shown(value))
    except InvalidValue as error:
        raise Wrong(node, f"{error}; form: seconds, milliseconds, or a pattern says how it is written") from None


def _mapping(value: Any, node: Node) -> dict[str, str]:
    if not isinstance(value, dict):
        raise Wrong(node, f"names with values are wanted, and this is {_kind_of(value)}")
    return {str(name): _text(one, node) for name, one in value.items() if one is not None}


_CONVERTERS: dict[str, Callable[[Any, Node], Any]] = {
    "text": _text, "whole": _whole, "switch": _switch, "moment": _moment, "mapping": _mapping,
}  # fmt: skip


def _quantity(value: Any, unit: str, node: Node) -> int:
    """Seconds or bytes of a number in some unit, or of a period that says its unit itself."""
    text = _shown(value).strip()
    period = _PERIOD.fullmatch(text)
    if period is not None and any(period.groups()):
        sizes = (365 * 86_400, 7 * 86_400, 86_400, 3_600, 60, 1)
        return sum(int(number or 0) * size for number, size in zip(period.groups(), sizes, strict=True))
    scale = SIZE if unit in _SIZES or unit.removesuffix("s") in _SIZES else DURATION
    try:
        return int(str(scale.read(f"{text.removesuffix('s')} {unit}")))
    except InvalidValue as error:
        raise Wrong(node, str(error)) from None


def _dated(value: Any, form: str, node: Node) -> datetime:
    text = _shown(value)
    try:
        if form in ("seconds", "milliseconds"):
            return datetime.fromtimestamp(float(text) / (1000 if form == "milliseconds" else 1), UTC)
        moment = datetime.strptime(text, form)  # noqa: DTZ007  (UTC where it names no zone)
        return moment if moment.tzinfo else moment.replace(tzinfo=UTC)
    except (ValueError, OverflowError, OSError):
        raise Wrong(node, f'"{text[:80]}" is not a date written as {form}') from None


def _kind_of(value: Any) -> str:
    return {"dict": "a mapping", "list": "a list", "bool": "yes or no"}.get(type(value).__name__, "a plain value")
