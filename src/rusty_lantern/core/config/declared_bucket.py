"""A bucket as somebody declares it: a bucket entry in dossier form, any subset, with plain values.

    name: press-kit
    policy: {Version: "2012-10-17", Statement: [...]}     # or a text, or a list of statements
    grants: [{to: anyone, permission: read}]
    ownership: object-writer
    versioning: {state: on}

By itself, what is not mentioned counts as not configured; laid over a bucket that is there, it stays as it is.
"""

from __future__ import annotations

import json
from typing import Any, get_args, get_type_hints

import msgspec

from rusty_lantern.core.answer import Answer
from rusty_lantern.core.errors import Place, ProblemList, nearest
from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.core.model.bucket_contents import Uploads, Usage, Versions
from rusty_lantern.core.yaml_source import Node, read_nodes

_HINTS = get_type_hints(Bucket)
FIELDS: dict[str, Any] = {name: get_args(_HINTS[name])[0] for name in Bucket.__struct_fields__ if name != "name"}
"""Field → type of its value."""


class DeclaredBucket(msgspec.Struct, frozen=True):
    """A bucket as declared: the settings that are mentioned, and the store, where it is named."""

    name: str
    answers: dict[str, Answer[Any]]
    place: Place
    store: str = ""

    def whole(self) -> Bucket:
        """The bucket by itself: what is not mentioned is not configured."""
        return Bucket(name=self.name, **(dict.fromkeys(FIELDS, _ABSENT) | _EMPTY | self.answers))

    def over(self, bucket: Bucket) -> Bucket:
        """A bucket that is there, with what is mentioned laid over it."""
        return msgspec.structs.replace(bucket, **self.answers)


_ABSENT: Answer[Any] = Answer("absent")
_EMPTY: dict[str, Answer[Any]] = {
    "usage": Answer("known", Usage(0, 0)),
    "versions": Answer("known", Versions(0, 0, 0)),
    "uploads": Answer("known", Uploads(0)),
}
"""What is counted in a bucket that nothing was put into yet."""


def read_declared(document: str, file: str) -> DeclaredBucket:
    """A declared bucket from YAML or JSON text. Raises `BadInput`."""
    complaints = ProblemList()
    bucket = declared(read_nodes(document, file), complaints)
    complaints.settle()
    return bucket


def declared(root: Node, complaints: ProblemList) -> DeclaredBucket:
    """A declared bucket from its mapping; what is wrong with it is noted."""
    if root.fields is None:
        complaints.add(f"a declared bucket is a mapping, and this is {root.kind}", root.place)
    named = {"name": "", "store": ""}
    answers: dict[str, Answer[Any]] = {}
    for key, value in root.fields or ():
        field = key.text or ""
        if field in named:
            named[field] = value.text or ""
        elif field in FIELDS:
            answers[field] = _answer(complaints, field, value)
        else:
            known = ["name", "store", *FIELDS]
            complaints.add(f'unknown "{field}" in a declared bucket', key.place, nearest(field, known))
    if not named["name"]:
        complaints.add("a declared bucket needs a name", root.place)
    return DeclaredBucket(named["name"], answers, root.place, named["store"])


def _answer(complaints: ProblemList, field: str, node: Node) -> Answer[Any]:
    if node.text == "":
        return Answer("absent")
    if field == "policy":
        return Answer("known", node.text if node.text is not None else json.dumps(_plain(node)))
    try:
        return Answer("known", msgspec.convert(_plain(node), FIELDS[field], strict=False))
    except msgspec.ValidationError as error:
        complaints.add(f"{field}: {error}", node.place)
        return Answer("absent")


def _plain(node: Node) -> Any:
    if node.fields is not None:
        return {key.text: _plain(value) for key, value in node.fields}
    return [_plain(item) for item in node.items] if node.items is not None else node.text
