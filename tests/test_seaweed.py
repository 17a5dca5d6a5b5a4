"""What a real SeaweedFS server lets its callers do, held against its dialect, and against the installed program."""

from __future__ import annotations

import itertools
import json
import random
import time
from collections import Counter
from collections.abc import Callable
from datetime import UTC, datetime
from functools import partial
from pathlib import Path
from typing import Any

import pytest
from botocore.exceptions import ClientError
from msgspec.structs import replace

from rusty_lantern.core.access.dialects.policy_as_read import as_read
from rusty_lantern.core.access.dialects.shipped import SEAWEED
from rusty_lantern.core.access.evaluator.evaluate import decide
from rusty_lantern.core.access.evaluator.request import ANONYMOUS, Caller, Request
from rusty_lantern.core.access.policy.actions import ACTIONS, Action
from rusty_lantern.core.access.policy.condition_keys import ACCOUNT as OF_ACCOUNT
from rusty_lantern.core.access.policy.condition_keys import ARN, always_carried
from rusty_lantern.core.access.policy.document import parse_policy
from rusty_lantern.core.access.rules.bucket_rules import EvaluationContext, Rules
from rusty_lantern.core.access.solver.exposure import exposures
from rusty_lantern.core.model.dialect import Dialect
from rusty_lantern.stores.software import SEAWEED_SERVER
from tests.conftest import lantern, whole_or
from tests.dialects.constructs import KEYS, lets_in, rows
from tests.gateway import takes_policy
from tests.own_keys import KEY_CONDITIONS, OWN_KEY, demanded, denies_uploads
from tests.seaweed_server import ACCOUNT, DECK, KEEPER, Seaweed
from tests.test_dialects import request_of, text_of

RESOURCE = f"arn:aws:iam::{ACCOUNT}:user/deck"
CALLER = Caller(ACCOUNT, RESOURCE, "deck")
OF_DECK = {ARN: (RESOURCE,), OF_ACCOUNT: (ACCOUNT,), "aws:userid": ("deck",)}
"""What requests of that user carry of it."""
NOT_TAKEN = (
    "IfExists", "ForAllValues", "ForAnyValue", "NotAction", "NotPrincipal", "Resource every", "Action star",
    "Action case", "Action a star before", "variable in Resource",
)  # fmt: skip
"""Rows whose names hold one of these are policies that the server does not take."""
NOT_ITS_OWN = (
    "Ownership", "Replication", "Logging", "Website", "Accelerate", "Inventory", "Analytics", "Metrics", "Tiering",
    "Abac", "Metadata", "TagResource", "UntagResource", "ListTagsForResource", "CORS", "ObjectEncryption", "Restore",
    "Bypass", "PutObjectAcl",
)  # fmt: skip
"""Words in actions that it does not know, or that decide of no request alone: only its owner sets an object's ACL."""
ASKED = [one for one in ACTIONS.values() if one.method and not any(word in one.name for word in NOT_ITS_OWN)]
REFUSED = (401, 403)


def written(*statements: dict[str, Any]) -> str:
    return json.dumps({"Version": "2012-10-17", "Statement": statements})


def stored(seaweed: Seaweed, bucket: str, text: str) -> bool:
    return takes_policy(seaweed.client(), bucket, text)


def reads(seaweed: Seaweed, pair: tuple[str, str] | None, bucket: str) -> bool:
    return seaweed.send(pair, "GET", f"/{bucket}/k") == 200


def settled(ask: Callable[[], bool], told: bool | None) -> bool:
    """What the server does once it has read the policy that it stored: on a busy machine that takes it a moment."""
    for _ in range(600):
        if ask() is told:
            break
        time.sleep(0.1)
    return ask()


def answers(ask_it: Callable[[], int]) -> bool:
    return ask_it() == 200


def as_of_its_users(text: str) -> str:
    return text.replace("arn:aws:iam:::", f"arn:aws:iam::{ACCOUNT}:")


def make(seaweed: Seaweed, bucket: str, **said: Any) -> None:
    """A bucket with an object that each request of `ASKED` may be about."""
    seaweed.client().create_bucket(Bucket=bucket, **said)
    for key in ("k", "gone"):
        seaweed.client().put_object(Bucket=bucket, Key=key, Body=b"x")


def ask(seaweed: Seaweed, pair: tuple[str, str] | None, bucket: str, action: Action) -> bool:
    """Whether the server lets a request through: whatever it makes of it then, since no body is what it wants."""
    key = "/" + ("gone" if "Delete" in action.name else "k") if action.target == "object" else ""
    return seaweed.send(pair, action.method, f"/{bucket}{key}", action.query) not in REFUSED


def request_for(action: str, caller: Caller, key: str = "k", **carried: str) -> Request:
    context = always_carried(anonymous=caller.anonymous, arn=caller.arn)
    now = datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")
    context |= {"aws:sourceip": ("127.0.0.1",), "aws:securetransport": ("false",), "aws:currenttime": (now,)}
    context |= {} if caller.anonymous else OF_DECK
    context |= {name.replace("_", ":"): (value,) for name, value in carried.items()}
    return Request(action, key if ACTIONS[action].target == "object" else "", caller, context)


def said(bucket: str, text: str, wanted: Request, dialect: Dialect = SEAWEED) -> bool | None:
    return decide(Rules(bucket, as_read(parse_policy(text), dialect)), wanted).allowed


def test_it_reads_every_construct_as_its_dialect_says(seaweed: Seaweed) -> None:
    bucket = "measured"
    seaweed.client().create_bucket(Bucket=bucket)
    for key in KEYS:
        seaweed.client().put_object(Bucket=bucket, Key=key, Body=b"x")
    outcome, wrong = Counter[str](), []
    for row in rows(whole_or(3, 1)):
        if (
            row.headers.get("Referer") == "a*b.jpg"
        ):  # it may take that star for the pattern's: nobody gains by sending it
            continue
        text = as_of_its_users(text_of(row))
        if not stored(seaweed, bucket, text):
            assert any(words in row.name for words in NOT_TAKEN), row.name
            outcome["not taken"] += 1
            continue
        wanted = request_of(row, CALLER)
        wanted = replace(wanted, context={**wanted.context, **(OF_DECK if row.signed else {})})
        there = said(bucket, text, wanted)
        passed = settled(partial(lets_in, seaweed.send, DECK, bucket, row), there)
        common = decide(Rules(bucket, parse_policy(text)), wanted).allowed
        outcome["otherwise" if there is not common else "as common"] += 1
        wrong += [] if there is passed else [f"{row.name}: the server says {passed}, the dialect {there}"]
    print(dict(outcome))
    assert not wrong, "\n".join(wrong)
    assert outcome["otherwise"] > 100


PRINCIPALS: list[Any] = [
    "*", {"AWS": "*"}, {"AWS": RESOURCE}, {"AWS": "arn:aws:iam:::user/deck"}, {"AWS": "deck"}, {"AWS": ACCOUNT},
    {"AWS": "arn:aws:iam::*:user/deck"}, {"AWS": f"arn:aws:iam::{ACCOUNT}:user/*"}, {"AWS": "arn:*"}, {"AWS": "?*"},
    {"AWS": "a*"}, {"AWS": "?"}, {"AWS": "*k"}, {"AWS": f"arn:aws:iam::{ACCOUNT}:root"}, {"CanonicalUser": "*"},
    {"Service": "*"}, {"Federated": "*"}, {"Federated": RESOURCE}, {"Service": "deck"}, {"CanonicalUser": "deck"},
    {"AWS": "anonymous"}, {"AWS": f"arn:aws:iam::{ACCOUNT}:user/anonymous"},
    {"AWS": f"arn:aws-cn:iam::{ACCOUNT}:user/deck"},
]  # fmt: skip


def test_whom_principals_name(seaweed: Seaweed) -> None:
    bucket = "principals"
    make(seaweed, bucket)
    for principal, effect in itertools.product(PRINCIPALS, ("Allow", "Deny")):
        one = {"Action": ["s3:GetObject"], "Resource": [f"arn:aws:s3:::{bucket}/*"]}
        named = {"Effect": effect, "Principal": principal, **one}
        statements = [named] if effect == "Allow" else [{"Effect": "Allow", "Principal": "*", **one}, named]
        text = written(*statements)
        assert stored(seaweed, bucket, text), principal
        for pair, caller in ((DECK, CALLER), (None, ANONYMOUS)):
            told = said(bucket, text, request_for("s3:GetObject", caller))
            passed = settled(partial(reads, seaweed, pair, bucket), told)
            assert told is passed, (effect, principal, pair)


def test_every_action_decides_of_its_requests_and_of_no_other(seaweed: Seaweed) -> None:
    bucket, wrong = "actions", []
    where = [f"arn:aws:s3:::{bucket}", f"arn:aws:s3:::{bucket}/*"]
    for action, (pair, caller) in itertools.product(ASKED, ((DECK, CALLER), (None, ANONYMOUS))):
        try:
            make(seaweed, bucket, ObjectLockEnabledForBucket=True)
        except ClientError:  # it was not deleted
            seaweed.client().put_object(Bucket=bucket, Key="gone", Body=b"x")
        text = written({"Effect": "Allow", "Principal": "*", "Action": [action.name], "Resource": where})
        assert stored(seaweed, bucket, text), action.name
        for other in ASKED:
            passed, there = ask(seaweed, pair, bucket, other), said(bucket, text, request_for(other.name, caller))
            wrong += [] if there is passed else [(action.name, other.name, pair, passed, there)]
    assert not wrong, wrong[:10]


SENT: dict[str, tuple[str, str, str, dict[str, str]]] = {
    "s3:prefix": ("StringEquals", "deck/", "prefix=deck%2F", {}),
    "s3:delimiter": ("StringEquals", "-", "delimiter=-", {}),
    "s3:max-keys": ("NumericEquals", "5", "max-keys=5", {}),
} | {
    f"s3:{header}": ("StringEquals", value, "", {header: value})
    for header, value in {
        "x-amz-acl": "private", "x-amz-grant-read": "id=a", "x-amz-grant-write": "id=a", "x-amz-grant-read-acp": "id=a",
        "x-amz-grant-write-acp": "id=a", "x-amz-grant-full-control": "id=a", "x-amz-copy-source": "a/b",
        "x-amz-metadata-directive": "COPY", "x-amz-storage-class": "STANDARD", "x-amz-object-ownership": "a",
        "x-amz-server-side-encryption": "AES256", "x-amz-server-side-encryption-aws-kms-key-id": "a",
        "x-amz-server-side-encryption-customer-algorithm": "AES256", "x-amz-website-redirect-location": "/a",
    }.items()
}  # fmt: skip
"""A condition key → an operator and a value that fits, and the parameter or header by which it is sent."""
READS = ("s3:GetObject", "s3:ListBucket", "s3:GetObjectTagging", "s3:GetBucketVersioning")


@pytest.mark.parametrize("condition", [one for one in KEY_CONDITIONS if "IfExists" not in one])
def test_an_upload_with_its_own_key_is_refused_where_it_is_said_to_be(seaweed: Seaweed, condition: str) -> None:
    bucket = f"own-keys-{[*KEY_CONDITIONS].index(condition)}"
    seaweed.client().create_bucket(Bucket=bucket)
    assert stored(seaweed, bucket, denies_uploads(bucket, json.loads(condition)))
    refused = demanded(bucket, json.loads(condition), SEAWEED).answer("store-keys").value == "on"
    passes = partial(answers, partial(seaweed.send, KEEPER, "PUT", f"/{bucket}/k", "", OWN_KEY, b"1"))
    assert settled(passes, not refused) is not refused


def test_what_a_request_sends_counts_whatever_it_asks_for(seaweed: Seaweed) -> None:
    bucket = "sent-with-any"
    make(seaweed, bucket)
    assert set(SENT) == set(SEAWEED.readings.sent_with_any)
    where = [f"arn:aws:s3:::{bucket}", f"arn:aws:s3:::{bucket}/*"]
    one: dict[str, Any] = {"Principal": "*", "Action": [*READS], "Resource": where}
    for key, (operator, value, query, headers) in SENT.items():
        for condition, effect in itertools.product(
            ({operator: {key: value}}, {"Null": {key: "true"}}), ("Allow", "Deny")
        ):
            named = {"Effect": effect, **one, "Condition": condition}
            text = written(*([{"Effect": "Allow", **one}] if effect == "Deny" else []), named)
            assert stored(seaweed, bucket, text), key
            for action, sends in itertools.product(READS, (True, False)):
                wanted = request_for(action, CALLER)
                wanted = replace(wanted, context={**wanted.context, **({key: (value,)} if sends else {})})
                there = said(bucket, text, wanted)
                path = f"/{bucket}" + ("/k" if wanted.key else "")
                asked = "&".join(part for part in (ACTIONS[action].query, query if sends else "") if part)
                ask_it = partial(seaweed.send, DECK, "GET", path, asked, headers if sends else {})
                passed = settled(partial(answers, ask_it), there)
                assert passed is there, (text, action, sends)


def test_a_read_that_sends_a_listings_parameter_is_shown_and_let_in(seaweed: Seaweed) -> None:
    """*Closed* by the published language: only a listing has a prefix."""
    bucket, around = "with-a-prefix", EvaluationContext(datetime.now(UTC))
    make(seaweed, bucket)
    where = [f"arn:aws:s3:::{bucket}", f"arn:aws:s3:::{bucket}/*"]
    home = {"Condition": {"StringLike": {"s3:prefix": "home/*"}}}
    text = written(
        {"Effect": "Allow", "Principal": "*", "Action": ["s3:ListBucket", "s3:GetObject"], "Resource": where, **home}
    )
    assert stored(seaweed, bucket, text)
    read, common = (
        exposures(Rules(bucket, one), around)["anyone", "read"]
        for one in (as_read(parse_policy(text), SEAWEED), parse_policy(text))
    )
    assert (read.level, common.level) == ("open", "closed")
    assert read.witness is not None
    path, _, query = read.witness.request.removeprefix("GET ").partition("?")
    assert query.startswith("prefix=home")
    seaweed.client().put_object(Bucket=bucket, Key=read.witness.key, Body=b"x")
    assert settled(lambda: seaweed.send(None, "GET", path, query) == 200, told=True)


WHOLE = replace(SEAWEED, readings=replace(SEAWEED.readings, policies_let_unsigned_callers_only_read=False))
"""As it reads policies where requests without credentials are a user's."""


@pytest.mark.parametrize(("server", "dialect"), [("seaweed", SEAWEED), ("seaweed_with_nobody", WHOLE)])
def test_whatever_policies_say_together_it_decides_as_its_dialect_does(
    request: pytest.FixtureRequest, server: str, dialect: Dialect
) -> None:
    seaweed: Seaweed = request.getfixturevalue(server)
    bucket, dice, outcome = "together-0", random.Random(20261128), Counter[str]()
    make(seaweed, bucket)
    callers = ((DECK, CALLER), (None, ANONYMOUS))
    for number in range(1, whole_or(40, 400)):
        statements = [_drawn(dice) for _ in range(dice.choice((1, 2, 2, 3)))]
        text = written(*statements)
        if not stored(seaweed, bucket, text.replace("{bucket}", bucket)):  # the last one shut out even the keeper
            bucket = f"together-{number}"
            make(seaweed, bucket)
            assert stored(seaweed, bucket, text.replace("{bucket}", bucket)), text
        text = text.replace("{bucket}", bucket)
        for (pair, caller), name in itertools.product(
            callers, ("GetObject", "ListBucket", "PutObject", "GetBucketAcl")
        ):
            headers = dice.choice(({}, {"Referer": "https://a.example/x"}))
            carried = {"aws_referer": headers["Referer"]} if headers else {}
            action = ACTIONS[f"s3:{name}"]
            path = f"/{bucket}" + ("/k" if action.target == "object" else "")
            passed = seaweed.send(pair, action.method, path, action.query, headers, b"x") not in REFUSED
            there = said(bucket, text, request_for(action.name, caller, **carried), dialect)
            outcome["unknown" if there is None else "agree" if there is passed else "differ"] += 1
            assert there in (None, passed), (text, name, pair, headers, passed)
    print(dict(outcome))
    assert outcome["agree"] > 200
    assert outcome["unknown"] == 0


def _drawn(dice: random.Random) -> dict[str, Any]:
    """A random statement."""
    where = ["arn:aws:s3:::{bucket}", "arn:aws:s3:::{bucket}/*"]
    condition = dice.choice([
        {}, {}, {"IpAddress": {"aws:SourceIp": dice.choice(["127.0.0.0/8", "10.0.0.0/8", "x"])}},
        {"NotIpAddress": {"aws:SourceIp": dice.choice(["127.0.0.1", "::/0", "10.0.0.0/8"])}},
        {"StringLike": {"aws:Referer": "https://a.example/*"}}, {"StringNotEquals": {"aws:Referer": "https://a.example/x"}},
        {"DateLessThan": {"aws:CurrentTime": dice.choice(["2099-01-01", "2099-01-01T00:00:00Z"])}},
        {"Bool": {"aws:SecureTransport": dice.choice(["true", "false"])}}, {"Null": {"aws:username": "true"}},
        {"StringEquals": {"aws:username": "deck"}}, {"StringNotEquals": {"aws:PrincipalType": "Anonymous"}},
        {"StringLike": {"aws:SourceIP": "*"}},
    ])  # fmt: skip
    actions = dice.choice([["s3:*"], ["s3:Get*"], ["s3:GetObject"], ["s3:ListBucket"], ["s3:PutObject", "s3:List*"]])
    return {
        "Effect": dice.choice(("Allow", "Allow", "Deny")), "Principal": dice.choice(PRINCIPALS), "Action": actions,
        "Resource": dice.choice((where, where[:1], where[1:])), **({"Condition": condition} if condition else {}),
    }  # fmt: skip


ACLS = ("private", "public-read", "public-read-write", "authenticated-read")
MODES = ("BucketOwnerEnforced", "BucketOwnerPreferred", "ObjectWriter")
SAID: dict[str, dict[str, Any]] = {
    "everything": {"Principal": "*", "Action": "s3:*"},
    "reading": {"Principal": {"Federated": "*"}, "Action": "s3:GetObject"},
    "users": {"Principal": {"AWS": "arn:aws:iam::*:user/*"}, "Action": ["s3:GetObject", "s3:PutObject"]},
    "account": {"Principal": {"AWS": f"arn:aws:iam::{ACCOUNT}:root"}, "Action": "s3:*"},
    "letters": {"Principal": "*", "Action": "s3:GetObject",
                "Condition": {"NotIpAddress": {"aws:SourceIP": "127.0.0.0/8"}}},
}  # fmt: skip
"""What an Allow says in a bucket's policy, by the bucket's name."""
NOBODYS = {
    "read": "GetObject GetObjectVersion GetBucketPolicy GetBucketPolicyStatus GetBucketVersioning "
    "GetLifecycleConfiguration GetBucketNotification GetBucketRequestPayment GetBucketLocation GetObjectAttributes "
    "GetObjectTagging ListBucketMultipartUploads ListMultipartUploadParts",
    "listed": "ListBucket ListBucketVersions",
    "written": "PutObject DeleteObject DeleteObjectVersion AbortMultipartUpload PutBucketVersioning "
    "PutLifecycleConfiguration BypassGovernanceRetention",
}
"""What a word of the server's own file lets its user do: `Read`, `List` and `Write`."""


def set_up(seaweed: Seaweed) -> list[str]:
    """Buckets that are open, or look so, in every way: their names."""
    keeper, names = seaweed.client(), [f"{how}-by-nobody" for how in NOBODYS]
    for mode, acl in itertools.product(MODES, ACLS):
        name = f"{mode}-{acl}".lower()
        make(seaweed, name)
        keeper.put_bucket_ownership_controls(Bucket=name, OwnershipControls={"Rules": [{"ObjectOwnership": mode}]})
        keeper.put_bucket_acl(Bucket=name, ACL=acl)
        keeper.put_object_acl(Bucket=name, Key="k", ACL="public-read" if acl == "private" else "private")
        names.append(name)
    for name, one in SAID.items():
        make(seaweed, f"says-{name}")
        where = [f"arn:aws:s3:::says-{name}", f"arn:aws:s3:::says-{name}/*"]
        assert stored(seaweed, f"says-{name}", written({"Effect": "Allow", **one, "Resource": where}))
        names.append(f"says-{name}")
    for how in NOBODYS:
        make(seaweed, f"{how}-by-nobody")
    return names


def surveyed(
    seaweed: Seaweed, folder: Path, identities: list[dict[str, Any]] | None, *words: str, filer: bool = True
) -> dict[str, Any]:
    """The store's buckets as the installed program tells of them. `identities`: what a dossier beside it says; `filer`:
    whether estate.yaml names the filer."""
    folder.mkdir()
    beside = f"    doors: {{filer: {{at: {seaweed.filer}}}}}\n" if filer else ""
    if identities is not None:
        known = {"state": "known", "value": identities}
        dossier = {"dossier": 3, "store": "quay", "taken": "2026-11-28T00:00:00Z", "identities": known,
                   "groups": {"state": "known", "value": []}}  # fmt: skip
        (folder / "users.json").write_text(json.dumps(dossier))
        beside += "    beside: users.json\n"
    (folder / "estate.yaml").write_text(
        f"estate: Saltmarsh Trust\nstores:\n  quay:\n    reads: s3\n    at: {seaweed.address}\n"
        f"    plain-http: allowed\n    credential: {{environment: QUAY}}\n    objects: {{inspect: all}}\n{beside}"
    )
    (folder / "baseline.yaml").write_text(
        "title: t\nsheets:\n- sheet: all\n  require: {exposure.read: closed, exposure.list: closed}\n"
    )
    key = {"QUAY_ACCESS_KEY_ID": KEEPER[0], "QUAY_SECRET_ACCESS_KEY": KEEPER[1]}
    done = lantern("survey", *words, cwd=folder, **key)
    assert done.code == 0, done.err
    told = json.loads(lantern("exposure", "--json", cwd=folder).out)
    return {row["bucket"]: row["exposure"] for row in told["buckets"]}


def let_in(seaweed: Seaweed, pair: tuple[str, str] | None, bucket: str) -> set[str]:
    """The verbs of which some request passes."""
    shutting = ("s3:DeleteBucket", "s3:DeleteBucketPolicy", "s3:PutBucketPolicy")  # the others out
    asked = [action for action in ASKED if action.name not in shutting]
    return {action.verb for action in asked if ask(seaweed, pair, bucket, action)}


def attached(how: str) -> dict[str, Any]:
    """A permission of the user `anonymous`, as the policy language has it."""
    actions = [f"s3:{name}" for name in NOBODYS[how].split()]
    where = [f"arn:aws:s3:::{how}-by-nobody", f"arn:aws:s3:::{how}-by-nobody/*"]
    text = json.dumps({"Version": "2012-10-17", "Statement": {"Effect": "Allow", "Action": actions, "Resource": where}})
    return {"name": how, "text": text, "kind": "inline"}


@pytest.mark.parametrize("server", ["seaweed", "seaweed_with_nobody"])
def test_what_is_said_to_be_open_or_closed_is_so(request: pytest.FixtureRequest, tmp_path: Path, server: str) -> None:
    seaweed: Seaweed = request.getfixturevalue(server)
    names = set_up(seaweed)
    nobody = {"name": "anonymous", "groups": {"state": "known", "value": []},
              "policies": {"state": "known", "value": [attached(how) for how in NOBODYS]}}  # fmt: skip
    told = surveyed(seaweed, tmp_path / "known", [nobody] if server == "seaweed_with_nobody" else [])
    unread = surveyed(seaweed, tmp_path / "unread", None)
    outcome = Counter[str]()
    for name, (audience, pair) in itertools.product(names, (("anyone", None), ("any-account", DECK))):
        verbs = let_in(seaweed, pair, name)
        for verb in ("list", "read", "write", "delete", "change-settings", "read-settings"):
            verdict, doubtful = (rows[name][audience][verb]["verdict"] for rows in (told, unread))
            passed = verb in verbs
            outcome[verdict] += 1
            exact = server == "seaweed" or verb in ("read", "write", "delete") or not name.endswith("-by-nobody")
            as_asked = verdict == "open" if passed else verdict == "closed" or not exact
            assert as_asked, (name, audience, verb, verdict, passed)  # the words leave out what goes with an action
            assert audience != "anyone" or doubtful == "unknown" or (doubtful, passed) == ("open", True), (name, verb)
    print(dict(outcome))
    assert outcome["open"] > 20


def test_what_puts_it_right_puts_it_right_there(seaweed: Seaweed, tmp_path: Path) -> None:
    """An ACL that opens objects is replaced by the document that `remedy` writes; any page is let in all the same."""
    make(seaweed, "to-be-shut")
    seaweed.client().put_bucket_acl(Bucket="to-be-shut", ACL="public-read")
    assert seaweed.send(None, "GET", "/to-be-shut/k") == 200
    surveyed(seaweed, tmp_path / "quay", [])
    told = json.loads(lantern("remedy", "quay/to-be-shut", "--json", cwd=tmp_path / "quay").out)
    [document] = [one["text"] for row in told["remedies"] for one in row["documents"] if one["setting"] == "ACL"]
    assert seaweed.send(KEEPER, "PUT", "/to-be-shut", "acl", {}, document.encode()) == 200
    assert seaweed.send(None, "GET", "/to-be-shut/k") == 403
    facts = json.loads(lantern("show", "quay/to-be-shut", "--json", cwd=tmp_path / "quay").out)["facts"]
    shown = {one["fact"]: one["value"] for one in facts}
    assert shown["cross-origin"] == "any"
    assert shown["region"] == "default"
    told = lantern("reach", cwd=tmp_path / "quay", QUAY_ACCESS_KEY_ID=KEEPER[0], QUAY_SECRET_ACCESS_KEY=KEEPER[1]).out
    assert f"{SEAWEED_SERVER} 4.48; policies are read by dialect seaweed-4" in told


def test_a_default_encryption_without_a_key_ends_all_uploads_and_its_remedy_says_so(
    seaweed: Seaweed, tmp_path: Path
) -> None:
    make(seaweed, "to-be-encrypted")
    folder = tmp_path / "quay"
    surveyed(seaweed, folder, [], "--only", "quay/to-be-encrypted")
    required = "title: t\nsheets:\n- sheet: all\n  require: {encryption.at-rest: at least provider-managed}\n"
    (folder / "baseline.yaml").write_text(required)
    [remedy] = json.loads(lantern("remedy", "--json", cwd=folder).out)["remedies"]
    assert "without one it takes this, and then refuses every upload" in remedy["words"]
    document = remedy["documents"][0]["text"].encode()
    assert seaweed.send(KEEPER, "PUT", "/to-be-encrypted", "encryption", {}, document) == 200
    assert seaweed.send(KEEPER, "PUT", "/to-be-encrypted/new", "", {}, b"x") == 500
