"""What the first screen says of public buckets: whether the baseline forbids it, wants it, or says nothing of it."""

from __future__ import annotations

import json
from io import StringIO
from typing import Any

import msgspec
import pytest
from rich.console import Console

from rusty_lantern.core.access.policy.condition_keys import AUDIENCES
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.audit.audit import Judge, audit
from rusty_lantern.core.audit.choice import Choice
from rusty_lantern.core.audit.public_buckets import requirement_words
from rusty_lantern.core.audit.store_subject import store_subjects
from rusty_lantern.core.audit.waiver_file import read_waivers
from rusty_lantern.core.baseline.loader import read_baseline
from rusty_lantern.core.model.identity import Verb
from rusty_lantern.reports.results.exposure import exposure_result
from rusty_lantern.reports.results.of_survey import OfSurvey
from rusty_lantern.reports.results.report import _public_access
from rusty_lantern.reports.terminal.exposure import exposure_view
from rusty_lantern.simulator.demo import harbour as saltmarsh
from tests.conftest import Lived

WAIVER = """waivers:
  - {of: harbour/press-kit, fact: exposure.anyone.read, observed: open, because: meant so, by: outreach,
     since: 2026-10-01, until: 2027-01-01}
"""


def _words(require: str, choice: Choice | None = None, waivers: str = "") -> dict[str, str]:
    """Bucket → what the first screen says of it; the report's page says the same of each verb."""
    baseline = read_baseline(f"title: t\nsheets: [{{sheet: all, require: {{{require}}}}}]\n", "baseline.yaml")
    judge = Judge(baseline, saltmarsh.MOMENT, tuple(read_waivers(waivers, "waivers.yaml")) if waivers else ())
    stores = store_subjects([saltmarsh.harbour().dossier], None, saltmarsh.MOMENT)
    found = audit(stores, judge, choice=choice)
    public = {one.name: one for one in found.overview().public}
    words = {name: requirement_words(one.required, (*one.open, *one.restricted)) for name, one in public.items()}
    for row in _public_access(found.scope.buckets, found):
        told = words[row.bucket]
        assert told == "drift" or row.required in told or row.required == "as required", (row, told)
    return words


@pytest.mark.parametrize("require,bucket,words", [
    ("exposure.read: closed", "press-kit", "drift"),
    ("exposure.anyone.read: closed", "press-kit", "drift"),
    ("exposure.read: closed", "contractor-drop", "nothing required"),
    ("exposure.read: anything", "press-kit", "nothing required"),
    ("region: present", "press-kit", "nothing required"),
    ("exposure.read: open", "press-kit", "nothing required of list"),
    ("exposure.read: open, exposure.list: open", "press-kit", "as required"),
    ("exposure.read: at most restricted", "partner-feed", "as required"),
    ("exposure.beyond-trusted: closed", "press-kit", "drift"),
])  # fmt: skip
def test_public_is_as_required_only_where_something_is_required(require: str, bucket: str, words: str) -> None:
    assert _words(require)[bucket] == words


def test_a_waiver_covers_the_verb_that_it_is_about() -> None:
    required = "exposure.anyone.read: closed, exposure.list: open"
    assert _words(required)["press-kit"] == "drift"
    assert _words(required, waivers=WAIVER)["press-kit"] == "waived"


@pytest.mark.parametrize("choice", [Choice(fact="region"), Choice(severity="critical"), Choice(fact="exposure.list")])
def test_what_is_left_out_of_an_audit_is_not_as_required(choice: Choice) -> None:
    required = "exposure.read: closed, exposure.write: closed, region: present"
    assert _words(required, choice) == _words(required)


def test_the_first_screen_of_a_part_says_of_public_buckets_what_the_whole_says(lived: Lived) -> None:
    whole, part = (
        json.loads(lived.run("audit", "--json", *words).out)["overview"]["public"]
        for words in ((), ("--fact", "region"))
    )
    assert part == whole
    assert {row["required"] for row in whole} == {"drift", "as required", "waived"}


@pytest.mark.parametrize("bucket,verb", [("volunteer-forms", "read"), ("season-preview", "read")])
def test_a_verdict_on_one_audience_does_not_hide_that_another_is_unknown(bucket: str, verb: Verb) -> None:
    """Whether anyone may fetch what the requester pays for hangs on who pays; an authenticated account may anyway."""
    whole = saltmarsh.harbour().dossier
    denied: Answer[Any] = Answer("denied", note="AccessDenied")
    buckets = [msgspec.structs.replace(b, requester_pays=denied) if b.name == bucket else b for b in whole.buckets]
    stores = store_subjects([msgspec.structs.replace(whole, buckets=buckets)], None, saltmarsh.MOMENT)
    [view] = [view for view in stores[0].buckets.values() if view.name == bucket]
    levels = {audience: view.verdicts[audience, verb].level for audience in AUDIENCES}
    assert levels["anyone"] == "unknown" != levels["any-account"]

    judge = Judge(
        read_baseline("title: t\nsheets: [{sheet: s, require: {region: present}}]\n", "baseline.yaml"), saltmarsh.MOMENT
    )
    found = audit(stores, judge)
    [public] = [one for one in found.overview().public if one.name == bucket]
    assert verb in public.unknown
    about = OfSurvey(survey="s", as_of=saltmarsh.MOMENT)
    screen = Console(file=StringIO(), width=120)
    exposure_view(screen, exposure_result([view], about, None))
    told = screen.file.getvalue()  # type: ignore[attr-defined]
    assert f"{levels['any-account']}*?" in told and f"{verb} by anyone: who pays for requests" in told
    if levels["any-account"] == "open":
        [row] = [one for one in _public_access([view], found) if one.verb == verb]
        assert row.because.endswith("; by anyone: unknown")
