"""How versions that are locked can be deleted all the same, whatever their retention or hold: each way was measured."""

from __future__ import annotations

from rusty_lantern.core.access.rules.filer import deletions_at_filer
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.core.object_rules.gateway_expiry import deletions_by_expiry


def way_around_locks(store: Dossier) -> Answer[str]:
    """The first way that is known; unread where there may be one; absent where no way is known."""
    ways = (deletions_by_expiry(store), deletions_at_filer(store))
    known = next((way for way in ways if way.state == "known"), None)
    return known or next((way for way in ways if way.unread), ways[0])
