"""What shuts the filer of a SeaweedFS server, which no setting of a bucket does."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from rusty_lantern.core.access.rules.filer import FILER
from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.baseline.loader import Requirement
from rusty_lantern.core.remediation.exposure_requirements import holds
from rusty_lantern.core.remediation.remedy import Remedy

_SHUT = (
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


def of_filer(behind: BucketSubject, wanted: Sequence[Requirement]) -> Remedy:
    """Shut it; what is known then, and what is not. `behind`: the bucket behind a filer that lets nobody in."""
    held = [r.fact for r in wanted if holds(behind, r)]
    unknown = {r.fact: fact.reason for r in wanted if not (fact := behind.fact(r.fact)).settled}
    proof = [f"{', '.join(held)}: as required then"] if held else []
    for reason in dict.fromkeys(unknown.values()):
        proof.append(f"{', '.join(f for f, why in unknown.items() if why == reason)}: unknown then: {reason}")
    return Remedy(tuple(r.fact for r in wanted), _SHUT, proof=tuple(proof))
