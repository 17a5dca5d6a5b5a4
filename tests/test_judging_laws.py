"""Judging many buckets at once is judging each of them."""

from __future__ import annotations

import msgspec
from hypothesis import given, settings
from hypothesis import strategies as st

from rusty_lantern.core.answer import Answer
from rusty_lantern.core.audit.audit import Judge, audit
from rusty_lantern.core.audit.store_subject import store_subjects
from rusty_lantern.core.baseline.loader import read_baseline
from rusty_lantern.core.config.estate_file import read_estate
from rusty_lantern.simulator.demo import harbour
from tests.subjects import every_finding

ESTATE = """
estate: many
stores:
  harbour:
    at: http://127.0.0.1:9
    plain-http: allowed
    credential: {profile: x}
"""
STATED = """
    stated:
      - {fact: logging, is: "on", because: its owner says so, until: 2027-01-01}
"""
BASELINE = """
title: many
sensitive: {tags.class: restricted}
sheets:
  - sheet: every bucket
    require:
      exposure.read: closed
      versioning: "on"
      encryption.at-rest: at least provider-managed
      lock.mode: governance or absent
      logging: "on"
      created: at most 2026-01-01
      objects.encryption: at least provider-managed
  - sheet: those with logs
    of: {logging: "on"}
    require: {versioning: suspended, tags.steward: present, access.outside: "within [read]"}
"""


@settings(deadline=None, max_examples=40)
@given(st.data())
def test_buckets_that_are_judged_together_are_judged_as_each_alone(data: st.DataObject) -> None:
    """Whatever is denied, hidden or stated of some; what is ok too."""
    dossier = harbour.harbour().dossier
    wanting = [
        msgspec.structs.replace(
            one, **{name: Answer(data.draw(st.sampled_from(["denied", "absent", "failed"]))) for name in names}
        )
        for one in data.draw(st.lists(st.sampled_from(dossier.buckets), min_size=2, max_size=8, unique_by=id))
        for names in [data.draw(st.sets(st.sampled_from(["versioning", "logging", "policy", "tags", "lock", "acl"])))]
    ]
    estate = read_estate(ESTATE + data.draw(st.sampled_from(["", STATED])), "estate.yaml")
    judge = Judge(read_baseline(BASELINE, "b"), harbour.MOMENT)
    stores = store_subjects([msgspec.structs.replace(dossier, buckets=wanting)], estate, harbour.MOMENT)
    alone = [finding for view in stores[0].buckets.values() for finding in judge.findings(view)]
    together = [finding for finding in every_finding(audit(stores, judge)) if finding.kind == "bucket"]
    assert together == sorted(alone, key=lambda one: (one.key, one.requirement.place.line))
