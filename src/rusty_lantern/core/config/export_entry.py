"""Exported documents as estate.yaml names them: `{from: [FILES], layout: NAME or FILE, newer-than: 2 days}`."""

from __future__ import annotations

from datetime import datetime

from rusty_lantern.core.config.estate import Export
from rusty_lantern.core.errors import Place
from rusty_lantern.core.value_types import DURATION
from rusty_lantern.core.yaml_source import FieldReader, Node

EXPORT = ("from", "layout", "newer-than")
"""The fields of such an entry."""


def too_old(written: datetime, moment: datetime, newer_than: int) -> str:
    """Why a document that was written then is too old at a moment; empty where it is not, or may be of any age."""
    age = int((moment - written).total_seconds())
    if not newer_than or age <= newer_than:
        return ""
    return f"is {DURATION.roughly(age)} old, and estate.yaml wants it newer than {DURATION.show(newer_than)}"


def read_export(reader: FieldReader, fields: dict[str, Node], place: Place, whose: str) -> Export:
    """Which documents, and by which layout they are read."""
    files = tuple(item.text or "" for item in reader.texts(fields.get("from"), "from"))
    layout = reader.text(fields.get("layout"), "layout")
    if not files:
        reader.complaints.add(f"{whose} needs the documents that it is read by", place, 'from: ["exports/*.json"]')
    if not layout:
        reader.complaints.add(f"{whose} needs a layout", place, "layout: NAME, or a file; lantern dossier layouts")
    return Export(files, layout, reader.seconds(fields.get("newer-than"), "newer-than", "2 days"), place)


def read_beside(reader: FieldReader, node: Node | None, store: str) -> str | Export:
    """A dossier file by its name, or exported documents."""
    if node is None or node.fields is None:
        return reader.text(node, "beside")
    return read_export(reader, reader.fields(node, EXPORT, "beside"), node.place, f"the export beside {store}")
