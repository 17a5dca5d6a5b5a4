"""Listings cut into spans: every entry once, whatever the names; the same lower bound wherever it stops."""

from __future__ import annotations

import asyncio
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from rusty_lantern.core.config.estate import Credential, Pace, StoreConfig
from rusty_lantern.core.errors import Place
from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.core.model.bucket_contents import Usage, Versions
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.core.model.object_version import ObjectVersion
from rusty_lantern.simulator.contents import StandinKey, StoreContents
from rusty_lantern.simulator.demo import harbour as saltmarsh
from rusty_lantern.simulator.s3_server import Standin
from rusty_lantern.simulator.serve import serve
from rusty_lantern.stores.http.authorization import Signed
from rusty_lantern.stores.http.client import Client
from rusty_lantern.stores.http.credentials import AccessKey
from rusty_lantern.stores.s3.listing import OBJECTS, VERSIONS, Entry, Lister, Listing, Span
from rusty_lantern.stores.s3.usage import Counting

LETTERS = st.text(st.sampled_from("ab/0%+ é\U0001f30a~\x01"), min_size=1, max_size=6)
FORMS = st.lists(LETTERS, min_size=1, max_size=120, unique=True)


def stored(keys: list[str], each: int = 1) -> list[ObjectVersion]:
    """Versions of those keys, `each` of every one, the newest first."""
    return [
        ObjectVersion(key=key, version=f"v{n}", current=n == 0, marker=n == 2, size=n + 1, written=saltmarsh.MOMENT)
        for key in sorted(keys, key=str.encode)
        for n in range(each)
    ]


def client_of(address: str, per_second: int = 100_000) -> Client:
    pace = Pace(32, per_second)
    store = StoreConfig("s", Place("estate.yaml"), "s3", address, Credential("chain"), pace, plain_http=True)
    return Client(store, Signed(AccessKey(saltmarsh.KEY_ID, saltmarsh.SECRET), "us-east-1"), Path())


def listed(
    versions: list[ObjectVersion], listing: Listing, page: int, limit: int = 10_000
) -> tuple[list[Entry], bool, int]:
    """What a walk finds, whether that was everything, and how many questions it took."""
    dossier = Dossier(store="s", taken=saltmarsh.MOMENT, buckets=[Bucket(name="b")])
    holdings = StoreContents(dossier, {saltmarsh.KEY_ID: StandinKey(saltmarsh.SECRET, "")}, {"b": versions})
    spans: dict[bytes, list[Entry]] = {}

    def take(span: Span, entries: list[Entry]) -> None:
        if entries:
            assert entries[0]["Key"].encode() not in spans or listing is VERSIONS
            spans.setdefault(span.after.encode() + span.within.encode(), []).extend(entries)

    async def walk(address: str) -> tuple[bool, int]:
        async with client_of(address) as client:
            return await Lister(client, "b", listing, page).walk(take, limit), client.questions_asked

    with serve(Standin(holdings, saltmarsh.MOMENT).application()) as address:
        whole, asked = asyncio.run(walk(address))
    return [entry for entries in spans.values() for entry in entries], whole, asked


@settings(max_examples=25, suppress_health_check=[HealthCheck.too_slow])
@given(FORMS, st.integers(1, 3), st.integers(1, 4))
def test_every_version_is_listed_once_whatever_the_names(keys: list[str], each: int, page: int) -> None:
    versions = stored(keys, each)
    found, whole, _ = listed(versions, VERSIONS, page)
    assert whole
    assert sorted((e["Key"], e["VersionId"]) for e in found) == sorted((v.key, v.version) for v in versions)


@pytest.mark.parametrize(
    "keys",
    [
        [f"item-{n:05d}" for n in range(900)],
        [f"data/2026/{n % 12:02d}/{n}" for n in range(900)],
        ["one" + "x" * n for n in range(300)],
        [f"{n:03x}" for n in range(600)] + ["zz" + str(n) for n in range(300)],
    ],
    ids=["numbered", "by month", "nested", "uneven"],
)
def test_a_giant_is_listed_in_many_places_at_once(keys: list[str]) -> None:
    found, whole, asked = listed(stored(keys), OBJECTS, page=5)
    assert (sorted(e["Key"] for e in found), whole) == (sorted(keys), True)
    assert asked < len(keys) / 5 * 3 + 100


def test_a_listing_that_stops_at_the_limit_stops_at_the_same_place_every_time() -> None:
    versions = stored([f"{n % 7}/{n:04d}" for n in range(2000)])
    found = [listed(versions, OBJECTS, page=10, limit=60) for _ in range(3)]
    assert {whole for _, whole, _ in found} == {False}
    assert len({frozenset(e["Key"] for e in entries) for entries, _, _ in found}) == 1
    assert len(found[0][0]) >= 60 * 9


def test_one_listing_of_versions_counts_objects_old_versions_and_markers() -> None:
    dossier = Dossier(store="s", taken=saltmarsh.MOMENT, buckets=[Bucket(name="b")])
    held = {"b": stored([f"k{n}" for n in range(40)], 3)}
    holdings = StoreContents(dossier, {saltmarsh.KEY_ID: StandinKey(saltmarsh.SECRET, "")}, held)

    async def count(address: str) -> tuple[object, object]:
        async with client_of(address) as client:
            usage, versions = await Counting(client, "b", saltmarsh.MOMENT, page=7).versions()
            assert usage.value == (await Counting(client, "b", saltmarsh.MOMENT, page=7).objects()).value
            return usage.value, versions.value

    with serve(Standin(holdings, saltmarsh.MOMENT).application()) as address:
        usage, versions = asyncio.run(count(address))
    assert usage == Usage(40, 40, complete=True, by="listing")
    newest = max(version.written for version in held["b"] if version.written and not version.marker)
    assert versions == Versions(40, 80, 40, newest=newest)
