"""What shuts the filer of a SeaweedFS server, which no setting of a bucket does."""

from __future__ import annotations

import msgspec

from rusty_lantern.core.access.policy.filer import FILER
from rusty_lantern.core.audit.bucket_subject import BucketSubject

SHUT_THE_FILER = (
    "have the server's filer ask for a token (jwt.filer_signing and jwt.filer_signing.read in its security.toml), and "
    "let the servers alone reach its port: it gives every bucket to whoever does, whatever policies say"
)


def without_filer(view: BucketSubject) -> BucketSubject | None:
    """The bucket behind a filer that asks for a token; None where it is not known to let anybody in as it is."""
    doors = view.dossier.doors
    if not any(door.name == FILER and (door.lets_in or door.takes_changes) for door in doors.value or ()):
        return None
    shut = doors.map(
        lambda every: [msgspec.structs.replace(door, lets_in=False, takes_changes=False) for door in every]
    )
    return msgspec.structs.replace(view, dossier=msgspec.structs.replace(view.dossier, doors=shut))
