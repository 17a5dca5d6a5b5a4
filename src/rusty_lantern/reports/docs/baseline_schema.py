"""A JSON Schema of the baseline language, for editors: names and meanings of facts, and the shapes of sheets.

It knows the words, not the rules of each scale: `lantern baseline check` has the last word.
"""

from __future__ import annotations

import re
from typing import Any

from rusty_lantern.core.baseline.loader import SEVERITIES
from rusty_lantern.core.facts.catalogue import REGISTER
from rusty_lantern.core.value_types import Levels

_TEXT: dict[str, Any] = {"type": ["string", "number", "boolean"]}
_NAMES: dict[str, Any] = {"anyOf": [_TEXT, {"type": "array", "items": _TEXT}]}


def schema() -> dict[str, Any]:
    """The schema of `baseline.yaml` and of files that it includes."""
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "A baseline of Rusty Lantern",
        "type": "object",
        "additionalProperties": False,
        "properties": {
            "title": {"type": "string"},
            "edition": _TEXT,
            "longest-waiver": {"type": "string", "description": "how long drift may be waived, as in 180 days"},
            "sensitive": {"$ref": "#/$defs/choice", "description": "whose drift comes first within its severity"},
            "include": {**_NAMES, "description": "files whose sheets come before these"},
            "values": {"type": "object", "additionalProperties": _TEXT, "description": "written $NAME in sheets"},
            "sheets": {"type": "array", "items": {"$ref": "#/$defs/sheet"}},
        },
        "$defs": {"choice": _choice(), "sheet": _sheet(), "requirement": _requirement(), "require": _require()},
    }


def _choice() -> dict[str, Any]:
    own, families = _facts(lambda _: _TEXT, objects=False)
    several = {"type": "array", "items": {"$ref": "#/$defs/choice"}}
    own |= {"name": _NAMES, "store": _NAMES, "any of": several, "all of": several, "not": {"$ref": "#/$defs/choice"}}
    families["^tags\\..+$"] = _NAMES
    return {"type": "object", "additionalProperties": False, "properties": own, "patternProperties": families}


def _sheet() -> dict[str, Any]:
    return {
        "type": "object",
        "additionalProperties": False,
        "required": ["sheet", "require"],
        "properties": {
            "sheet": {"type": "string"},
            "of": {"$ref": "#/$defs/choice"},
            "severity": {"enum": list(SEVERITIES)},
            "off": {"type": "string", "description": "why the sheet is switched off"},
            "require": {"$ref": "#/$defs/require"},
        },
    }


def _requirement() -> dict[str, Any]:
    long = {
        "type": "object",
        "additionalProperties": False,
        "required": ["is"],
        "properties": {
            "is": _TEXT,
            "severity": {"enum": list(SEVERITIES)},
            "because": {"type": "string"},
            "remedy": {"type": "string"},
            "from": _TEXT,
            "until": _TEXT,
            "in-a-sample": {"type": "string"},
        },
    }
    return {"anyOf": [_TEXT, long]}


def _require() -> dict[str, Any]:
    def one(name: str) -> dict[str, Any]:
        entry = REGISTER[name]
        levels = f"; {entry.scale.name}" if isinstance(entry.scale, Levels) else f"; a {entry.scale.name}"
        return {"$ref": "#/$defs/requirement", "description": entry.meaning + levels}

    own, families = _facts(one, objects=True)
    return {"type": "object", "additionalProperties": False, "properties": own, "patternProperties": families}


def _facts(made: Any, *, objects: bool) -> tuple[dict[str, Any], dict[str, Any]]:
    """Facts by name, and families of them by pattern."""
    names = [name for name, entry in REGISTER.items() if objects or entry.subject != "object"]
    own = {name: made(name) for name in names if not name.endswith(".*")}
    families = {f"^{re.escape(name[:-1])}.+$": made(name) for name in names if name.endswith(".*")}
    return own, families
