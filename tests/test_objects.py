"""Objects and their retention: the columns say what the plain rules say; samples say what they are."""

from __future__ import annotations

import csv
import gzip
import json
import signal
import subprocess
import time
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any, Literal

import pyarrow.parquet as pq
import pytest
from aiohttp import web
from hypothesis import Phase, given, settings
from hypothesis import strategies as st
from scipy.special import betaincinv

from rusty_lantern.archive.surveys import names
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.audit.replicas import Behind
from rusty_lantern.core.audit.store_subject import store_subjects
from rusty_lantern.core.baseline.loader import Requirement, read_baseline
from rusty_lantern.core.config.object_scan import Inventory
from rusty_lantern.core.model.bucket import Bucket, Encryption
from rusty_lantern.core.model.bucket_contents import Table
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.core.model.object_version import ObjectVersion
from rusty_lantern.core.model.resources import EncryptionKey
from rusty_lantern.core.object_rules.retention import earliest_deletion, key_state, protection
from rusty_lantern.core.object_rules.sampling import bound, size_to_detect
from rusty_lantern.core.object_rules.sampling import words as in_words
from rusty_lantern.core.object_rules.tally import Tally
from rusty_lantern.objects.duckdb_engine import engine, table_path
from rusty_lantern.objects.evaluation import Judging, tallies
from rusty_lantern.objects.inventory import read_inventory_files
from rusty_lantern.objects.replica_diff import lacking
from rusty_lantern.objects.retention_summary import retention_summaries
from rusty_lantern.objects.table_set import VersionTable, count_here, open_source, table_of, version_table
from rusty_lantern.objects.tables import read_versions, table_writer
from tests.conftest import PROGRAM, Demo, estate_for, lantern
from tests.test_bad_stores import harbour

NOW = datetime(2026, 11, 2, 6, tzinfo=UTC)
AS_OF = ("--as-of", "2026-11-02T06:00:00Z")
MOMENTS = st.integers(-400, 400).map(lambda days: NOW + timedelta(days=days, seconds=days % 3))


HELD = st.sampled_from([None, False, False, True])


@st.composite
def versions_of_a_key(draw: st.DrawFn, key: str) -> list[ObjectVersion]:
    """The versions of one key, the newest first; what is not known is None."""
    found = []
    for number in range(draw(st.integers(1, 4))):
        marker = draw(st.integers(0, 5)) == 0
        mode = None if marker else draw(st.sampled_from([None, "", "governance", "compliance"]))
        found.append(
            ObjectVersion(
                key=key, version=f"v{number}", current=number == 0, marker=marker,

                size=draw(st.integers(0, 10**9)),
                written=NOW - timedelta(days=draw(st.integers(0, 900))),
                inspected=draw(st.sampled_from(["yes", "not sampled"])), mode=mode,  # type: ignore[arg-type]
                until=draw(MOMENTS) if mode else None, hold=None if marker else draw(HELD),
                content_type=draw(st.sampled_from([None, "image/jpeg", "text/html"])),
                metadata=draw(st.sampled_from([None, {}, {"station": "north"}])),
                encryption=draw(st.sampled_from([None, "none", "provider-managed", "customer-managed"])),
            )
        )  # fmt: skip
    return found


KEYS = ["a.jpg", "a/b.html", "ü \x01\n.jpg", "=1+1", "z" * 300]
TABLES = st.tuples(*(versions_of_a_key(key) for key in sorted(KEYS, key=str.encode)))


@dataclass(frozen=True)
class Kept:
    path: Path
    versions: list[ObjectVersion]


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Path]:
    yield tmp_path_factory.mktemp("tables")


def kept(folder: Path, keys: tuple[list[ObjectVersion], ...]) -> Kept:
    found = [version for versions in keys for version in versions]
    path = table_path(folder, "s", "../b%.c")
    with table_writer(path) as writer:
        writer.add(found)
        writer.describe(Table(rows=len(found), versions=len(found), looked="all"))
    assert path.parent == folder / "objects" / "s"
    return Kept(path, found)


@settings(max_examples=40)
@given(TABLES)
def test_a_table_gives_back_the_versions_it_was_made_of(folder: Path, keys: tuple[list[ObjectVersion], ...]) -> None:
    made = kept(folder, keys)
    assert list(read_versions(made.path)) == made.versions
    assert list(read_versions(made.path, KEYS[2])) == [v for v in made.versions if v.key == KEYS[2]]


@settings(max_examples=60)
@given(TABLES)
def test_the_columns_say_of_retention_what_the_plain_rules_say(
    folder: Path, keys: tuple[list[ObjectVersion], ...]
) -> None:
    made = kept(folder, keys)
    table = VersionTable(made.path, default_mode="compliance", default_retention=30 * 86400)
    (summary,) = retention_summaries([table], NOW)
    by_deleter: dict[str, int] = {}
    for part in summary.groups:
        by_deleter[part.deletable_by] = by_deleter.get(part.deletable_by, 0) + part.versions
    plain = [protection(version, NOW).deletable_by for version in made.versions]
    assert by_deleter == {deleter: plain.count(deleter) for deleter in set(plain)}
    states = [state for versions in keys if (state := key_state(versions, NOW)) is not None]
    assert {k.state: k.keys for k in summary.keys} == {state: states.count(state) for state in set(states)}
    assert summary.earliest_deletion == earliest_deletion(made.versions, NOW)


BASELINE = """
title: t
edition: 1
sheets:
  - sheet: all
    require:
      objects.mode: at least compliance
      objects.retention: between 10 days and 500 days
      objects.legal-hold: on
      objects.deletable-by: one of [nobody, bypass-retention]
      objects.current-version: none of [unprotected-over-protected, marker-over-protected]
      objects.size: at most 100 MB
      objects.age: at least 100 days
      objects.content-type: one of [image/jpeg, image/png]
      objects.content-type-matches-extension: on
      objects.metadata.station: matches "n[a-z]+"
      objects.encryption: at least provider-managed
      objects.encryption-against-default: at least equal
      objects.extension: present
      objects.name: none of ["a.jpg"]
      objects.checksum: absent
"""


def required() -> list[Requirement]:
    return [r for sheet in read_baseline(BASELINE, "baseline.yaml").sheets for r in sheet.require]


BUCKET = Bucket(name="b", encryption=Answer("known", Encryption("provider-managed")))


def plainly(requirement: Requirement, versions: list[ObjectVersion]) -> Tally:
    """A few of the requirements, judged one version at a time."""
    comparison = requirement.comparison
    assert comparison is not None
    total = Tally()
    for version in versions:
        objects = version.current and not version.marker
        rows, value = {
            "objects.size": (objects, version.size),
            "objects.mode": (not version.marker, version.mode),
            "objects.legal-hold": (
                not version.marker,
                None if version.hold is None else "on" if version.hold else "off",
            ),
            "objects.encryption": (not version.marker, version.encryption),
            "objects.age": (objects, int((NOW - (version.written or NOW)).total_seconds())),
        }[requirement.fact]
        if not rows:
            continue
        if value is None:
            total = total.join(Tally(unknown=1, unsampled=int(version.inspected == "not sampled")))
            continue
        holds = comparison.accepts_absent if value == "" else comparison.accepts(value)
        total = total.join(Tally(ok=1) if holds else Tally(failed=1, bytes=version.size, examples=(version.key,)))
    return total


@settings(max_examples=8, phases=[Phase.generate])  # shrinking would plan thousands of queries
@given(TABLES, st.integers(3, 9))
def test_requirements_in_columns_are_those_judged_one_by_one_and_parts_join_to_the_whole(
    folder: Path, keys: tuple[list[ObjectVersion], ...], size: int
) -> None:
    made, requirements = kept(folder, keys), required()
    (whole,) = tallies([(table_of(made.path, BUCKET), requirements)], NOW)
    for requirement, tally in zip(requirements, whole, strict=True):
        if requirement.fact in (
            "objects.size",
            "objects.mode",
            "objects.legal-hold",
            "objects.encryption",
            "objects.age",
        ):
            assert tally == plainly(requirement, made.versions), requirement.fact
    rows = pq.read_table(made.path)
    parts = [rows.slice(start, size) for start in range(0, rows.num_rows, size)]
    table, judging = table_of(made.path, BUCKET), Judging(tuple(requirements), NOW)
    with engine() as columns:
        found = []
        for part in reversed(parts):
            columns.register("part", part.append_column("file_row_number", [range(part.num_rows)]))
            found += judging(open_source(columns, [table], only="part"))
    assert judging.joined(found) == whole


Manager = Literal["provider", "customer"]
ARN = "arn:aws:kms:north:400100200300:key/"
BY_SERVICE: list[tuple[str, str, dict[str, Manager], str, str]] = [
    # the bucket's default key, the key of an object, the store's own list of keys → who keeps it, is it the default
    ("", f"{ARN}7a", {}, "unknown", "unknown"),
    ("", f"{ARN}7a", {"7a": "provider"}, "provider-managed", "unknown"),
    ("", f"{ARN}7a", {f"{ARN}7a": "customer"}, "customer-managed", "unknown"),
    ("", f"{ARN}7a", {"8b": "customer"}, "unknown", "unknown"),
    ("", "arn:aws:kms:north:400100200300:alias/aws/s3", {}, "provider-managed", "unknown"),
    ("7a", f"{ARN}7a", {}, "customer-managed", "on"),
    (f"{ARN}7a", "7a", {}, "customer-managed", "on"),
    ("7a", f"{ARN}8b", {}, "unknown", "off"),
    ("7a", f"{ARN}7a", {"7a": "provider"}, "provider-managed", "on"),
    ("alias/tides", f"{ARN}7a", {}, "unknown", "unknown"),
    ("alias/tides", f"{ARN}7a", {"7a": "customer"}, "customer-managed", "on"),
]


@pytest.mark.parametrize("default,key,listed,keeper,under_default", BY_SERVICE)
def test_an_id_of_a_key_does_not_say_whose_key_it_is(
    folder: Path, default: str, key: str, listed: Mapping[str, Manager], keeper: str, under_default: str
) -> None:
    version = ObjectVersion(key="a", inspected="yes", encryption="customer-managed", encryption_key=key)
    made = kept(folder, ([version],))
    keys = [
        EncryptionKey(id=id_, names=["alias/tides"], managed_by=Answer("known", who)) for id_, who in listed.items()
    ]
    encryption = Encryption("customer-managed" if default else "provider-managed", "aws:kms", default)
    bucket = Bucket(name="b", encryption=Answer("known", encryption))
    dossier = Dossier(store="s", taken=NOW, buckets=[bucket], encryption_keys=Answer("known", keys))
    (store,) = store_subjects([dossier], None, NOW)
    table = version_table(folder, store.buckets["b"])._replace(path=made.path)
    rules = {
        "objects.encryption": ("customer-managed", "provider-managed", "at least provider-managed"),
        "objects.under-default-key": ("on", "off"),
    }
    outcomes = {}
    for fact, values in rules.items():
        for value in values:
            text = f"title: t\nedition: 1\nsheets:\n  - sheet: s\n    require: {{{fact}: {value}}}\n"
            ((tally,),) = tallies([(table, read_baseline(text, "b.yaml").sheets[0].require)], NOW)
            outcomes[value] = "ok" if tally.ok else "drift" if tally.failed else "unknown"
    wanted = dict.fromkeys(rules["objects.encryption"][:2], "unknown" if keeper == "unknown" else "drift")
    wanted |= dict.fromkeys(rules["objects.under-default-key"], "unknown" if under_default == "unknown" else "drift")
    wanted |= {value: "ok" for value in (keeper, under_default) if value != "unknown"}
    assert outcomes == wanted | {"at least provider-managed": "ok"}


EARLIER, LATER = NOW - timedelta(days=9), NOW - timedelta(days=8)
MD5, OTHER_MD5 = "0123456789abcdef" * 2, "fedcba9876543210" * 2
COPIES: list[tuple[dict[str, Any], dict[str, Any] | None, Behind]] = [
    # an object of the original, its copy, and what the copy lacks
    ({}, None, Behind(1, 0)),
    ({"written": NOW}, None, Behind(0, 1)),
    ({}, {"marker": True}, Behind(1, 0)),
    ({}, {}, Behind(0, 0)),
    ({}, {"written": EARLIER}, Behind(0, 0)),
    ({}, {"size": 2}, Behind(0, 0, 1)),
    ({"written": NOW}, {"size": 2}, Behind(0, 0)),
    ({}, {"etag": OTHER_MD5}, Behind(0, 0, 1)),
    ({}, {"etag": OTHER_MD5, "encryption": "customer-managed"}, Behind(0, 0)),
    ({}, {"etag": OTHER_MD5, "encryption": None}, Behind(0, 0)),
    ({}, {"etag": f"{MD5[:30]}-2"}, Behind(0, 0)),
    ({}, {"etag": f"{MD5[:30]}-2", "written": EARLIER}, Behind(0, 0, 1)),
]


@pytest.mark.parametrize("here,there,behind", COPIES)
def test_a_copy_of_an_earlier_content_is_not_the_same(
    folder: Path, here: dict[str, Any], there: dict[str, Any] | None, behind: Behind
) -> None:
    usual: dict[str, Any] = {"size": 1, "etag": MD5, "written": LATER, "encryption": "provider-managed"}
    tables = []
    for side, versions in (("here", [here]), ("there", [] if there is None else [there])):
        tables.append(VersionTable(table_path(folder, side, "b"), len(versions)))
        with table_writer(tables[-1].path) as writer:
            writer.add([ObjectVersion(**{"key": "a", "version": "v", **usual, **one}) for one in versions])
            writer.describe(Table(rows=len(versions), versions=len(versions), looked="all"))
    elsewhere: list[Path] = []

    def counter(tables: Sequence[VersionTable], count: Any) -> list[Any]:
        elsewhere.extend(table.path for table in tables)
        counted: list[Any] = count_here(tables, count)
        return counted

    assert lacking([(tables[0], tables[1], NOW, 3600)], counter) == [behind]
    assert elsewhere == [tables[0].path], "a run that counts on a cluster counts this there too"


def test_what_a_baseline_says_never_becomes_part_of_the_query(folder: Path) -> None:
    made = kept(
        folder, tuple([ObjectVersion(key=key, inspected="yes", content_type="x'; DROP")] for key in sorted(KEYS))
    )
    hostile = "') OR true; SELECT * FROM read_csv('/etc/passwd'); --"
    text = f"""
title: t
edition: 1
sheets:
  - sheet: s
    require:
      "objects.metadata.{hostile}": present
      objects.content-type: "{hostile}"
      objects.name: 'matches "(?=look)around"'
"""
    requirements = list(read_baseline(text, "b.yaml").sheets[0].require)
    table = table_of(made.path, BUCKET)
    (found,) = tallies([(table, requirements[:2])], NOW)
    assert [(t.failed, t.ok) for t in found] == [(0, 0), (5, 0)]
    with pytest.raises(Exception, match=r"b\.yaml:9:.*cannot be run over objects"):
        tallies([(table, requirements[2:])], NOW)


@pytest.mark.parametrize(
    "found,looked_at,low,high", [(0, 400, 0, 0.00746), (400, 400, 0.99254, 1), (3, 100, 0.0062, 0.0852)]
)
def test_bounds_are_the_exact_binomial_ones(found: int, looked_at: int, low: float, high: float) -> None:
    assert bound(found, looked_at, 0.95) == pytest.approx((low, high), abs=5e-5)


@settings(max_examples=300)
@given(st.integers(2, 20_000_000), st.floats(0, 1), st.sampled_from([0.9, 0.95, 0.99, 0.999]))
def test_bounds_are_those_of_an_independent_beta_distribution(looked_at: int, share: float, confidence: float) -> None:
    found = min(looked_at - 1, max(1, int(looked_at * share**6)))  # mostly few, as drift is
    miss = 1 - confidence
    independent = (
        betaincinv(found, looked_at - found + 1, miss / 2),
        betaincinv(found + 1, looked_at - found, 1 - miss / 2),
    )
    mine = bound(found, looked_at, confidence)
    assert mine == pytest.approx(independent, rel=1e-7)
    assert in_words(mine, confidence) == in_words(independent, confidence)


@given(st.integers(1, 300), st.data())
def test_a_bound_holds_what_was_seen_and_a_sample_is_large_enough(looked_at: int, data: st.DataObject) -> None:
    found = data.draw(st.integers(0, looked_at))
    low, high = bound(found, looked_at, 0.95)
    assert 0 <= low <= found / looked_at <= high <= 1
    share = data.draw(st.floats(0.001, 0.5))
    size = size_to_detect(share, 0.95)
    assert (1 - share) ** size <= 0.05 + 1e-9 < (1 - share) ** (size - 1) + 2e-9


def judged(demo: Demo, *words: str) -> dict[tuple[str, str], dict[str, Any]]:
    rows = json.loads(demo.run("objects", "--json", *words).out)["requirements"]
    return {(row["bucket"], row["fact"]): row for row in rows}


def test_the_demo_shows_the_overwrite_trap_a_hidden_key_and_a_sample_that_says_so(demo: Demo) -> None:
    found = judged(demo)
    held = {row["status"] for (bucket, _), row in found.items() if bucket in ("permit-scans", "tide-gauge-raw")}
    assert held == {"ok"}
    sampled = found["camera-traps", "objects.encryption"]["objects"]
    assert sampled["sampled"] and sampled["at_least"] < 1999 * 0.33 / 1999 < sampled["at_most"]
    assert found["drone-orthophotos", "objects.encryption"]["status"] == "unknown"  # a third is archived
    row = next(r for r in json.loads(demo.run("retention", "--json").out)["buckets"] if r["bucket"] == "permit-archive")
    states = {keys["state"]: keys["examples"] for keys in row["retention"]["keys"]}
    assert (states["unprotected-over-protected"], states["marker-over-protected"]) == (
        ["permits/00046.pdf"],
        ["permits/00060.pdf"],
    )
    assert row["retention"]["earliest_deletion"]["legal_holds"] == 2


def test_a_sample_alone_never_holds_unless_its_bound_is_allowed(demo: Demo, tmp_path: Path) -> None:
    baseline = (demo.folder / "baseline.yaml").read_text()
    strict = tmp_path / "ws"
    strict.mkdir()
    for name in ("estate.yaml", "surveys"):
        (strict / name).symlink_to(demo.folder / name)
    (strict / "baseline.yaml").write_text(baseline.replace(", in-a-sample: at most 5 %", ""))
    rows = json.loads(lantern("objects", "--json", "tide-gauge-raw", cwd=strict).out)["requirements"]
    assert {row["status"] for row in rows} == {"unknown"}
    assert all("only a sample was inspected: 0 of 59 fail: at most 4.96 %" in row["reason"] for row in rows)


def test_the_whole_list_streams_out_and_no_spreadsheet_calculates_it(demo: Demo, tmp_path: Path) -> None:
    out, wide = tmp_path / "breaking.csv", tmp_path / "breaking.parquet"
    (tmp_path / "b").mkdir()
    assert demo.run("objects", "press-kit", "--out", str(out)).code == 0
    with out.open(newline="") as stream:
        rows = list(csv.DictReader(stream))
    assert [row["key"] for row in rows if row["fact"] == "objects.public"] == ["press/00003.jpg"]
    assert demo.run("objects", "permit-archive", "--fact", "objects.mode", "--out", str(wide)).code == 0
    observed = pq.read_table(wide).column("observed").to_pylist()
    assert (len(observed), set(observed)) == (63, {"governance", None})  # one has none at all
    from rusty_lantern.reports.formats.row_files import cell

    assert [cell(text) for text in ("=1", "+1", "@a", "-1", "a\tb\x1b", "ok")] == [
        "'=1",
        "'+1",
        "'@a",
        "'-1",
        "a\\tb\\x1b",
        "ok",
    ]
    misspelt = demo.run("objects", "--fact", "encription")
    assert (misspelt.code, 'did you mean "objects.encryption"?' in misspelt.err) == (2, True), misspelt.err
    assert demo.run("objects", "press-kit", "--out", str(tmp_path / "x.xls")).code == 2
    assert demo.run("objects", "press-kit", "--out", str(tmp_path / "none" / "x.csv")).code == 2


def test_retention_shows_a_key_and_draws_a_bucket(demo: Demo, tmp_path: Path) -> None:
    shown = json.loads(demo.run("retention", "permit-archive", "--key", "permits/00046.pdf", "--json").out)["history"]
    assert [(row["current"], row["protected_by"], row["deletable_by"]) for row in shown] == [
        (True, "unprotected", "delete-permission"), (False, "governance", "bypass-retention"),
    ]  # fmt: skip
    drawn = [tmp_path / "a.png", tmp_path / "b.png"]
    for path in drawn:
        assert demo.run("retention", "permit-archive", "--timeline", str(path)).code == 0
    assert drawn[0].read_bytes() == drawn[1].read_bytes()
    assert drawn[0].read_bytes()[16:24] == (1280).to_bytes(4, "big") + (800).to_bytes(4, "big")
    for words in (("permit-archive", "--key", "none"), ("--key", "k"), ("launch-2027", "--timeline", "x.png")):
        assert demo.run("retention", *words).code == 2
    assert demo.run("retention", "permit-archive", "--timeline", str(tmp_path / "x.gif")).code == 2


def _rows(folder: Path, bucket: str) -> list[ObjectVersion]:
    return list(read_versions(table_path(next((folder / "surveys").glob("*Z")), "harbour", bucket)))


def test_a_survey_of_objects_says_what_it_does_not_ask_where_the_baseline_cannot_be_read(tmp_path: Path) -> None:
    with harbour() as (address, _):
        folder = estate_for(tmp_path / "ws", address)
        (folder / "baseline.yaml").write_text("title: t\nsheets: [{sheet: s, require: {objects.public: no}}]\n")
        words = ("survey", *AS_OF, "--only", "harbour/press-kit")
        plain = lantern(*words, cwd=folder)
        looking = lantern("survey", "--as-of", "2026-11-02T06:00:01Z", *words[3:], "--objects", "all", cwd=folder)
    told = "tags and ACLs of objects are not asked for: the baseline cannot be read, baseline.yaml:2:"
    assert [(ran.code, told in ran.err) for ran in (plain, looking)] == [(0, False), (0, True)]


@pytest.mark.parametrize(
    ("required", "read"),
    [("exposure.read: closed", True), ("principals.read-settings: within [admin]", True), ("versioning: on", False)],
)
def test_acls_of_objects_are_asked_for_where_they_decide_what_is_required(
    tmp_path: Path, required: str, read: bool
) -> None:
    with harbour() as (address, _):
        folder = estate_for(tmp_path / "ws", address)
        (folder / "baseline.yaml").write_text(f"title: t\nsheets:\n- sheet: s\n  require:\n    {required}\n")
        words = ("survey", *AS_OF, "--only", "harbour/press-kit", "--objects", "all")
        planned = lantern(*words, "--dry-run", cwd=folder).out
        assert f"besides, {'up to 2' if read else 'one'} for each version that is inspected" in planned
        looked = lantern(*words, cwd=folder)
        assert looked.code == 0, looked.err
    facts = json.loads(lantern("show", "harbour/press-kit", "--json", cwd=folder).out)["facts"]
    assert [(one["value"] == "some") for one in facts if one["fact"] == "object-acls.public"] == [read]
    settled_by = "lantern survey --objects all" in lantern("audit", cwd=folder).out
    assert not settled_by, "it names no step that was just taken"


def test_a_survey_of_objects_killed_midway_goes_on_where_it_was(tmp_path: Path, demo: Demo) -> None:
    asked: list[str] = []

    async def watch(request: web.Request) -> web.StreamResponse:
        asked.append(request.raw_path)
        return None  # type: ignore[return-value]

    with harbour(watch) as (address, _):
        folder = estate_for(tmp_path / "ws", address, objects=True)
        running = subprocess.Popen([str(PROGRAM), "survey", *AS_OF], cwd=folder, stderr=subprocess.DEVNULL)
        while len(asked) < 800 and running.poll() is None:
            time.sleep(0.01)
        running.send_signal(signal.SIGKILL)
        assert running.wait() == -signal.SIGKILL
        before = len(asked)
        assert lantern("survey", "--resume", cwd=folder).code == 0
    assert before < len(asked)
    twice = sum(count - 1 for count in Counter(asked).values())
    assert twice < 60  # what was under way when it was killed
    for bucket in ("permit-archive", "boat-logs", "camera-traps"):
        assert _rows(folder, bucket) == _rows(demo.folder, bucket)
    assert lantern("history", "--verify", cwd=folder).code == 0


def test_what_is_listed_unchanged_is_taken_over_and_said_to_be(tmp_path: Path) -> None:
    asked: list[str] = []

    async def watch(request: web.Request) -> web.StreamResponse:
        asked.append(request.method)
        return None  # type: ignore[return-value]

    with harbour(watch) as (address, _):
        folder = estate_for(tmp_path / "ws", address, objects=True)
        lantern("survey", *AS_OF, cwd=folder)
        first = asked.count("HEAD")
        lantern("survey", "--since-last", "--as-of", "2026-11-03", cwd=folder)
    assert asked.count("HEAD") - first < 30
    said = lantern("objects", cwd=folder).out
    assert "versions reused from the survey before: legal holds, retention and tags may have changed since" in said
    found = [
        list(read_versions(table_path(folder / "surveys" / n, "harbour", "press-kit")))
        for n in names(folder / "surveys")
    ]
    assert found[0] == found[1]


@pytest.mark.parametrize(
    ("required", "fact"),
    [("objects.tags.permit-year: present or absent", "tags"), ("exposure.read: closed", "public")],
)
def test_what_was_not_asked_before_is_not_taken_over_where_it_is_wanted_now(
    tmp_path: Path, required: str, fact: str
) -> None:
    with harbour() as (address, store):
        folder = estate_for(tmp_path / "ws", address)
        words = ("--only", "harbour/press-kit", "--objects", "all")
        (folder / "baseline.yaml").write_text("title: t\nsheets:\n- sheet: s\n  require: {versioning: on}\n")
        lantern("survey", *AS_OF, *words, cwd=folder)
        (folder / "baseline.yaml").write_text(f"title: t\nsheets:\n- sheet: s\n  require:\n    {required}\n")
        asked = []
        for day in ("2026-11-03", "2026-11-04"):
            store.requests.clear()
            ran = lantern("survey", "--since-last", "--as-of", day, *words, cwd=folder)
            assert ran.code == 0, ran.err
            asked.append(sum(method == "HEAD" and "press/" in target for method, target in store.requests))
    assert (asked[0] >= 24, asked[1]) == (True, 0)
    tables = [table_path(folder / "surveys" / one, "harbour", "press-kit") for one in names(folder / "surveys")]
    known = [[getattr(v, fact) is not None for v in read_versions(table) if not v.marker] for table in tables]
    assert [any(one) for one in known] == [False, True, True]
    assert all(known[1]) and all(known[2])


def test_an_altered_table_is_named_and_a_missing_one_stops_the_audit(tmp_path: Path) -> None:
    with harbour() as (address, _):
        folder = estate_for(tmp_path / "ws", address)
        lantern("survey", *AS_OF, "--objects", "listed", "--only", "harbour/press-kit", cwd=folder)
    path = next(folder.glob("surveys/*Z/objects/harbour/*.parquet"))
    content = path.read_bytes()
    path.write_bytes(content[:-9] + bytes([content[-9] ^ 1]) + content[-8:])
    ran = lantern("history", "--verify", cwd=folder)
    assert "press-kit.parquet: this file is not what the survey wrote" in ran.out
    for broken in (b"garbage", content[: len(content) // 2]):
        path.write_bytes(broken)
        for words in (("audit",), ("objects", "press-kit", "--fact", "size"), ("retention", "press-kit")):
            ran = lantern(*words, cwd=folder)
            assert (ran.code, "press-kit.parquet: this version table cannot be read" in ran.err) == (2, True), ran.err
    path.unlink()
    ran = lantern("audit", cwd=folder)
    assert (ran.code, "press-kit.parquet: a file of the survey is missing" in ran.err) == (2, True), ran.err


@pytest.mark.parametrize(
    "question,status,unseen",
    [
        ("retention", 403, "objects.mode"),
        ("legal-hold", 403, "objects.legal-hold"),
        ("tagging", 403, "objects.tags.class"),
    ],
)
def test_what_may_not_be_read_of_an_object_is_unknown_and_never_bare(
    tmp_path: Path, question: str, status: int, unseen: str
) -> None:
    async def refuse(request: web.Request) -> web.StreamResponse:
        if question in request.query:
            return web.Response(status=status, text="<Error><Code>AccessDenied</Code></Error>")
        return None  # type: ignore[return-value]

    with harbour(refuse) as (address, _):
        folder = estate_for(tmp_path / "ws", address)
        (folder / "baseline.yaml").write_text(
            f"title: t\nedition: 1\nsheets:\n  - sheet: s\n    require: {{{unseen}: absent}}\n".replace(
                "hold: absent", "hold: off"
            )
        )
        lantern(
            "survey",
            *AS_OF,
            "--objects",
            "all",
            "--only",
            "harbour/grant-ledger",
            "--only",
            "harbour/permit-archive",
            cwd=folder,
        )
    rows = json.loads(lantern("objects", "--json", cwd=folder).out)["requirements"]
    archive = next(row for row in rows if row["bucket"] == "permit-archive")
    assert archive["objects"]["unknown"] > 0
    assert archive["status"] in ("unknown", "drift")
    assert archive["objects"]["ok"] == 0


CSV = """"press-kit","press/a+b%20%C3%BC.jpg","v2","true","false","10","2026-01-02T00:00:00.000Z","SSE-S3","",""
"press-kit","press/a+b%20%C3%BC.jpg","v1","false","false","5","2026-01-01T00:00:00.000Z","SSE-KMS","COMPLIANCE","2031-01-01T00:00:00Z"
"press-kit","gone.jpg","v3","true","true","","2026-01-01T00:00:00.000Z","","",""
"press-kit","bare.jpg","v4","true","false","7","2026-01-01T00:00:00.000Z","NOT-SSE","",""
"""
INVENTORY = """    inventory:
      files: inventory/{bucket}*.csv.gz
      headings: absent
      keys: url-encoded
      columns: {bucket: 1, key: 2, version: 3, current: 4, marker: 5, size: 6, written: 7, encryption: 8, mode: 9,
                until: 10}
"""


def test_an_inventory_replaces_listing_and_what_it_does_not_map_is_unknown(tmp_path: Path) -> None:
    with harbour() as (address, store):
        folder = estate_for(tmp_path / "ws", address, INVENTORY)
        (folder / "inventory").mkdir()
        with gzip.open(folder / "inventory" / "press-kit-1.csv.gz", "wt") as stream:
            stream.write(CSV)
        lantern("survey", *AS_OF, "--only", "harbour/press-kit", cwd=folder)
        assert not [target for _, target in store.requests if "versions" in target or "list-type" in target]
    found = _rows(folder, "press-kit")
    assert [(v.key, v.version, v.size, v.encryption, v.mode, v.hold) for v in found] == [
        ("bare.jpg", "v4", 7, "none", "", None),
        ("gone.jpg", "v3", 0, None, "", None),
        ("press/a b ü.jpg", "v2", 10, "provider-managed", "", None),
        ("press/a b ü.jpg", "v1", 5, "customer-managed", "compliance", None),
    ]
    facts = {f["fact"]: f for f in json.loads(lantern("show", "press-kit", "--json", cwd=folder).out)["facts"]}
    assert (facts["objects"]["value"], facts["objects"]["note"]) == (2, "by the provider's inventory")
    assert (facts["versions.old"]["value"], facts["versions.markers"]["value"]) == (1, 1)
    row = json.loads(lantern("retention", "press-kit", "--json", cwd=folder).out)["buckets"][0]
    states = {keys["state"]: keys["examples"] for keys in row["retention"]["keys"]}
    assert states == {"unknown": ["bare.jpg", "press/a b ü.jpg"]}  # holds are not mapped
    judged_ = {
        r["fact"]: r for r in json.loads(lantern("objects", "press-kit", "--json", cwd=folder).out)["requirements"]
    }
    assert judged_["objects.content-type"]["status"] == "unknown"
    assert judged_["objects.size"]["status"] == "ok"


HEADED = "bucket,key,version,current,marker,mode,until,hold\n"
COLUMNS = tuple((name, name) for name in HEADED.strip().split(","))
SPOILT = [
    # rows of an inventory that is not to be believed → what is said of it
    (["press,a,v1,latest,false,,,"], 'the column of current versions has "latest", which is neither true nor false'),
    (["press,a,v1,,false,,,"], 'the column of current versions has "", which is neither true nor false'),
    (["press,a,v1,true,perhaps,,,"], 'the column of delete markers has "perhaps", which is neither true nor false'),
    (["press,a,v1,true,false,,,", "press-kit,b,v2,true,false,,,"], 'it has rows of the bucket "press-kit"'),
    ([",a,v1,true,false,,,"], 'it has rows of the bucket ""'),
    (["press,a,v1,true,false,,,", "press,a,v2,true,false,,,"], '"a" has two current versions'),
    (["press,a,v1,true,false,,tomorrow,"], "tomorrow"),
]


def taken_from(folder: Path, rows: list[str], newer_than: int = 0) -> tuple[str, list[ObjectVersion]]:
    """Why an inventory cannot be read, and the versions where it can."""
    (folder / "i.csv").write_text(HEADED + "".join(f"{row}\n" for row in rows))
    inventory = Inventory("{bucket}/*.csv", COLUMNS, newer_than=newer_than)
    out = folder / "out.parquet"
    made = read_inventory_files([folder / "i.csv"], inventory, "press", out, datetime.now(UTC))
    assert made.table.unread is made.usage.unread is made.versions.unread is not out.exists()
    return made.table.reason, list(read_versions(out)) if out.exists() else []


@pytest.mark.parametrize("rows,why", SPOILT, ids=lambda one: str(one)[:30])
def test_an_inventory_that_contradicts_itself_is_not_believed(tmp_path: Path, rows: list[str], why: str) -> None:
    assert why in taken_from(tmp_path, rows)[0]


def test_a_word_of_an_inventory_that_is_not_understood_settles_nothing(tmp_path: Path) -> None:
    rows = ["press,a,v1,1,0,GOVERNANCE,2031-01-01,ON", "press,b,v1,yes,no,legal,2031-01-01,active",
            "press,c,v1,true,,,2031-01-01,off", "press,d,v1,true,,compliance,,", "press,e,v1,true,,,,"]  # fmt: skip
    why, versions = taken_from(tmp_path, rows)
    assert why == ""
    assert [(v.key, v.mode, v.hold) for v in versions] == [
        ("a", "governance", True), ("b", None, None), ("c", None, False), ("d", None, False), ("e", "", False),
    ]  # fmt: skip


@pytest.mark.parametrize("size", ["1.5", "1e3", "-5", "1,000", "1_000", "0x10", " 7", "\uff17", "9" * 19, "big"])
def test_a_size_that_is_no_count_of_bytes_spoils_an_inventory(tmp_path: Path, size: str) -> None:
    (tmp_path / "i.csv").write_text(f'key,size\na,7\nb,"{size}"\n')
    inventory = Inventory("i.csv", (("key", "key"), ("size", "size")))
    made = read_inventory_files([tmp_path / "i.csv"], inventory, "press", tmp_path / "out.parquet", datetime.now(UTC))
    assert "which is no count of bytes" in made.table.reason and made.usage.unread


@pytest.mark.parametrize("versioned", [True, False])
def test_an_inventory_of_current_versions_says_nothing_of_old_ones(tmp_path: Path, versioned: bool) -> None:
    (tmp_path / "i.csv").write_text("key,mode,until,hold\na,,,off\n")
    inventory = Inventory("i.csv", tuple((name, name) for name in ("key", "mode", "until", "hold")))
    out = tmp_path / "out.parquet"
    made = read_inventory_files([tmp_path / "i.csv"], inventory, "press", out, datetime.now(UTC), versioned=versioned)
    assert (made.usage.value and made.usage.value.objects, made.versions.unread) == (1, versioned)
    [summary] = retention_summaries([VersionTable(out)], datetime.now(UTC))
    assert [keys.state for keys in summary.keys] == (["unknown"] if versioned else ["unprotected"])


def test_an_inventory_of_long_ago_is_not_read(tmp_path: Path) -> None:
    rows = ["press,a,v1,true,false,,,"]
    assert taken_from(tmp_path, rows, newer_than=8 * 86_400)[0] == ""
    (tmp_path / "out.parquet").unlink()
    inventory = Inventory("{bucket}/*.csv", COLUMNS, newer_than=8 * 86_400)
    later = datetime.now(UTC) + timedelta(days=9)
    made = read_inventory_files([tmp_path / "i.csv"], inventory, "press", tmp_path / "out.parquet", later)
    assert "it is 9 days old, and estate.yaml wants it newer than 8 days" in made.table.reason


@pytest.mark.parametrize(
    "files,more",
    [("{bucket}*.csv", True), ("i/*-{bucket}.csv", True), ("i/{bucket}-[0-9].csv", True), ("{bucket}/*.csv", False),
     ("i/{bucket}.csv", False)],
)  # fmt: skip
def test_a_pattern_that_takes_the_files_of_other_buckets_needs_the_column_of_buckets(
    tmp_path: Path, files: str, more: bool
) -> None:
    for mapped, refused in (("{key: 2}", more), ("{bucket: 1, key: 2}", False)):
        lines = f"    inventory: {{files: '{files}', headings: absent, columns: {mapped}}}\n"
        ran = lantern("survey", "--dry-run", cwd=estate_for(tmp_path / f"ws{len(mapped)}", "http://127.0.0.1:1", lines))
        assert ("this pattern fits the files of every bucket" in ran.err) is refused, ran.err
    ran = lantern(
        "survey", cwd=estate_for(tmp_path / "v", "http://127.0.0.1:1", lines.replace("key: 2", "key: 2, version: 3"))
    )
    assert "needs the column that says which is current" in ran.err


def test_an_inventory_that_cannot_be_read_is_said_to_be(tmp_path: Path) -> None:
    with harbour() as (address, _):
        folder = estate_for(tmp_path / "ws", address, INVENTORY)
        (folder / "inventory").mkdir()
        (folder / "inventory" / "press-kit.csv.gz").write_bytes(b"not gzip")
        lantern("survey", *AS_OF, "--only", "harbour/press-kit", cwd=folder)
        shown = json.loads(lantern("show", "press-kit", "--json", cwd=folder).out)["facts"]
        assert "the inventory cannot be read" in next(f["note"] for f in shown if f["fact"] == "objects")
        wrong = INVENTORY.replace("{bucket}", "all").replace("key: 2, version", "keey: 2, version")
        ran = lantern("survey", cwd=estate_for(tmp_path / "other", address, wrong))
    assert (ran.code, 'did you mean "key"?' in ran.err, "with {bucket} in it" in ran.err) == (2, True, True), ran.err
