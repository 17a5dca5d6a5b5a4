"""Dossiers from JSON documents that consoles export: the layouts that ship, layouts of one's own, and every mistake."""

from __future__ import annotations

import json
import os
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rusty_lantern.core.answer import Answer
from rusty_lantern.core.errors import BadInput
from rusty_lantern.core.exports.assemble import Assembled, assemble
from rusty_lantern.core.exports.documents import Document
from rusty_lantern.core.exports.layout import read_layout
from rusty_lantern.core.model.acl import Right
from rusty_lantern.core.model.bucket import Bucket, Lock
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.intake.exported import assembled, shipped_layouts
from tests.conftest import lantern

EXAMPLES = Path(__file__).parent.parent / "src" / "rusty_lantern" / "layouts" / "examples"
MOMENT = datetime(2026, 11, 2, tzinfo=UTC)
LAYOUT = """\
says: a made-up console
not-offered: [policy, acl, container_acl, network, public_access_guards]
buckets:
  - documents: ["buckets*.json"]
    rows: $.items[*]
    covers: [versioning, lifecycle]
    fields:
      name: name
      created: {at: made, form: milliseconds}
      versioning.state: {at: versions, words: {"true": on, "false": never}}
      soft_delete: {at: keepDays, unit: days}
      tags: labels
      rights:
        each: "grants[*]"
        of:
          "*who": {at: who, words: {all: {to: anyone}, "u:*": {to: named, identity: "*"}}}
          verbs: {flags: {read: may.read, list: may.list}}
    leave-out: [etag]
"""


def told(documents: dict[str, Any], layout: str = LAYOUT) -> Assembled:
    """What documents tell by a layout."""
    return assemble(
        [Document(name, value) for name, value in documents.items()], read_layout(layout, "l.yaml"), "pond", MOMENT
    )


def items(*buckets: dict[str, Any]) -> dict[str, Any]:
    """One document of the made-up console."""
    return {"buckets.json": {"items": list(buckets)}}


def shipped(name: str) -> Dossier:
    """The dossier of a layout's own example."""
    return assembled(EXAMPLES, [name], name, "pond", MOMENT)[0].dossier


def estate_of(layout: str) -> str:
    """An estate of one store, which is read by a layout's own example."""
    return f"estate: pond\nstores:\n  pond: {{reads: export, from: {EXAMPLES}/{layout}, layout: {layout}}}\n"


def bucket_of(dossier: Dossier, name: str) -> Bucket:
    return next(bucket for bucket in dossier.buckets if bucket.name == name)


@pytest.mark.parametrize("name", sorted(shipped_layouts()))
def test_every_layout_turns_its_example_into_a_dossier_that_is_whole_and_judged(name: str, tmp_path: Path) -> None:
    words = ("--layout", name, "--store", "pond", "--out", "pond.json", "--as-of", "2026-11-02")
    made = lantern("dossier", "from-json", str(EXAMPLES / name), *words, cwd=tmp_path)
    assert made.code == 0 and "nothing maps" not in made.err, made.err
    checked = lantern("dossier", "check", "pond.json", "--json", cwd=tmp_path)
    assert checked.code == 0 and json.loads(checked.out)["faults"] == []
    (tmp_path / "estate.yaml").write_text("estate: pond\nstores:\n  pond: {reads: dossier, at: pond.json}\n")
    (tmp_path / "baseline.yaml").write_text(
        "title: pond\nsheets:\n  - sheet: all\n    require: {exposure.read: closed, versioning: on, enabled: on}\n"
    )
    assert lantern("survey", cwd=tmp_path).code == 0
    shown = lantern("audit", "--json", cwd=tmp_path)
    assert shown.code in (0, 1), shown.err
    judged = json.loads(shown.out)
    settled = sum(judged["counts"].values())
    assert settled == 3 * judged["buckets"] and judged["notes"] == []


def test_uniform_access_is_told_as_the_store_means_it() -> None:
    dossier = shipped("uniform-access")
    archive = bucket_of(dossier, "dune-archive")
    assert archive.lock.value == Lock(True, "compliance", 220_752_000, whole=True)
    *rights, above = archive.rights.value or []
    assert (above.identity, above.unread) == ("whoever its project lets in", "it is in none of these documents")
    assert rights == [
        Right("group", ["list", "read"], identity="auditors@trust.example"),
        Right("named", ["list", "read", "write", "delete", "change-settings", "bypass-retention", "read-settings"],
              identity="warden@trust.example"),
    ]  # fmt: skip
    assert archive.public_access_guards.value and archive.public_access_guards.value.ignore_acls
    assert archive.encryption.value and archive.encryption.value.by == "customer-managed"
    pictures, drafts = bucket_of(dossier, "dune-pictures"), bucket_of(dossier, "dune-drafts")
    assert pictures.rights.value and pictures.rights.value[0].condition.startswith("request.time")
    assert pictures.ownership.value == "bucket-owner-enforced" and drafts.ownership.value == "object-writer"
    assert drafts.lock.value == Lock(True, "governance", 30 * 86_400, whole=True)
    assert pictures.lock.state == pictures.lifecycle.state == "absent"
    assert bucket_of(dossier, "dune-logs").rights.value == [above]
    counts = bucket_of(dossier, "dune-counts")
    assert [(rule.expires, rule.expires_old, rule.clears_uploads) for rule in counts.lifecycle.value or ()] == [
        (365 * 86_400, 0, 0), (0, 30 * 86_400, 0), (0, 0, 7 * 86_400),
    ]  # fmt: skip
    assert counts.rights.value and "countKeeper" in counts.rights.value[0].condition
    keys = {key.id.rpartition("/")[2]: key for key in dossier.encryption_keys.value or ()}
    assert (keys["archive"].group, keys["archive"].rotates.value, keys["archive"].kept_in.value) == (
        "dunes", 90 * 86_400, "hardware-module",
    )  # fmt: skip
    assert keys["old"].rotates.state == keys["old"].next_rotation.state == "absent"
    assert dossier.every_bucket and dossier.every_bucket.logging.value
    assert dossier.every_bucket.logging.value.excluded_identities == ["sweeper@trust.example"]


def test_visibility_rules_and_links_are_told() -> None:
    dossier = shipped("visibility")
    public = {b.name: [right for right in b.rights.value or () if not right.doubt] for b in dossier.buckets}
    assert {name: [v for right in rights for v in right.verbs] for name, rights in public.items()} == {
        "hull-plans": [],
        "tide-posters": ["list", "read"],
        "chart-tiles": ["read"],
        "crew-papers": [],
        "slip-drafts": [],
    }
    crew = bucket_of(dossier, "crew-papers").lock.value
    assert crew and (crew.retention, crew.final_from) == (7 * 365 * 86_400, datetime(2026, 11, 20, tzinfo=UTC))
    links = {link.bucket: link for link in dossier.links.value or ()}
    assert (links["slip-drafts"].scope, links["slip-drafts"].verbs) == ("bucket", ["write"])
    assert (links["tide-posters"].scope, links["tide-posters"].key) == ("object", "2026/spring.pdf")
    assert (links["hull-plans"].scope, links["hull-plans"].verbs) == ("prefix", ["read", "list"])


def test_file_level_permission_leaves_more_open_than_the_bucket_says(tmp_path: Path) -> None:
    (tmp_path / "estate.yaml").write_text(estate_of("roles-for-anyone"))
    assert lantern("survey", cwd=tmp_path).code == 0
    rows = {
        row["bucket"]: row["exposure"] for row in json.loads(lantern("exposure", "--json", cwd=tmp_path).out)["buckets"]
    }
    assert rows["sightings"]["anyone"]["read"]["verdict"] == "open"
    assert rows["sightings"]["any-account"]["write"]["verdict"] == "open"
    assert rows["nest-cameras"]["anyone"]["read"]["verdict"] == "unknown"
    assert rows["old-uploads"]["anyone"]["write"]["verdict"] == "open"


def test_a_role_that_the_layout_does_not_know_is_never_shown_as_granted(tmp_path: Path) -> None:
    (tmp_path / "estate.yaml").write_text(estate_of("uniform-access"))
    assert lantern("survey", cwd=tmp_path).code == 0
    rows = json.loads(lantern("access", "--json", cwd=tmp_path).out)["access"]
    counter = next(row for row in rows if row["identity"] == "counter@trust.example")
    assert counter["verbs"]["delete"] == "unknown" and counter["verbs"]["read"] == "open"
    shown = next(line for line in lantern("access", cwd=tmp_path).out.splitlines() if line.startswith("counter@"))
    assert "all" not in shown.split() and "more?" in shown


def test_what_an_export_leaves_out_is_absent_only_where_the_layout_covers_it() -> None:
    bucket = told(items({"name": "a"})).dossier.buckets[0]
    assert (bucket.versioning.state, bucket.lifecycle.state) == ("absent", "absent")
    assert (bucket.soft_delete.state, bucket.rights.state, bucket.created.state) == ("failed", "failed", "failed")
    assert (bucket.policy.state, bucket.network.state) == ("unsupported", "unsupported")


def test_an_entry_that_no_joined_row_speaks_of_was_not_read_unless_the_document_lists_all() -> None:
    part = (
        '  - {documents: ["more.json"], rows: "$[*]", joins: of, HOW: [lifecycle, region], fields: {region: place}}\n'
    )
    documents = items({"name": "a"}, {"name": "b"}) | {"more.json": [{"of": "a"}]}
    layout = LAYOUT.replace("[versioning, lifecycle]", "[versioning]")
    one = {b.name: b.region.state for b in told(documents, layout + part.replace("HOW", "covers")).dossier.buckets}
    every = {
        b.name: b.region.state for b in told(documents, layout + part.replace("HOW", "covers-every")).dossier.buckets
    }
    assert one == {"a": "absent", "b": "failed"} and every == {"a": "absent", "b": "absent"}


def test_a_document_that_is_a_refusal_is_not_an_empty_list() -> None:
    refused = told({"buckets.json": {"code": "NotAuthorized", "message": "not for you"}})
    assert refused.dossier.listing.unread and "finds nothing in buckets.json" in refused.unmatched[0]
    assert told({"buckets.json": {"items": []}}).dossier.listing.value == 0
    keys = 'rows: "$.rows[*]", joins: of, covers-every: [region], fields: {region: place}'
    part = f'  - {{documents: ["more.json"], {keys}}}\n'
    denied = told(items({"name": "a"}) | {"more.json": {"error": "denied"}}, LAYOUT + part)
    assert denied.dossier.buckets[0].region.unread


def test_units_dates_words_flags_and_prefixes_are_converted() -> None:
    grants = [{"who": "all", "may": {"read": True, "list": False}}, {"who": "u:ivy", "may": {"read": "yes", "list": 1}}]
    row = {
        "name": "a",
        "made": 1_700_000_000_000,
        "versions": True,
        "keepDays": "30",
        "labels": {"steward": "x", "n": 3},
    }
    row |= {"grants": grants}
    bucket = told(items(row)).dossier.buckets[0]
    assert bucket.created.value == datetime(2023, 11, 14, 22, 13, 20, tzinfo=UTC)
    assert bucket.versioning.value and bucket.versioning.value.state == "on"
    assert bucket.soft_delete.value == 30 * 86_400
    assert bucket.tags.value == {"steward": "x", "n": "3"}
    assert bucket.rights.value == [Right("anyone", ["read"]), Right("named", ["read", "list"], identity="ivy")]


def test_places_that_no_layout_maps_are_named_and_never_guessed() -> None:
    found = told(
        items({"name": "a", "etag": "1", "secretive": {"inner": [1, 2]}, "empty": []}) | {"other.json": {"x": 1}}
    )
    assert found.unmapped == {"buckets.json": ["/items/*/secretive/inner/*"], "other.json": ["/"]}


@pytest.mark.parametrize(
    ("row", "words"),
    [
        ({"name": "a", "versions": "maybe"}, 'at /items/0/versions: "maybe" is not one of the words of the layout'),
        ({"name": "a", "made": "noon"}, 'at /items/0/made: "noon" is not a date written as milliseconds'),
        ({"name": "a", "keepDays": "-1"}, "at /items/0/keepDays:"),
        ({"name": "a", "keepDays": {"x": 1}}, "at /items/0/keepDays:"),
        ({"name": "a", "labels": "red"}, "at /items/0/labels: names with values are wanted"),
        (
            {"name": "a", "grants": [{"who": "g:x", "may": {"read": True}}]},
            'at /items/0/grants/0/who: "g:x" is not one',
        ),
        ({"name": "a", "grants": [{"who": "all", "may": {"read": "perhaps"}}]}, "at /items/0/grants/0/may/read:"),
        ({"name": ["a"]}, "at /items/0/name:"),
        ({"made": 1}, "at /items/0:"),
    ],
)
def test_a_place_that_makes_no_sense_is_an_error_with_file_pointer_and_value(row: dict[str, Any], words: str) -> None:
    with pytest.raises(BadInput) as caught:
        told(items(row))
    assert words in str(caught.value) and str(caught.value).startswith("buckets.json:")


def test_a_bucket_twice_and_a_join_to_nothing_are_errors() -> None:
    with pytest.raises(BadInput, match='"a" is there already'):
        told(items({"name": "a"}, {"name": "a"}))
    joined = LAYOUT + '  - {documents: ["more.json"], rows: "$[*]", joins: of, fields: {region: place}}\n'
    with pytest.raises(BadInput, match='there is no "b" among the buckets'):
        told(items({"name": "a"}) | {"more.json": [{"of": "b", "place": "x"}]}, joined)
    found = told(items({"name": "a"}) | {"more.json": [{"of": "a", "place": "x"}]}, joined)
    assert found.dossier.buckets[0].region.value == "x"
    twice = [{"of": "a", "place": "x"}, {"of": "a", "place": "y"}]
    with pytest.raises(BadInput, match="region has two different values"):
        told(items({"name": "a"}) | {"more.json": twice}, joined)


@pytest.mark.parametrize(
    ("layout", "words"),
    [
        ("buckets: {rows: '$[', fields: {name: name}}", "is no path"),
        ("buckets: {rows: $, fields: {nmae: name}}", 'did you mean "name"?'),
        ("buckets: {rows: $, fields: {region: x}}", 'needs "name"'),
        ("buckets: {rows: $, covers: [versionning], fields: {name: x}}", 'did you mean "versioning"?'),
        ("buckets: {rows: $, fields: {name: x, soft_delete: {at: y, unit: fortnights}}}", "unit cannot be"),
        ("buckets: {rows: $, fields: {name: {at: x, pattern: '('}}}", "pattern:"),
        ("says: nothing", "the layout maps nothing"),
        ("bucket: {}", 'did you mean "buckets"?'),
        ("not-offered: [polcy]\nbuckets: {fields: {name: x}}", 'did you mean "policy"?'),
    ],
)
def test_mistakes_in_a_layout_are_told_with_their_place(layout: str, words: str) -> None:
    with pytest.raises(BadInput) as caught:
        read_layout(layout, "l.yaml")
    assert words in str(caught.value) and "l.yaml:" in str(caught.value)


def test_nothing_is_written_where_the_export_makes_no_sense(tmp_path: Path) -> None:
    (tmp_path / "layout.yaml").write_text(LAYOUT)
    (tmp_path / "buckets.json").write_text(json.dumps({"items": [{"name": "a", "versions": "maybe"}]}))
    words = ("dossier", "from-json", "buckets.json", "--layout", "layout.yaml", "--store", "pond", "--out", "o.json")
    ended = lantern(*words, cwd=tmp_path)
    assert ended.code == 2 and "buckets.json: at /items/0/versions" in ended.err
    (tmp_path / "buckets.json").write_text('{"items": [\n{"name": "a",}]}')
    assert "buckets.json:2: not JSON" in lantern(*words, cwd=tmp_path).err
    (tmp_path / "buckets.json").write_text('{"items": [{"name": "a", "labels": {"password": "hunter2hunter2"}}]}')
    ended = lantern(*words, cwd=tmp_path)
    assert ended.code == 2 and "secret" in ended.err and "hunter2" not in ended.err
    (tmp_path / "buckets.json").write_text("[" * 100_000)
    assert lantern(*words, cwd=tmp_path).code == 2
    assert not (tmp_path / "o.json").exists()
    ended = lantern(*(*words[:4], "unifrom-access", *words[5:]), cwd=tmp_path)
    assert ended.code == 2 and 'did you mean "uniform-access"?' in ended.err


def test_another_shape_than_the_layout_is_for_writes_nothing(tmp_path: Path) -> None:
    words = ("--layout", "visibility", "--store", "pond", "--out", "pond.json")
    ended = lantern("dossier", "from-json", str(EXAMPLES / "groups-and-containers"), *words, cwd=tmp_path)
    assert ended.code == 2 and "finds nothing" in ended.err and not (tmp_path / "pond.json").exists()


def test_a_folder_that_is_called_like_a_document_is_none(tmp_path: Path) -> None:
    import shutil

    shutil.copytree(EXAMPLES / "groups-and-containers", tmp_path / "groups-of-today")
    found = assembled(tmp_path, ["groups-of-today"], "groups-and-containers", "pond", MOMENT)[0]
    assert found.unmapped == {} and len(found.dossier.groups.value or ()) == 2


def test_lines_of_json_and_a_folder_and_one_array_tell_the_same(tmp_path: Path) -> None:
    layout = "buckets: {rows: '$[*]', fields: {name: name, region: place}}"
    (tmp_path / "layout.yaml").write_text(layout)
    rows = [{"name": "a", "place": "x"}, {"name": "b", "place": "y"}]
    (tmp_path / "rows.json").write_text(json.dumps(rows))
    (tmp_path / "rows.jsonl").write_text("".join(json.dumps(row) + "\n" for row in rows))
    (tmp_path / "folder").mkdir()
    for number, row in enumerate(rows):
        (tmp_path / "folder" / f"{number}.json").write_text(json.dumps([row]))
    found = [
        assembled(tmp_path, [name], "layout.yaml", "pond", MOMENT)[0].dossier
        for name in ("rows.json", "rows.jsonl", "folder")
    ]
    assert found[0] == found[1] == found[2] and len(found[0].buckets) == 2


def test_an_export_that_is_too_old_is_no_reading(tmp_path: Path) -> None:
    (tmp_path / "layout.yaml").write_text("buckets: {rows: '$[*]', fields: {name: name}}")
    (tmp_path / "rows.json").write_text('[{"name": "a"}]')
    (tmp_path / "estate.yaml").write_text(
        "estate: pond\nstores:\n  pond: {reads: export, from: [rows.json], layout: layout.yaml, newer-than: 2 days}\n"
    )
    written = MOMENT.timestamp()
    os.utime(tmp_path / "rows.json", (written, written))
    fresh = lantern("survey", "--as-of", "2026-11-03", cwd=tmp_path)
    assert fresh.code == 0, fresh.err
    assert len(json.loads(lantern("buckets", "--json", cwd=tmp_path).out)["buckets"]) == 1
    lantern("survey", "--as-of", "2026-11-08", cwd=tmp_path)
    shown = lantern("survey", "--as-of", "2026-11-09", cwd=tmp_path)
    assert "7 days old" in shown.out + shown.err


VALUES = st.recursive(
    st.none() | st.booleans() | st.integers() | st.text(max_size=5),
    lambda inner: st.lists(inner, max_size=2) | st.dictionaries(st.text(max_size=4), inner, max_size=2),
    max_leaves=5,
)


@given(st.dictionaries(st.sampled_from(["name", "made", "versions", "keepDays", "labels", "grants", "x"]), VALUES))
def test_no_document_makes_anything_but_a_dossier_or_a_complaint(row: dict[str, Any]) -> None:
    try:
        found = told(items(row))
    except BadInput as error:
        assert "buckets.json" in str(error)
        return
    assert len(found.dossier.buckets) == 1
    for name, answer in zip(
        Bucket.__struct_fields__[1:],
        (getattr(found.dossier.buckets[0], n) for n in Bucket.__struct_fields__[1:]),
        strict=True,
    ):
        assert isinstance(answer, Answer) and (answer.state == "known") == (answer.value is not None), name


def test_the_page_of_fifteen_minutes_works_as_it_stands(tmp_path: Path) -> None:
    page = (Path(__file__).parent.parent / "docs" / "exports.md").read_text()
    lines = page.partition("   ```yaml\n   says: the depot")[2].partition("   ```\n")[0].splitlines()
    layout = "\n".join(["says: the depot" + lines[0], *(line.removeprefix("   ") for line in lines[1:])])
    document = page.partition("Suppose that `depot.json` holds\n   `")[2].partition("`")[0]
    (tmp_path / "depot.yaml").write_text(layout)
    (tmp_path / "depot.json").write_text(document)
    (tmp_path / "estate.yaml").write_text(
        "estate: pond\nstores:\n  depot: {reads: export, from: depot.json, layout: depot.yaml}\n"
    )
    assert lantern("survey", cwd=tmp_path).code == 0
    row = json.loads(lantern("exposure", "--json", cwd=tmp_path).out)["buckets"][0]
    assert row["bucket"] == "tides" and row["exposure"]["anyone"]["read"]["verdict"] == "open"
