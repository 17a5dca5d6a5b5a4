"""Each reason why something is unknown names what settles it, and all of it where several things are missing."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import msgspec
import pytest

from rusty_lantern.core.answer import Answer, Evidence
from rusty_lantern.core.audit.unknown_reasons import OTHERWISE, UnknownReason, settled_by, unknown_reasons
from rusty_lantern.core.baseline.evaluation import Finding
from rusty_lantern.core.baseline.loader import Requirement, read_baseline
from rusty_lantern.core.errors import Place
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.simulator.demo import harbour as saltmarsh
from tests.conftest import whole_or
from tests.subjects import audited
from tests.test_unread_laws import DENIED, ESTATE

DEMO = Path(saltmarsh.__file__).parent / "files"
LOOK, SURVEY = "lantern survey --objects all", "then: lantern survey"
UNNAMED = (
    "the store answers the Swift protocol as well, at https://lagoon.example, and estate.yaml does not name that door"
)


def unknown(reason: str, *, question: str = "", fact: str = "exposure.read", bucket: str = "tide-logs") -> Finding:
    requirement = Requirement(fact, None, "high", "", Place("baseline.yaml", 6), "every bucket")
    observed: Answer[Any] = Answer("failed", None, reason, Evidence(question))
    return Finding("harbour", bucket, requirement, observed, "unknown", reason)


@pytest.mark.parametrize(("reason", "steps"), [
    (f"the container ACL could not be read ({UNNAMED})", ["name that door in estate.yaml"]),
    (f"the container ACL could not be read ({UNNAMED}); objects may have their own ACLs: no object ACLs were read",
     ["name that door in estate.yaml", LOOK]),
    ("the container ACL could not be read (its Swift door https://lagoon.example was not read: no token)",
     ["put that door's address and credential right in estate.yaml"]),
    ("the container ACL could not be read (its Swift door https://lagoon.example was not read: cannot connect)",
     ["lantern reach shows when it answers again"]),
    ("objects may have their own ACLs: no object ACLs were read; 3 objects were not inspected", [LOOK]),
    ("they hold for whoever sends no credentials, and the store's users were not read; a dossier beside the store can "
     "name them (not asked: estate.yaml names no identity service of the store)", ["name a dossier or an export"]),
    ("not in the dossier", ["have the document tell it too"]),
    ("no usable answer", [OTHERWISE]),
    ("no usable answer; objects may have their own ACLs: no object ACLs were read", [LOOK]),
])  # fmt: skip
def test_every_part_of_a_reason_has_its_step(reason: str, steps: list[str]) -> None:
    told = settled_by(unknown(reason)).split("; and ")
    assert len(told) == len(steps) and all(one.startswith(step) for one, step in zip(told, steps, strict=True)), told


def test_what_is_denied_names_the_permission_of_its_question_and_no_other_part_does() -> None:
    reason = "the policy could not be read (denied: 403); objects may have their own ACLs: no object ACLs were read"
    told = settled_by(unknown(reason, question="GET /tide-logs?policy"))
    assert told == f"allow s3:GetBucketPolicy to the surveying credential, {SURVEY}; and {LOOK}"


def test_one_reason_of_several_subjects_is_there_once_with_the_facts_that_it_is_about() -> None:
    reason = "objects may have their own ACLs: no object ACLs were read"
    several = [
        unknown(reason), unknown(reason, bucket="maps"), unknown(reason, fact="exposure.list"),
        unknown("no usable answer"),
    ]  # fmt: skip
    assert unknown_reasons(several) == (
        UnknownReason(reason, ("harbour/tide-logs", "harbour/maps"), 3, ("exposure.read", "exposure.list"), LOOK),
        UnknownReason("no usable answer", ("harbour/tide-logs",), 1, ("exposure.read",), OTHERWISE),
    )


HIDDEN: Answer[Any] = Answer("hidden", None, "omitted")


def without(dossier: Dossier, field: str, answer: Answer[Any], *, of_buckets: bool) -> Dossier:
    """The dossier with another answer in one place, or in that place of each of its buckets."""
    if not of_buckets:
        return msgspec.structs.replace(dossier, **{field: answer})
    return msgspec.structs.replace(
        dossier, buckets=[msgspec.structs.replace(b, **{field: answer}) for b in dossier.buckets]
    )


def answers_of(part: object) -> list[str]:
    assert isinstance(part, msgspec.Struct)
    return [name for name in part.__struct_fields__ if isinstance(getattr(part, name), Answer)]


@pytest.mark.parametrize("store", ["harbour", "seaweed", "slipway", "boathouse", "undercroft"])
def test_whatever_is_denied_or_not_shown_something_is_said_that_settles_it(store: str) -> None:
    baseline = read_baseline((DEMO / "baseline.yaml").read_text(), "baseline.yaml")
    dossier = ESTATE[store]
    fields = [(name, False) for name in answers_of(dossier)]
    fields += [(name, True) for name in answers_of(dossier.buckets[0])]
    seen = 0
    for number, (field, of_buckets) in enumerate(fields):
        if number % whole_or(3, 1):
            continue
        less = without(dossier, field, HIDDEN if number % 2 else DENIED, of_buckets=of_buckets)
        for one in audited([less], baseline, saltmarsh.MOMENT).overview().unknown:
            assert one.settled_by != OTHERWISE, (field, one.reason)
            seen += 1
    assert seen
