"""How much is kept and what it costs: sums held against the listings themselves, version by version and by hand."""

from __future__ import annotations

import csv
import json
from datetime import UTC, datetime, timedelta
from decimal import Decimal
from pathlib import Path
from typing import Any

import msgspec
import pyarrow.parquet as pq
import pytest
from hypothesis import given
from hypothesis import strategies as st

from rusty_lantern.core.answer import Answer
from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.audit.store_subject import views
from rusty_lantern.core.errors import BadInput
from rusty_lantern.core.model.bucket import Bucket, Lock, Quota, SharedQuota
from rusty_lantern.core.model.bucket_contents import EarlierCount, Uploads, Usage, Versions
from rusty_lantern.core.model.dialect import GATEWAY_16
from rusty_lantern.core.model.dossier import OBJECT_GATEWAY, Dossier, Software
from rusty_lantern.core.object_rules.gateway_calendar import as_kept
from rusty_lantern.core.object_rules.retention import protection
from rusty_lantern.core.usage.holding import (
    Holding,
    Kind,
    Locked,
    days_until_full,
    group,
    grouped,
    growth,
    holding,
    summed,
)
from rusty_lantern.core.usage.prices import cost, read_prices
from rusty_lantern.core.value_types import YEAR
from rusty_lantern.simulator.demo.harbour import MOMENT
from tests.conftest import Lived, Whole, lantern

PRICES = """\
currency: EUR
stores:
  pond:
    tiers:
      cold: {month: 4 per TB, restore: 20 per TB}
      warm: {month: 20 per TB}
"""
NOW = datetime(2026, 11, 2, tzinfo=UTC)


def held(name: str = "a", **told: Any) -> Holding:
    """One bucket of a pond, counted whole and holding nothing, but for what is said."""
    usual = Holding(
        store="pond", bucket=name, tier="warm", tenant="", tags={}, tags_read=True, objects=0, bytes=0,
        counted_by="listing", reason="", taken=NOW, old=0, old_bytes=0, markers=0, uploads=0, upload_bytes=0,
        oldest_upload=None, expiring=0, written_lately=0, kinds=None, locked=Locked(0, None, 0), quota=0,
    )  # fmt: skip
    return msgspec.structs.replace(usual, **told)


@pytest.fixture(scope="module")
def shown(whole: Whole) -> dict[str, Any]:
    found: dict[str, Any] = json.loads(whole.run("usage", "--by", "bucket", "--json").out)
    return found


def test_usage_adds_up_to_the_listings_byte_for_byte(whole: Whole, shown: dict[str, Any]) -> None:
    rows = {row["name"]: row for row in shown["rows"]}
    for store, held_there in (("harbour", whole.served.harbour.holdings), ("skerry", whole.served.skerry.holdings),
                              ("slipway", whole.served.slipway.holdings)):  # fmt: skip
        for bucket in held_there.dossier.buckets:
            versions = [v for v in held_there.versions.get(bucket.name, []) if not v.marker]
            row = rows[f"{store}/{bucket.name}"]
            if "bytes" in row["missing"] or not held_there.versions.get(bucket.name):
                continue
            assert row["bytes"] == sum(v.size for v in versions if v.current), bucket.name
            assert row["old_bytes"] == sum(v.size for v in versions if not v.current), bucket.name
    for name in ("bytes", "old_bytes", "objects", "locked_bytes", "buckets"):
        assert shown["total"][name] == sum(row[name] for row in shown["rows"])


def test_what_is_locked_is_what_the_rules_say_version_by_version(whole: Whole, shown: dict[str, Any]) -> None:
    from rusty_lantern.objects.tables import read_versions

    rows = {row["name"]: row for row in shown["rows"]}
    for bucket in ("permit-archive", "grant-ledger", "backups-nightly"):
        path = next((whole.folder / "surveys").glob(f"*/objects/harbour/{bucket}.parquet"))
        versions = [v for v in read_versions(path) if not v.marker]
        row = rows[f"harbour/{bucket}"]
        assert row["locked_bytes"] == sum(v.size for v in versions if protection(v, MOMENT).protected)
        ends = [until for v in versions if (until := protection(v, MOMENT).until) is not None]
        assert row["locked_until"] == max(ends).strftime("%Y-%m-%dT%H:%M:%SZ")


@pytest.mark.parametrize("by", ["store", "tier", "tenant", "tags.steward", "bucket"])
def test_every_grouping_sums_up_to_the_same(whole: Whole, shown: dict[str, Any], by: str) -> None:
    told = json.loads(whole.run("usage", "--by", by, "--json").out)
    for name in ("bytes", "old_bytes", "objects"):
        assert sum(row[name] for row in told["rows"]) == shown["total"][name], (by, name)


def test_tables_are_written_and_mistakes_are_told(whole: Whole, tmp_path: Path) -> None:
    assert whole.run("usage", "--out", str(tmp_path / "u.csv")).code == 0
    rows = list(csv.DictReader((tmp_path / "u.csv").read_text().splitlines()))
    assert rows[-1]["name"] == "all" and int(rows[-1]["buckets"]) == sum(int(row["buckets"]) for row in rows[:-1])
    assert whole.run("usage", "--out", str(tmp_path / "u.parquet")).code == 0
    assert pq.read_table(tmp_path / "u.parquet").num_rows == len(rows)
    ended = whole.run("usage", "--out", str(tmp_path / "u.xlsx"))
    assert ended.code == 2 and not (tmp_path / "u.xlsx").exists()
    assert 'did you mean "store"?' in whole.run("usage", "--by", "stor").err


def test_growth_is_measured_from_the_survey_of_a_month_before(lived: Lived) -> None:
    told = json.loads(lived.run("usage", "--by", "bucket", "--json").out)
    assert told["earlier"] == "20261002T060000Z"
    before = json.loads(lived.run("usage", "--by", "bucket", "--survey", "20261002", "--json").out)
    then = {row["name"]: row["bytes"] for row in before["rows"]}
    for row in told["rows"]:
        if row["growth_bytes_a_month"] is not None:
            grown = (row["bytes"] - then[row["name"]]) / 31 * 30
            assert row["growth_bytes_a_month"] == round(grown), row["name"]


def test_what_is_unknown_is_said_and_never_zero(whole: Whole) -> None:
    out = whole.run("usage", COLUMNS="160").out
    line = next(line for line in out.splitlines() if line.startswith("dunes"))
    assert line.split()[1:4] == ["5", "unknown", "unknown"]
    assert (
        "have no price in prices.yaml" in out
        and "dunes: dune-archive, dune-counts, dune-drafts and 2 more  not counted whole" in out
    )


def test_costs_are_what_they_are_by_hand() -> None:
    prices = read_prices(PRICES, "prices.yaml")
    terabyte = 10**12
    kinds = (Kind("cold", True, 1, 2 * terabyte), Kind("warm", False, 3, terabyte, 2.0 * terabyte))
    free = NOW + timedelta(days=60)
    one = held(bytes=2 * terabyte, old_bytes=terabyte, kinds=kinds, locked=Locked(terabyte, free, 5))
    found = cost([one, held("b", bytes=terabyte)], prices)
    assert (found.current, found.old) == (Decimal(2 * 4 + 20), Decimal(20))
    assert found.restore == Decimal(40)
    assert found.until_free == Decimal(20 * 2)  # a terabyte for two months
    assert (found.unpriced_bytes, found.without_end) == (0, 5)
    stranger = msgspec.structs.replace(held(bytes=7), store="elsewhere")
    assert cost([stranger], prices).unpriced_bytes == 7
    assert cost([held(bytes=None)], prices).uncounted_buckets == 1


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("currency: euros\nstores: {}", "three letters"),
        (PRICES.replace("4 per TB", "4 a TB"), '"4 a TB" is no price'),
        (PRICES.replace("4 per TB", "4 per XB"), "not a unit"),
        (PRICES.replace("month: 20 per TB", "mont: 20 per TB"), 'did you mean "month"?'),
        (PRICES.replace("tiers", "tires"), 'did you mean "tiers"?'),
    ],
)
def test_mistakes_in_a_price_list_are_told_with_their_place(text: str, words: str) -> None:
    with pytest.raises(BadInput) as caught:
        read_prices(text, "prices.yaml")
    assert words in str(caught.value) and "prices.yaml:" in str(caught.value)


def test_a_quota_is_full_when_a_straight_line_says_so() -> None:
    then = held(bytes=100, taken=NOW - timedelta(days=10))
    assert days_until_full(held(bytes=200, quota=300), then) == 10
    assert days_until_full(held(bytes=300, quota=300), then) == 0
    assert days_until_full(held(bytes=100, quota=300), then) is None  # it does not grow
    assert days_until_full(held(bytes=200), then) is None and days_until_full(held(bytes=200, quota=300), None) is None
    assert growth([held(bytes=None)], [then]) is None


def test_the_facts_of_usage_and_quota() -> None:
    def bucket(**told: Any) -> dict[str, Answer[Any]]:
        made = Bucket(name="a", **told)
        return BucketSubject(made, Dossier(store="pond", taken=NOW, buckets=[made]), NOW).facts()

    held = {"usage": Answer("known", Usage(3, 90)), "versions": Answer("known", Versions(2, 10, 0)),
            "quota": Answer("known", Quota(bytes=120))}  # fmt: skip
    full = bucket(**held, uploads=Answer("unsupported"))
    assert (full["usage.old-share"].value, full["quota.left"].value) == (10, 20)
    cut = bucket(usage=Answer("known", Usage(3, 90, complete=False)), versions=Answer("known", Versions(2, 10, 0)),
                 quota=Answer("known", Quota(bytes=120)))  # fmt: skip
    assert cut["usage.old-share"].state == cut["quota.left"].state == "failed"
    made = Bucket(name="a", quota=Answer("denied"))
    unread = holding(BucketSubject(made, Dossier(store="pond", taken=NOW, buckets=[made]), NOW))
    assert grouped([unread], "store")[0].quota.missing == 1
    denied = bucket(usage=Answer("denied"), versions=Answer("known", Versions(2, 10, 0)), quota=Answer("denied"))
    assert denied["usage.old-share"].state == denied["quota.left"].state == "denied"
    assert bucket(quota=Answer("absent"))["quota.left"].state == "absent"


def test_unfinished_uploads_count_against_a_quota_and_the_stores_own_counter_where_it_says_more() -> None:
    def left(**told: Any) -> Answer[Any]:
        made = Bucket(name="a", usage=Answer("known", Usage(1, 30)), quota=Answer("known", Quota(bytes=100)),
                      **{"versions": Answer("unsupported"), **told})  # fmt: skip
        return BucketSubject(made, Dossier(store="pond", taken=NOW, buckets=[made]), NOW).fact("quota.left")

    begun = Answer("known", Uploads(2, bytes=50))
    unknown = Answer("known", Uploads(2, bytes_unread="denied"))
    counter = Answer("known", Usage(2, 60, by="counters"))
    assert left(uploads=begun).value == 20
    assert left(uploads=begun, counters=counter).value == 20  # it may lag
    assert not left(uploads=Answer("denied"), counters=counter).settled
    assert not left(uploads=begun, counters=Answer("denied")).settled, "it may say more"
    assert left(uploads=Answer("known", Uploads(0))).value == left(uploads=Answer("unsupported")).value == 70
    assert (left(uploads=unknown).state, left(uploads=unknown).note) == (
        "failed",
        "how much unfinished uploads take: denied",
    )
    assert left(uploads=Answer("denied")).state == "denied"


@pytest.mark.parametrize("field", ["usage", "versions", "uploads", "counters", "quota", "owner"])
def test_an_input_of_a_quota_that_is_denied_leaves_no_other_value(field: str) -> None:
    quota = Quota(bytes=100, in_blocks=False, shared=[SharedQuota(bytes=90)])
    whole = Bucket(
        name="a", usage=Answer("known", Usage(1, 30)), versions=Answer("known", Versions(1, 5, 0)),
        uploads=Answer("known", Uploads(1, bytes=7)), counters=Answer("known", Usage(2, 60, by="counters")),
        owner=Answer("known", "deck"), quota=Answer("known", quota),
    )  # fmt: skip
    for bucket, value in ((whole, 30), (msgspec.structs.replace(whole, **{field: Answer("denied")}), None)):
        dossier = Dossier(store="pond", taken=NOW, buckets=[bucket], listing=Answer("known", 1))
        assert views([dossier], None, NOW)[0].fact("quota.left").value == value


YEARS_100 = Lock(enabled=True, mode="compliance", retention=100 * YEAR)
GATEWAY = Software(OBJECT_GATEWAY, "16.2.1", GATEWAY_16)


@pytest.mark.parametrize(
    ("software", "retention", "unknown"),
    [
        (Answer("known", GATEWAY), 0, False), (Answer("known", Software("", dialect=GATEWAY_16)), 0, False),
        (Answer("known", Software(OBJECT_GATEWAY, "19.1")), 0, True), (Answer("denied"), 0, True),
        (Answer("known", Software("")), 100 * YEAR, False), (Answer("unsupported"), 100 * YEAR, False),
    ],
)  # fmt: skip
def test_a_century_of_retention_is_believed_where_no_gateway_answers(
    software: Answer[Software], retention: int, unknown: bool
) -> None:
    lock = as_kept(Bucket(name="a", lock=Answer("known", YEARS_100)), software, NOW).lock.value
    assert lock is not None and (lock.retention, bool(lock.default_unread)) == (retention, unknown)
    short = Bucket(name="a", lock=Answer("known", Lock(enabled=True, mode="compliance", retention=YEAR)))
    assert as_kept(short, software, NOW) is short


def test_a_quota_that_buckets_share_is_filled_by_all_of_them() -> None:
    def made(name: str, size: int, quota: Quota | None = None, owner: str = "deck", tier: str = "") -> Bucket:
        nothing: Answer[Any] = Answer("unsupported")
        return Bucket(
            name=name, usage=Answer("known", Usage(1, size)), versions=nothing, uploads=nothing,
            owner=Answer("known", owner), tier=Answer("known", tier) if tier else Answer("denied"),
            quota=Answer("known", quota) if quota else Answer("absent"),
        )  # fmt: skip

    def left(*buckets: Bucket, listed: int = 0) -> Answer[Any]:
        dossier = Dossier(
            store="pond", taken=NOW, buckets=list(buckets), listing=Answer("known", listed or len(buckets))
        )
        return next(view.fact("quota.left") for view in views([dossier], None, NOW))

    all_of_it = Quota(bytes=90, shared=[SharedQuota(bytes=100)])
    first, second, other = made("a", 10, all_of_it), made("b", 40), made("c", 500, owner="reed")
    assert (all_of_it.most_bytes, left(first, second, other).value) == (90, 50)
    assert left(first, made("b", 5), other).value == 80  # its own is less now
    assert left(first, made("b", 500), other).value == 0
    assert (left(first, second, listed=3).state, left(first, second, listed=3).note) == (
        "failed", "not all buckets of the store were read",
    )  # fmt: skip
    uncounted = msgspec.structs.replace(second, usage=Answer("denied"))
    assert left(first, uncounted).note == "b may share its quota, and was not counted"
    assert left(first, msgspec.structs.replace(other, owner=Answer("denied"))).state == "failed"
    in_one_tier = made("a", 10, Quota(shared=[SharedQuota(bytes=100, tier="cold")]), tier="cold")
    assert left(in_one_tier, made("b", 40, tier="warm"), made("c", 20, tier="cold")).value == 70
    assert left(in_one_tier, made("b", 40)).note == "b may share its quota, and was not counted"
    growing = msgspec.structs.replace(first, before=Answer("known", EarlierCount(NOW - timedelta(days=5), 1, 0)))
    full = views([Dossier(store="pond", taken=NOW, buckets=[growing], listing=Answer("known", 1))], None, NOW)[0]
    assert "may grow as well" in full.fact("quota.full-in").note


SIZES = st.none() | st.integers(0, 10**15)


@given(st.lists(st.tuples(SIZES, SIZES, st.sampled_from(["warm", "cold", ""])), max_size=8))
def test_groups_lose_nothing_and_count_what_is_missing(told: list[tuple[int | None, int | None, str]]) -> None:
    every = [held(f"b{n}", bytes=new, old_bytes=old, tier=tier) for n, (new, old, tier) in enumerate(told)]
    for by in ("store", "tier", "bucket", "tags.x"):
        groups = grouped(every, by)
        assert sum(one.bytes.value for one in groups) == sum(new or 0 for new, _, _ in told)
        assert sum(one.bytes.missing for one in groups) == sum(new is None for new, _, _ in told)
        assert sum(one.buckets for one in groups) == len(every)
    assert summed([1, None, 2]) == summed([2, 1, None])


def test_a_bucket_without_versions_has_no_old_ones_only_where_that_is_known(whole: Whole) -> None:
    made = Bucket(name="a", usage=Answer("known", Usage(1, 5)), versioning=Answer("absent"))
    dossier = Dossier(store="pond", taken=NOW, buckets=[made])
    assert holding(BucketSubject(made, dossier, NOW)).old_bytes == 0
    unread = msgspec.structs.replace(made, versioning=Answer("denied"))
    assert holding(BucketSubject(unread, dossier, NOW)).old_bytes is None
    assert holding(BucketSubject(unread, dossier, NOW)).locked is None
    assert lantern("usage", "--help", cwd=whole.folder).code == 0


FLAT = "currency: EUR\nstores: {pond: {tiers: {'*': {month: 9 per TB}}}}\n"


def test_a_tier_that_was_not_read_has_a_price_only_where_all_cost_the_same() -> None:
    told = held(bytes=10**12, tier="not known")
    assert cost([told], read_prices(PRICES, "prices.yaml")).unpriced_bytes == 10**12
    assert cost([told], read_prices(PRICES + '      "*": {month: 1 per TB}\n', "prices.yaml")).unpriced_bytes == 10**12
    assert cost([told], read_prices(FLAT, "prices.yaml")).current == 9


def test_an_answer_that_is_denied_never_makes_another_sum(whole: Whole) -> None:
    """Each answer about each bucket of the demo, one at a time: a sum stays as it is, or is said to lack a part."""
    from rusty_lantern.archive.surveys import load

    prices = read_prices((whole.folder / "prices.yaml").read_text(), "prices.yaml")
    sums = (
        "objects",
        "bytes",
        "old",
        "old_bytes",
        "markers",
        "uploads",
        "upload_bytes",
        "expiring",
        "locked_bytes",
        "quota",
    )
    checked = 0
    for dossier in load(whole.folder / "surveys").dossiers:
        for bucket in dossier.buckets:
            before = holding(BucketSubject(bucket, dossier, MOMENT))
            first, paid = group("x", [before]), cost([before], prices)
            for name in ("usage", "versions", "uploads", "lifecycle", "versioning", "lock", "quota", "tier", "table"):
                spoilt = msgspec.structs.replace(bucket, **{name: Answer("denied")})
                now = holding(BucketSubject(spoilt, dossier, MOMENT))
                then = group("x", [now])
                for one in sums:
                    old, new = getattr(first, one), getattr(then, one)
                    assert new.missing or (new.value, old.missing) == (old.value, 0), (
                        dossier.store,
                        bucket.name,
                        name,
                        one,
                    )
                costs = cost([now], prices)
                lacks = costs.unpriced_bytes or costs.uncounted_buckets or costs.unlisted_buckets
                assert lacks or costs == paid, (dossier.store, bucket.name, name)
                checked += 1
    assert checked > 500
