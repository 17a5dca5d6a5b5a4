"""What each field of a dossier may hold, by the types of its entries: so that a layout is checked before it is
used, and every value is converted where its place is still known."""

from __future__ import annotations

from datetime import datetime
from functools import lru_cache
from types import UnionType
from typing import Any, Literal, Union, get_args, get_origin, get_type_hints

import msgspec

from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.core.model.identity import Credential, Group, Identity
from rusty_lantern.core.model.resources import EncryptionKey, Link

Form = Literal["text", "whole", "switch", "moment", "choice", "list", "entry", "mapping"]


class FieldType(msgspec.Struct, frozen=True):
    """What one field holds. `answer`: whether it has a state besides its value."""

    form: Form
    options: tuple[str, ...] = ()
    item: FieldType | None = None
    """What a list is of."""
    entry: type[msgspec.Struct] | None = None
    """The struct, for an entry."""
    answer: bool = False


SECTIONS: dict[str, tuple[type[msgspec.Struct], str]] = {
    "buckets": (Bucket, "name"),
    "every-bucket": (Bucket, "name"),
    "identities": (Identity, "name"),
    "groups": (Group, "name"),
    "credentials": (Credential, "id"),
    "encryption-keys": (EncryptionKey, "id"),
    "links": (Link, ""),
    "store": (Dossier, ""),
}
"""Section of a layout → the entries that it makes, and the field that names one."""
_NOT_OF_A_STORE = {"buckets", "identities", "groups", "credentials", "encryption_keys", "links", "listing", "software"}
_NO_FIELDS = {"anonymous_test", "table", "evidence"}
"""What no export has: it is made by a survey."""


@lru_cache(maxsize=64)
def fields_of(entry: type[msgspec.Struct]) -> dict[str, FieldType]:
    """The fields of an entry that a layout can fill."""
    hints = get_type_hints(entry)
    types = {name: type_of(hints[name]) for name in entry.__struct_fields__ if name not in _NO_FIELDS}
    if entry is Dossier:
        return {name: kind for name, kind in types.items() if kind.answer and name not in _NOT_OF_A_STORE}
    return types


def type_of(hint: Any) -> FieldType:
    """What an annotation allows in a field."""
    origin, inner = get_origin(hint), get_args(hint)
    if origin is Answer:
        return msgspec.structs.replace(type_of(inner[0]), answer=True)
    if origin in (Union, UnionType):
        return type_of(next(one for one in inner if one is not type(None)))
    if origin is Literal:
        return FieldType("choice", tuple(str(one) for one in inner))
    if origin is list:
        return FieldType("list", item=type_of(inner[0]))
    if isinstance(hint, type) and issubclass(hint, msgspec.Struct):
        return FieldType("entry", entry=hint)
    plain: dict[Any, Form] = {str: "text", int: "whole", bool: "switch", datetime: "moment", dict: "mapping"}
    return FieldType(plain[origin or hint])
