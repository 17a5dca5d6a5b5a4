"""The simulated store of the blob protocol: what real servers on laptops leave out, and what a hostile one may say."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest
from aiohttp import web

from rusty_lantern.simulator.demo.harbour import MOMENT
from rusty_lantern.simulator.demo.slipway import KEY_TEXT, server
from rusty_lantern.simulator.serve import serve
from rusty_lantern.stores.blob.documents import read_containers, read_date, redundancy_of
from rusty_lantern.stores.http.errors import RequestFailed
from tests.conftest import Ran, Whole, lantern

ESTATE = """\
estate: pond
stores:
  slip:
    reads: blob
    at: {at}/slipway
    plain-http: allowed
    credential: {{account-key: env:SLIP_KEY}}
    objects: {{"*": all}}
    patience: {{bucket: 2 seconds, store: 10 seconds}}
"""


def facts(ran: Ran) -> dict[str, Any]:
    """Fact → what `lantern show --json` says of it."""
    return {fact["fact"]: fact for fact in json.loads(ran.out)["facts"]}


def test_what_the_management_side_tells_completes_what_the_protocol_tells(whole: Whole) -> None:
    records = facts(whole.run("show", "slipway/berth-records", "--json"))
    assert (records["lock.mode"]["value"], records["lock.default-retention"]["value"]) == ("compliance", 2555 * 86_400)
    assert records["encryption.at-rest"]["value"] == "customer-managed"
    assert records["versioning"]["value"] == "on"
    assert records["lock.bucket-lease"]["value"] == "on"
    tests = facts(whole.run("show", "slipway/crane-tests", "--json"))
    assert tests["lock.mode"]["value"] == "governance" and tests["exposure.read"]["value"] == "closed"
    assert facts(whole.run("show", "slipway/claims", "--json"))["lock.legal-hold"]["value"] == "on"
    scoped = facts(whole.run("show", "slipway/crew-handover", "--json"))
    assert scoped["encryption.at-rest"]["state"] == "failed" and scoped["encryption.key"]["value"] == "crew-scope"
    assert facts(whole.run("show", "slipway/$web", "--json"))["exposure.read"]["value"] == "open"


def test_a_switch_keeps_back_a_level_and_not_the_static_site(whole: Whole) -> None:
    shown = whole.run("exposure", "slipway/$web").out
    assert "allowed by the static site of the account" in shown and "at the address of the static site" in shown
    ran = whole.run("why", "slipway/crane-tests", "--as", "anyone", "--verb", "read")
    assert "public access level: container" in ran.out and "ignored by the account's public-access guard" in " ".join(
        ran.out.split()
    )


def test_versions_and_objects_add_up_to_what_the_store_holds(whole: Whole) -> None:
    held = whole.served.slipway.holdings.versions["yard-photos"]
    told = facts(whole.run("show", "slipway/yard-photos", "--json"))
    assert told["objects"]["value"] == sum(version.current for version in held)
    assert told["versions.old"]["value"] == sum(not version.current for version in held)


def test_signed_links_in_a_mail_are_told_by_their_form(whole: Whole) -> None:
    told = json.loads(whole.run("links", "yard-mail.txt", "--json").out)["links"]
    rows = {row["policy"] or row["form"]: row for row in told if row["found"].startswith("yard-mail.txt")}
    assert {name: row["status"] for name, row in rows.items()} == {
        "yard": "valid", "forever": "valid", "spring-2024": "policy removed", "ad-hoc": "valid", "account": "valid",
    }  # fmt: skip
    assert rows["yard"]["expires"] == "2027-03-31" and rows["forever"]["never_ends"]
    assert rows["forever"]["verbs"] == ["read", "write"]
    assert (rows["ad-hoc"]["networks"], rows["ad-hoc"]["tls_only"]) == (["198.51.100.7"], True)
    assert (rows["account"]["scope"], rows["account"]["services"]) == ("store", ["files"])
    assert "revives" in rows["yard"]["ended_by"]


def survey(folder: Path, address: str, *options: str) -> Ran:
    """A survey of one account alone, with nothing beside it."""
    (folder / "estate.yaml").write_text(ESTATE.format(at=address))
    return lantern("survey", *options, cwd=folder, SLIP_KEY=KEY_TEXT)


def test_an_anonymous_test_tells_of_the_switch_that_nobody_read(tmp_path: Path) -> None:
    slip = server(MOMENT)
    with serve(slip.application()) as address:
        assert survey(tmp_path, address).code == 0
        before = facts(lantern("show", "slip/crane-tests", "--json", cwd=tmp_path))
        assert before["exposure.read"]["state"] == "failed"
        assert survey(tmp_path, address, "--probe").code == 0
    after = facts(lantern("show", "slip/crane-tests", "--json", cwd=tmp_path))
    assert after["exposure.read"]["value"] == "closed"
    assert after["public-access-guards.ignore-acls"]["value"] == "on"
    assert not any(method not in ("GET", "HEAD") for method, _ in slip.requests)


def test_a_store_that_lets_somebody_in_is_not_closed_whatever_is_unread(tmp_path: Path) -> None:
    import msgspec

    from rusty_lantern.core.answer import Answer
    from rusty_lantern.core.model.guards import Guards

    slip = server(MOMENT)
    open_to_all: Answer[Guards] = Answer("known", Guards())
    told = msgspec.structs.replace(slip.holdings.dossier, public_access_guards=open_to_all)
    slip.holdings = type(slip.holdings)(told, {}, slip.holdings.versions)
    (tmp_path / "baseline.yaml").write_text(
        "title: pond\nsheets:\n  - {sheet: all, require: {exposure.read: closed}}\n"
    )
    with serve(slip.application()) as address:
        assert survey(tmp_path, address, "--probe").code == 0
    audit = json.loads(lantern("audit", "--json", cwd=tmp_path).out)
    drift = next(row for row in audit["drift"] if row["name"] == "crane-tests")
    assert drift["observed"] == "at least restricted (let in)" and "let in" in drift["note"]


def test_a_baseline_holds_at_most_restricted_open_where_it_may_be_restricted(tmp_path: Path) -> None:
    from rusty_lantern.core.baseline.comparisons import read_comparison
    from rusty_lantern.core.facts.registry import lookup

    scale = lookup("exposure.read").scale
    assert read_comparison("closed", scale).broken_by("restricted")
    assert not read_comparison("open", scale).broken_by("restricted")
    assert not read_comparison("at most restricted", scale).broken_by("restricted")


HEAD = "<EnumerationResults><Containers><Container><Name>a</Name><Properties>"
TAIL = "</Properties></Container></Containers></EnumerationResults>"


@pytest.mark.parametrize(
    ("properties", "fact", "state"),
    [
        ("", "lock.enabled", "failed"),
        ("<HasImmutabilityPolicy>false</HasImmutabilityPolicy>", "lock.legal-hold", "failed"),
        ("<HasLegalHold>perhaps</HasLegalHold>", "lock.legal-hold", "failed"),
    ],
)
def test_a_list_that_leaves_something_out_settles_nothing(
    properties: str, fact: str, state: str, tmp_path: Path
) -> None:
    async def respond(request: web.Request) -> web.Response:
        if request.query.get("comp") == "list" and "restype" not in request.query:
            return web.Response(text=HEAD + properties + TAIL, content_type="application/xml")
        return web.Response(status=403)

    from tests.conftest import answering

    with serve(answering(respond)) as address:
        assert survey(tmp_path, address).code in (0, 3)
    assert facts(lantern("show", "slip/a", "--json", cwd=tmp_path))[fact]["state"] == state


@pytest.mark.parametrize(
    "body",
    [
        HEAD + "<PublicAccess>everything</PublicAccess>" + TAIL,
        "<EnumerationResults><Containers><Container><Properties/></Container></Containers></EnumerationResults>",
        "<Other/>",
        '<!DOCTYPE a [<!ENTITY b "c">]><EnumerationResults>&b;</EnumerationResults>',
        "<EnumerationResults>",
    ],
)
def test_a_list_that_makes_no_sense_is_a_refusal(body: str) -> None:
    with pytest.raises(RequestFailed):
        read_containers(body.encode())


def test_a_listing_without_an_end_does_not_hold_a_survey(tmp_path: Path) -> None:
    async def respond(request: web.Request) -> web.Response:
        if request.query.get("comp") == "list" and "restype" not in request.query:
            return web.Response(text=HEAD + TAIL, content_type="application/xml")
        if request.query.get("comp") == "list":
            page = "<EnumerationResults><Blobs/><NextMarker>again</NextMarker></EnumerationResults>"
            return web.Response(text=page, content_type="application/xml")
        return web.Response(status=403)

    from tests.conftest import answering

    with serve(answering(respond)) as address:
        survey(tmp_path, address)
    told = facts(lantern("show", "slip/a", "--json", cwd=tmp_path))
    assert told["objects"]["state"] == "failed" and "never ends" in told["objects"]["note"]


def test_names_of_stored_policies_are_kept_and_secrets_in_metadata_are_not() -> None:
    from rusty_lantern.stores.http.redaction import cleaned

    name = "MTIzNDU2Nzg5MDEyMzQ1Njc4OTAxMjM0NTY3ODkwMTI="  # as the protocol's documentation writes one
    acl = f"<SignedIdentifiers><SignedIdentifier><Id>{name}</Id></SignedIdentifier></SignedIdentifiers>".encode()
    assert cleaned(acl, (("comp", "acl"), ("restype", "container")), listing=False) == acl
    listed = b"<Containers><Container><Metadata><password>hunter2hunter2</password></Metadata></Container></Containers>"
    assert b"hunter2" not in cleaned(listed, (("comp", "list"), ("include", "metadata")), listing=False)


def test_dates_and_kinds_of_account_are_read() -> None:
    assert read_date("2026-11-25T14:03:06.3610000Z") == read_date("2026-11-25T14:03:06.361000Z")
    assert read_date("Wed, 25 Nov 2026 14:03:06 GMT") and read_date("soon") is None and read_date("") is None
    assert [redundancy_of(sku) for sku in ("Standard_GZRS", "Premium_LRS", "")] == ["several-regions", "one-zone", ""]


@pytest.mark.parametrize(
    ("credential", "words"),
    [
        ("{account-key: c2VjcmV0}", "an account-key is named here, never written"),
        ("{profile: slip}", "known here: token, signed-link, account-key"),
        ("chain", "needs a credential"),
        ("{token: env:A, account-key: env:B}", "is shown one credential"),
    ],
)
def test_mistakes_in_the_credential_are_told(credential: str, words: str, tmp_path: Path) -> None:
    text = ESTATE.format(at="http://127.0.0.1:9").replace("{account-key: env:SLIP_KEY}", credential)
    (tmp_path / "estate.yaml").write_text(text)
    ended = lantern("reach", cwd=tmp_path)
    assert ended.code == 2 and words in ended.err and "estate.yaml:" in ended.err
