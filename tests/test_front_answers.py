"""Something in front of a store answers one question in its place: nothing then looks otherwise than it is."""

from __future__ import annotations

import asyncio
import random
import shutil
from collections import Counter
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import msgspec
import pytest

from rusty_lantern.archive.surveys import load
from rusty_lantern.archive.workspace import Workspace
from rusty_lantern.cli.counting import VersionTables
from rusty_lantern.core.answer import Answer, Fact
from rusty_lantern.core.audit.audit import Judge
from rusty_lantern.core.audit.store_subject import StoreSubject, store_subjects
from rusty_lantern.core.config.estate import Estate
from rusty_lantern.core.facts.catalogue import REGISTER
from rusty_lantern.core.facts.objects import SCOPES, needs_old_versions
from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.stores.http.client import Client
from rusty_lantern.stores.http.question import Question
from rusty_lantern.stores.http.refusal import NO_LISTING
from rusty_lantern.stores.http.reply import Reply
from rusty_lantern.survey.run import SurveyPlan, read_all
from tests.conftest import Whole

MOMENT = datetime(2026, 11, 2, 6, tzinfo=UTC)
PAGE = b"<html><body>nope</body></html>"
SAID = [
    *(Reply(status, {"content-type": "text/html"}, PAGE) for status in (200, 401, 403, 404, 405, 501)),
    *(Reply(200, {"content-type": "application/json"}, body) for body in (b"", b"{}", b"[]", b"null")),
    Reply(200, {}, b"<a/>"), Reply(204, {}, b""), Reply(404, {}, b""),
]  # fmt: skip
FEW = ("gallery-web", "press-kit", "payroll-drop")
TRIED = 14
"""Questions of each store that are answered so, each in one way; another seed tries others."""
Asked = tuple[str, str, str]
Named = tuple[str, str, str]
"""Kind, name, fact."""
TOLD_OTHERWISE = {"store.unread-doors", "store.software"}
"""Facts that say what was not read, or not recognized."""


def everything(store: StoreSubject) -> Iterator[tuple[Named, Fact]]:
    """Every fact of every subject of a store, and what each identity may do."""
    for view in store.buckets.values():
        yield from (((view.kind, view.name, name), fact) for name, fact in view.facts().items())
    for subject in store.subjects():
        names = [name for name, entry in REGISTER.items() if entry.subject == subject.kind and not subject.unseen]
        yield from (((subject.kind, subject.label, name), subject.fact(name)) for name in names)
    for identity in store.index.dossier.identities.value or ():
        yield ("may", identity.name, ""), store.of_identity(identity)


def unread_sections(store: StoreSubject) -> set[str]:
    """Kinds of which not all there are were told."""
    found = {subject.kind for subject in store.subjects() if subject.unseen}
    names = {identity.name for identity in store.index.dossier.identities.value or ()}
    if "any role" in names or "identity" in found:
        found |= {"identity", "may"}
    return found | ({"bucket"} if not store.index.dossier.listing.settled else set())


def numbers(found: Iterable[Named]) -> Counter[str]:
    """How many subjects of each kind there are; what one is called may hang on an answer too."""
    return Counter(kind for kind, _ in {named[:2] for named in found})


@dataclass
class InFront:
    """Surveys a store of the demo, with something in front that answers some questions itself."""

    folder: Path
    estate: Estate
    probe: bool = False
    asked: dict[Asked, None] = field(default_factory=dict)
    instead: dict[Asked, Reply] = field(default_factory=dict)
    surveys: int = 0

    def surveyed(self) -> StoreSubject:
        self.surveys += 1
        plan = SurveyPlan(self.estate, self.folder, MOMENT, probe=self.probe)
        (dossier,) = asyncio.run(read_all(plan, self.folder / f"front-{self.surveys}.partial" / "journal"))
        return store_subjects([dossier], self.estate, MOMENT)[0]


@pytest.fixture
def in_front(whole: Whole, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Callable[[str], InFront]:
    """Something in front of the store of a name."""
    answer = Client._once

    def put(name: str) -> InFront:
        estate = Workspace(whole.folder).estate()
        store = next(store for store in estate.stores if store.name == name)
        if name == "harbour":
            store = msgspec.structs.replace(store, only=FEW)
        shutil.copytree(whole.folder, tmp_path / "ws")
        made = InFront(tmp_path / "ws", msgspec.structs.replace(estate, stores=(store,), mirrors=()))

        async def once(client: Client, question: Question, within: float) -> Reply:
            asked = (question.method, question.path, question.query)
            made.asked[asked] = None
            reply = await answer(client, question, within)
            return made.instead.get(asked, reply)

        monkeypatch.setattr(Client, "_once", once)
        return made

    return put


@pytest.mark.parametrize("name", ["harbour", "cove", "lagoon", "slipway"])
def test_an_answer_of_something_in_front_never_yields_another_settled_value(
    in_front: Callable[[str], InFront], name: str
) -> None:
    front = in_front(name)
    known = dict(everything(front.surveyed()))
    dice = random.Random(3)
    for question in dice.sample(list(front.asked), TRIED):
        front.instead = {question: dice.choice(SAID)}
        found = front.surveyed()
        told, words = dict(everything(found)), front.instead
        for key, fact in told.items():
            before = known.get(key, Answer("failed"))
            same = before.settled and before.value == fact.value
            assert same or not fact.settled or key[2] in TOLD_OTHERWISE or key not in known, (words, key, before, fact)
        fewer = {kind for kind, number in numbers(known).items() if numbers(told)[kind] < number}
        assert fewer <= unread_sections(found), (words, fewer)


@pytest.mark.parametrize(("name", "keys"), [("harbour", "max-keys=50"), ("lagoon", "limit=50"), ("slipway", "max")])
def test_where_no_object_is_told_the_anonymous_test_of_reading_was_not_made(
    in_front: Callable[[str], InFront], name: str, keys: str
) -> None:
    front = in_front(name)
    front.probe = True
    before = {view.name: view.probed for view in front.surveyed().buckets.values()}
    assert {"agrees"} <= {fact.value for fact in before.values()}
    front.instead = {asked: Reply(404, {}, PAGE) for asked in front.asked if keys in asked[2]}
    assert len(front.instead) >= len(before)
    after = {view.name: view.probed for view in front.surveyed().buckets.values()}
    assert "agrees" not in {fact.value for fact in after.values()}, after


@pytest.mark.parametrize(
    ("name", "mark"), [("harbour", "list-type=2&max-keys=1"), ("lagoon", "limit=1"), ("slipway", "maxresults=1")]
)
def test_a_page_in_place_of_an_anonymous_listing_lets_nobody_in(
    in_front: Callable[[str], InFront], name: str, mark: str
) -> None:
    """A sign-in page of a proxy comes with 200 too."""
    front = in_front(name)
    front.probe = True
    front.surveyed()
    lists = [asked for asked in front.asked if asked[2].endswith(mark) or f"{mark}&" in f"{asked[2]}&"]
    front.instead = {asked: Reply(200, {"content-type": "text/html"}, PAGE) for asked in lists}
    assert front.instead, [asked for asked in front.asked if "max" in asked[2] or "limit" in asked[2]]
    listed = [
        answer
        for view in front.surveyed().buckets.values()
        for answer in view.bucket.anonymous_test.value or ()
        if answer.verb == "list" and not answer.door
    ]
    assert listed
    assert {(answer.let_in, answer.answer) for answer in listed} == {(None, NO_LISTING)}


@pytest.mark.parametrize("state", ["denied", "hidden", "failed"])
def test_old_versions_that_were_not_listed_leave_nothing_of_every_version_ok(state: str, whole: Whole) -> None:
    """Of every bucket of the demo that has a version table, and has, or may have, old versions."""
    place = Workspace(whole.folder)
    survey = load(place.surveys, None)
    when, judge = survey.manifest.taken, Judge(place.baseline(), survey.manifest.taken)

    def statuses(change: Callable[[Bucket], Bucket]) -> dict[tuple[str, str, str], str]:
        dossiers = [msgspec.structs.replace(d, buckets=list(map(change, d.buckets))) for d in survey.dossiers]
        stores = store_subjects(dossiers, place.estate(), when)
        views = [view for store in stores for view in store.buckets.values() if view.table.value]
        tallies = VersionTables(place, survey, when).tallies(judge, views)
        findings = (one for view in views for one in judge.findings(view, tallies) if one.requirement.fact in SCOPES)
        return {(one.store, one.name, one.requirement.fact): one.status for one in findings}

    lost: Answer[Any] = Answer(state, None, "no")  # type: ignore[arg-type]
    before = statuses(lambda bucket: bucket)
    after = statuses(lambda bucket: msgspec.structs.replace(bucket, versions=lost, versioning=lost))
    about_all = {one for one in after if needs_old_versions(one[2])}
    assert "ok" in {before[one] for one in about_all & before.keys()}, "there is something to lose"
    assert {after[one] for one in about_all} == {"unknown", "drift"}
    assert {one: after[one] for one in after.keys() - about_all} == {
        one: before[one] for one in before.keys() - about_all
    }
