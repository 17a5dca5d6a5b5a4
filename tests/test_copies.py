"""What the store copies between buckets: who reads a copy, and who writes to what is copied."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import msgspec
import pytest

from rusty_lantern.archive.surveys import save
from rusty_lantern.archive.workspace import make
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.audit.store_subject import views
from rusty_lantern.core.model.bucket import Bucket, ReplicationRule
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.reports.results.copies import who_can_by_copies
from rusty_lantern.reports.results.exposure import exposure_row
from rusty_lantern.simulator.demo import harbour as saltmarsh
from rusty_lantern.simulator.demo.workspace_files import workspace_files
from tests.conftest import lantern

WHOLE = saltmarsh.harbour().dossier
OPEN, LIMITED, SHUT = "contractor-drop", "partner-feed", "reedbed-notes"
"""Anyone writes to the first, its partner reads the second, nobody gets into the third."""
DENIED: Answer[Any] = Answer("denied", note="AccessDenied")


def store(**rules: Answer[Any] | list[str]) -> Dossier:
    """The harbour, with these buckets copied to these; every other one to none."""
    written = {name.replace("_", "-"): rule for name, rule in rules.items()}

    def copied(bucket: Bucket) -> Bucket:
        to = written.get(bucket.name, Answer("absent"))
        answer = to if isinstance(to, Answer) else Answer("known", [ReplicationRule(target) for target in to])
        return msgspec.structs.replace(bucket, replication=answer)

    return msgspec.structs.replace(WHOLE, buckets=[copied(bucket) for bucket in WHOLE.buckets])


def fact(dossier: Dossier, bucket: str, name: str) -> tuple[str, object]:
    [view] = [view for view in views([dossier], None, saltmarsh.MOMENT) if view.name == bucket]
    answer = view.fact(f"replication.{name}")
    return answer.state, answer.value


@pytest.mark.parametrize(
    ("source", "level"), [(OPEN, "open"), (LIMITED, "closed"), ("tmp-exchange", "open"), ("payroll-drop", "open")]
)
def test_who_writes_to_what_is_copied_writes_to_the_copy(source: str, level: str) -> None:
    dossier = store(**{source: [SHUT]})
    assert fact(dossier, SHUT, "sources") == ("known", source)
    assert fact(dossier, SHUT, "source-exposure") == ("known", level)
    assert fact(dossier, source, "source-exposure") == ("known", "closed")


@pytest.mark.parametrize(
    ("target", "level"),
    [("gallery-web", "open"), ("gallery-prints", "open"), (LIMITED, "restricted"), (OPEN, "closed"), (SHUT, "closed")],
)
def test_who_reads_the_copy_reads_what_is_copied(target: str, level: str) -> None:
    dossier = store(boat_logs=[target])
    assert fact(dossier, "boat-logs", "target-exposure") == ("known", level)
    assert fact(dossier, "boat-logs", "target") == ("known", target)


def test_of_several_the_widest_counts() -> None:
    assert fact(store(boat_logs=[SHUT, "gallery-web", LIMITED]), "boat-logs", "target-exposure") == ("known", "open")
    several = store(**{OPEN: [SHUT], "boat-logs": [SHUT]})
    assert fact(several, SHUT, "sources") == ("known", f"boat-logs, {OPEN}")
    assert fact(several, SHUT, "source-exposure") == ("known", "open")


def test_what_is_copied_nowhere_and_from_nowhere_has_no_copies() -> None:
    for name in ("target-exposure", "source-exposure"):
        assert fact(store(), SHUT, name) == ("known", "closed")
    assert fact(store(), SHUT, "sources") == ("absent", None)
    assert fact(store(reedbed_notes=[SHUT]), SHUT, "sources") == ("absent", None)  # itself


def test_a_target_that_is_not_in_the_store_may_be_read_by_anybody() -> None:
    assert fact(store(boat_logs=["far-away"]), "boat-logs", "target-exposure") == ("failed", None)
    assert fact(store(boat_logs=["far-away", SHUT]), "boat-logs", "target-exposure") == ("failed", None)
    assert fact(store(boat_logs=["far-away", "gallery-web"]), "boat-logs", "target-exposure") == ("known", "open")
    assert fact(store(boat_logs=["//realm/cluster/AUTH_deck/notes"]), "boat-logs", "target-exposure")[0] == "failed"


def test_where_it_was_not_read_whether_another_is_copied_nobody_knows_who_writes() -> None:
    unread = store(**{OPEN: DENIED})
    assert fact(unread, OPEN, "target-exposure") == ("denied", None)
    assert fact(unread, SHUT, "sources") == fact(unread, SHUT, "source-exposure") == ("denied", None)
    assert fact(unread, OPEN, "sources") == ("absent", None)  # its own rule says nothing of that
    one_more = store(**{OPEN: DENIED}, payroll_drop=[SHUT])
    assert fact(one_more, SHUT, "source-exposure") == ("known", "open")  # the widest there is
    assert fact(store(**{OPEN: DENIED}, **{LIMITED: [SHUT]}), SHUT, "source-exposure") == ("denied", None)
    gone = msgspec.structs.replace(DENIED.evidence, answer="404 NoSuchBucket")
    assert fact(store(boat_logs=Answer("failed", None, "gone", gone)), SHUT, "sources") == ("absent", None)


def test_one_that_the_public_does_not_write_to_adds_nothing_whatever_it_is_copied_into() -> None:
    unread = store(boat_logs=DENIED)
    assert fact(unread, SHUT, "sources") == ("denied", None)
    assert fact(unread, SHUT, "source-exposure") == ("known", "closed")
    assert fact(store(boat_logs=DENIED, **{LIMITED: [SHUT]}), SHUT, "source-exposure") == ("known", "closed")
    elsewhere = f"//realm/cluster/AUTH_deck/{SHUT}"
    assert fact(store(boat_logs=[elsewhere]), SHUT, "source-exposure") == ("known", "closed")
    assert fact(store(**{OPEN: [elsewhere]}), SHUT, "source-exposure") == ("failed", None)
    itself = msgspec.structs.replace(
        unread,
        buckets=[msgspec.structs.replace(b, policy=DENIED) if b.name == "boat-logs" else b for b in unread.buckets],
    )
    assert fact(itself, SHUT, "source-exposure") == ("denied", None)


def test_an_address_that_may_mean_this_bucket_and_a_list_that_is_not_whole_leave_it_open() -> None:
    assert fact(store(boat_logs=[f"//realm/cluster/AUTH_deck/{SHUT}"]), SHUT, "sources") == ("failed", None)
    partly = msgspec.structs.replace(store(), listing=Answer("failed", note="the second page was refused"))
    assert fact(partly, SHUT, "sources") == fact(partly, SHUT, "source-exposure") == ("failed", None)
    assert fact(store(reedbed_notes=Answer("unsupported")), SHUT, "sources") == ("unsupported", None)


def test_one_whose_own_rules_were_not_read_is_not_closed_by_way_of_its_copies() -> None:
    dossier = store(**{LIMITED: [SHUT], "boat-logs": [LIMITED]})
    unread = [msgspec.structs.replace(b, policy=DENIED) if b.name == LIMITED else b for b in dossier.buckets]
    dossier = msgspec.structs.replace(dossier, buckets=unread)
    assert fact(dossier, SHUT, "source-exposure")[1] is fact(dossier, "boat-logs", "target-exposure")[1] is None


def test_where_only_a_part_is_copied_it_may_be_a_part_that_the_public_does_not_reach() -> None:
    def part(*rules: ReplicationRule) -> Answer[Any]:
        return Answer("known", list(rules))

    narrow = ReplicationRule(SHUT, "Prefix")
    assert fact(store(**{OPEN: part(narrow)}), SHUT, "source-exposure") == ("failed", None)
    assert fact(store(boat_logs=part(narrow)), SHUT, "source-exposure") == ("known", "closed")
    assert fact(store(**{OPEN: part(narrow, ReplicationRule(SHUT))}), SHUT, "source-exposure") == ("known", "open")
    assert fact(store(**{OPEN: part(ReplicationRule(SHUT), narrow)}), SHUT, "source-exposure") == ("known", "open")
    public = part(ReplicationRule("gallery-web", "Tag"))
    assert fact(store(boat_logs=public), "boat-logs", "target-exposure") == ("failed", None)


def test_whether_what_is_a_copy_is_copied_on_is_not_known() -> None:
    chain = store(**{OPEN: ["boat-logs"], "boat-logs": [SHUT]})
    assert fact(chain, "boat-logs", "source-exposure") == ("known", "open")
    assert fact(chain, SHUT, "sources") == ("known", "boat-logs")
    assert fact(chain, SHUT, "source-exposure") == ("failed", None)
    assert fact(store(**{LIMITED: ["boat-logs"], "boat-logs": [SHUT]}), SHUT, "source-exposure") == ("known", "closed")
    read = store(reedbed_notes=["boat-logs"], boat_logs=["gallery-web"])
    assert fact(read, "boat-logs", "target-exposure") == ("known", "open")
    assert fact(read, SHUT, "target-exposure") == ("failed", None)
    assert fact(store(reedbed_notes=["boat-logs"], boat_logs=[OPEN]), SHUT, "target-exposure") == ("known", "closed")
    ring = store(**{OPEN: [SHUT], SHUT: [OPEN]})
    assert fact(ring, SHUT, "source-exposure") == ("known", "open")
    assert fact(ring, OPEN, "target-exposure") == ("known", "closed")


def test_where_a_copy_may_be_copied_on_nobody_knows_who_gets_at_it() -> None:
    unread = store(reedbed_notes=["boat-logs"], boat_logs=DENIED)
    assert fact(unread, SHUT, "target-exposure") == ("denied", None)
    assert fact(unread, "payroll-drop", "source-exposure") == ("known", "closed")
    fed = store(**{OPEN: ["boat-logs"]}, boat_logs=DENIED)
    assert fact(fed, SHUT, "source-exposure") == ("denied", None)


def test_an_answer_that_is_denied_never_makes_another_fact_of_copies_certain() -> None:
    chain = store(**{OPEN: ["boat-logs"], "boat-logs": [SHUT], SHUT: ["gallery-web"], LIMITED: [SHUT]})
    names = [OPEN, LIMITED, "boat-logs", SHUT, "gallery-web", "payroll-drop"]
    facts = [(one, name) for one in names for name in ("sources", "source-exposure", "target", "target-exposure")]
    before = {one: fact(chain, *one) for one in facts}
    lost = 0
    for number, bucket in enumerate(chain.buckets):
        for field in ("replication", "policy", "acl", "ownership", "object_acls"):
            buckets = list(chain.buckets)
            buckets[number] = msgspec.structs.replace(bucket, **{field: DENIED})
            denied = msgspec.structs.replace(chain, buckets=buckets)
            after = {one: fact(denied, *one) for one in facts if bucket.name in names or one[0] == SHUT}
            changed = {one: told for one, told in after.items() if told != before[one]}
            assert {state for state, _ in changed.values()} <= {"denied", "failed"}, (bucket.name, field, changed)
            lost += len(changed)
    assert lost > 20


def test_exposure_tells_what_the_public_can_do_by_way_of_copies() -> None:
    dossier = store(
        **{OPEN: [SHUT], "camera-traps": ["gallery-web"], "boat-logs": ["far-away"], LIMITED: ["payroll-drop"]}
    )
    told = {
        view.name: [(one.verb, one.level) for one in exposure_row(view).by_copies]
        for view in views([dossier], None, saltmarsh.MOMENT)
    }
    assert {name: ways for name, ways in told.items() if ways} == {
        SHUT: [("write", "open")],
        "camera-traps": [("read", "open")],
        "boat-logs": [("read", "unknown")],
        LIMITED: [("read", "open")],
    }


def by_copies(dossier: Dossier, bucket: str) -> list[tuple[str, str, str, bool, bool]]:
    """Verb, the other bucket, the one in between, whether the public is among those who can, and whether others may."""
    [view] = [view for view in views([dossier], None, saltmarsh.MOMENT) if view.name == bucket]
    rows = who_can_by_copies(view)
    return [(one.verb, one.other, one.between, "anyone" in one.names, bool(one.unknown_because)) for one in rows]


def test_access_tells_who_gets_at_a_bucket_by_way_of_its_copies() -> None:
    chain = store(**{OPEN: ["boat-logs"], "boat-logs": [SHUT], SHUT: ["gallery-web", "far-away"]})
    assert by_copies(chain, SHUT) == [
        ("write", "boat-logs", "", False, False), ("write", OPEN, "boat-logs", True, True),
        ("list", "far-away", "", False, True), ("read", "far-away", "", False, True),
        ("list", "gallery-web", "", False, False), ("read", "gallery-web", "", True, False),
    ]  # fmt: skip
    assert by_copies(store(), SHUT) == []
    unread = store(boat_logs=DENIED, **{SHUT: ["boat-logs"]})
    assert by_copies(unread, SHUT) == [
        ("write", "", "", False, True),
        ("list", "boat-logs", "", False, False), ("read", "boat-logs", "", False, False),
        ("list", "", "boat-logs", False, True), ("read", "", "boat-logs", False, True),
    ]  # fmt: skip
    assert by_copies(unread, "boat-logs") == [
        ("write", SHUT, "", False, False), ("list", "", "", False, True), ("read", "", "", False, True)
    ]  # fmt: skip


def test_access_says_first_who_could_not_do_it_without_the_copies(tmp_path: Path) -> None:
    make(tmp_path / "ws", workspace_files("http://127.0.0.1:9"))
    save(tmp_path / "ws/surveys", "x", saltmarsh.MOMENT, [store(**{OPEN: [SHUT]}, boat_logs=DENIED)])
    told = lantern("access", f"harbour/{SHUT}", cwd=tmp_path / "ws").out
    assert f"write  {OPEN} is copied here: anyone, any-account and 3 who can anyway\n" in told
    assert "write  unknown: whether boat-logs is copied here: denied to this credential: AccessDenied\n" in told
    assert "By copies" not in lantern("access", f"harbour/{SHUT}", "--can", "list", cwd=tmp_path / "ws").out
    why = lantern("why", f"harbour/{SHUT}", "--verb", "write", cwd=tmp_path / "ws").out
    assert (
        f"refused: nothing allows it\ncopies that the store makes go past these rules: {OPEN} is copied here\n" in why
    )
    perhaps = lantern("why", "harbour/payroll-drop", "--verb", "write", cwd=tmp_path / "ws").out
    assert "whether the store makes copies that go past these rules is unknown\n" in perhaps
    copied = lantern("access", f"harbour/{OPEN}", cwd=tmp_path / "ws").out
    assert f"read   copied to {SHUT}: 4 who can anyway\n" in copied


def test_buckets_that_are_closed_by_their_rules_are_no_closed_ones_where_other_ways_in_are_unknown(
    tmp_path: Path,
) -> None:
    def closed(name: str, dossier: Dossier) -> str:
        make(tmp_path / name, workspace_files("http://127.0.0.1:9"))
        save(tmp_path / name / "surveys", "x", saltmarsh.MOMENT, [dossier])
        [line] = [one for one in lantern("exposure", cwd=tmp_path / name).out.splitlines() if "closed to the" in one]
        return line.partition("closed to the public")[2]

    assert closed("known", store()) == ""
    assert closed("copies", store(boat_logs=DENIED)) == "; unknown: ways in by copies in 1 of them"
    people = msgspec.structs.replace(store(boat_logs=DENIED), identities=DENIED)
    assert re.fullmatch(r"; unknown: ways in by copies in 1 and through roles in 1\d of them", closed("roles", people))
