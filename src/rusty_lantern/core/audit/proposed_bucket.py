"""A bucket as it is proposed, in the surroundings of the one that is there, or alone."""

from __future__ import annotations

from datetime import datetime
from typing import Any

import msgspec

from rusty_lantern.core.access.policy.document import parse_policy
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.config.estate import Estate
from rusty_lantern.core.errors import BadInput, Place, Problem
from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.core.object_rules.gateway_calendar import as_kept


def beside(view: BucketSubject, proposed: Bucket) -> BucketSubject:
    """A bucket as it is proposed, in the surroundings of the one that is there."""
    proposed = as_kept(proposed, view.dossier.software, view.dossier.taken)
    neighbours = {**view.neighbours, proposed.name: view}
    return msgspec.structs.replace(view, bucket=proposed, neighbours=neighbours)


def alone(store: str, bucket: Bucket, moment: datetime, estate: Estate | None) -> BucketSubject:
    """A bucket in a store of which nothing is known: whatever is not said of the store is not configured there."""
    entry = next((one for one in estate.stores if one.name == store), None) if estate else None
    trusted = estate.trusted_accounts if estate else frozenset()
    absent: Answer[Any] = Answer("absent")
    dossier = Dossier(
        store=store, taken=moment, listing=Answer("known", 1), public_access_guards=absent, network=absent,
        account=absent, identities=absent, groups=absent, credentials=absent, encryption_keys=absent, links=absent,
    )  # fmt: skip
    return BucketSubject(
        bucket, dossier, moment, entry, trusted, trusted_networks=estate.trusted_networks if estate else ()
    )


def with_policy(bucket: Bucket, policy: str, file: str) -> Bucket:
    """The bucket with another policy. Raises `BadInput` if that cannot be read at all."""
    fault = parse_policy(policy).unreadable
    if fault:
        raise BadInput(Problem(str(fault), Place(file)))
    return msgspec.structs.replace(bucket, policy=Answer("known", policy))
