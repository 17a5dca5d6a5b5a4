"""Whoever may assume a role can do what the role can: facts of an identity are its own and its roles' together."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import boto3
import msgspec
import pytest
from botocore.exceptions import ClientError
from hypothesis import given
from hypothesis import strategies as st

from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.access.reaching import PermissionGroup, merged
from rusty_lantern.core.access.solver.audience_view import Level
from rusty_lantern.core.access.solver.principal_reach import Reach
from rusty_lantern.core.answer import Answer, Fact, Partly
from rusty_lantern.core.audit.store_subject import StoreSubject, store_subjects
from rusty_lantern.core.model.identity import AttachedPolicy, Identity, Verb
from rusty_lantern.core.value_sets import NAMES as NAMES_OF
from rusty_lantern.simulator.demo import harbour as saltmarsh
from tests.conftest import lantern
from tests.gateway import empty_mock_server, send_to, standard_client
from tests.real_store import held_to

ACCOUNT, BUCKET = "400100200300", "gallery-web"
NONE: Answer[Any] = Answer("known", [])
DENIED: Answer[Any] = Answer("denied")
NOT_TOLD: Answer[Any] = Answer("unsupported")
ACTIONS = {"read": "s3:GetObject", "write": "s3:PutObject", "delete": "s3:DeleteObject"}


def may(*verbs: str) -> Answer[list[AttachedPolicy]]:
    """Own permissions on everything."""
    said = {"Effect": "Allow", "Action": [ACTIONS[verb] for verb in verbs], "Resource": "*"}
    text = json.dumps({"Version": "2012-10-17", "Statement": [said] if verbs else []})
    return Answer("known", [AttachedPolicy("own", text)])


def user(name: str, *verbs: str, **more: Any) -> Identity:
    resource = f"arn:aws:iam::{ACCOUNT}:user/{name}"
    told: dict[str, Any] = {"kind": "service", "assumes": NONE, "groups": NONE, **more}
    return Identity(name=name, resource=resource, policies=may(*verbs), **told)


def role(name: str, *verbs: str, **more: Any) -> Identity:
    resource, by = f"arn:aws:iam::{ACCOUNT}:role/{name}", Answer("known", "own-account")
    return Identity(
        name=name, resource=resource, kind="role", policies=may(*verbs),
        **{"assumes": NONE, "groups": NONE, "assumable_by": by, **more},
    )  # fmt: skip


def assuming(*roles: str) -> Answer[list[str]]:
    return Answer("known", list(roles))


def store_of(*identities: Identity) -> StoreSubject:
    """A store of these identities, and of one bucket whose rules name its owner alone."""
    dossier = saltmarsh.harbour().dossier
    none: Answer[Any] = Answer("absent")
    closed = {"policy": none, "public_access_guards": none, "access_points": none, "acl": NONE, "object_acls": none}
    bucket = next(one for one in dossier.buckets if one.name == BUCKET)
    made = msgspec.structs.replace(
        dossier, buckets=[msgspec.structs.replace(bucket, **closed)], identities=Answer("known", list(identities)),
        listing=Answer("known", 1), groups=NONE, credentials=NONE, public_access_guards=none,
    )  # fmt: skip
    (store,) = store_subjects([made], None, saltmarsh.MOMENT)
    return store


def told(fact: Fact) -> tuple[set[str], str]:
    """The verbs that are certain, and why there may be more."""
    certain = fact.certain if isinstance(fact, Partly) else fact.value
    return set(str(certain or "").split()), fact.reason


def every_fact(store: StoreSubject, name: str) -> tuple[set[str], str]:
    """What the facts say that an identity can do: all three that do must say the same."""
    identity = store.index.identities_by_name[name]
    view = store.buckets[BUCKET]
    sure, why = told(view.fact(f"access.{name}"))
    across, why_not_all = told(store.of_identity(identity))
    assert (across, bool(why_not_all)) == (sure, bool(why))
    assert set(store.across.least(identity).split()) == sure
    for verb, fact in view.principals.items():
        names = fact.certain if isinstance(fact, Partly) else fact.value
        assert (name in NAMES_OF.members(str(names or ""))) is (verb in sure)
    assert not why or any(not fact.settled for fact in view.principals.values())
    return sure, why


WRITER, READER = role("writer", "write"), role("reader", "read")
BETWEEN = role("between", assumes=assuming("writer"))


@pytest.mark.parametrize(
    ("clerk", "roles", "can", "why"),
    [
        ({}, [WRITER], {"read"}, ""),
        ({"assumes": assuming("writer")}, [WRITER], {"read", "write"}, ""),
        ({"assumes": assuming("reader")}, [READER, WRITER], {"read"}, ""),
        ({"assumes": assuming("between")}, [BETWEEN, WRITER], {"read", "write"}, ""),  # by way of another
        ({"perhaps_assumes": ["writer"]}, [WRITER], {"read"}, "whether it may assume writer is not worked out"),
        ({"perhaps_assumes": ["reader"]}, [READER], {"read"}, ""),  # it reads anyway
        ({"perhaps_assumes": ["between"]}, [BETWEEN, WRITER], {"read"},
         "whether it may assume writer is not worked out"),
        ({"assumes": DENIED}, [WRITER], {"read"}, "which roles it may assume: denied to this credential"),
        ({"assumes": assuming("between")}, [role("between", assumes=DENIED), WRITER], {"read"},
         "which roles it may assume: denied to this credential"),
        ({"assumes": assuming("gone")}, [WRITER], {"read"}, "which roles it may assume: gone is not listed"),
        ({"assumes": NOT_TOLD}, [WRITER], {"read"}, "whether it may assume writer is not worked out"),
        ({"assumes": NOT_TOLD}, [role("writer", "write", assumable_by=Answer("known", "services"))], {"read"}, ""),
        ({"assumes": NOT_TOLD}, [role("writer", "write", assumable_by=DENIED)], {"read"},
         "who may assume writer: denied to this credential"),
        ({"assumes": NOT_TOLD, "kind": "root"}, [WRITER], set(VERBS), ""),  # it needs no role
    ],
)  # fmt: skip
def test_an_identity_can_do_what_its_roles_can(
    clerk: dict[str, Any], roles: list[Identity], can: set[str], why: str
) -> None:
    assert every_fact(store_of(user("clerk", "read", **clerk), *roles), "clerk") == (can, why)


def test_callers_from_outside_go_on_from_role_to_role() -> None:
    way_in = role("between", assumes=assuming("writer"), assumable_by=Answer("known", "other-accounts"))
    assert told(store_of(way_in, WRITER).buckets[BUCKET].fact("access.through-roles")) == ({"write"}, "")
    assert told(store_of(BETWEEN, WRITER).buckets[BUCKET].fact("access.through-roles")) == (set(), "")


POWER: Answer[list[str]] = Answer("known", ["iam:PutRolePolicy"])
BOSS = role("boss", administers=POWER)


@pytest.mark.parametrize(
    ("clerk", "roles", "value", "why"),
    [
        ({"assumes": assuming("boss")}, [BOSS], "iam:PutRolePolicy as boss", ""),
        ({"assumes": assuming("between")}, [role("between", assumes=assuming("boss")), BOSS],
         "iam:PutRolePolicy as boss", ""),
        ({"assumes": assuming("boss"), "administers": POWER}, [BOSS], "iam:PutRolePolicy", ""),
        ({"assumes": assuming("boss"), "administers": DENIED}, [BOSS], "iam:PutRolePolicy as boss", ""),
        ({"assumes": assuming("reader")}, [BOSS, READER], None, ""),
        ({"perhaps_assumes": ["boss"]}, [BOSS], None, "whether it may assume boss is not worked out"),
        ({"perhaps_assumes": ["reader"]}, [BOSS, READER], None, ""),
        ({"assumes": DENIED}, [BOSS], None, "which roles it may assume: denied to this credential"),
        ({"assumes": assuming("boss")}, [role("boss", administers=DENIED)], None, "boss: denied to this credential"),
        ({"administers": DENIED}, [BOSS], None, "denied to this credential"),
    ],
)  # fmt: skip
def test_whoever_may_become_an_administrator_is_one(
    clerk: dict[str, Any], roles: list[Identity], value: str | None, why: str
) -> None:
    none: Answer[Any] = Answer("absent")
    made = [
        msgspec.structs.replace(one, administers=none) if one.administers.state == "unsupported" else one
        for one in (user("clerk", **clerk), *roles)
    ]
    (fact,) = (
        subject.fact("identity.administers") for subject in store_of(*made).subjects() if subject.label == "clerk"
    )
    assert (fact.value, fact.reason, fact.settled) == (value, why, not why)


NAMES = ("ann", "ben", "cor", "dot")
EDGES = st.dictionaries(st.sampled_from(NAMES), st.sets(st.sampled_from(NAMES)))
OWN = st.fixed_dictionaries({name: st.sets(st.sampled_from(sorted(ACTIONS))) for name in NAMES})


def closure(name: str, edges: Mapping[str, set[str]]) -> set[str]:
    """Everybody who is reached from a name, by hand: as many steps as there are names."""
    reached = {name}
    for _ in NAMES:
        reached |= {other for one in reached for other in edges.get(one, ())}
    return reached


@given(EDGES, EDGES, OWN)
def test_whoever_is_reached_lends_what_it_can(
    sure: dict[str, set[str]], perhaps: dict[str, set[str]], own: dict[str, set[str]]
) -> None:
    roles = [
        role(n, *own[n], assumes=assuming(*sure.get(n, ())), perhaps_assumes=sorted(perhaps.get(n, ()))) for n in NAMES
    ]
    store = store_of(*roles)
    either = {name: sure.get(name, set()) | perhaps.get(name, set()) for name in NAMES}
    for name in NAMES:
        certain = {verb for one in closure(name, sure) for verb in own[one]}
        possible = {verb for one in closure(name, either) for verb in own[one]}
        can, why = every_fact(store, name)
        assert (can, bool(why)) == (certain, possible > certain)


@contextmanager
def permissions_held_to(address: str) -> Iterator[None]:
    """The mock server refuses what permissions do not allow; else it lets everything through."""
    switch = {"Content-Type": "text/plain"}
    assert send_to(address, None, "POST", "/moto-api/reset-auth", headers=switch, body=b"0")[0] == 200
    try:
        yield
    finally:
        assert send_to(address, None, "POST", "/moto-api/reset-auth", headers=switch, body=b"inf")[0] == 200


def passes(ask: Any) -> bool:
    try:
        ask()
    except ClientError as error:
        assert error.response["Error"]["Code"] == "AccessDenied"
        return False
    return True


def by_request(address: str, account: str, key: tuple[str, str]) -> set[str]:
    """What the server itself lets a user do, as it is and as whatever role it lets it assume."""
    place = {"endpoint_url": address, "region_name": "us-east-1"}
    mine = {"aws_access_key_id": key[0], "aws_secret_access_key": key[1]}
    sessions, service = [boto3.client("s3", **mine, **place)], boto3.client("sts", **mine, **place)
    for name in ("keeper", "scribe"):
        with_role = {"RoleArn": f"arn:aws:iam::{account}:role/{name}", "RoleSessionName": "monday"}
        if passes(lambda asked=with_role: service.assume_role(**asked)):
            given = service.assume_role(**with_role)["Credentials"]
            sessions.append(boto3.client(
                "s3", aws_access_key_id=given["AccessKeyId"], aws_secret_access_key=given["SecretAccessKey"],
                aws_session_token=given["SessionToken"], **place,
            ))  # fmt: skip
    asked = {
        "read": lambda s3: s3.get_object(Bucket="tide-logs", Key="page"),
        "write": lambda s3: s3.put_object(Bucket="tide-logs", Key="new", Body=b""),
    }
    return {verb for verb, ask in asked.items() if any(passes(lambda s3=s3, ask=ask: ask(s3)) for s3 in sessions)}


def test_the_mock_server_lets_each_user_do_by_roles_what_is_said(tmp_path: Path) -> None:
    """Users and roles by the standard client; requests by it, with the roles' sessions that the server gives it."""
    keys: dict[str, tuple[str, str]] = {}
    with empty_mock_server() as address:
        client = standard_client(address, "mock-key", "mock-secret")
        client.create_bucket(Bucket="tide-logs")
        client.put_object(Bucket="tide-logs", Key="page", Body=b"x")
        iam = standard_client(address, "mock-key", "mock-secret", service="iam")
        account = iam.create_user(UserName="nobody")["User"]["Arn"].split(":")[4]
        assume = {"Effect": "Allow", "Action": "sts:AssumeRole", "Resource": "*"}
        own = {"clerk": [assume], "guest": [assume], "idler": []}
        for name, statements in own.items():
            iam.create_user(UserName=name)
            made = iam.create_access_key(UserName=name)["AccessKey"]
            keys[name] = made["AccessKeyId"], made["SecretAccessKey"]
            reads = {"Effect": "Allow", "Action": "s3:GetObject", "Resource": "*"}
            text = json.dumps({"Version": "2012-10-17", "Statement": [*statements, reads]})
            iam.put_user_policy(UserName=name, PolicyName="own", PolicyDocument=text)
        for name, trusted, verb in (("keeper", "clerk", "write"), ("scribe", "idler", "read")):
            who = {"AWS": f"arn:aws:iam::{account}:user/{trusted}"}
            trust = {"Effect": "Allow", "Principal": who, "Action": "sts:AssumeRole"}
            iam.create_role(
                RoleName=name, AssumeRolePolicyDocument=json.dumps({"Version": "2012-10-17", "Statement": [trust]})
            )
            iam.put_role_policy(RoleName=name, PolicyName="own", PolicyDocument=(may(verb).value or [])[0].text)
        sheet = "{sheet: all, of: {name: tide-logs}, require: {principals.write: 'within [role keeper, account root]'}}"
        rows = held_to(tmp_path, address, sheet)
        with permissions_held_to(address):
            real = {name: by_request(address, account, key) for name, key in keys.items()}
    assert real == {"clerk": {"read", "write"}, "guest": {"read"}, "idler": {"read"}}
    who_can = {row["verb"]: row["names"] for row in json.loads(lantern("access", "real/tide-logs", "--json",
                                                                      cwd=tmp_path).out)["who_can"]}  # fmt: skip
    for verb in ("read", "write"):
        assert {name for name in keys if name in who_can[verb]} == {name for name in keys if verb in real[name]}
    assert rows["tide-logs", "drift"]["observed"] == "clerk (and 2 as required)"
    ran = lantern("why", "real/tide-logs", "--as", "clerk", "--verb", "write", cwd=tmp_path)
    assert "refused: nothing allows it" in ran.out
    assert "allowed as role keeper, which the caller may assume" in ran.out
    shown = lantern("why", "real/tide-logs", "--as", "guest", "--verb", "write", cwd=tmp_path).out
    assert "refused" in shown and "as role" not in shown
    assert set(VERBS) == set(who_can)


GROUPS = st.lists(
    st.tuples(
        st.dictionaries(st.sampled_from(VERBS[:3]), st.sampled_from(("open", "restricted", "unknown")), min_size=1),
        st.sets(st.sampled_from(("one", "two", "three")), min_size=1),
    ),
    max_size=8,
)


@given(GROUPS)
def test_permissions_that_are_made_one_by_one_are_merged_bucket_by_bucket(
    written: list[tuple[dict[Verb, Level], set[str]]],
) -> None:
    """By hand: of each verb the widest of all groups that have the bucket. Nothing but the merger keeps the groups."""
    made = (PermissionGroup({v: Reach(level) for v, level in r.items()}, tuple(sorted(on))) for r, on in written)
    told = {name: {verb: reach.level for verb, reach in one.items()} for name, one in merged(made).items()}
    order = ("open", "restricted", "unknown")
    by_hand: dict[str, dict[Verb, Level]] = {}
    for reaches, buckets in written:
        for bucket in buckets:
            for verb, level in reaches.items():
                before = by_hand.setdefault(bucket, {}).get(verb, level)
                by_hand[bucket][verb] = min(before, level, key=order.index)
    assert told == by_hand
