"""Who can get in, as results: verdicts with their witnesses, and what the store answered when it was knocked at."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import datetime

import msgspec

from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.access.policy.condition_keys import AUDIENCES
from rusty_lantern.core.access.probe_check import LET_IN, compare
from rusty_lantern.core.access.solver.exposure import Verdict, at_least
from rusty_lantern.core.access.solver.restriction import Restriction
from rusty_lantern.core.access.solver.witness import Witness
from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.audit.dialect_differences import ReadOtherwise, read_otherwise
from rusty_lantern.core.audit.named_access import unread_roles, ways_through_roles
from rusty_lantern.core.model.bucket import ProbeAnswer
from rusty_lantern.reports.results.of_survey import OfSurvey


class VerdictResult(msgspec.Struct, frozen=True, kw_only=True):
    """One verdict: `witness` and `because` go with open and restricted, `restriction` with restricted,
    `unknown_because` and `at_least` with unknown."""

    verdict: str
    witness: Witness | None
    because: str
    restriction: Restriction | None
    unknown_because: list[str]
    at_least: str
    """Of an unknown verdict, what is certain all the same: closed (nothing), or restricted."""
    until: datetime | None
    """Where the way in closes by itself, the moment it does."""


class ThroughRole(msgspec.Struct, frozen=True, kw_only=True):
    """What whoever assumes a role can do on a bucket."""

    role: str
    assumable_by: str | None
    """Null where it is not known who may assume it."""
    verbs: dict[str, str]
    """Verb → open, restricted, or unknown; closed ones are left out."""


class ByCopies(msgspec.Struct, frozen=True, kw_only=True):
    """What the public can do to what a bucket holds by way of the copies that the store makes."""

    verb: str
    """`write`: to a bucket that is copied into this one; `read`: list or read a bucket that this one is copied into."""
    level: str
    """open, restricted, or unknown."""
    because: str


class ExposureRow(msgspec.Struct, frozen=True, kw_only=True):
    """One bucket of `lantern exposure --json`: `exposure.AUDIENCE.VERB.verdict`."""

    store: str
    bucket: str
    exposure: dict[str, dict[str, VerdictResult]]
    through_roles: list[ThroughRole]
    """Roles that callers from outside the account may assume; none are known where identities were not read."""
    by_copies: list[ByCopies]
    """What the public can do by way of copies; what is closed is left out."""
    read_otherwise: list[ReadOtherwise]
    """Where the store's own dialect decides otherwise than the common reading, or a dialect that it may have would."""


class Probed(msgspec.Struct, frozen=True, kw_only=True):
    """What the store answered to a request without credentials, against the verdict for anyone."""

    store: str
    bucket: str
    verb: str
    verdict: str
    door: str
    """The door it was sent through; empty for the one that the store is read by."""
    asked: str
    answer: str
    outcome: str
    note: str


class ExposureResult(OfSurvey, frozen=True, kw_only=True):
    """`lantern exposure --json`."""

    buckets: list[ExposureRow]
    unread_roles: dict[str, str]
    """Store → why it is not known which roles lead into its buckets."""
    probed: list[Probed] | None
    """With `--probe`: what the store answered to requests without credentials."""


def verdict_result(verdict: Verdict) -> VerdictResult:
    """One verdict as a result."""
    return VerdictResult(
        verdict=verdict.level,
        witness=verdict.witness,
        because=verdict.because,
        restriction=verdict.restriction,
        unknown_because=list(verdict.doubts),
        at_least=at_least(verdict),
        until=verdict.until,
    )


def exposure_row(view: BucketSubject) -> ExposureRow:
    """The exposures of one bucket."""
    verdicts: dict[str, dict[str, VerdictResult]] = {
        audience: {verb: verdict_result(view.verdicts[audience, verb]) for verb in VERBS} for audience in AUDIENCES
    }
    for by_verb in verdicts.values():
        for verb in view.let_in:
            if by_verb[verb].verdict == "unknown":
                because = [LET_IN, *by_verb[verb].unknown_because]
                by_verb[verb] = msgspec.structs.replace(by_verb[verb], unknown_because=because)
    others = read_otherwise(view)
    roles = [
        ThroughRole(
            role=way.role.name,
            assumable_by=way.role.assumable_by.value,
            verbs={verb: way.reach[verb].level for verb in VERBS if verb in way.reach},
        )
        for way in ways_through_roles(view)
    ]
    return ExposureRow(
        store=view.dossier.store, bucket=view.bucket.name, exposure=verdicts, through_roles=roles,
        by_copies=list(_by_copies(view)), read_otherwise=others,
    )  # fmt: skip


_COPY_FACTS = {"write": "replication.source-exposure", "read": "replication.target-exposure"}


def _by_copies(view: BucketSubject) -> Iterator[ByCopies]:
    for verb, name in _COPY_FACTS.items():
        fact = view.fact(name)
        level = str(fact.value) if fact.value is not None else "unknown"
        if level != "closed" and fact.state != "unsupported":
            yield ByCopies(verb=verb, level=level, because=fact.note if fact.settled else fact.reason)


def exposure_result(views: Sequence[BucketSubject], about: OfSurvey, probed: list[Probed] | None) -> ExposureResult:
    """The exposures of some buckets."""
    return ExposureResult(
        **msgspec.structs.asdict(about),
        buckets=[exposure_row(view) for view in views],
        unread_roles={view.store: why for view in views if (why := unread_roles(view.index))},
        probed=probed,
    )


def probed(view: BucketSubject, probe: ProbeAnswer, others: Sequence[ProbeAnswer] = ()) -> Probed:
    """One answer of the store, held against the verdict; `others`: all answers of the bucket, at every door."""
    level = view.by_rules.worded[f"anyone.{probe.verb}"].level
    elsewhere = any(other.let_in and other.verb == probe.verb and other.door != probe.door for other in others)
    outcome, note = compare(level, probe, elsewhere=elsewhere)
    return Probed(
        store=view.dossier.store,
        bucket=view.bucket.name,
        verb=probe.verb,
        verdict=level,
        door=probe.door,
        asked=probe.asked,
        answer=probe.answer,
        outcome=outcome,
        note=note,
    )
