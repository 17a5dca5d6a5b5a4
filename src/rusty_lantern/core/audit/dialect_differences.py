"""Where a bucket's policy is read otherwise: by its store's own dialect, or by one that its store may have."""

from __future__ import annotations

from collections.abc import Mapping

import msgspec

from rusty_lantern.core.access.dialects.policy_as_read import as_read
from rusty_lantern.core.access.dialects.readings import OF_EVERY_POLICY, READINGS, bearing, sentence_of
from rusty_lantern.core.access.dialects.shipped import COMMON, SHIPPED, dialect_of
from rusty_lantern.core.access.policy.document import Policy
from rusty_lantern.core.access.solver.exposure import Exposures
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.model.dialect import Dialect
from rusty_lantern.core.model.dossier import Dossier, Software


class ReadOtherwise(msgspec.Struct, frozen=True):
    """How the verdicts of a bucket would be by another reading of its policy."""

    dialect: str
    """The dialect that decides otherwise than the common reading."""
    of_store: bool
    """Whether it is the store's, so that the verdicts are by it. Else nobody knows what answers for the store."""
    changes: Mapping[str, tuple[str, str]]
    """`AUDIENCE.VERB` → the verdict's level, and that by the other reading."""
    because: list[str]
    """What is read otherwise."""


def read_otherwise(view: BucketSubject) -> list[ReadOtherwise]:
    """By which readings the verdicts differ: the common one where the store has its own, every known dialect where
    nobody knows what answers for the store. Of a dialect that only may be the store's, what it opens is said, and not
    what it closes, nor what it does with every policy. Empty where nothing differs."""
    own, policy = dialect_of(view.dossier), view.written_policy
    if policy is None:
        return []
    others = [COMMON] if own != COMMON else [] if _is_known(view.dossier) else [*SHIPPED.values()]
    return [difference for other in others if (difference := _against(view, policy, own, other)) is not None]


def _is_known(dossier: Dossier) -> bool:
    """Whether it is known that the common reading is the store's. A store that is no server has no software."""
    software = dossier.software
    return software.value is None or bool(software.value.dialect)


def _against(view: BucketSubject, policy: Policy, own: Dialect, other: Dialect) -> ReadOtherwise | None:
    guessed = own == COMMON
    if guessed:
        plain = msgspec.structs.replace(other.readings, decided_as=(), covered_by=(), own_covered_by=())
        other = msgspec.structs.replace(other, readings=plain)
    special = other if guessed else own
    unasked = _payer_not_asked(view, special)
    if as_read(policy, own) == as_read(policy, other) and not unasked:
        return None
    there: Exposures = on_dialect(view, other).verdicts
    changes = {
        f"{audience}.{verb}": (here.level, there[audience, verb].level)
        for (audience, verb), here in view.verdicts.items()
        if here.level != there[audience, verb].level
        and not (guessed and there[audience, verb].level in ("closed", "unknown"))
    }
    if not changes:
        return None
    because = bearing(policy, special, leaving_out=OF_EVERY_POLICY) or bearing(policy, special)
    return ReadOtherwise(special.dialect, not guessed, changes, [*because, *unasked])


def _payer_not_asked(view: BucketSubject, dialect: Dialect) -> list[str]:
    """What a dialect reads otherwise where the requester pays, and no policy says so."""
    actions = dialect.readings.payer_not_asked if view.inputs.requester_pays.value else ()
    return [sentence_of(READINGS["payer_not_asked"], actions)] if actions else []


def on_dialect(view: BucketSubject, dialect: Dialect) -> BucketSubject:
    """The bucket as it would be in a store that reads policies by this dialect, and has no other ways in than this."""
    policies = msgspec.structs.replace(dialect.readings, unsigned_callers_are_the_user="", filer_takes_no_policy=False)
    dialect = msgspec.structs.replace(dialect, readings=policies)
    known = Answer("known", Software("", dialect=dialect.dialect))
    own = dialect if SHIPPED.get(dialect.dialect) != dialect else None
    return msgspec.structs.replace(view, dossier=msgspec.structs.replace(view.dossier, software=known, dialect=own))
