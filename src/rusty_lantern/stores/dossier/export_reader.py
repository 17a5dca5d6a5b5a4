"""Stores that are read by documents which their console or command line exported, by a layout."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path
from typing import ClassVar

import msgspec

from rusty_lantern.core.answer import Answer, Evidence
from rusty_lantern.core.config.estate import Export, StoreConfig
from rusty_lantern.core.config.export_entry import too_old
from rusty_lantern.core.errors import BadInput, Damaged
from rusty_lantern.core.model.capabilities import EXPORT, Capabilities
from rusty_lantern.core.model.dossier import Dossier, lost_dossier
from rusty_lantern.intake.exported import assembled
from rusty_lantern.stores.dossier.reader import DossierReader, under_our_name
from rusty_lantern.stores.http.errors import RequestFailed


class ExportReader(DossierReader):
    """Reads a store by exported documents."""

    capabilities: ClassVar[Capabilities] = EXPORT

    async def read(self, earlier: Dossier | None) -> Dossier:
        """What the documents hold. Never raises for what they are or say."""
        store, moment = self.visit.store, self.visit.moment
        assert store.export is not None
        try:
            read = dossier_from_export(store, store.export, self.visit.folder, moment)
            return msgspec.structs.replace(read, protocol=EXPORT.protocol)
        except RequestFailed as error:
            lost: Answer[int] = Answer(error.state, None, error.note, Evidence(store.at, error.answer, moment))
            return lost_dossier(store.name, store.at, moment, lost)


def dossier_from_export(store: StoreConfig, export: Export, folder: Path, moment: datetime) -> Dossier:
    """The dossier that exported documents make. Raises `RequestFailed`."""
    try:
        export_read, written = assembled(folder, export.files, export.layout, store.name, moment)
    except (BadInput, Damaged) as error:
        first, more = error.complaints[0], len(error.complaints) - 1
        also = f", and {more} more" if more else ""
        raise RequestFailed(
            "failed", f"the export cannot be read: {first}{also}".replace("\n ", ";"), "refused"
        ) from None
    old = too_old(written, moment, export.newer_than)
    if old:
        raise RequestFailed("failed", f"the export {old}", "too old")
    return under_our_name(msgspec.structs.replace(export_read.dossier, taken=written), store, moment)
