"""The results of `lantern survey` and `lantern history`, as `--json` prints them."""

from __future__ import annotations

from collections import Counter
from datetime import datetime

import msgspec

from rusty_lantern.archive.surveys import Kept, Survey
from rusty_lantern.core.dossier import OTHER_PROTOCOL
from rusty_lantern.core.evidence import NOT_IN_DOSSIER


class HistoryRow(msgspec.Struct, frozen=True, kw_only=True):
    """One kept survey. `wrong` says what is not as it was written; empty where nothing is."""

    survey: str
    taken: datetime | None
    stores: dict[str, int | None]
    only: list[str]
    sha256: str
    wrong: str


class HistoryResult(msgspec.Struct, frozen=True, kw_only=True):
    """`lantern history --json`."""

    verified: bool
    surveys: list[HistoryRow]
    unfinished: list[str]
    """Surveys that were stopped and can be gone on with."""


class SurveyResult(msgspec.Struct, frozen=True, kw_only=True):
    """`lantern survey --json`."""

    survey: str
    taken: datetime
    stores: dict[str, int | None]
    questions: dict[str, dict[str, int]]
    """Store → how many answers of each state."""
    unread: dict[str, str]
    besides: dict[str, dict[str, int]]
    """Store → how many identities, groups, credentials, encryption keys and links it told of."""


def history_row(kept: Kept) -> HistoryRow:
    """One kept survey."""
    manifest = kept.manifest
    return HistoryRow(
        survey=kept.name,
        taken=manifest.taken if manifest else None,
        stores=manifest.stores if manifest else {},
        only=manifest.only if manifest else [],
        sha256=kept.digest,
        wrong=kept.wrong,
    )


BESIDES = ("identities", "groups", "credentials", "encryption_keys", "links")


def survey_result(survey: Survey) -> SurveyResult:
    """What a survey read, by store and state of answer."""
    questions: dict[str, dict[str, int]] = {}
    for dossier in survey.dossiers:
        states = Counter(
            answer.state
            for bucket in dossier.buckets
            for name in bucket.__struct_fields__
            if name not in ("name", "owner", "doors", "table")
            and (answer := getattr(bucket, name)).note != NOT_IN_DOSSIER
            and not (name in OTHER_PROTOCOL and answer.state == "unsupported")
        )
        questions[dossier.store] = dict(sorted(states.items()))
    return SurveyResult(
        survey=survey.name,
        taken=survey.manifest.taken,
        stores=survey.manifest.stores,
        questions=questions,
        unread={d.store: d.listing.reason for d in survey.dossiers if not d.listing.settled},
        besides={
            d.store: {name: len(getattr(d, name).value) for name in BESIDES if getattr(d, name).value}
            for d in survey.dossiers
        },
    )
