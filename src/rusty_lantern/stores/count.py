"""Sums over the pages of one listing that has objects and versions together."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from rusty_lantern.core.model.bucket_contents import Usage, Versions
from rusty_lantern.core.model.object_version import ObjectVersion


@dataclass
class Count:
    """Sums over the pages of one listing."""

    objects: int = 0
    bytes: int = 0
    old: int = 0
    old_bytes: int = 0
    markers: int = 0
    undated: int = 0
    newest: datetime | None = None
    whole: bool = True

    def add(self, versions: list[ObjectVersion], *, whole: bool) -> None:
        """Take in a page; `whole`: nothing follows it."""
        self.whole = whole
        for version in versions:
            if version.marker:
                self.markers += 1
                continue
            if version.current:
                self.objects, self.bytes = self.objects + 1, self.bytes + version.size
            else:
                self.old, self.old_bytes = self.old + 1, self.old_bytes + version.size
            self.undated += version.written is None
            if version.written and (self.newest is None or version.written > self.newest):
                self.newest = version.written

    @property
    def usage(self) -> Usage:
        """Of the current objects."""
        return Usage(self.objects, self.bytes, self.whole)

    @property
    def versions(self) -> Versions:
        """Of what is beneath them."""
        return Versions(self.old, self.old_bytes, self.markers, self.whole, self.newest, self.undated)
