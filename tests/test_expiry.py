"""What expiry rules will remove, what deletion would still be billed, what other retention costs."""

from __future__ import annotations

import json
import shutil
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from decimal import Decimal
from pathlib import Path
from typing import Any

import msgspec
import pytest
from hypothesis import Phase, given, settings
from hypothesis import strategies as st

from rusty_lantern.core.answer import Answer
from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.model.bucket import Bucket, LifecycleRule, Lock, Quota, Versioning
from rusty_lantern.core.model.bucket_contents import Uploads, Usage, Versions
from rusty_lantern.core.model.dossier import Dossier, encode
from rusty_lantern.core.model.object_version import ObjectVersion
from rusty_lantern.core.object_rules.retention import protection
from rusty_lantern.core.usage.holding import MONTH, Kind, holding
from rusty_lantern.core.usage.prices import cost, price_of_questions, read_prices
from rusty_lantern.core.usage.proposed_retention import retention_cost
from rusty_lantern.objects.table_set import VersionTable, version_table
from rusty_lantern.objects.tables import table_writer
from rusty_lantern.objects.usage_by_tier import ByTier, by_tier
from rusty_lantern.stores.http.xml import parse
from rusty_lantern.stores.s3.rule_documents import lifecycle
from tests.conftest import Whole, lantern
from tests.test_objects import NOW, TABLES
from tests.test_usage import held

DAY = 86_400
PERIODS = st.sampled_from([0, 0, 30 * DAY, 200 * DAY, 850 * DAY])
DAYS = st.none() | st.sampled_from([NOW - timedelta(9), NOW + timedelta(9), NOW + timedelta(99)])
RULES = st.lists(
    st.builds(
        LifecycleRule, prefix=st.sampled_from(["", "a", "a/", "z"]), expires=PERIODS, expires_old=PERIODS,
        enabled=st.booleans(), expires_on=DAYS,
    ),
    max_size=3,
)  # fmt: skip


def removed_within_a_month(
    keys: Sequence[list[ObjectVersion]], rules: list[LifecycleRule], *, versioned: bool
) -> int | None:
    """By the rules as they are written, one version after the other; None where it depends on what nobody read."""
    ahead, total = NOW + MONTH, 0
    for versions in keys:
        fitting = [rule for rule in rules if rule.enabled and versions[0].key.startswith(rule.prefix)]
        old = min((rule.expires_old for rule in fitting if rule.expires_old), default=None)
        ordered = sorted(versions, key=lambda v: (not v.current, -v.written.timestamp() if v.written else 0))
        for newer, version in zip([None, *ordered], ordered, strict=False):
            if version.marker or version.written is None:
                continue
            if newer is None:
                ends = [version.written + timedelta(seconds=rule.expires) for rule in fitting if rule.expires]
                ends += [max(version.written, rule.expires_on) for rule in fitting if rule.expires_on]
                gone = min(ends, default=None)
            else:
                gone = newer.written
            if newer is not None or versioned:
                gone = None if gone is None or old is None else gone + timedelta(seconds=old)
            if gone is None or gone > ahead:
                continue
            if version.mode is None or version.hold is None:
                return None
            free = protection(version, ahead)
            total += 0 if free.protected else version.size
    return total


def written(path: Path, keys: Sequence[list[ObjectVersion]]) -> VersionTable:
    with table_writer(path) as writer:
        writer.add(version for versions in keys for version in versions)
    return VersionTable(path, sum(map(len, keys)))


def counted(
    folder: Path, keys: Sequence[list[ObjectVersion]], rules: list[LifecycleRule], *, versioned: bool
) -> ByTier:
    made = Bucket(
        name="b",
        lifecycle=Answer("known", rules),
        versioning=Answer("known", Versioning("on" if versioned else "never")),
    )
    view = BucketSubject(made, Dossier(store="s", taken=NOW, buckets=[made]), NOW)
    table = version_table(folder, view)._replace(path=folder / "t.parquet")
    written(table.path, keys)
    return by_tier([table], NOW, periods=(90 * DAY,))[0]


@settings(max_examples=25, phases=[Phase.generate])
@given(TABLES, RULES, st.booleans())
def test_what_rules_remove_is_what_they_say_version_by_version(
    tmp_path_factory: pytest.TempPathFactory,
    keys: tuple[list[ObjectVersion], ...],
    rules: list[LifecycleRule],
    versioned: bool,
) -> None:
    told = counted(tmp_path_factory.mktemp("rules"), keys, rules, versioned=versioned)
    assert told.expiring == removed_within_a_month(keys, rules, versioned=versioned)
    every = [version for versions in keys for version in versions if not version.marker]
    short = sum(v.size * max(0.0, 90 * DAY - (NOW - v.written).total_seconds()) for v in every if v.written)
    assert sum(kind.young[0] for kind in told.kinds) == pytest.approx(short / MONTH.total_seconds())
    bound = sum(v.size * (v.until - NOW).total_seconds() for v in every if v.mode and v.until and v.until > NOW)
    assert sum(kind.locked_byte_months for kind in told.kinds) == pytest.approx(bound / MONTH.total_seconds())
    assert told.written_lately == sum(v.size for v in every if v.written and NOW - timedelta(90) < v.written <= NOW)


def test_many_tables_with_rules_say_what_each_says_alone(tmp_path: Path) -> None:
    one = [[ObjectVersion(key="a", size=5, written=NOW - timedelta(100), mode="", hold=False)]]
    rules = '[{"prefix":"","expires":86400,"old":0,"on":0}]'
    tables = [
        written(tmp_path / f"{n}.parquet", one)._replace(rules=rules * bool(n % 2), versioned=n == 3) for n in range(5)
    ]
    assert [told.expiring for told in by_tier(tables, NOW)] == [0, 5, 0, 0, 0]
    assert by_tier(tables, NOW) == [by_tier([table], NOW)[0] for table in tables]


def test_a_rule_that_something_else_narrows_leaves_it_unknown(tmp_path: Path) -> None:
    keys = [[ObjectVersion(key="a", size=5, written=NOW - timedelta(100), mode="", hold=False)]]
    plain = LifecycleRule(expires=DAY)
    assert counted(tmp_path, keys, [plain], versioned=False).expiring == 5
    assert counted(tmp_path, keys, [msgspec.structs.replace(plain, narrowed="Tag")], versioned=False).expiring is None


def test_what_objects_say_of_their_own_end_counts_where_they_were_inspected(tmp_path: Path) -> None:
    soon, late = NOW + timedelta(days=20), NOW + timedelta(days=40)
    ends = {"soon": soon, "late": late, "over, and listed still": NOW - timedelta(days=1), "never": None}
    keys = [
        [ObjectVersion(key=key, size=2**n, written=NOW, mode="", hold=False, inspected="yes", expires=when)]
        for n, (key, when) in enumerate(ends.items())
    ]
    table = written(tmp_path / "t.parquet", keys)._replace(own_expiry=True)
    assert by_tier([table], NOW)[0].expiring == 1 + 4
    blind = [*keys, [ObjectVersion(key="z", size=1, written=NOW, mode="", hold=False, inspected="denied")]]
    lost = written(tmp_path / "u.parquet", blind)._replace(own_expiry=True)
    assert [told.expiring for told in by_tier([lost, table], NOW)] == [None, 5]


@pytest.mark.parametrize(("protocol", "ends"), [("swift", None), ("s3", 0)])
def test_without_a_table_objects_that_may_end_by_themselves_are_not_said_to_stay(
    protocol: str, ends: int | None
) -> None:
    made = Bucket(name="b", lifecycle=Answer("unsupported"), usage=Answer("known", Usage(1, 5)))
    view = BucketSubject(made, Dossier(store="s", protocol=protocol, taken=NOW, buckets=[made]), NOW)
    assert holding(view).expiring == ends


RULE = """<LifecycleConfiguration><Rule><ID>r</ID><Status>Enabled</Status>{}</Rule></LifecycleConfiguration>"""


@pytest.mark.parametrize(
    ("rule", "narrowed", "every"),
    [
        ("<Filter><Prefix></Prefix></Filter><Expiration><Days>3</Days></Expiration>", "", 3 * DAY),
        ("<Expiration><Days>3</Days></Expiration>", "", 3 * DAY),
        ("<Filter><Prefix>tmp/</Prefix></Filter><Expiration><Days>3</Days></Expiration>", "", None),
        ("<Filter><Tag><Key>k</Key></Tag></Filter><Expiration><Days>3</Days></Expiration>", "Tag", None),
        (
            "<Filter><And><Prefix/><Tag><Key>k</Key></Tag><ObjectSizeGreaterThan>9</ObjectSizeGreaterThan></And>"
            "</Filter><Expiration><Days>3</Days></Expiration>", "Tag ObjectSizeGreaterThan", None,
        ),
    ],
)  # fmt: skip
def test_a_rule_for_a_part_of_a_bucket_is_none_for_all_of_it(rule: str, narrowed: str, every: int | None) -> None:
    rules = lifecycle(parse(RULE.format(rule).encode()))
    assert rules[0].narrowed == narrowed
    made = Bucket(name="b", lifecycle=Answer("known", rules))
    facts = BucketSubject(made, Dossier(store="s", taken=NOW, buckets=[made]), NOW).facts()
    assert facts["lifecycle.expires"].value == 3 * DAY and facts["lifecycle.all-expire"].value == every


def test_a_rule_with_a_date_deletes_however_new_an_object_is() -> None:
    rules = lifecycle(parse(RULE.format("<Expiration><Date>2026-12-01T00:00:00Z</Date></Expiration>").encode()))
    assert rules[0].expires_on == datetime(2026, 12, 1, tzinfo=UTC)
    made = Bucket(name="b", lifecycle=Answer("known", rules))
    assert BucketSubject(made, Dossier(store="s", taken=NOW, buckets=[made]), NOW).fact("lifecycle.expires").value == 1
    newer = RULE.format(
        "<NoncurrentVersionExpiration><NoncurrentDays>9</NoncurrentDays><NewerNoncurrentVersions>3</NewerNoncurrentVersions>"
        "</NoncurrentVersionExpiration>"
    )
    assert lifecycle(parse(newer.encode()))[0].narrowed == "NewerNoncurrentVersions"


PRICES = """\
currency: EUR
stores:
  pond:
    tiers:
      cold: {month: 4 per TB, restore: 20 per TB, shortest: 90 days}
      warm: {month: 20 per TB}
    requests: {read: 0.40 per million, list: 5 per thousand, restore: 50 per million}
"""


def test_costs_of_restoring_early_deletion_unfinished_uploads_and_questions_by_hand() -> None:
    prices = read_prices(PRICES, "prices.yaml")
    terabyte = 10**12
    cold = Kind("cold", True, 1_000_000, terabyte, locked_byte_months=2.0 * terabyte, young=(1.5 * terabyte,))
    found = cost([held(bytes=terabyte, kinds=(cold,), upload_bytes=terabyte // 10)], prices)
    assert found.restore == 20 + 50  # a TB, and a million requests
    assert [found.early, found.until_free, found.uploads] == [Decimal(6), Decimal(8), Decimal(2)]
    assert found.unlisted_buckets == 0
    assert cost([held(bytes=terabyte, tier="cold")], prices).unlisted_buckets == 1
    assert price_of_questions(prices, "pond", 1_001_000, 1_000) == Decimal("5.40")
    assert price_of_questions(prices, "elsewhere", 10, 1) is None


@pytest.mark.parametrize(
    ("old", "new", "words"),
    [
        ("shortest: 90 days", "shortest: ninety", "write it as 90 days"),
        ("0.40 per million", "0.40 per TB", "write it as 0.40 per million"),
        ("restore: 50", "restor: 50", 'did you mean "restore"?'),
    ],
)
def test_mistakes_in_prices_of_requests_are_told_with_their_place(old: str, new: str, words: str) -> None:
    with pytest.raises(Exception, match=r"prices\.yaml:") as caught:
        read_prices(PRICES.replace(old, new), "prices.yaml")
    assert words in str(caught.value)


def view_of(retention: int) -> BucketSubject:
    made = Bucket(
        name="a", lock=Answer("known", Lock(True, "governance", retention)) if retention else Answer("absent")
    )
    return BucketSubject(made, Dossier(store="pond", taken=NOW, buckets=[made]), NOW)


def test_what_a_proposed_retention_costs_is_what_is_written_in_that_time() -> None:
    prices = read_prices(PRICES, "prices.yaml")
    now = held(bytes=1, written_lately=3 * 10**12)  # a TB a month
    told = retention_cost(view_of(30 * DAY), view_of(90 * DAY), now, [], prices)
    assert told is not None and (told.written_a_month, told.locked) == (10**12, 3 * 10**12)
    assert [told.month, told.more] == [Decimal(60), Decimal(40)]
    assert retention_cost(view_of(DAY), view_of(DAY), now, [], prices) is None
    unlisted = held(bytes=5 * 10**12, written_lately=None)
    then = held(bytes=4 * 10**12, taken=unlisted.taken - timedelta(days=30))
    grown = retention_cost(view_of(0), view_of(30 * DAY), unlisted, [then], prices)
    assert grown is not None and grown.locked == 10**12 and "at least" in grown.counted_from
    still = retention_cost(view_of(0), view_of(DAY), unlisted, [held(bytes=5 * 10**12, taken=then.taken)], prices)
    assert still is not None and still.written_a_month is None and "did not grow" in still.counted_from
    unread = Bucket(name="a", lock=Answer("denied"))
    denied = BucketSubject(unread, Dossier(store="pond", taken=NOW, buckets=[unread]), NOW)
    proposed = retention_cost(denied, view_of(30 * DAY), now, [], prices)
    assert proposed is not None and proposed.before is None and proposed.more is None and proposed.locked == 10**12
    nobody = retention_cost(view_of(0), view_of(DAY), unlisted, [], None)
    assert nobody is not None and nobody.locked is None and nobody.month is None


def test_a_price_of_a_store_that_the_estate_does_not_have_is_told(whole: Whole, tmp_path: Path) -> None:
    folder = Path(shutil.copytree(whole.folder, tmp_path / "ws"))
    prices = folder / "prices.yaml"
    prices.write_text(prices.read_text().replace("  skerry:", "  skery:"))
    ended = lantern("usage", cwd=folder)
    assert ended.code == 2 and 'prices.yaml:10:3: no store of the estate is called "skery"' in ended.err
    assert 'did you mean "skerry"?' in ended.err


@pytest.mark.parametrize(
    ("told", "state", "value"),
    [
        (Answer("known", Uploads(0, bytes=0)), "known", 0),
        (Answer("known", Uploads(2, bytes=7)), "known", 7),
        (Answer("known", Uploads(2)), "failed", None),
        (Answer("known", Uploads(0, complete=False)), "failed", None),
        (Answer("known", Uploads(2, complete=False, bytes=7)), "failed", None),
        (Answer("denied"), "denied", None),
    ],
)
def test_unfinished_bytes_are_known_only_where_everything_was_weighed(
    told: Answer[Uploads], state: str, value: int | None
) -> None:
    made = Bucket(name="b", uploads=told)
    fact = BucketSubject(made, Dossier(store="s", taken=NOW, buckets=[made]), NOW).fact("usage.unfinished-bytes")
    assert (fact.state, fact.value) == (state, value)


def test_try_tells_what_another_retention_costs(whole: Whole, tmp_path: Path) -> None:
    path = tmp_path / "keep.yaml"
    path.write_text("name: backups-nightly\nlock: {enabled: true, mode: governance, retention: 7776000}\n")
    asked = ("try", str(path), "--bucket", "harbour/backups-nightly")
    ended = whole.run(*asked, "--json")
    told = json.loads(ended.out)["retention"]
    assert told["locked_bytes"] == round(told["written_bytes_a_month"] * 3) and told["currency"] == "EUR"
    assert "default retention  35 days → 90 days" in whole.run(*asked, COLUMNS="120").out


POND = "estate: Pond\nstores: {pond: {reads: dossier, at: pond.json}}\n"


def test_a_quota_that_fills_is_told_in_days_from_two_surveys(tmp_path: Path) -> None:
    def surveyed(taken: datetime, size: int, limit: int = 1_000) -> dict[str, Any]:
        made = Bucket(
            name="weed", usage=Answer("known", Usage(1, size)), versions=Answer("known", Versions(0, 0, 0)),
            uploads=Answer("unsupported"), quota=Answer("known", Quota(bytes=limit)) if limit else Answer("absent"),
        )  # fmt: skip
        (tmp_path / "pond.json").write_bytes(encode(Dossier(store="pond", taken=taken, buckets=[made])))
        assert lantern("survey", "--as-of", taken.strftime("%Y-%m-%dT%H:%M:%SZ"), cwd=tmp_path).code == 0
        found: dict[str, Any] = json.loads(lantern("show", "pond/weed", "--json", cwd=tmp_path).out)
        return next(fact for fact in found["facts"] if fact["fact"] == "quota.full-in")

    (tmp_path / "estate.yaml").write_text(POND)
    first = surveyed(NOW - timedelta(days=10), 400)
    assert first["state"] == "failed" and "no earlier survey" in first["note"]
    assert surveyed(NOW, 500)["value"] == 50 * DAY
    assert surveyed(NOW + timedelta(days=1), 1_000)["value"] == 1
    assert surveyed(NOW + timedelta(days=2), 300)["state"] == "absent"
    assert surveyed(NOW + timedelta(days=3), 300, 0)["state"] == "absent"
