"""What an auditor takes away: each drift and each way in, from the requirement to the store's own words.

The answers are those that the survey kept, with the question, the status and the moment; the place of the same answer
in the survey's own file is given as a JSON pointer, so that anybody can look it up there.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime
from typing import Any

import msgspec

from rusty_lantern import __version__
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.core.model.identity import masked
from rusty_lantern.core.value_types import show_names
from rusty_lantern.reports.results.audit import FindingResult
from rusty_lantern.reports.results.exposure import exposure_row
from rusty_lantern.reports.results.report import ReportResult

ACCESS_OF_STORE = ("public_access_guards", "account_acl", "network", "doors", "software")
_SECTIONS = {
    "identity": "identities",
    "credential": "credentials",
    "encryption-key": "encryption_keys",
    "link": "links",
}


class StoreAnswer(msgspec.Struct, frozen=True, kw_only=True):
    """One answer of a store, as the survey kept it."""

    setting: str
    pointer: str
    """Its place in `survey/stores/STORE.json` (RFC 6901)."""
    state: str
    question: str
    status: str
    at: datetime | None
    words: str
    """The answer itself as JSON; a policy as the store's own text. What a store does not say is its note."""


class DriftEvidence(msgspec.Struct, frozen=True, kw_only=True):
    """One requirement that is not met."""

    fact: str
    required: str
    observed: str
    severity: str
    status: str
    note: str
    because: str
    sheet: str
    line: str
    """`FILE:LINE:COLUMN` of the requirement, in the folder `rules/`."""
    text: str
    """That line."""
    since: datetime | None


class WayIn(msgspec.Struct, frozen=True, kw_only=True):
    """One verdict that is open or restricted, with a request that would pass."""

    audience: str
    verb: str
    verdict: str
    allowed_by: str
    restriction: str
    request: str
    caller: str
    address: str


class SubjectEvidence(msgspec.Struct, frozen=True, kw_only=True):
    """One bucket or other subject."""

    file: str
    store: str
    kind: str
    name: str
    drift: list[DriftEvidence]
    ways_in: list[WayIn]
    answers: list[StoreAnswer]


class StoreMethod(msgspec.Struct, frozen=True, kw_only=True):
    """How one store was read."""

    store: str
    protocol: str
    address: str
    transport: str
    software: str
    doors: str
    buckets: int | None
    listing: str
    inspected: str


class EvidenceResult(msgspec.Struct, frozen=True, kw_only=True):
    """`index.html` of an evidence folder, and its `subjects/`."""

    tool: str
    estate: str
    survey: str
    as_of: datetime
    sha256: str
    """Of the survey's own `survey.json`."""
    signer: str
    """The fingerprint of the key that signed the folder; empty: it is not signed."""
    counts: dict[str, int]
    stores: list[StoreMethod]
    unknown: list[tuple[str, int]]
    """Why something is not determined, and of how many requirements."""
    subjects: list[SubjectEvidence]


def evidence_result(
    result: ReportResult,
    dossiers: Sequence[Dossier],
    views: Sequence[BucketSubject],
    texts: Mapping[str, str],
    digest: str,
    signer: str,
) -> EvidenceResult:
    """Put the evidence together. `texts`: the baseline and all that it includes, by file."""
    drift = [*((one, "drift") for one in result.audit.drift), *((one, "waived") for one in result.audit.waived)]
    by_subject: dict[tuple[str, str, str], list[DriftEvidence]] = {}
    for finding, status in drift:
        key = (finding.store, finding.subject, finding.name)
        by_subject.setdefault(key, []).append(_drift(finding, status, texts))
    ways = {(view.dossier.store, "bucket", view.bucket.name): _ways_in(view) for view in views}
    keys = sorted({*by_subject, *(key for key, finding in ways.items() if finding)})
    by_store = {dossier.store: dossier for dossier in dossiers}
    return EvidenceResult(
        tool=f"rusty-lantern {__version__}",
        estate=result.estate,
        survey=result.audit.survey,
        as_of=result.audit.as_of,
        sha256=digest,
        signer=signer,
        counts=dict(result.audit.counts),
        stores=[_method(dossier) for dossier in dossiers],
        unknown=Counter(one.reason for one in result.audit.unknown).most_common(),
        subjects=[
            SubjectEvidence(
                file=f"subjects/{number:04d}.json",
                store=key[0], kind=key[1], name=key[2],
                drift=by_subject.get(key, []),
                ways_in=ways.get(key, []),
                answers=list(_answers_of(by_store[key[0]], key[1], key[2])) if key[0] in by_store else [],
            )
            for number, key in enumerate(keys, 1)
        ],
    )  # fmt: skip


def _drift(finding: FindingResult, status: str, texts: Mapping[str, str]) -> DriftEvidence:
    file, _, rest = finding.line.partition(":")
    number = rest.partition(":")[0]
    lines = texts.get(file, "").splitlines()
    text = lines[int(number) - 1].strip() if number.isdigit() and 0 < int(number) <= len(lines) else ""
    return DriftEvidence(
        fact=finding.fact, required=finding.required, observed=finding.observed, severity=finding.severity,
        status=status, note=finding.note, because=finding.because, sheet=finding.sheet, line=finding.line, text=text,
        since=finding.since,
    )  # fmt: skip


def _ways_in(view: BucketSubject) -> list[WayIn]:
    ways = []
    for audience, verbs in exposure_row(view).exposure.items():
        for verb, verdict in verbs.items():
            if verdict.verdict not in ("open", "restricted"):
                continue
            witness = verdict.witness
            ways.append(
                WayIn(
                    audience=audience,
                    verb=verb,
                    verdict=verdict.verdict,
                    allowed_by=verdict.because,
                    restriction=verdict.restriction.words if verdict.restriction else "",
                    request=witness.request if witness else "",
                    caller=witness.caller if witness else "",
                    address=witness.address if witness else "",
                )
            )
    return ways


def _answers_of(dossier: Dossier, kind: str, name: str) -> Iterator[StoreAnswer]:
    """The store's answers about a subject: of a bucket all that was asked, of others their own entry."""
    if kind == "bucket":
        number = next((n for n, bucket in enumerate(dossier.buckets) if bucket.name == name), None)
        if number is not None:
            for setting in Bucket.__struct_fields__[1:]:
                answer = getattr(dossier.buckets[number], setting)
                if answer.evidence.question or answer.value is not None or answer.unread:
                    yield _answer(setting, f"/buckets/{number}/{setting}", answer)
        for setting in ACCESS_OF_STORE:
            answer = getattr(dossier, setting)
            if answer.settled or answer.unread:
                yield _answer(f"store: {setting}", f"/{setting}", answer)
        return
    section = _SECTIONS.get(kind)
    if section is None:
        return
    listed = getattr(dossier, section)
    for number, entry in enumerate(listed.value or ()):
        if name in _names(kind, entry):
            shown = Answer("known", entry, "", listed.evidence)
            yield _answer(kind, f"/{section}/value/{number}", shown)


def _names(kind: str, entry: Any) -> set[str]:
    """By what a subject's finding may call an entry."""
    if kind == "link":
        return {f"{entry.bucket}/{entry.key}"}
    if kind == "encryption-key":
        return {entry.id, *entry.names}
    if kind == "credential":
        return {f"{entry.owner or 'nobody'} {masked(entry.id)}", entry.owner}
    return {entry.name}


def _answer(setting: str, pointer: str, answer: Answer[Any]) -> StoreAnswer:
    value = answer.value
    if isinstance(value, str):
        words = value
    elif value is None:
        words = answer.note or answer.state
    else:
        words = msgspec.json.format(msgspec.json.encode(value), indent=1).decode()
    return StoreAnswer(
        setting=setting, pointer=pointer, state=answer.state, question=answer.evidence.question,
        status=answer.evidence.answer, at=answer.evidence.at, words=words,
    )  # fmt: skip


def _method(dossier: Dossier) -> StoreMethod:
    software = dossier.software.value
    words = " ".join(part for part in (software.name, software.release) if part) if software else ""
    dialect = f"dialect {software.dialect or 'common'}" if software else "the common reading"
    doors = [f"{door.name} at {door.at}: {'read' if door.read else 'not read'}" for door in dossier.doors.value or ()]
    tables = [bucket.table.value for bucket in dossier.buckets if bucket.table.value is not None]
    inspected, versions = sum(table.inspected for table in tables), sum(table.versions for table in tables)
    left_out = [bucket.name for bucket in dossier.buckets if bucket.left_out]
    seen = f"{inspected:,} of {versions:,} listed versions" if tables else "no versions were listed into tables"
    seen += f"; without old versions of {show_names(left_out, 6)}" if left_out else ""
    return StoreMethod(
        store=dossier.store,
        protocol=dossier.protocol or "a dossier of its owner",
        address=dossier.address,
        transport=dossier.transport,
        software=f"{words or 'not recognized'}; policies by {dialect}",
        doors="; ".join(doors) or (dossier.doors.reason or "no other that is known"),
        buckets=dossier.listing.value,
        listing=dossier.listing.reason,
        inspected=seen,
    )
