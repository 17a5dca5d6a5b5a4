"""The entries of a dossier while their fields are gathered from the rows of an export."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from rusty_lantern.core.answer import Answer
from rusty_lantern.core.exports.field_types import FieldType
from rusty_lantern.core.exports.json_path import Node


@dataclass
class Entry:
    """One entry: the row that made it, and what was gathered for it since."""

    row: Node
    file: str
    fields: dict[str, Any] = field(default_factory=dict)
    lost: dict[str, str] = field(default_factory=dict)
    """Field → why it was not read."""
    silent: set[str] = field(default_factory=set)
    """Fields that the layout has a place for, with nothing in it."""
    covered: set[str] = field(default_factory=set)
    """Fields that are not set where a row has nothing."""

    def doubt(self, doubted: dict[str, str], types: dict[str, FieldType]) -> str:
        """Take fields for unread that further rows may add to. Why one cannot be, since it has no state; else empty."""
        for name, why in doubted.items():
            if not types[name].answer:
                return why
            if name not in self.fields or types[name].form == "list":
                self.lost[name] = why
        return ""

    def states(self, types: dict[str, FieldType], covered: set[str]) -> dict[str, Answer[Any]]:
        """The states of fields without a value: what the export covers is absent, what has no word was not read."""
        absent = {name for name in self.covered | covered if name not in self.fields and types[name].answer}
        unsaid: Answer[Any] = Answer("failed", None, "the export does not say")
        states = {name: unsaid for name in self.silent if name not in self.fields}
        states |= {name: Answer("absent") for name in absent}
        for name, why in self.lost.items():
            self.fields.pop(name, None)
            states[name] = Answer("failed", None, why)
        return states


@dataclass
class Section:
    """The entries of one section, by name."""

    entries: dict[str, Entry] = field(default_factory=dict)
    given: bool = False
    """Whether a document was given whose rows are its entries."""
