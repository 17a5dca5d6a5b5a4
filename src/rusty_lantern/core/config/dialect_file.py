"""A dialect in a file of the workspace, `dialects/NAME.yaml`: how software that is not known here reads policies.

```yaml
dialect: marsh-9
title: the marsh store, release 9
measured-on: ["9."]
readings:
  not-action-matches-nothing: on
  never-carried: [aws:userid]
  always-carried: {aws:principaltype: User}
  name-of-nobody: anonymous
  covered-by: {s3:AbortMultipartUpload: s3:PutObject}
```
"""

from __future__ import annotations

from typing import Any

from rusty_lantern.core.errors import ProblemList
from rusty_lantern.core.model.dialect import Dialect, Readings
from rusty_lantern.core.yaml_source import FieldReader, Node, read_nodes

_SWITCHES = tuple(
    field for field, default in zip(Readings.__struct_fields__, Readings.__struct_defaults__, strict=True)
    if default is False
)  # fmt: skip
_TEXTS = ("name_of_nobody", "unsigned_callers_are_the_user")
_OF_KEYS = (
    "never_carried", "carried_by_all", "carried_by_signed", "empty_is_absent", "absent_is_empty", "empty_of_unsigned",
    "sent_with_any",
)  # fmt: skip
"""Lists of condition keys, which are compared without regard to case."""
_OF_ACTIONS = ("tags_decide_more", "payer_not_asked")
_BY_KEY = ("always_carried", "usual_and_most")
"""A condition key → its value."""
_BY_ACTION = ("decided_as", "covered_by", "own_covered_by")
"""An action → another."""


def read_dialect(document: str, file: str) -> Dialect:
    """Read one dialect. Raises `BadInput` with everything that is wrong with it."""
    complaints = ProblemList()
    reader = FieldReader(complaints)
    top = reader.fields(read_nodes(document, file), ("dialect", "title", "measured-on", "readings"), "a dialect")
    name = reader.text(top.get("dialect"), "dialect")
    measured = tuple(item.text or "" for item in reader.texts(top.get("measured-on"), "measured-on"))
    readings = _readings(reader, top["readings"]) if "readings" in top else Readings()
    complaints.settle()
    return Dialect(name, reader.text(top.get("title"), "title", name), measured, readings)


def _readings(reader: FieldReader, node: Node) -> Readings:
    every = (*_SWITCHES, *_TEXTS, *_OF_KEYS, *_OF_ACTIONS, *_BY_KEY, *_BY_ACTION)
    names = {field.replace("_", "-"): field for field in every}
    fields = reader.fields(node, tuple(names), "readings")
    return Readings(**{names[name]: _reading(reader, names[name], name, written) for name, written in fields.items()})


def _reading(reader: FieldReader, field: str, name: str, written: Node) -> Any:
    if field in _SWITCHES:
        return reader.choice(written, name, ("on", "off"), "off") == "on"
    if field in _TEXTS:
        return reader.text(written, name)
    if field in (*_BY_KEY, *_BY_ACTION):
        pairs = [(key.text or "", value) for key, value in reader.entries(written, name)]
        if field == "usual_and_most":
            return tuple((key.lower(), str(reader.whole(value, f"{name} of {key}", 0))) for key, value in pairs)
        as_key = str.lower if field in _BY_KEY else str
        return tuple((as_key(key), reader.text(value, f"{name} of {key}")) for key, value in pairs)
    texts = tuple(item.text or "" for item in reader.texts(written, name))
    return texts if field in _OF_ACTIONS else tuple(map(str.lower, texts))
