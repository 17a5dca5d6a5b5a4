"""Identity services, share links and front doors: the mock server's, the real gateway's, and bad ones."""

from __future__ import annotations

import json
import random
import re
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from aiohttp import ClientSession, web
from hypothesis import given
from hypothesis import strategies as st

from rusty_lantern.archive.workspace import make
from rusty_lantern.core.access.policy.role_trust import assumable_by
from rusty_lantern.core.model.dossier import decode
from rusty_lantern.intake.presigned_url import LONGEST, find_signed, is_at, signature_places
from rusty_lantern.simulator.demo import harbour as saltmarsh
from rusty_lantern.simulator.demo.workspace_files import BASELINE, CREDENTIAL
from rusty_lantern.simulator.s3_server import Standin
from rusty_lantern.simulator.serve import serve
from tests.conftest import Whole, answering, estate_for, lantern
from tests.gateway import Gateway, empty_mock_server, standard_client
from tests.test_tls import certificate, secured

READ, EVERYTHING = ["s3:GetObject", "s3:ListBucket"], ["s3:*"]


def _document(actions: list[str], *resources: str) -> str:
    names = [f"arn:aws:s3:::{resource}" for resource in resources]
    statement = {"Effect": "Allow", "Action": actions, "Resource": names}
    return json.dumps({"Version": "2012-10-17", "Statement": [statement]})


@pytest.fixture(scope="module")
def mock_server() -> Iterator[str]:
    with empty_mock_server() as address:
        yield address


def _estate(folder: Path, address: str, more: str = "") -> Path:
    estate = (
        f"estate: x\nstores:\n  real:\n    reads: s3\n    at: {address}\n    plain-http: allowed\n"
        f"    credential: {{file: key}}\n{more}"
    )
    key = "[default]\naws_access_key_id = mock-key\naws_secret_access_key = mock-secret\n"
    make(folder, {"estate.yaml": (estate, 0o644), "baseline.yaml": (BASELINE, 0o644), "key": (key, 0o600)})
    return folder


def _held(store: str, service: str, folder: Path) -> dict[str, Any]:
    """Who holds which key, by a survey of a store and its identity service."""
    _estate(folder, store, f"    identities: {{at: {service}}}\n")
    assert lantern("survey", cwd=folder).code in (0, 3)
    told: dict[str, Any] = json.loads(lantern("credentials", "--json", cwd=folder).out)
    for row in told["credentials"]:
        del row["age"], row["idle"]  # by the second, and the next survey is one later
    [kept] = (folder / "surveys").glob("*/stores/real.json")
    identities = json.loads(kept.read_bytes())["identities"]["value"]
    beside = {
        h["name"]: [h.get(part, {}).get("value") for part in ("tags", "boundary", "policies", "assumable_by")]
        for h in identities
    }
    return {kind: told[kind] for kind in ("identities", "credentials", "unread")} | {"beside": beside}


def _trust(*statements: dict[str, Any]) -> str:
    usual = {"Effect": "Allow", "Action": "sts:AssumeRole"}
    return json.dumps({"Version": "2012-10-17", "Statement": [usual | statement for statement in statements]})


MINE, OTHER = "400100200300", "400100200399"
ORGANISED = {"StringEquals": {"aws:PrincipalOrgID": "o-1"}}


@pytest.mark.parametrize(
    ("statements", "told"),
    [
        ([], "nobody"),
        ([{"Principal": {"Service": "jobs.example"}}], "services"),
        ([{"Principal": {"AWS": MINE}}, {"Principal": {"Service": "jobs.example"}}], "own-account"),
        ([{"Principal": {"AWS": f"arn:aws:iam::{MINE}:role/a-{OTHER}"}}], "own-account"),
        ([{"Principal": {"Federated": "id.example"}, "Action": "sts:AssumeRoleWithWebIdentity"}], "federated"),
        ([{"Principal": {"AWS": [MINE, f"arn:aws:iam::{OTHER}:root"]}}], "other-accounts"),
        ([{"Principal": {"AWS": MINE}}, {"Principal": "*"}], "anybody"),
        ([{"Principal": {"AWS": "*"}, "Action": "*"}], "anybody"),
        ([{"Principal": "*", "Action": "sts:TagSession"}], "nobody"),
        ([{"Principal": "*", "Effect": "Deny"}], "nobody"),
        ([{"NotPrincipal": {"AWS": MINE}}], "anybody"),
        ([{"Principal": "*", "Condition": ORGANISED}], None),
        ([{"Principal": {"AWS": f"arn:aws:iam::{MINE}:user/*"}}], None),
        ([{}], None),
    ],
)
def test_a_role_is_assumed_by_the_widest_sort_of_caller_that_its_trust_policy_names(
    statements: list[dict[str, Any]], told: str | None
) -> None:
    assert assumable_by(_trust(*statements), MINE).value == told


@pytest.mark.parametrize("text", ["", "{", "[]", "null", '{"Statement": 3}', "[" * 100_000])
def test_a_trust_policy_that_cannot_be_read_lets_nobody_in_for_certain(text: str) -> None:
    assert not assumable_by(text, MINE).settled


@contextmanager
def _without(actions: set[str], address: str, code: str) -> Iterator[str]:
    """The service at an address, but for some actions."""

    async def respond(request: web.Request) -> web.Response:
        if request.query.get("Action") in actions:
            status = 403 if code == "AccessDenied" else 400
            return web.Response(
                status=status, text=f"<ErrorResponse><Error><Code>{code}</Code></Error></ErrorResponse>"
            )
        async with ClientSession() as session, session.get(address + request.path_qs, headers=request.headers) as got:
            return web.Response(status=got.status, body=await got.read(), content_type="text/xml")

    with serve(answering(respond)) as here:
        yield here


def test_thirty_varied_identities_are_read_as_a_standard_client_made_them(mock_server: str, tmp_path: Path) -> None:
    import boto3

    about = {"endpoint_url": mock_server, "aws_access_key_id": "mock-key", "aws_secret_access_key": "mock-secret"}
    iam = boto3.client("iam", region_name="us-east-1", **about)
    store = standard_client(mock_server, "mock-key", "mock-secret")
    for bucket in ("reeds", "reeds-raw", "tides"):
        store.create_bucket(Bucket=bucket)
    for group, actions in (("crew", [*READ, "s3:PutObject"]), ("looks", READ)):
        iam.create_group(GroupName=group)
        iam.put_group_policy(
            GroupName=group, PolicyName=f"{group}-may", PolicyDocument=_document(actions, "tides", "tides/*")
        )
    managed = iam.create_policy(PolicyName="reeds-all", PolicyDocument=_document(EVERYTHING, "reeds*"))["Policy"]["Arn"]
    boundary = iam.create_policy(PolicyName="looking", PolicyDocument=_document(READ, "*"))["Policy"]["Arn"]
    dice = random.Random(5)
    expected: dict[str, dict[str, Any]] = {}
    for number in range(32):
        name, can = f"holder-{number:02d}", set[str]()
        iam.create_user(UserName=name, Tags=[{"Key": "class", "Value": "crew"}] if number % 3 else [])
        facts: dict[str, Any] = {"keys": 0, "active": 0, "password": "off", "mfa": "off"}
        if dice.random() < 0.5:
            iam.create_login_profile(UserName=name, Password="Reed-bed-42-Reed-bed")
            facts["password"] = "on"
        if dice.random() < 0.4:
            device = iam.create_virtual_mfa_device(VirtualMFADeviceName=name)["VirtualMFADevice"]["SerialNumber"]
            codes = {"AuthenticationCode1": "123456", "AuthenticationCode2": "654321"}
            iam.enable_mfa_device(UserName=name, SerialNumber=device, **codes)
            facts["mfa"] = "on"
        for group in [g for g in ("crew", "looks") if dice.random() < 0.3]:
            iam.add_user_to_group(GroupName=group, UserName=name)
            can |= {"list", "read", "write"} if group == "crew" else {"list", "read"}
        if dice.random() < 0.3:
            iam.put_user_policy(
                UserName=name, PolicyName="own", PolicyDocument=_document(["s3:GetObject"], "reeds/a/*")
            )
            can |= {"read"}
        if dice.random() < 0.2:
            iam.attach_user_policy(UserName=name, PolicyArn=managed)
            can = {"list", "read", "write", "delete", "change-settings", "bypass-retention", "read-settings"}
        for _ in range(dice.randrange(3)):
            key = iam.create_access_key(UserName=name)["AccessKey"]["AccessKeyId"]
            facts["keys"] += 1
            if dice.random() < 0.3:
                iam.update_access_key(UserName=name, AccessKeyId=key, Status="Inactive")
            else:
                facts["active"] += 1
        expected[name] = facts | {"can": can}
    trust = _trust({"Principal": {"AWS": "arn:aws:iam::400100200399:root"}})
    iam.create_role(RoleName="shipper", AssumeRolePolicyDocument=trust, PermissionsBoundary=boundary)
    iam.put_role_policy(RoleName="shipper", PolicyName="ship", PolicyDocument=_document(["s3:*"], "tides", "tides/*"))

    result = _held(mock_server, mock_server, tmp_path / "ws")
    takes_up = {name: parts[-1] for name, parts in result["beside"].items()}
    assert {takes_up[name] for name in expected} == {"nobody"} and takes_up["role shipper"] == "other-accounts"
    for code in ("InvalidAction", "AccessDenied"):
        with _without({"GetAccountAuthorizationDetails"}, mock_server, code) as at:
            assert _held(mock_server, at, tmp_path / code) == result, "asked for one by one, the same"
    refused = {"GetAccountAuthorizationDetails", "ListRoles", "GetUser"}
    with _without(refused, mock_server, "AccessDenied") as at:
        told = {row["name"]: row["can"] for row in _held(mock_server, at, tmp_path / "refused")["identities"]}
    assert told.keys() ^ expected.keys() == {"account root", "any role"}
    assert {told[name] for name in ("any role", *expected)} == {None}, "any role may trust each of them"
    keys = [row["owner"] for row in result["credentials"]]
    found = {
        row["name"]: {
            "keys": keys.count(row["name"]), "active": row["active_keys"], "password": row["password"],
            "mfa": row["mfa"], "can": set("?" if row["can"] is None else row["can"].split()),
        }
        for row in result["identities"]
    }  # fmt: skip
    assert {name: found[name] for name in expected} == expected
    assert found.keys() - expected.keys() == {"account root", "role shipper"}
    assert found["role shipper"]["can"] == {"list", "read"}, "what it is granted, within its boundary"
    assert {row["used"] for row in result["credentials"]} == {"never"}


def test_a_gateway_without_an_identity_service_is_not_offered_and_asked_once(gateway: Gateway, tmp_path: Path) -> None:
    folder = _estate(tmp_path / "ws", gateway.address, f"    identities: {{at: {gateway.address}}}\n")
    (folder / "key").write_text(
        "[default]\naws_access_key_id = {}\naws_secret_access_key = {}\n".format(*gateway.keeper)
    )
    gateway.client().create_bucket(Bucket="for-identities")
    assert lantern("survey", "--log", "asked.jsonl", cwd=folder).code in (0, 3)
    asked = [json.loads(line)["query"] for line in (folder / "asked.jsonl").read_text().splitlines()]
    assert len([query for query in asked if "Action=" in query]) == 1
    result = json.loads(lantern("credentials", "--json", cwd=folder).out)
    assert result["unread"] == {"real": "not offered by this store"}
    kept = json.loads(next((folder / "surveys").glob("*/stores/real.json")).read_text())
    assert kept["legacy_signatures"]["value"] is True  # it does accept them
    baseline = (
        "title: t\nsheets: [{sheet: s, require: {store.legacy-signatures: off, credential.age: at most 1 year}}]\n"
    )
    (folder / "baseline.yaml").write_text(baseline)
    audit = json.loads(lantern("audit", "--json", cwd=folder).out)
    assert [(d["subject"], d["observed"]) for d in audit["drift"]] == [("store", "on")]
    assert [(u["name"], u["reason"]) for u in audit["unknown"]] == [("any credential", "not offered by this store")]


def test_a_key_of_a_state_that_is_not_known_is_not_taken_for_a_disabled_one(tmp_path: Path) -> None:
    store = Standin(saltmarsh.harbour(), saltmarsh.MOMENT)

    async def respond(request: web.Request) -> web.StreamResponse:
        answer = await store._serve(request)
        if request.query.get("Action") == "ListAccessKeys" and isinstance(answer, web.Response):
            return web.Response(text=(answer.text or "").replace(">Inactive<", ">Dormant<"))
        return answer

    with serve(answering(respond)) as address:
        folder = estate_for(tmp_path / "ws", address, f"    identities: {{at: {address}}}\n")
        assert lantern("survey", "--only", "harbour/gallery-web", cwd=folder).code in (0, 3)
    [kept] = (folder / "surveys").glob("*/stores/harbour.json")
    keys = decode(kept.read_bytes(), kept.name).credentials.value or ()
    assert {one.state.state for one in keys} == {"known", "failed"}
    assert 'its status is "Dormant", which is not known' in {one.state.note for one in keys}


@pytest.mark.parametrize("trouble", ["endless", "denied", "garbage", "keys denied"])
def test_an_identity_service_in_trouble_leaves_what_it_tells_unknown(trouble: str, tmp_path: Path) -> None:
    page = (
        '<ListUsersResponse xmlns="https://iam.amazonaws.com/doc/2010-05-08/"><ListUsersResult><Users/>'
        "<IsTruncated>true</IsTruncated><Marker>again</Marker></ListUsersResult></ListUsersResponse>"
    )
    store = Standin(saltmarsh.harbour(), saltmarsh.MOMENT)
    refusal = web.Response(status=403, text="<ErrorResponse><Error><Code>AccessDenied</Code></Error></ErrorResponse>")

    async def respond(request: web.Request) -> web.StreamResponse:
        action = request.query.get("Action", "")
        if not action or (trouble == "keys denied" and action != "ListAccessKeys"):
            return await store._serve(request)
        texts = {"endless": page, "garbage": "<html>"}
        return web.Response(text=texts[trouble]) if trouble in texts else web.Response(status=403, text=refusal.text)

    with serve(answering(respond)) as address:
        folder = estate_for(tmp_path / "ws", address, f"    identities: {{at: {address}}}\n")
        assert lantern("survey", "--only", "harbour/gallery-web", cwd=folder).code in (0, 3)
    result = json.loads(lantern("credentials", "--json", cwd=folder).out)
    words = {"endless": "never ends", "garbage": "web page", "denied": "AccessDenied", "keys denied": "AccessDenied"}
    assert words[trouble] in result["unread"]["harbour"]
    assert bool(result["identities"]) is (trouble == "keys denied")
    assert result["credentials"] == []


# --- share links


def _presigned(client: Any, generation: str, method: str = "get_object", **about: Any) -> str:
    import boto3
    from botocore.config import Config

    key = client._request_signer._credentials
    made = boto3.client(
        "s3", endpoint_url=client.meta.endpoint_url, region_name="us-east-1", aws_access_key_id=key.access_key,
        aws_secret_access_key=key.secret_key,
        config=Config(signature_version=generation, s3={"addressing_style": "path"}),
    )  # fmt: skip
    return str(made.generate_presigned_url(method, Params=about, ExpiresIn=3600))


def test_links_that_a_standard_client_signed_are_read_and_tried(gateway: Gateway, tmp_path: Path) -> None:
    client = gateway.client()
    client.create_bucket(Bucket="links")
    client.put_object(Bucket="links", Key="tide table.csv", Body=b"12:00 high")
    good = [_presigned(client, g, Bucket="links", Key="tide table.csv") for g in ("s3v4", "s3")]
    gone = _presigned(client, "s3v4", Bucket="links", Key="no such")
    put = _presigned(client, "s3v4", "upload_part", Bucket="links", Key="in", UploadId="u", PartNumber=1)
    text = f'Dear all,\nthe table: <{good[0]}>.\n"{good[1].replace("&", "&amp;")}"\n({gone}) {put}\n{good[0]}\n'
    folder = _estate(tmp_path / "ws", gateway.address)
    (folder / "key").write_text(
        "[default]\naws_access_key_id = {}\naws_secret_access_key = {}\n".format(*gateway.keeper)
    )
    (folder / "mail.txt").write_text(text)
    lantern("survey", "--only", "real/links", cwd=folder)
    ran = lantern("links", "mail.txt", "--probe", "--json", cwd=folder)
    rows = json.loads(ran.out)["links"]
    assert [(r["store"], r["bucket"], r["key"], r["verbs"], r["found"]) for r in rows] == [
        ("real", "links", "tide table.csv", ["read"], "mail.txt:2"),
        ("real", "links", "tide table.csv", ["read"], "mail.txt:3"),
        ("real", "links", "no such", ["read"], "mail.txt:4"),
        ("real", "links", "in", ["write"], "mail.txt:4"),
    ]
    assert [r["probe"][:16] for r in rows] == ["it opens", "it opens", "it does not open", ""]
    assert {r["signer"] for r in rows} == {"AKID…TIES"}
    shown = ran.out + ran.err + lantern("links", "mail.txt", cwd=folder).out
    for address in (*good, gone, put):
        signature = re.search("(?:X-Amz-)?Signature=([^&]+)", address)
        assert signature and signature[1] not in shown


def test_a_link_is_only_followed_to_a_store_of_the_estate() -> None:
    hosts = (
        "store.example",
        "tides.store.example",
        "evil-store.example",
        "store.example.evil.example",
        "store.example:81",
    )
    assert [is_at(host, "store.example") for host in hosts] == [True, True, False, False, False]


def test_what_a_link_opens_and_until_when_follows_from_its_text(whole: Whole, tmp_path: Path) -> None:
    at = whole.served.addresses["harbour"]
    query = (
        "X-Amz-Algorithm=AWS4-HMAC-SHA256&X-Amz-Credential=SMTTIDES00000000000120%2F20261101%2Fx%2Fs3%2Faws4_request"
    )
    signed = f"{query}&X-Amz-Date=20261101T000000Z&X-Amz-Expires={{}}&X-Amz-Signature=00ff"
    lines = [
        f"{at}/reedbed-notes/a.csv?{signed.format(7 * 86400)}",
        f"{at}/reedbed-notes/a.csv?{signed.format(60)}",
        f"{at}/gallery-web/?list-type=2&{signed.format(100 * 86400)}",
        f"https://elsewhere.example/b/k?{signed.format(60 * 86400)}",
        f"{at}/reedbed-notes/b.csv?AWSAccessKeyId=NOBODYKNOWS&Expires=1893456000&Signature=abc%3D",
        f"{at}/reedbed-notes/b.csv?AWSAccessKeyId=NOBODYKNOWS&Expires=1893456000&Signature=a&x-amz-security-token=t",
        f"https://reedbed-notes.cdn.example/c.csv?{signed.format(60 * 86400)}",
        f"https://cdn.example/reedbed-notes/d.csv?{signed.format(60 * 86400)}",
        "https://harbour.example/plain/link?signature=none",
    ]
    path = tmp_path / "wiki.txt"
    path.write_bytes(("\x00\n".join(lines) + "\n").encode() + b"\xff\xfe" * 10)
    rows = json.loads(whole.run("links", str(path), "--json").out)["links"][-8:]
    assert [(r["store"], r["status"], r["signer_state"], r["grants_beyond_bucket"]) for r in rows] == [
        ("harbour", "valid", "active", ["read"]),
        ("harbour", "expired", "active", ["read"]),
        ("harbour", "valid", "active", ["list"]),
        ("", "valid", "unknown", []),
        ("harbour", "valid", "missing", ["read"]),
        ("harbour", "valid", "unknown", ["read"]),
        ("harbour", "valid", "active", ["read"]),
        ("harbour", "valid", "active", ["read"]),
    ]
    assert [(r["bucket"], r["key"], r["host"]) for r in rows[-2:]] == [
        ("reedbed-notes", "c.csv", "reedbed-notes.cdn.example"), ("reedbed-notes", "d.csv", "cdn.example")
    ]  # fmt: skip
    assert [sorted(r["closed_by_baseline"]) for r in rows] == [
        ["read"], ["read"], ["list"], [], *[["read"]] * 4
    ]  # fmt: skip
    assert rows[2]["against_baseline"]["drift"] == {
        "link.scope": "medium",
        "link.allows": "critical",
        "link.lifetime": "high",
    }
    assert whole.run("links", str(tmp_path / "gone.txt")).code == 2


def test_a_link_across_the_border_of_two_pieces_is_found_once(tmp_path: Path) -> None:
    from rusty_lantern.intake.link_scan import CHUNK, find_links

    link = b"https://h.example/b/k?AWSAccessKeyId=K&Expires=1&Signature=s%3D"
    for before in (CHUNK - len(link) // 2, CHUNK - 3, CHUNK - LONGEST, CHUNK):
        path = tmp_path / "text"
        path.write_bytes(b"x\n" * (before // 2) + link + b"\nend\n" + b"y\n" * 10)
        found = find_links([path]).links
        assert [(signed.credential, where) for signed, _, where in found] == [("K", f"{path}:{before // 2 + 1}")]
    assert list(find_signed(b"signature=" * 100)) == []


_PIECES = [b"s", b"S", b"ignature", b"temp_url_", b"sig", b"?", b"&", b";", b"=", b"%3D", b"%3d", b"%3", b"x", b"_"]


@given(st.lists(st.sampled_from(_PIECES), max_size=12).map(b"".join))
def test_signatures_are_where_one_pattern_for_them_all_is(text: bytes) -> None:
    plain = re.compile(rb"(?:[Ss]ignature|temp_url_sig|(?<=[?&;])sig)(?:=|%3[Dd])")
    assert list(signature_places(text)) == [one.start() for one in plain.finditer(text)]


# --- front doors


@pytest.mark.parametrize("name,ended,trusted,verdict", [
    ("127.0.0.1", False, True, "trusted"), ("127.0.0.1", False, False, "self-signed"),
    ("127.0.0.1", True, True, "expired"), ("elsewhere.example", False, True, "other-name"),
])  # fmt: skip
def test_a_certificate_is_told_in_reach_and_judged_in_the_audit(
    name: str, ended: bool, trusted: bool, verdict: str, tmp_path: Path
) -> None:
    pem, secret = certificate(tmp_path, name, ended=ended)
    with secured(Standin(saltmarsh.harbour(), saltmarsh.MOMENT).application(), pem, secret) as address:
        ca = f"    ca: {pem}\n" if trusted else ""
        estate = f"estate: x\nstores:\n  h:\n    reads: s3\n    at: {address}\n    credential: {{file: key}}\n{ca}"
        sheet = "store.certificate: trusted, store.certificate-expires-in: at least 30 days, store.plain-http: off"
        files = {"estate.yaml": estate, "baseline.yaml": f"title: t\nsheets: [{{sheet: s, require: {{{sheet}}}}}]\n"}
        make(tmp_path / "ws", {n: (t, 0o644) for n, t in files.items()} | {"key": (CREDENTIAL, 0o600)})
        shown = json.loads(lantern("reach", "--json", cwd=tmp_path / "ws").out)["stores"][0]["certificate"]
        view = lantern("reach", cwd=tmp_path / "ws").out
        soon = (datetime.now(UTC) - timedelta(seconds=5)).strftime("%Y-%m-%dT%H:%M:%SZ")
        if verdict == "trusted":
            lantern("survey", "--only", "h/gallery-*", "--as-of", soon, cwd=tmp_path / "ws")
    assert shown["verdict"] == verdict and verdict in view
    assert shown["names"] == [name]
    if verdict == "trusted":
        audit = json.loads(lantern("audit", "--json", cwd=tmp_path / "ws").out)
        assert audit["counts"] == {"ok": 3, "drift": 0, "waived": 0, "unknown": 0}


@pytest.mark.parametrize("silent,told", [(True, ("failed", None)), (False, ("known", False))])
def test_a_port_that_says_nothing_does_not_tell_that_plain_http_is_off(silent: bool, told: tuple[str, Any]) -> None:
    import asyncio
    import socket

    from rusty_lantern.core.config.estate import Credential, StoreConfig
    from rusty_lantern.core.errors import Place
    from rusty_lantern.stores.http.tls_check import answers_plain_http

    with socket.socket() as port:
        port.bind(("127.0.0.1", 0))
        if silent:
            port.listen()
        at = f"https://127.0.0.1:{port.getsockname()[1]}"
        store = StoreConfig("s", Place("e"), "s3", at, Credential("chain"), timeout=1)
        found = asyncio.run(answers_plain_http(store, Path(), saltmarsh.MOMENT))
    assert (found.state, found.value) == told
