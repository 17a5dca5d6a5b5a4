"""Exported documents that do not tell all that there is: nothing of what they leave out is told as not set."""

from __future__ import annotations

import json
from collections.abc import Iterator
from copy import deepcopy
from pathlib import Path
from typing import Any

import pytest

from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.audit.store_subject import store_subjects
from rusty_lantern.core.errors import BadInput
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.core.model.store_index import StoreIndex
from rusty_lantern.intake.exported import assembled, shipped_layouts
from tests.conftest import lantern, whole_or
from tests.test_exports import EXAMPLES, LAYOUT, MOMENT, bucket_of, items, told

RULES = """\
  - documents: ["rules*.json"]
    rows: $.rules[?@.of && @.days]
    joins: of
    covers-every: [lock]
    fields:
      lock: {enabled: {is: "yes"}, mode: {is: governance}, retention: {at: days, unit: days}}
  - documents: ["grants*.json"]
    rows: $.groups[*].on[*]
    joins: bucket
    covers-every: [rights]
    fields:
      rights: {to: {is: group}, identity: ^.name, verbs: {is: [read]}}
groups:
  documents: ["grants*.json"]
  rows: $.groups[*]
  fields: {name: name, members: {each: "members[*]", of: $}}
"""
LOCK = {"of": "a", "days": 30}
RANGERS = {"name": "rangers", "members": ["ivy"], "on": [{"bucket": "a"}]}
WARDENS = {"name": "wardens", "members": [], "on": [{"bucket": "b"}]}


def of(rules: Any = None, groups: Any = None) -> Dossier:
    """Two buckets, what locks them, and the groups that may read them."""
    more = {"rules.json": {"rules": [LOCK] if rules is None else rules}}
    more |= {"grants.json": {"groups": [RANGERS, WARDENS] if groups is None else groups}}
    return told(items({"name": "a"}, {"name": "b"}) | more, LAYOUT + RULES).dossier


def test_documents_that_list_all_are_believed() -> None:
    whole = of()
    assert (bucket_of(whole, "a").lock.state, bucket_of(whole, "b").lock.state) == ("known", "absent")
    assert [right.identity for right in bucket_of(whole, "b").rights.value or ()] == ["wardens"]
    assert [group.members for group in whole.groups.value or ()] == [["ivy"], []]
    assert whole.listing.value == 2


@pytest.mark.parametrize(
    "rules", [[LOCK, {"of": "b"}], [LOCK, {"days": 30}], [LOCK, None], [LOCK, {}], [LOCK, "denied"], [{"of": "b"}]]
)
def test_a_row_of_another_shape_may_be_what_is_not_told_of_any_other_bucket(rules: list[Any]) -> None:
    lock = bucket_of(of(rules), "b").lock
    assert lock.unread, lock


def test_a_mark_that_the_list_goes_on_leaves_it_open_what_there_is_more() -> None:
    documents = items({"name": "a"}) | {"rules.json": {"rules": [LOCK], "next": "eyJw"}}
    documents["buckets.json"]["next"] = "page-2"
    first = told(documents, LAYOUT + RULES).dossier
    assert first.listing.unread
    assert first.listing.note == "buckets.json has more than the layout takes, at /next: map it, or leave it out"
    left_out = LAYOUT.replace("leave-out: [etag]", "leave-out: [etag, ^.next]")
    assert told(documents, left_out + RULES).dossier.listing.value == 1


def test_more_users_than_were_exported_are_one_of_whom_nothing_is_known() -> None:
    people = 'identities: {documents: ["users*.json"], rows: "$.users[*]", fields: {name: name, policies: {is: []}}}\n'
    documents = items({"name": "a"}) | {"users.json": {"users": [{"name": "ivy"}], "truncated": True}}
    named = {one.name: one.policies.state for one in told(documents, LAYOUT + people).dossier.identities.value or ()}
    assert named == {"ivy": "known", "any user": "failed"}


@pytest.mark.parametrize("hole", ["gone", None])
def test_a_group_without_its_list_of_buckets_may_reach_every_bucket(hole: str | None) -> None:
    group: dict[str, Any] = {"name": "wardens", "members": []}
    if hole is None:
        group["on"] = None
    dossier = of(groups=[RANGERS, group])
    assert bucket_of(dossier, "a").rights.unread and bucket_of(dossier, "b").rights.unread


@pytest.mark.parametrize(
    "group,words",
    [
        ({"name": "wardens", "on": []}, 'at /groups/1: "members" is not here; under covers: members, that means none'),
        ({"name": "wardens", "members": ["otter", None], "on": []}, "at /groups/1/members/1: null is here"),
        (None, "at /groups/1: null is here, where an entry is wanted"),
    ],
)
def test_a_group_whose_members_are_not_told_is_no_empty_group(group: Any, words: str) -> None:
    with pytest.raises(BadInput, match=words.replace("/", "[/]")):
        of(groups=[RANGERS, group])


def test_a_refusal_in_the_place_of_one_row_is_no_row_without_anything() -> None:
    part = (
        '  - {documents: ["b*.json"], rows: "$[*]", joins: of, covers: [region], fields: {region: place}, '
        "leave-out: [etag]}\n"
    )
    layout = LAYOUT.replace('["buckets*.json"]', '["items.json"]') + part
    rows = [{"of": "a", "etag": "1"}, {"of": "b", "error": {"code": 403}}]
    dossier = told({"items.json": {"items": [{"name": "a"}, {"name": "b"}]}, "b.json": rows}, layout).dossier
    refused = bucket_of(dossier, "b").region
    assert bucket_of(dossier, "a").region.state == "absent"
    assert refused.unread and "b.json says nothing of it that the layout knows, at /1" in refused.note


def test_a_switch_that_is_not_there_is_not_off() -> None:
    def rights(may: dict[str, Any], layout: str = LAYOUT) -> Any:
        return told(items({"name": "a", "grants": [{"who": "all", "may": may}]}), layout).dossier.buckets[0].rights

    assert [right.verbs for right in rights({"read": True, "list": False}).value] == [["read"]]
    assert rights({"list": False}).unread and rights({"read": None, "list": False}).unread
    off = LAYOUT.replace("{read: may.read, list: may.list}", '{read: may.read, list: may.list}, default: "no"')
    assert [right.verbs for right in rights({"read": True}, off).value] == [["read"]]


def test_a_word_without_a_meaning_for_several_fields_is_an_error_with_its_place() -> None:
    layout = LAYOUT.replace(
        "      name: name\n",
        '      name: name\n      "*": {at: sort, words: {a: {region: north}}, otherwise: unread}\n',
    )
    assert told(items({"name": "a", "sort": "a"}), layout).dossier.buckets[0].region.value == "north"
    with pytest.raises(BadInput, match=r'buckets\.json: at /items/0: the layout has no word for "b"'):
        told(items({"name": "a", "sort": "b"}), layout)


def test_a_field_that_the_layout_has_a_place_for_is_unread_where_the_place_is_empty() -> None:
    layout = LAYOUT.replace("      tags: labels\n", "      tags: labels\n      granted_by: how\n")
    assert told(items({"name": "a", "how": "bucket"}), layout).dossier.buckets[0].granted_by.value == "bucket"
    assert told(items({"name": "a"}), layout).dossier.buckets[0].granted_by.note == "the export does not say"


def test_a_key_without_an_owner_may_be_anybodys() -> None:
    keys = 'credentials: {documents: ["keys*.json"], rows: "$[*]", fields: {id: id, owner: user}}\n'
    rows = [{"id": "K1", "user": "ivy"}, {"id": "K2"}]
    index = StoreIndex(told(items({"name": "a"}) | {"keys.json": rows}, LAYOUT + keys).dossier, MOMENT)
    assert index.active_keys("ivy").unread
    rows[1]["user"] = "otter"
    known = StoreIndex(told(items({"name": "a"}) | {"keys.json": rows}, LAYOUT + keys).dossier, MOMENT)
    assert known.active_keys("ivy") == known.active_keys("otter")


def _places(value: Any, steps: tuple[Any, ...] = ()) -> Iterator[tuple[Any, ...]]:
    inner = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    for step, one in inner:
        yield (*steps, step)
        yield from _places(one, (*steps, step))


def _closed(folder: Path, layout: str) -> set[tuple[str, str, str]] | None:
    """Bucket, audience and verb of what is told as closed; None where the export is refused."""
    try:
        dossier = assembled(folder, [layout], layout, "pond", MOMENT)[0].dossier
    except BadInput:
        return None
    views = store_subjects([dossier], None, MOMENT)[0].buckets
    return {
        (name, audience, verb)
        for name, view in views.items()
        for audience in ("anyone", "any-account")
        for verb in VERBS
        if view.verdicts[audience, verb].level == "closed"
    }


@pytest.mark.parametrize("layout", sorted(shipped_layouts()))
def test_null_in_any_place_of_an_export_closes_nothing(layout: str, tmp_path: Path) -> None:
    """But where the layout says that nothing means that nobody gets in: a list of bindings, of those in one."""
    (tmp_path / layout).mkdir()
    documents = {path.name: json.loads(path.read_text()) for path in (EXAMPLES / layout).iterdir()}
    for name, document in documents.items():
        (tmp_path / layout / name).write_text(json.dumps(document))
    before = _closed(tmp_path, layout)
    assert before is not None
    tried = 0
    for name, document in documents.items():
        for steps in list(_places(document))[:: whole_or(3, 1)]:
            if steps[-1] in ("bindings", "members", "acl"):
                continue
            changed = at = deepcopy(document)
            for step in steps[:-1]:
                at = at[step]
            at[steps[-1]] = None
            (tmp_path / layout / name).write_text(json.dumps(changed))
            after = _closed(tmp_path, layout)
            assert after is None or after <= before, (name, steps, after - before)
            tried += after is not None
        (tmp_path / layout / name).write_text(json.dumps(document))
    assert tried > 10


def test_every_view_says_that_an_export_does_not_list_all_buckets(tmp_path: Path) -> None:
    documents = items({"name": "a", "versions": True})
    (tmp_path / "buckets.json").write_text(json.dumps(documents["buckets.json"] | {"next": "page-2"}))
    (tmp_path / "pond.yaml").write_text(LAYOUT)
    (tmp_path / "estate.yaml").write_text(
        "estate: e\nstores: {pond: {reads: export, from: buckets.json, layout: pond.yaml}}\n"
    )
    (tmp_path / "baseline.yaml").write_text("sheets: [{sheet: s, require: {versioning: on}}]\n")
    assert lantern("survey", cwd=tmp_path).code == 3
    words = "store pond does not list all of its buckets: buckets.json has more than the layout takes, at /next"
    audit = lantern("audit", cwd=tmp_path)
    assert audit.code == 3 and words in " ".join(audit.out.split())
    assert words in " ".join(lantern("buckets", cwd=tmp_path).out.split())
