"""How the estate file says that objects are looked at: how far, by which sample, or by which inventory."""

from __future__ import annotations

import re
from typing import Literal, get_args

import msgspec

from rusty_lantern.core.errors import nearest
from rusty_lantern.core.object_rules.sampling import size_to_detect
from rusty_lantern.core.yaml_source import FieldReader, Node

ScanDepth = Literal["none", "listed", "sample", "all"]
LOOKED: tuple[ScanDepth, ...] = get_args(ScanDepth)


class Sample(msgspec.Struct, frozen=True):
    """How many versions of a bucket are looked at where a sample is: `versions`, or as many as find drift of at least
    the share `detect` with `confidence`. The same `seed` draws the same sample."""

    versions: int = 0
    detect: float = 0.01
    confidence: float = 0.95
    seed: int = 1

    @property
    def size(self) -> int:
        """How many versions that is."""
        return self.versions or size_to_detect(self.detect, self.confidence)


class Inventory(msgspec.Struct, frozen=True):
    """Files that the provider made of each bucket's objects: where they are, and which of their columns is which.

    `files` is a pattern below the workspace with `{bucket}` in it. `columns`: ours → theirs, by heading, or by number
    from 1 where the files have no headings.
    """

    files: str
    columns: tuple[tuple[str, str], ...]
    headed: bool = True
    encoded: bool = False
    """Whether keys are URL-encoded."""
    newer_than: int = 0
    """Seconds: files that are older are not read; 0 without a limit."""


INVENTORY_COLUMNS = (
    "bucket", "key", "version", "current", "marker", "size", "etag", "written", "tier", "content-type", "cache-control",
    "encryption", "encryption-key", "mode", "until", "hold", "replication", "checksum",
)  # fmt: skip


def read_inventory(reader: FieldReader, node: Node | None) -> Inventory | None:
    """Files that the provider made, and which of their columns is which."""
    if node is None:
        return None
    fields = reader.fields(node, ("files", "columns", "headings", "keys", "newer-than"), "inventory")
    files = reader.text(fields.get("files"), "files")
    if "{bucket}" not in files or files.startswith("/") or ".." in files:
        remedy = "files: inventory/{bucket}/*.csv.gz"
        reader.complaints.add("files must be a pattern below the workspace with {bucket} in it", node.place, remedy)
    headed = reader.choice(fields.get("headings"), "headings", ("present", "absent"), "present") == "present"
    encoded = reader.choice(fields.get("keys"), "keys", ("plain", "url-encoded"), "plain") == "url-encoded"
    columns = []
    for name, column in reader.entries(fields.get("columns"), "columns"):
        if name.text not in INVENTORY_COLUMNS:
            hint = nearest(name.text or "", INVENTORY_COLUMNS) or ", ".join(INVENTORY_COLUMNS)
            reader.complaints.add(f'an inventory has no "{name.text}" that is known here', name.place, hint)
        elif not headed and not re.fullmatch("[1-9][0-9]{0,2}", column.text or ""):
            reader.complaints.add("without headings, a column is named by its number from 1", column.place)
        columns.append(((name.text or "").replace("-", "_"), column.text or ""))
    mapped = dict(columns)
    if "key" not in mapped:
        reader.complaints.add(
            "an inventory needs the column of object keys", node.place, "columns: {key: Key, size: Size}"
        )
    if "version" in mapped and "current" not in mapped:
        what = "an inventory of versions needs the column that says which is current"
        reader.complaints.add(what, node.place, "columns: {key: Key, version: VersionId, current: IsLatest}")
    if "bucket" not in mapped and _fits_other_buckets(files):
        what = "this pattern fits the files of every bucket whose name begins or ends so"
        remedy = "a folder for each bucket (inventory/{bucket}/*.csv.gz), or columns: {bucket: …}, which is checked"
        reader.complaints.add(what, node.place, remedy)
    newer_than = reader.seconds(fields.get("newer-than"), "newer-than", "2 days")
    return Inventory(files, tuple(columns), headed, encoded, newer_than)


def _fits_other_buckets(files: str) -> bool:
    """Whether a wildcard is in the part of a path that holds the bucket's name."""
    parts = (part for part in files.split("/") if "{bucket}" in part)
    return any(re.search(r"[*?\[]", part) for part in parts)


def read_objects(reader: FieldReader, node: Node | None) -> tuple[tuple[str, ScanDepth], ...]:
    """Bucket pattern → how far its objects are looked at."""
    if node is None:
        return ()
    if node.text is not None:
        return (("*", _looked(reader, node)),)
    return tuple((key.text or "", _looked(reader, value)) for key, value in reader.entries(node, "objects"))


def _looked(reader: FieldReader, node: Node) -> ScanDepth:
    chosen = reader.choice(node, "objects", LOOKED, "none")
    return next(looked for looked in LOOKED if looked == chosen)


def read_sample(reader: FieldReader, node: Node | None) -> Sample:
    """How a sample is drawn."""
    if node is None:
        return Sample()
    fields = reader.fields(node, ("versions", "detect", "confidence", "seed"), "sample")
    shares = {name: _share(reader, fields[name], name) for name in ("detect", "confidence") if name in fields}
    numbers = {name: reader.whole(fields[name], name, 1) for name in ("versions", "seed") if name in fields}
    return Sample(**numbers, **shares)  # type: ignore[arg-type]


def _share(reader: FieldReader, node: Node, name: str) -> float:
    match = re.fullmatch(r"([0-9]{1,2}(?:\.[0-9]{1,4})?)\s*%", node.text or "")
    if match is None or float(match[1]) == 0:
        reader.complaints.add(f"{name} must be a share of versions", node.place, f"write it as {name}: 1 %")
        return 0.5
    return float(match[1]) / 100
