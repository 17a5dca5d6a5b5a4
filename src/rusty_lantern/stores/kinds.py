"""The table of store readers: the word after `reads:` in estate.yaml → the class that reads such a store."""

from __future__ import annotations

from importlib import import_module

from rusty_lantern.stores.reader import StoreReader, Visit

READERS = {
    "s3": "rusty_lantern.stores.s3.reader:S3Reader",
    "swift": "rusty_lantern.stores.swift.reader:SwiftReader",
    "blob": "rusty_lantern.stores.blob.reader:BlobReader",
    "dossier": "rusty_lantern.stores.dossier.reader:DossierReader",
    "export": "rusty_lantern.stores.dossier.export_reader:ExportReader",
}
"""Kind → `module:class`. A reader is imported when a store of its kind is read."""


def reader_of(visit: Visit) -> StoreReader:
    """The reader of a store."""
    module, _, name = READERS[visit.store.reads].partition(":")
    kind: type[StoreReader] = getattr(import_module(module), name)
    return kind(visit)
