"""What `reach` finds of a store: plain data, without the network code that finds it."""

from __future__ import annotations

from typing import Literal

import msgspec

from rusty_lantern.core.model.dossier import Software
from rusty_lantern.core.model.resources import Certificate

Allowed = Literal["yes", "no", "not offered", "failed"]
WORST: tuple[Allowed, ...] = ("no", "failed", "yes", "not offered")
"""Which answer represents the store where sampled buckets differ: a refusal anywhere is what matters."""


class DoorReached(msgspec.Struct, frozen=True):
    """One further protocol of a store."""

    name: str
    at: str
    readable: bool | None
    """Whether its settings can be read; None where there is nothing to read, only requests to try."""
    note: str = ""
    found: bool = False
    """Whether it was found there, and the estate file does not name it."""
    lets_in: bool = False
    """Whether it lets in whoever reaches it, without credentials; `note` says for what."""


class NodeReached(msgspec.Struct, frozen=True):
    """One further address of a store: a node, or another region."""

    at: str
    answers: bool
    note: str = ""
    clock_ahead_seconds: int | None = None
    same_certificate: bool | None = None
    """Whether it shows the certificate that the main address shows; None without TLS, where neither is shown, and for a
    region, which may have one of its own."""
    region: str = ""
    """The region that has this address; empty for a node."""


class StoreReached(msgspec.Struct, frozen=True):
    """What `reach` found of one store."""

    store: str
    address: str
    answers: bool
    transport: Literal["tls", "plain", "file"]
    clock_ahead_seconds: int | None
    credential: Literal["accepted", "refused", "not tried"]
    note: str
    buckets: int | None
    sampled: int
    questions: dict[str, Allowed]
    refused: dict[str, list[str]]
    """Question → sampled buckets that refused it."""
    certificate: Certificate | None = None
    """What the store shows in the TLS handshake; null where there is none."""
    plain_http: bool | None = None
    """Whether any of its addresses answers plain http."""
    plain_http_note: str = ""
    """At which address it does; or why that is not known."""
    legacy_signatures: bool | None = None
    """Whether any of its addresses accepts signatures of the first generation."""
    legacy_signatures_note: str = ""
    doors: tuple[DoorReached, ...] = ()
    """The store's other protocols: those that the estate file names, and one that was found."""
    nodes: tuple[NodeReached, ...] = ()
    """Its other addresses."""
    other_regions: dict[str, str] = {}
    """Regions that sampled buckets are in and the estate file has no address of → the address that the store gives;
    empty where it gives none."""
    unread: dict[str, str] = {}
    """Fields of the store and of its buckets that nothing in the estate file can tell → why."""
    software: Software | None = None
    """What answers for it, as far as its answers show."""
