"""What `lantern reach` says an audit will not see: it asks less than a survey, and says what it did not ask."""

from __future__ import annotations

import dataclasses
import re
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import msgspec
import pytest
from aiohttp import web

from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.dossier import Dossier, encode
from rusty_lantern.simulator.contents import StoreContents
from rusty_lantern.simulator.demo import harbour as saltmarsh
from rusty_lantern.simulator.s3_server import Standin
from rusty_lantern.simulator.serve import serve
from tests.conftest import Whole, answering, estate_for, lantern

PEOPLE = "    identities: {at: ADDRESS, signing-place: us-east-1}\n"


@contextmanager
def refusing(question: str, holdings: StoreContents | None = None) -> Iterator[str]:
    """The harbour, which refuses the requests that have these words in their query."""
    store = Standin(holdings or saltmarsh.harbour(), saltmarsh.MOMENT)

    async def answer(request: web.Request) -> web.StreamResponse:
        if question and question in request.query_string:
            return web.Response(status=403, text="<Error><Code>AccessDenied</Code></Error>")
        return await store._serve(request)

    with serve(answering(answer)) as address:
        yield address


def reached(folder: Path, address: str, more: str = "") -> str:
    """What `lantern reach` says last of such a store, in one line."""
    estate_for(folder, address, more.replace("ADDRESS", address))
    ran = lantern("reach", cwd=folder)
    assert ran.code == 0, ran.err
    return " ".join(re.split("An audit|Not tried", ran.out, maxsplit=1)[1].split())


@pytest.mark.parametrize("question", ["ListUsers", "ListMFADevices", "GetLoginProfile", "ListAccessKeys"])
def test_an_identity_service_that_refuses_a_question_is_not_read(question: str, tmp_path: Path) -> None:
    with refusing(f"Action={question}&") as address:
        told = reached(tmp_path, address, PEOPLE)
    assert re.search(rf"harbour: who it lets in by name \([^)]*{question}[^)]*: denied", told), told


def test_without_an_identity_service_nobody_knows_who_there_is(tmp_path: Path) -> None:
    with refusing("") as address:
        alone, beside = reached(tmp_path / "a", address), reached(tmp_path / "b", address, PEOPLE)
    assert "harbour: identities, groups, access keys (not asked: estate.yaml names no identity service" in alone
    assert "identities" not in beside
    assert "encryption keys, the store's own service identity, share links (the protocol does not show it" in beside


def test_what_all_buckets_refuse_is_said_once_and_of_few_by_name(tmp_path: Path) -> None:
    with refusing("tagging") as address:
        told = reached(tmp_path, address)
    assert "harbour: tags of all 28 buckets harbour:" in told
    assert "harbour: access policies of drone-orthophotos harbour:" in told


@pytest.mark.parametrize(("question", "words"), [("versions", "old versions"), ("uploads", "unfinished uploads")])
def test_a_listing_that_is_refused_is_said_before_the_first_survey(question: str, words: str, tmp_path: Path) -> None:
    """Without old versions nothing is known of what every version is like."""
    with refusing(question) as address:
        assert f"harbour: {words} of all 28 buckets" in reached(tmp_path, address)


@pytest.mark.parametrize(
    ("buckets", "words"), [(70, "harbour: 6 of 70 buckets"), (0, "harbour: it lists no bucket to try")]
)
def test_a_sample_is_not_all_and_nothing_is_no_sample(buckets: int, words: str, tmp_path: Path) -> None:
    whole = saltmarsh.harbour()
    [first] = [one for one in whole.dossier.buckets if one.name == "boat-logs"]
    many = [msgspec.structs.replace(first, name=f"boat-logs-{n:02}") for n in range(buckets)]
    dossier = msgspec.structs.replace(whole.dossier, buckets=many, listing=Answer("known", buckets))
    with refusing("", dataclasses.replace(whole, dossier=dossier)) as address:
        told = reached(tmp_path, address)
    assert told.partition("next:")[0].endswith(f"so an audit may see less: {words} "), told


def test_of_a_document_it_says_what_is_not_in_it(tmp_path: Path) -> None:
    whole = saltmarsh.harbour().dossier
    denied: Answer[str] = Answer("denied", None, "AccessDenied")
    buckets = [msgspec.structs.replace(one, policy=denied) if one.name == "boat-logs" else one for one in whole.buckets]

    def told(dossier: Dossier) -> str:
        (tmp_path / "harbour.json").write_bytes(encode(dossier))
        (tmp_path / "estate.yaml").write_text("estate: t\nstores:\n  harbour: {reads: dossier, at: harbour.json}\n")
        return " ".join(lantern("reach", cwd=tmp_path).out.split())

    assert "access policies" not in told(whole)
    assert "access policies (denied to this credential: AccessDenied)" in told(
        msgspec.structs.replace(whole, buckets=buckets)
    )
    assert "identities" not in told(whole)
    assert "identities (denied to this credential: no)" in told(
        msgspec.structs.replace(whole, identities=Answer("denied", None, "no"))
    )


def test_an_audit_that_sees_all_of_what_it_asks_is_said_so_of_none_that_does_not(whole: Whole) -> None:
    out = whole.run("reach").out
    assert "can see everything" not in out
    assert "skerry, lagoon, cove, slipway: encryption keys" in out
    assert "skerry: identities" not in " ".join(out.split())  # its administration door tells them


@pytest.mark.parametrize(
    ("question", "unread"),
    [("ListUsers", "identities, groups, access keys"), ("ListAccessKeys", "access keys"),
     ("GetAccountAuthorizationDetails", "permissions of 11 of 12 identities"), ("nothing", "")],
)  # fmt: skip
def test_a_survey_says_of_people_that_were_asked_for_that_they_were_not_read(
    question: str, unread: str, tmp_path: Path
) -> None:
    with refusing(f"Action={question}&") as address:
        folder = estate_for(tmp_path, address, PEOPLE.replace("ADDRESS", address))
        told = " ".join(lantern("survey", cwd=folder).out.split())
    assert (f"harbour: not read: {unread}" in told) is bool(unread), told
    assert ("harbour: not read:" in told) is bool(unread)
    assert "encryption keys (" not in told  # nobody was asked for them
