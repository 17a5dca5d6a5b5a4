"""What a real JuiceFS gateway lets its callers do, held against its dialect, and against the installed program."""

from __future__ import annotations

import itertools
import json
import random
import re
from collections import Counter
from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from urllib.parse import quote

import pytest
from msgspec.structs import replace

from rusty_lantern.core.access.dialects.policy_as_read import as_read
from rusty_lantern.core.access.dialects.shipped import MINIO
from rusty_lantern.core.access.evaluator.evaluate import decide
from rusty_lantern.core.access.evaluator.request import ANONYMOUS, Caller, Request
from rusty_lantern.core.access.policy.actions import ACTIONS, Action
from rusty_lantern.core.access.policy.condition_keys import always_carried
from rusty_lantern.core.access.policy.document import parse_policy
from rusty_lantern.core.access.rules.bucket_rules import EvaluationContext, Rules
from rusty_lantern.core.access.solver.exposure import exposures
from rusty_lantern.stores.software import MINIO_ENGINE
from tests.conftest import lantern, whole_or
from tests.dialects.constructs import KEYS, lets_in, rows
from tests.gateway import takes_policy
from tests.juicefs_server import DECK, KEEPER, JuiceFS
from tests.real_store import workspace_for
from tests.test_dialects import request_of, text_of
from tests.test_real_stores import surveyed as read_back
from tests.test_seaweed import written
from tests.varied import build, differences

CALLER = Caller("", "arn:aws:iam:::user/deck", "deck")
NOT_OFFERED = (
    "Torrent", "RestoreObject", "PutBucketAcl", "PublicAccessBlock", "Ownership", "Versioning", "PutEncryption",
    "Lifecycle", "BucketObjectLock", "Replication", "PutBucketLogging", "Website", "PutBucketCORS", "PutBucketRequestP",
    "PutAccelerate", "Inventory", "Analytics", "Metrics", "Tiering", "PutObjectAcl", "PutObjectVersionAcl", "Abac",
    "Metadata", "TagResource", "UntagResource", "ListTagsForResource", "ObjectEncryption", "Bypass", "Attributes",
    "GetObjectAcl", "GetObjectVersionAcl", "PutObjectRetention",
)  # fmt: skip
"""Words in actions that it has not, or whose requests it takes for others: objects have no ACL, no attributes and no
retention, of which it says so before anything is decided."""
ASKED = [one for one in ACTIONS.values() if one.method and not any(word in one.name for word in NOT_OFFERED)]
REFUSED = (401, 403)


def stored(juicefs: JuiceFS, bucket: str, text: str) -> bool:
    return takes_policy(juicefs.keeper, bucket, text)


def make(juicefs: JuiceFS, bucket: str, text: str = "") -> None:
    """A bucket with objects, and a policy."""
    keeper = juicefs.keeper
    if bucket not in {one["Name"] for one in keeper.list_buckets()["Buckets"]}:
        keeper.create_bucket(Bucket=bucket)
    for key in ("k", "gone"):
        keeper.put_object(Bucket=bucket, Key=key, Body=b"x")
    assert not text or stored(juicefs, bucket, text), text


def ask(juicefs: JuiceFS, pair: tuple[str, str] | None, bucket: str, action: Action) -> bool:
    """Whether the server lets a request through: whatever it makes of it then, since no body is what it wants."""
    key = "/" + ("gone" if "Delete" in action.name else "k") if action.target == "object" else ""
    return juicefs.send(pair, action.method, f"/{bucket}{key}", action.query) not in REFUSED


def request_for(action: str, caller: Caller = ANONYMOUS, carried: dict[str, str] | None = None) -> Request:
    context = always_carried(anonymous=caller.anonymous, arn=caller.arn)
    now = datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")
    context |= {"aws:sourceip": ("127.0.0.1",), "aws:securetransport": ("false",), "aws:currenttime": (now,)}
    context |= {name: (value,) for name, value in (carried or {}).items()}
    return Request(action, "k" if ACTIONS[action].target == "object" else "", caller, context)


def said(bucket: str, text: str, wanted: Request, *, own: bool = False) -> bool | None:
    policy = as_read(parse_policy(text, attached=own), MINIO)
    return decide(Rules(bucket, policy), wanted).allowed


def test_it_reads_every_construct_as_its_dialect_says(juicefs: JuiceFS) -> None:
    bucket = "measured"
    juicefs.keeper.create_bucket(Bucket=bucket)
    for key in KEYS:
        juicefs.keeper.put_object(Bucket=bucket, Key=key, Body=b"x")
    outcome, wrong = Counter[str](), []
    for row in rows(whole_or(3, 1)):
        text = text_of(row)
        if not stored(juicefs, bucket, text):
            outcome["not taken"] += 1
            continue
        passed, there = lets_in(juicefs.send, DECK, bucket, row), said(bucket, text, request_of(row, CALLER))
        common = decide(Rules(bucket, parse_policy(text)), request_of(row, CALLER)).allowed
        outcome["otherwise" if there is not common else "as common"] += 1
        wrong += [] if there is passed else [f"{row.name}: the server says {passed}, the dialect {there}"]
    print(dict(outcome))
    assert not wrong, "\n".join(wrong)
    assert outcome["otherwise"] >= 20
    assert outcome["as common"] > 200


PRINCIPALS: list[Any] = [
    "*", {"AWS": "*"}, {"AWS": "**"}, {"AWS": ""}, {"AWS": "*k"}, {"AWS": CALLER.arn}, {"AWS": "deck"},
    {"AWS": "arn:aws:iam::*:user/*"}, {"AWS": ["deck", "*"]}, {"AWS": "*", "Service": "x"}, {"AWS": "arn:*"},
]  # fmt: skip


def test_policies_are_about_requests_without_credentials_alone(juicefs: JuiceFS) -> None:
    bucket = "principals"
    make(juicefs, bucket)
    where = {"Action": ["s3:GetObject"], "Resource": [f"arn:aws:s3:::{bucket}/*"]}
    for principal, effect, permitted in itertools.product(PRINCIPALS, ("Allow", "Deny"), (False, True)):
        named = {"Effect": effect, "Principal": principal, **where}
        text = written(*([] if effect == "Allow" else [{"Effect": "Allow", "Principal": "*", **where}]), named)
        assert stored(juicefs, bucket, text), principal
        own = {"Effect": "Allow" if permitted else "Deny", **where}
        assert juicefs.permit("deck", own)
        passed = juicefs.send(None, "GET", f"/{bucket}/k") == 200
        assert said(bucket, text, request_for("s3:GetObject")) is passed, (effect, principal)
        assert said(bucket, text, request_for("s3:GetObject", CALLER)) is False
        assert (juicefs.send(DECK, "GET", f"/{bucket}/k") == 200) is permitted, (effect, principal)


def test_every_action_decides_of_its_requests_and_of_no_other(juicefs: JuiceFS) -> None:
    bucket, wrong, taken = "actions", [], Counter[str]()
    where = [f"arn:aws:s3:::{bucket}", f"arn:aws:s3:::{bucket}/*"]
    make(juicefs, bucket)
    for action in ACTIONS.values():
        one = {"Effect": "Allow", "Action": [action.name], "Resource": where}
        by_policy = stored(juicefs, bucket, text := written({**one, "Principal": "*"}))
        by_own = juicefs.permit("deck", one)
        for other in ASKED if by_policy or by_own else ():
            for pair, caller, document, counts in (
                (None, ANONYMOUS, text, by_policy), (DECK, CALLER, written(one), by_own)
            ):  # fmt: skip
                if not counts:
                    continue
                passed = ask(juicefs, pair, bucket, other)
                if passed and other.name.startswith("s3:Delete"):
                    juicefs.send(KEEPER, "PUT", f"/{bucket}/gone", "", {}, b"x")
                    assert not by_policy or other.target == "object" or stored(juicefs, bucket, text)
                there = said(bucket, document, request_for(other.name, caller), own=pair is not None)
                if (action.name, other.name) == ("s3:ListBucket", "s3:ListBucketVersions"):
                    assert passed, pair  # the other listing lets in, whatever is said of this one: the verb is the same
                    continue
                taken["passes" if passed else "refused"] += 1
                wrong += [] if there is passed else [(action.name, other.name, pair, passed, there)]
        juicefs.keeper.delete_bucket_policy(Bucket=bucket)
    print(dict(taken))
    assert not wrong, "\n".join(map(str, wrong[:40]))
    assert taken["passes"] > 60


OF_RESOURCES = (
    "{0}", "{0}/", "{0}/*", "{0}*", "{0}?", "{1}?", "{1}*", "{1}??", "{1}?/*", "{1}*/", "*{0}", "*/k", "*", "{0}/k",
    "{0}/?", "{0}/k/", "{0}/${{aws:username}}", "{0}/${{*}}", "{1}?/k", "{0}/k*", "{0}?k",
)  # fmt: skip


def test_what_users_resources_name_and_that_a_buckets_name_ends_in_a_slash(juicefs: JuiceFS) -> None:
    bucket, outcome = "resources", Counter[str]()
    make(juicefs, bucket)
    asked = (("s3:ListBucket", ""), ("s3:GetObject", "k"), ("s3:GetObject", "deck"), ("s3:GetObject", "${x}"))
    for _, key in asked[1:]:
        juicefs.keeper.put_object(Bucket=bucket, Key=key, Body=b"x")
    both = {"Effect": "Allow", "Action": ["s3:GetObject", "s3:ListBucket"]}
    whole = {**both, "Resource": [f"arn:aws:s3:::{bucket}", f"arn:aws:s3:::{bucket}/*"]}
    for pattern, effect in itertools.product(OF_RESOURCES, ("Allow", "Deny")):
        resource = f"arn:aws:s3:::{pattern.format(bucket, bucket[:-1])}"
        statements = [*([whole] if effect == "Deny" else []), {**both, "Effect": effect, "Resource": [resource]}]
        assert juicefs.permit("deck", *statements)
        for action, key in asked:
            passed = juicefs.send(DECK, "GET", f"/{bucket}" + (f"/{quote(key)}" if key else "")) == 200
            wanted = replace(request_for(action, CALLER), key=key)
            assert said(bucket, written(*statements), wanted, own=True) is passed, (resource, effect, action, key)
            common = decide(Rules(bucket, parse_policy(written(*statements), attached=True)), wanted).allowed
            outcome["as common" if common is passed else "otherwise"] += 1
    print(dict(outcome))
    assert min(outcome.values()) > 10


SENT: dict[str, tuple[str, str, str, dict[str, str]]] = {
    "s3:max-keys": ("NumericEquals", "5", "max-keys=5", {}), "s3:prefix": ("StringEquals", "a", "prefix=a", {}),
    "s3:x-amz-copy-source": ("StringEquals", "any/k", "", {"x-amz-copy-source": "any/k"}),
    "s3:x-amz-metadata-directive": ("StringEquals", "COPY", "", {"x-amz-metadata-directive": "COPY"}),
    "s3:x-amz-storage-class": ("StringEquals", "STANDARD", "", {"x-amz-storage-class": "STANDARD"}),
    "s3:x-amz-server-side-encryption": ("StringEquals", "AES256", "", {"x-amz-server-side-encryption": "AES256"}),
    "s3:object-lock-mode": ("StringEquals", "GOVERNANCE", "", {"x-amz-object-lock-mode": "GOVERNANCE"}),
    "s3:object-lock-legal-hold": ("StringEquals", "OFF", "", {"x-amz-object-lock-legal-hold": "OFF"}),
    "s3:object-lock-retain-until-date": (
        "DateGreaterThan", "2030-01-01T00:00:00Z", "", {"x-amz-object-lock-retain-until-date": "2031-01-01T00:00:00Z"}
    ),
}  # fmt: skip
"""A condition key → an operator and a value that fits, and the parameter or header by which it is sent."""


def test_what_a_user_sends_counts_whatever_they_ask_for(juicefs: JuiceFS) -> None:
    bucket = "sent-with-any"
    make(juicefs, bucket)
    assert set(SENT) == {*MINIO.readings.sent_with_any, "s3:prefix"}  # a text: by its parameter too
    where = [f"arn:aws:s3:::{bucket}", f"arn:aws:s3:::{bucket}/*"]
    whole: dict[str, Any] = {"Effect": "Allow", "Action": ["s3:*"], "Resource": where}
    for key, (operator, value, query, headers) in SENT.items():
        sent = {**headers, **({key: value} if query else {})}.popitem()[1]
        for condition, effect in itertools.product(
            ({operator: {key: value}}, {"Null": {key: "true"}}), ("Allow", "Deny")
        ):
            named = {**whole, "Effect": effect, "Condition": condition}
            statements = [*([whole] if effect == "Deny" else []), named]
            assert juicefs.permit("deck", *statements), named
            for action, sends in itertools.product(("s3:ListBucket", "s3:GetObjectTagging"), (True, False)):
                keys = {key: sent, **({"parameter/prefix": sent} if key == "s3:prefix" else {})} if sends else {}
                there = said(bucket, written(*statements), request_for(action, CALLER, keys), own=True)
                path, part = (f"/{bucket}/k", "tagging") if "Object" in action else (f"/{bucket}", "list-type=2")
                asked = "&".join(one for one in (part, query if sends else "") if one)
                passed = juicefs.send(DECK, "GET", path, asked, headers if sends else {}) == 200
                assert passed is there, (named, action, sends)


FORGED: list[tuple[str, dict[str, str], dict[str, str]]] = [
    ("", {}, {}),
    ("", {"X-Forwarded-For": "10.1.2.3"}, {"forwarded address": "10.1.2.3"}),
    ("", {"X-Real-Ip": "198.51.100.7"}, {"forwarded address": "198.51.100.7"}),
    ("", {"Forwarded": "for=10.1.2.3"}, {"forwarded address": "10.1.2.3"}),
    ("SourceIp=10.1.2.3", {}, {"address parameter": "10.1.2.3"}),
    ("username=warden", {}, {"parameter/username": "warden"}),
    ("principaltype=User", {}, {"parameter/principaltype": "User"}),
    ("authType=REST-HEADER", {}, {"parameter/authtype": "REST-HEADER"}),
    ("Referer=https%3A%2F%2Fa.example%2Fx", {}, {"parameter/referer": "https://a.example/x"}),
    ("UserAgent=probe", {"User-Agent": "other"}, {"parameter/useragent": "probe", "aws:useragent": "other"}),
    ("", {"Referer": "https://a.example/x"}, {"aws:referer": "https://a.example/x"}),
    ("SourceIp=10.1.2.3", {"X-Forwarded-For": "198.51.100.7", "Referer": "https://a.example/x"},
     {"address parameter": "10.1.2.3", "forwarded address": "198.51.100.7", "aws:referer": "https://a.example/x"}),
    ("SecureTransport=true&CurrentTime=2099-01-01T00%3A00%3A00Z", {}, {}),
]  # fmt: skip
"""What whoever asks adds to a request: parameters and headers, and what condition keys the request carries by them."""
CONDITIONS: list[dict[str, Any]] = [
    {}, {"IpAddress": {"aws:SourceIp": "10.1.0.0/16"}}, {"IpAddress": {"aws:SourceIp": "127.0.0.0/8"}},
    {"NotIpAddress": {"aws:SourceIp": "10.1.0.0/16"}}, {"NotIpAddress": {"aws:SourceIp": "127.0.0.0/8"}},
    {"StringEquals": {"aws:username": "warden"}}, {"StringNotEquals": {"aws:username": "warden"}},
    {"StringEquals": {"aws:username": ""}}, {"StringNotEquals": {"aws:userid": ""}},
    {"StringEquals": {"aws:principaltype": "User"}}, {"StringEquals": {"aws:principaltype": "Anonymous"}},
    {"StringNotEquals": {"aws:principaltype": "Anonymous"}}, {"StringLike": {"s3:authType": "REST-*"}},
    {"StringLike": {"aws:Referer": "https://a.example/*"}}, {"StringNotLike": {"aws:Referer": "https://a.example/*"}},
    {"StringEquals": {"aws:Referer": ""}}, {"StringLike": {"aws:UserAgent": "pro*"}},
    {"StringNotEquals": {"aws:UserAgent": ["probe", "other"]}}, {"Null": {"aws:Referer": "true"}},
    {"Null": {"aws:username": "false"}}, {"Bool": {"aws:SecureTransport": "true"}},
    {"DateLessThan": {"aws:CurrentTime": "2090-01-01T00:00:00Z"}}, {"StringLike": {"s3:LocationConstraint": "*"}},
]  # fmt: skip


def passes(juicefs: JuiceFS, bucket: str, forged: tuple[str, dict[str, str], dict[str, str]]) -> bool:
    return juicefs.send(None, "GET", f"/{bucket}/k", *forged[:2]) == 200


def carried_by(forged: tuple[str, dict[str, str], dict[str, str]]) -> dict[str, str]:
    return {"aws:useragent": ""} | forged[2]


def test_whoever_asks_makes_conditions_hold_and_is_said_to(juicefs: JuiceFS) -> None:
    """Single and paired conditions, allowing and denying: every forged request alike, and *closed* only where none of
    them passes. What is *open* passes as the request that is shown."""
    bucket, outcome, dice = "forged", Counter[str](), random.Random(20261129)
    make(juicefs, bucket)
    one = {"Principal": "*", "Action": ["s3:GetObject"], "Resource": [f"arn:aws:s3:::{bucket}/*"]}
    cases = [[("Allow", condition)] for condition in CONDITIONS]
    cases += [[("Allow", {}), ("Deny", condition)] for condition in CONDITIONS]
    cases += [
        [(dice.choice(("Allow", "Allow", "Deny")), dice.choice(CONDITIONS)) for _ in range(3)]
        for _ in range(whole_or(60, 600))
    ]
    now = EvaluationContext(datetime.now(UTC))
    for case in cases:
        document = ({"Effect": effect, **one, "Condition": condition} for effect, condition in case)
        text = written(*({k: v for k, v in statement.items() if v} for statement in document))
        assert stored(juicefs, bucket, text), text
        text = juicefs.keeper.get_bucket_policy(Bucket=bucket)["Policy"]  # it leaves out what it takes for said twice
        let_in = []
        for forged in FORGED:
            passed = passes(juicefs, bucket, forged)
            assert said(bucket, text, request_for("s3:GetObject", carried=carried_by(forged))) is passed, (
                f"{text} {forged}"
            )
            let_in += [forged] if passed else []
        verdict = exposures(Rules(bucket, as_read(parse_policy(text), MINIO)), now)["anyone", "read"]
        outcome[verdict.level] += 1
        assert verdict.level != "closed" or not let_in, (text, let_in)
        if verdict.level == "open" and verdict.witness and "transport" not in verdict.witness.circumstances:
            path, _, query = verdict.witness.request.removeprefix("GET ").partition("?")
            if "SecureTransport" not in text:  # here all is plain http
                key, headers = path.replace("/a", "/k"), {"X-Forwarded-For": verdict.witness.address}
                headers |= verdict.witness.headers
                assert juicefs.send(None, "GET", key, query, headers) == 200, (text, path, query)
                outcome["shown request passes"] += 1
    print(dict(outcome))
    assert outcome["open"] > 30
    assert outcome["closed"] > 3
    assert outcome["unknown"] == 0
    assert outcome["shown request passes"] > 25


def test_users_make_the_conditions_of_their_own_permissions_hold(juicefs: JuiceFS) -> None:
    bucket, outcome = "own-conditions", Counter[str]()
    make(juicefs, bucket)
    one = {"Action": ["s3:GetObject"], "Resource": [f"arn:aws:s3:::{bucket}/*"]}
    for condition, effect in itertools.product(CONDITIONS, ("Allow", "Deny")):
        named = {"Effect": effect, **one, **({"Condition": condition} if condition else {})}
        statements = [named] if effect == "Allow" else [{"Effect": "Allow", **one}, named]
        assert juicefs.permit("deck", *statements), named
        for forged in FORGED:
            passed = juicefs.send(DECK, "GET", f"/{bucket}/k", *forged[:2]) == 200
            wanted = request_for("s3:GetObject", CALLER, {"aws:userid": "deck"} | carried_by(forged))
            assert said(bucket, written(*statements), wanted, own=True) is passed, (named, forged)
            outcome["passes" if passed else "refused"] += 1
    print(dict(outcome))
    assert min(outcome["passes"], outcome["refused"]) > 100


def surveyed(juicefs: JuiceFS, folder: Path, *words: str, dialect: str = "") -> dict[str, Any]:
    """The store's buckets as the installed program tells of them."""
    folder.mkdir(exist_ok=True)
    (folder / "estate.yaml").write_text(
        f"estate: Saltmarsh Trust\nstores:\n  quay:\n    reads: s3\n    at: {juicefs.address}\n"
        f"    plain-http: allowed\n    credential: {{environment: QUAY}}\n    objects: {{inspect: all}}\n{dialect}"
    )
    (folder / "baseline.yaml").write_text(
        "title: t\nsheets:\n- sheet: all\n  require: {exposure.read: closed, exposure.list: closed}\n"
    )
    key = {"QUAY_ACCESS_KEY_ID": KEEPER[0], "QUAY_SECRET_ACCESS_KEY": KEEPER[1]}
    done = lantern("survey", *words, cwd=folder, **key)
    assert done.code == 0, done.err
    told = json.loads(lantern("exposure", "--json", cwd=folder).out)
    return {row["bucket"]: row["exposure"] for row in told["buckets"]}


SHOWN: dict[str, list[dict[str, Any]]] = {
    "of-all": [{"Effect": "Allow", "Principal": "*"}],
    "of-the-office": [{"Effect": "Allow", "Principal": "*",
                       "Condition": {"IpAddress": {"aws:SourceIp": "10.1.0.0/16"}}}],
    "of-deck": [{"Effect": "Allow", "Principal": {"AWS": CALLER.arn}}],
    "of-all-but-here": [{"Effect": "Allow", "Principal": "*"},
                        {"Effect": "Deny", "Principal": "*",
                         "Condition": {"IpAddress": {"aws:SourceIp": "127.0.0.1/32"}}}],
    "of-a-name": [{"Effect": "Allow", "Principal": "*", "Condition": {"StringEquals": {"aws:username": "warden"}}}],
    "of-the-past": [{"Effect": "Allow", "Principal": "*",
                     "Condition": {"DateLessThan": {"aws:CurrentTime": "2020-01-01T00:00:00Z"}}}],
    "of-nobody": [],
}  # fmt: skip


@pytest.mark.parametrize("words", [(), ("--probe",)])
def test_what_is_said_to_be_open_or_closed_is_so(juicefs: JuiceFS, tmp_path: Path, words: tuple[str, ...]) -> None:
    for name, statements in SHOWN.items():
        of_it = [{**one, "Action": ["s3:GetObject"], "Resource": [f"arn:aws:s3:::{name}/*"]} for one in statements]
        make(juicefs, name, written(*of_it) if of_it else "")
    told = surveyed(juicefs, tmp_path, *words)
    for name in SHOWN:
        let_in = any(passes(juicefs, name, forged) for forged in FORGED)
        levels = {verb: one["verdict"] for verb, one in told[name]["anyone"].items()}
        assert levels.pop("read") == ("open" if let_in else "closed"), name
        assert set(levels.values()) == {"closed"}, (name, levels)
        assert {one["verdict"] for one in told[name]["any-account"].values()} == {"closed"}, name
        facts = json.loads(lantern("show", f"quay/{name}", "--json", cwd=tmp_path).out)["facts"]
        values = {one["fact"]: one["value"] for one in facts}
        assert values["anonymous-test"] == ("agrees" if words else None), (name, values)
        assert (values["object-acls.public"], values["object-acls.enabled"]) == ("none", "off")
    assert sum(one["anyone"]["read"]["verdict"] == "open" for one in told.values()) >= 4
    reach = lantern("reach", cwd=tmp_path, QUAY_ACCESS_KEY_ID=KEEPER[0], QUAY_SECRET_ACCESS_KEY=KEEPER[1]).out
    assert MINIO_ENGINE in reach and "dialect minio-2021" in " ".join(reach.split())


def test_where_its_dialect_is_not_taken_the_anonymous_test_shows_that_addresses_are_forged(
    juicefs: JuiceFS, tmp_path: Path
) -> None:
    for name in ("of-the-office", "of-all-but-here"):
        one = {**SHOWN[name][-1], "Action": ["s3:GetObject"], "Resource": [f"arn:aws:s3:::{name}/*"]}
        make(juicefs, name, written(one if one["Effect"] == "Allow" else {**one, "Effect": "Allow"}))
    told = surveyed(juicefs, tmp_path, "--probe", dialect="    dialect: common\n")
    for name, outcome in (("of-the-office", "disagrees"), ("of-all-but-here", "ambiguous")):
        assert told[name]["anyone"]["read"]["verdict"] != "closed"
        facts = json.loads(lantern("show", f"quay/{name}", "--json", cwd=tmp_path).out)["facts"]
        test = next(one for one in facts if one["fact"] == "anonymous-test")
        assert test["value"] == outcome, (name, test)


def allow(actions: str, *where: str, effect: str = "Allow", **condition: Any) -> dict[str, Any]:
    """A statement of a policy that users have."""
    resources = [f"arn:aws:s3:::{one}" for one in where]
    named = {"Effect": effect, "Action": [f"s3:{one}" for one in actions.split()], "Resource": resources}
    return {**named, **({"Condition": condition} if condition else {})}


POLICIES: dict[str, list[dict[str, Any]]] = {
    "reads-a": [allow("GetObject", "pond-a/*")],
    "everything": [allow("*", "*")],
    "versions": [allow("GetObjectVersion", "pond-b/*")],
    "from-office": [allow("*", "pond-b*", IpAddress={"aws:SourceIp": "10.1.0.0/16"})],
    "not-a": [allow("*", "pond-a*", effect="Deny")],
    "not-from-here": [allow("GetObject", "*", effect="Deny", IpAddress={"aws:SourceIp": "127.0.0.0/8"})],
    "own-folder": [allow("GetObject PutObject", "pond-c/${aws:username}/*")],
    "lists": [allow("ListBucket GetBucketLocation", "pond-a", "pond-c")],
    "past": [allow("*", "*", DateLessThan={"aws:CurrentTime": "2020-01-01T00:00:00Z"})],
    "by-name": [allow("GetObject", "pond-c/*", StringEquals={"aws:username": "heron"})],
    "tags": [allow("PutBucketTagging GetBucketTagging", "pond-b")],
}
"""Policies that users and groups of the test have by name."""
PEOPLE: dict[str, str] = {
    "heron": "reads-a,lists", "bittern": "everything,not-a", "curlew": "versions,not-from-here", "dunlin": "",
    "egret": "from-office,tags", "fulmar": "own-folder,by-name", "gannet": "past", "lapwing": "everything",
    "knot": "readonly", "plover": "reads-a",
}  # fmt: skip
"""User → its policies."""
GROUPS: dict[str, tuple[str, tuple[str, ...]]] = {
    "crew": ("lists,tags", ("dunlin", "gannet", "heron")), "rested": ("everything", ("dunlin", "plover")),
    "kept-out": ("not-a", ("heron", "knot")),
}  # fmt: skip
"""Group → its policies, and who is in it. The second one is disabled."""


def may(juicefs: JuiceFS, pair: tuple[str, str], user: str, bucket: str) -> set[str]:
    """The verbs of which some request passes, with whatever the user makes up."""
    verbs: set[str] = set()
    forged = FORGED[:2]  # what the conditions of these policies are about
    for action, one in itertools.product(ASKED, forged):
        if action.name == "s3:DeleteBucket" or action.verb in verbs:
            continue
        keys = ("k", f"{user}/k") if action.target == "object" else ("",)
        for key in keys:
            query = "&".join(part for part in (action.query, one[0]) if part)
            path = f"/{bucket}/{key}" if key else f"/{bucket}"
            if juicefs.send(pair, action.method, path, query, one[1]) not in REFUSED:
                verbs.add(action.verb)
    for key in ("k", f"{user}/k"):
        juicefs.send(KEEPER, "PUT", f"/{bucket}/{key}", "", {}, b"x")
    return verbs


@pytest.fixture(scope="module")
def with_people(juicefs: JuiceFS) -> dict[str, tuple[str, str]]:
    """User, or service account, → its keys; set up with policies, groups and buckets."""
    for name, statements in POLICIES.items():
        juicefs.put_policy(name, *statements)
    for bucket in ("pond-a", "pond-b", "pond-c"):
        make(juicefs, bucket)
    pairs = {name: (name, f"sk-{name}-000") for name in PEOPLE}
    for name, policies in PEOPLE.items():
        juicefs.add_user(*pairs[name])
        juicefs.have(policies, name)
        for bucket in ("pond-a", "pond-b", "pond-c"):
            juicefs.send(KEEPER, "PUT", f"/{bucket}/{name}/k", "", {}, b"x")
    for group, (policies, members) in GROUPS.items():
        juicefs.put_in_group(group, *members)
        juicefs.have(policies, group, group=True)
    pairs["further"] = juicefs.service_account(pairs["bittern"], allow("GetObject ListBucket", "*"))
    pairs["as-its-user"] = juicefs.service_account(pairs["heron"])
    juicefs.disable("group", "rested")
    juicefs.disable("user", "lapwing")
    return pairs


PEOPLE_AT = "    identities: {{minio: '{at}'{credential}}}\n    only: [pond-a, pond-b, pond-c]\n"


def test_what_each_user_can_do_is_what_the_server_lets_them_do(
    juicefs: JuiceFS, with_people: dict[str, tuple[str, str]], tmp_path: Path
) -> None:
    surveyed(juicefs, tmp_path, dialect=PEOPLE_AT.format(at=juicefs.address, credential=""))
    rows = json.loads(lantern("access", "--json", cwd=tmp_path).out)["identities"]
    told = {(row["identity"], bucket): row["verbs"] for row in rows for bucket in row["buckets"]}
    outcome = Counter[str]()
    for name, bucket in itertools.product(PEOPLE, ("pond-a", "pond-b", "pond-c")):
        passed = may(juicefs, with_people[name], name, bucket)
        levels = told.get((name, bucket), {})
        outcome.update(levels.values())
        verbs = {verb for verb, level in levels.items() if level == "open"} - {"bypass-retention"}
        assert verbs == passed, (name, bucket, levels, passed)  # retention is not offered
        assert set(levels.values()) <= {"open"}, (name, levels)
    print(dict(outcome))
    assert outcome["open"] > 40
    owners = json.loads(lantern("credentials", "--json", cwd=tmp_path).out)
    keys = {(one["owner"], one["state"]) for one in owners["credentials"]}
    assert {("bittern", "active"), ("heron", "active"), ("lapwing", "disabled")} <= keys
    assert {one["owner"] for one in owners["credentials"]} >= {*PEOPLE, DECK[0]}
    of_bittern = [one["can_at_least"].split() for one in owners["credentials"] if one["owner"] == "bittern"]
    assert sorted(of_bittern, key=len)[0] == ["list", "read"]  # the service account's own policy leaves no more
    further = with_people["further"]
    assert "write" not in may(juicefs, further, "bittern", "pond-b") and "read" in may(
        juicefs, further, "bittern", "pond-b"
    )
    kept = b"".join(path.read_bytes() for path in (tmp_path / "surveys").rglob("*") if path.is_file())
    for pair in with_people.values():
        assert pair[1].encode() not in kept


AUDITS = "ListUsers", "ListUserPolicies", "ListGroups", "GetGroup", "ListServiceAccounts"
"""What docs/permissions.md asks for."""


@pytest.mark.parametrize("name", ["heron", "auditor"])
def test_users_are_known_to_whom_the_docs_say_and_else_unknown(
    juicefs: JuiceFS, with_people: dict[str, tuple[str, str]], tmp_path: Path, name: str
) -> None:
    juicefs.add_user("auditor", "sk-auditor-000")
    juicefs.put_policy("audits", {"Effect": "Allow", "Action": [f"admin:{one}" for one in AUDITS]})
    juicefs.have("audits", "auditor")
    permissions = (Path(__file__).parent.parent / "docs" / "permissions.md").read_text()
    assert all(f"`admin:{one}`" in permissions for one in AUDITS)
    (tmp_path / "shown.ini").write_text(f"[default]\naws_access_key_id={name}\naws_secret_access_key=sk-{name}-000\n")
    (tmp_path / "shown.ini").chmod(0o600)
    entry = PEOPLE_AT.format(at=juicefs.address, credential=", credential: {file: shown.ini}")
    surveyed(juicefs, tmp_path, dialect=entry)
    facts = json.loads(lantern("show", "quay/pond-a", "--json", cwd=tmp_path).out)["facts"]
    readers = next(one for one in facts if one["fact"] == "principals.read")
    assert (readers["state"] == "known") is (name == "auditor"), readers
    reach = lantern("reach", cwd=tmp_path, QUAY_ACCESS_KEY_ID=KEEPER[0], QUAY_SECRET_ACCESS_KEY=KEEPER[1]).out
    words = "readable" if name == "auditor" else "denied"
    assert re.search(f"identities .*{words}", " ".join(reach.split()))


def test_varied_buckets_read_as_they_were_set_up_and_as_the_standard_client_reads_them(
    juicefs: JuiceFS, tmp_path: Path
) -> None:
    made = build(juicefs.keeper, 24, locks=(None,))
    folder = workspace_for(tmp_path / "ws", juicefs.address, KEEPER)
    assert lantern("survey", "--only", "real/fen-*", cwd=folder).code == 0
    assert differences(juicefs.keeper, made, read_back(folder)) == ([], set())
    assert {setting for settings in made.values() for setting in settings} == {"policy", "tags"}
