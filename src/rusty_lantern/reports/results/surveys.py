"""The results of `lantern survey` and `lantern history`, as `--json` prints them."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from datetime import datetime
from typing import Any

import msgspec

from rusty_lantern.archive.chain import HistoryEntry
from rusty_lantern.archive.surveys import Manifest, Survey
from rusty_lantern.core.answer import NOT_IN_DOSSIER, Answer
from rusty_lantern.core.history.drift_history import AuditSummary, DriftDuration
from rusty_lantern.core.model.capabilities import BESIDE, FIELD_WORDS, PROTOCOLS, STORE_FIELD_WORDS
from rusty_lantern.core.model.dossier import Dossier


class HistoryRow(msgspec.Struct, frozen=True, kw_only=True):
    """One saved survey. `wrong` says what is not as it was written; empty where nothing is."""

    survey: str
    taken: datetime | None
    stores: dict[str, int | None]
    """Store → how many buckets were read; null: the store was not read."""
    only: list[str]
    sha256: str
    integrity_error: str
    buckets: int | None = None
    """How many were judged; null, as all that follows, where there is no baseline or the survey cannot be read."""
    drift_by_severity: dict[str, int] | None = None
    unknown: int | None = None
    waived: int | None = None
    exposed: dict[str, int] | None = None
    """Verb → buckets that anyone gets into, from everywhere."""
    exposure_unknown: int | None = None
    """Of how many buckets nobody knows whether anyone gets in, in one way at least."""
    stores_not_all_listed: list[str] | None = None
    """Stores that were read and that do not list all of their buckets."""
    pruned_before: int = 0
    """How many surveys were pruned between this one and the one before it here."""
    signed_by: str = ""
    """The fingerprint of the key that its signature names; empty: it is not signed."""


class DriftDurationResult(msgspec.Struct, frozen=True, kw_only=True):
    """How long drifts were open, over all surveys that were judged. Days; null where there were none."""

    resolved: int
    open: int
    median_days_resolved: float | None
    median_days_open: float | None
    oldest: str
    """The drift that is open for longest, and since when."""
    oldest_since: datetime | None


class HistoryResult(msgspec.Struct, frozen=True, kw_only=True):
    """`lantern history --json`."""

    drift_duration: DriftDurationResult | None = None

    verified: bool
    surveys: list[HistoryRow]
    unfinished: list[str]
    """Surveys that were stopped and can be gone on with."""
    integrity_errors: list[str] = []
    """What is wrong with the archive as a whole: a newest survey that is missing, the pruning record, the anchor."""
    signer: str = ""
    """The fingerprint of the key that signatures were checked by; empty: they were not checked."""
    anchored: bool = False
    """Whether the archive fits an anchor that was given."""


class UnreadAnswers(msgspec.Struct, frozen=True, kw_only=True):
    """What was not read of some of a store's buckets, for one reason."""

    what: list[str]
    """In words, as `lantern reach` names what can be asked about a bucket."""
    buckets: int
    """Of how many it was not read, in part at least."""
    first: str
    """The first of them."""
    reason: str


class SurveyResult(msgspec.Struct, frozen=True, kw_only=True):
    """`lantern survey --json`."""

    survey: str
    taken: datetime
    stores: dict[str, int | None]
    questions: dict[str, dict[str, int]]
    """Store → how many answers of each state."""
    unread_answers: dict[str, list[UnreadAnswers]]
    """Store → what was not read of its buckets, and why; what most buckets lack comes first."""
    unread_stores: dict[str, str]
    also_read: dict[str, dict[str, int]]
    """Store → how many identities, groups, credentials, encryption keys and links it showed."""
    also_unread: dict[str, dict[str, str]]
    """Store → which of these were asked for and not given, and why."""


def history_row(kept: HistoryEntry, summary: AuditSummary | None = None) -> HistoryRow:
    """One saved survey, with its result where that is known."""
    manifest = kept.manifest
    judged = (
        {
            "buckets": summary.buckets,
            "drift_by_severity": summary.drift_by_severity,
            "unknown": summary.counts.get("unknown", 0),
            "waived": summary.counts.get("waived", 0),
            "exposed": summary.exposed,
            "exposure_unknown": summary.undecided,
            "stores_not_all_listed": [
                one for one in summary.unread if manifest and manifest.stores.get(one) is not None
            ],
        }
        if summary
        else {}
    )
    return HistoryRow(
        survey=kept.name,
        taken=manifest.taken if manifest else None,
        stores=manifest.stores if manifest else {},
        only=_limits(manifest) if manifest else [],
        sha256=kept.digest,
        integrity_error=kept.wrong,
        pruned_before=kept.pruned_before,
        signed_by=kept.signed,
        **judged,  # type: ignore[arg-type]
    )


def drift_duration_result(drift_duration: DriftDuration) -> DriftDurationResult:
    """How long drifts were open."""
    spell = drift_duration.oldest
    store, _, name, fact = spell.key if spell else ("", "", "", "")
    return DriftDurationResult(
        resolved=drift_duration.resolved,
        open=drift_duration.open,
        median_days_resolved=drift_duration.median_days_resolved,
        median_days_open=drift_duration.median_days_open,
        oldest=f"{store}/{name} {fact}" if spell else "",
        oldest_since=spell.begun if spell else None,
    )


ALSO_READ = ("identities", "groups", "credentials", "encryption_keys", "links")


_ASKED_APART = ("name", "owner", "anonymous_test", "object_acls", "table", "differs_by_door")
"""What is asked about a bucket in another way, or only where a survey was told to look further, or made of others."""


def survey_result(survey: Survey) -> SurveyResult:
    """What a survey read, by store and state of answer."""
    questions: dict[str, dict[str, int]] = {}
    for dossier in survey.dossiers:
        states = Counter(answer.state for _, _, answer in _answers(dossier))
        questions[dossier.store] = dict(sorted(states.items()))
    return SurveyResult(
        survey=survey.name,
        taken=survey.manifest.taken,
        stores=survey.manifest.stores,
        questions=questions,
        unread_answers={d.store: rows for d in survey.dossiers if (rows := _unread_answers(d))},
        unread_stores=survey.unread,
        also_read={
            d.store: {name: len(getattr(d, name).value) for name in ALSO_READ if getattr(d, name).value}
            for d in survey.dossiers
        },
        also_unread={d.store: unread for d in survey.dossiers if not d.unlisted and (unread := _also_unread(d))},
    )


def _answers(dossier: Dossier) -> Iterator[tuple[str, str, Answer[Any]]]:
    """Bucket, field, and what was answered about it: of all that the store's protocol, or its document, tells."""
    protocol = PROTOCOLS.get(dossier.protocol or "s3")
    offered = protocol.tells if protocol else frozenset(FIELD_WORDS)
    for bucket in dossier.buckets:
        for name in bucket.__struct_fields__:
            if name in _ASKED_APART:
                continue
            answer = getattr(bucket, name)
            if answer.note != NOT_IN_DOSSIER and not (name not in offered and answer.state == "unsupported"):
                yield bucket.name, name, answer


def _unread_answers(dossier: Dossier) -> list[UnreadAnswers]:
    by_reason: dict[str, tuple[dict[str, None], dict[str, None]]] = {}
    for bucket, name, answer in _answers(dossier):
        if answer.unread:
            what, buckets = by_reason.setdefault(answer.reason, ({}, {}))
            what[FIELD_WORDS.get(name, name)] = buckets[bucket] = None
    rows = [
        UnreadAnswers(what=list(what), buckets=len(buckets), first=next(iter(buckets)), reason=reason)
        for reason, (what, buckets) in by_reason.items()
    ]
    return sorted(rows, key=lambda row: -row.buckets)


_NEVER_ASKED = {NOT_IN_DOSSIER, *dict(BESIDE).values()}


def _also_unread(dossier: Dossier) -> dict[str, str]:
    """What of a store besides its buckets was asked for and not given → why."""
    lists: dict[str, Answer[Any]] = {name: getattr(dossier, name) for name in ALSO_READ}
    unread = {STORE_FIELD_WORDS[name]: answer for name, answer in lists.items() if answer.unread}
    bare = [one.policies for one in dossier.identities.value or () if one.policies.unread]
    if bare:
        unread[f"permissions of {len(bare)} of {len(dossier.identities.value or ())} identities"] = bare[0]
    return {words: answer.reason for words, answer in unread.items() if answer.note not in _NEVER_ASKED}


def _limits(manifest: Manifest) -> list[str]:
    """What a survey was limited to: by its options, or by the estate file."""
    of_stores = [f"{store}/{pattern}" for store, patterns in manifest.only_of.items() for pattern in patterns]
    return [*manifest.only, *of_stores]
