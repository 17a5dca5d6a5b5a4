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
```
"""

from __future__ import annotations

from rusty_lantern.core.errors import ProblemList
from rusty_lantern.core.model.dialect import Dialect, Readings
from rusty_lantern.core.yaml_source import FieldReader, Node, read_nodes

_SWITCHES = tuple(
    field for field, default in zip(Readings.__struct_fields__, Readings.__struct_defaults__, strict=True)
    if default is False
)  # fmt: skip
_OTHERS = ("never_carried", "always_carried", "name_of_nobody")


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
    names = {field.replace("_", "-"): field for field in (*_SWITCHES, *_OTHERS)}
    fields = reader.fields(node, tuple(names), "readings")
    readings: dict[str, object] = {
        names[name]: reader.choice(fields[name], name, ("on", "off"), "off") == "on"
        for name in fields
        if names[name] in _SWITCHES
    }
    if "never-carried" in fields:
        keys = reader.texts(fields["never-carried"], "never-carried")
        readings["never_carried"] = tuple((item.text or "").lower() for item in keys)
    if "always-carried" in fields:
        pairs = reader.entries(fields["always-carried"], "always-carried")
        readings["always_carried"] = tuple(((key.text or "").lower(), value.text or "") for key, value in pairs)
    if "name-of-nobody" in fields:
        readings["name_of_nobody"] = reader.text(fields["name-of-nobody"], "name-of-nobody")
    return Readings(**readings)  # type: ignore[arg-type]
