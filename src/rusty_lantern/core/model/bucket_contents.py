"""What is in a bucket, as far as it was counted: objects, versions, unfinished uploads, the table of all of them."""

from datetime import datetime
from typing import Literal

import msgspec

from rusty_lantern.core.model.acl import ObjectAcls


class Versions(msgspec.Struct, frozen=True, omit_defaults=True):
    """What is beneath the current objects. `complete` is false where counting stopped early."""

    old: int
    old_bytes: int
    markers: int
    complete: bool = True
    newest: datetime | None = None
    """When the newest of all versions was stored."""
    undated: int = 0
    """How many versions have a date that cannot be read."""


class Uploads(msgspec.Struct, frozen=True, omit_defaults=True):
    """Uploads that were begun and never finished: they cost, and no listing shows them."""

    count: int
    oldest: datetime | None = None
    complete: bool = True
    undated: int = 0
    """How many of them have a date that cannot be read."""
    bytes: int | None = None
    """What was uploaded of them already; None: not known."""
    bytes_unread: str = ""
    """Why that is not known."""


class Usage(msgspec.Struct, frozen=True, omit_defaults=True):
    """How much is stored. `complete` is false where counting stopped early: then both are lower bounds.

    `by` says who counted: a listing, the store's own counters (which may lag, and count old versions in), or an
    inventory that the provider made.
    """

    objects: int
    bytes: int
    complete: bool = True
    by: Literal["listing", "counters", "inventory"] = "listing"
    in_blocks: int = 0
    """What counters say that it takes up in whole blocks; 0: they do not say."""


class EarlierCount(msgspec.Struct, frozen=True):
    """What the earliest survey of late counted in the bucket: growth is measured from it."""

    taken: datetime
    bytes: int
    old_bytes: int


class Table(msgspec.Struct, frozen=True, omit_defaults=True, kw_only=True):
    """What is kept of a bucket's objects beside the dossier, as a table with one row a version."""

    rows: int
    """Versions and delete markers."""
    versions: int
    """Versions, without delete markers."""
    looked: Literal["listed", "sample", "all"]
    inspected: int = 0
    """How many of the versions were looked at."""
    seed: int = 0
    """What the sample was drawn with."""
    confidence: float = 0.95
    """With what confidence bounds on a sample are stated."""
    reused: int = 0
    """How many of those were not looked at again, but taken over from the survey before."""
    source: Literal["listing", "inventory"] = "listing"
    current_alone: bool = False
    """Whether the listing that it was made from showed no old versions."""
    tags_asked: bool = False
    """Whether each one's tags were asked for."""
    object_acls: ObjectAcls | None = None
    """What their own ACLs grant the public; None where none was asked for."""
