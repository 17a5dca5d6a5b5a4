"""What a cache says equals what is decided without it: verdicts, demands, permissions, the cascade of a baseline."""

from __future__ import annotations

import asyncio
import json
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import msgspec
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from rusty_lantern.archive.workspace import Workspace
from rusty_lantern.core.access.dialects.shipped import COMMON, GATEWAY
from rusty_lantern.core.access.effective_permissions import EffectivePermissions
from rusty_lantern.core.access.evaluator.evaluate import decide, unlike
from rusty_lantern.core.access.evaluator.request import ANONYMOUS, Request
from rusty_lantern.core.access.policy.actions import ACTIONS as PUBLISHED
from rusty_lantern.core.access.policy.actions import VERBS, actions_of
from rusty_lantern.core.access.policy.document import parse_policy
from rusty_lantern.core.access.policy.principals import user_named
from rusty_lantern.core.access.rules.bucket_rules import EvaluationContext, Rules, rules_of
from rusty_lantern.core.access.solver.exposure import exposures
from rusty_lantern.core.access.solver.mandatory_conditions import MandatoryConditions
from rusty_lantern.core.access.solver.verdict_cache import VerdictCache
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.audit.store_subject import store_subjects
from rusty_lantern.core.baseline.evaluation import Cascade, required_of
from rusty_lantern.core.baseline.loader import read_baseline
from rusty_lantern.core.model.acl import Grant, ObjectAcls, ObjectGrant, Right
from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.core.model.capabilities import S3
from rusty_lantern.core.model.dossier import Dossier, encode
from rusty_lantern.core.model.guards import Guards
from rusty_lantern.core.model.identity import AttachedPolicy, Group, Identity
from rusty_lantern.survey.run import SurveyPlan, read_all
from tests.conftest import Whole, whole_or
from tests.policies import AROUND
from tests.subjects import Said

LAW = settings(deadline=None, suppress_health_check=list(HealthCheck), max_examples=whole_or(60, 150))
NAMES = ("reed", "reed-bed", "bed", "pier-1", "pier-2")
PARTS = (
    "reed", "reed-bed", "bed", "pier-1", "pier-*", "pier-?", "re*", "*", "?", "/", ":", ":::", "a", "arn:aws:s3:::",
    "arn:aws-cn:s3:::", "arn:aws:s3", "${aws:username}", "${*}", "$", "é", " ", '"', "\\", "{}", "somebody else",
)  # fmt: skip
"""Pieces of resource names, with every sign that one may hold."""
resources = st.one_of(
    st.builds(
        lambda head, name, tail: f"{head}{name}{tail}",
        st.sampled_from(["arn:aws:s3:::", "arn:aws:s3:::", "arn:aws-cn:s3:::", "*:::", "*"]),
        st.sampled_from(PARTS),
        st.sampled_from(["", "/*", "/a:::*", "/arn:aws:s3:::reed/*", "/x", "*", "/*:::pier-2/*"]),
    ),
    st.lists(st.sampled_from(PARTS), min_size=1, max_size=5).map("".join),
)
WHOS = ("*", {"AWS": "keeper"}, {"AWS": "arn:aws:iam::400100200300:user/reader"}, {"CanonicalUser": "clerk"},
        {"AWS": "400100200300"}, {"AWS": "arn:aws:iam::777777777777:root"})  # fmt: skip
ACTIONS = ("s3:GetObject", "s3:ListBucket", "s3:PutObject", "s3:*")


@st.composite
def statements(draw: st.DrawFn, *, attached: bool = False) -> dict[str, Any]:
    made: dict[str, Any] = {"Effect": draw(st.sampled_from(["Allow", "Allow", "Deny"]))}
    if not attached:
        made[draw(st.sampled_from(["Principal"] * 5 + ["NotPrincipal"]))] = draw(st.sampled_from(WHOS))
    made["Action"] = draw(st.sampled_from(ACTIONS))
    made[draw(st.sampled_from(["Resource"] * 5 + ["NotResource"]))] = draw(st.lists(resources, min_size=1, max_size=2))
    if draw(st.integers(0, 3)) == 0:
        made["Condition"] = {"ArnLike": {"aws:SourceArn": draw(resources)}}
    return made


def document(found: list[dict[str, Any]]) -> str:
    return json.dumps({"Version": "2012-10-17", "Statement": found})


policies = st.lists(statements(), min_size=1, max_size=3).map(document)


def test_a_key_that_holds_a_resource_name_is_still_a_key() -> None:
    policy = document([{"Effect": "Allow", "Principal": "*", "Action": "s3:GetObject",
                        "Resource": "arn:aws:s3:::reed/a:::*"}])  # fmt: skip
    rules = Rules("reed", parse_policy(policy))
    assert VerdictCache().of(rules, AROUND).exposures("reed")["anyone", "read"].level == "open"
    assert exposures(rules, AROUND)["anyone", "read"].level == "open"


@LAW
@given(st.lists(policies, min_size=1, max_size=2))
def test_a_kept_verdict_is_the_verdict(written: list[str]) -> None:
    shapes = VerdictCache()
    for policy in written:
        for name in NAMES:
            for text in (policy, policy.replace("reed", name)):
                rules = Rules(name, parse_policy(text))
                kept, alone = shapes.of(rules, AROUND).exposures(name), exposures(rules, AROUND)
                for who, verdict in alone.items():
                    assert (kept[who].level, kept[who].because, kept[who].doubts) == (
                        verdict.level, verdict.because, verdict.doubts
                    ), (name, who, text)  # fmt: skip
                    assert (kept[who].witness is None) == (verdict.witness is None)
                for demand in ("encryption", "transport"):
                    assert shapes.of(rules, AROUND).demanded(demand) == MandatoryConditions(rules, AROUND).answer(
                        demand
                    )


@LAW
@given(st.lists(policies, min_size=1, max_size=2))
def test_buckets_that_are_set_up_alike_are_decided_as_each_alone(written: list[str]) -> None:
    """Each name in each text, and texts that name each its own bucket, which are those that share a key."""
    texts = {text: None for policy in written for text in (policy, *(policy.replace("reed", name) for name in NAMES))}
    for text in texts:
        dossier = store([bucket(name, text.replace("reed", name), [], []) for name in NAMES], [], [])
        [together] = store_subjects([dossier], None, AROUND.moment)
        for one in together.buckets.values():
            alone = msgspec.structs.replace(one, context=None)
            assert one.levels == alone.levels, (one.name, one.bucket.policy.value)
            assert dict(one.exposures) == dict(alone.exposures)
            assert one.fact("policy.portable") == alone.fact("policy.portable")
            assert {who: v.witness and v.witness.bucket for who, v in one.verdicts.items()} == {
                who: v.witness and v.witness.bucket for who, v in alone.verdicts.items()
            }


def test_buckets_that_are_set_up_alike_are_decided_once() -> None:
    """Else the law above holds of nothing."""
    own = document([{"Effect": "Allow", "Principal": "*", "Action": "s3:GetObject", "Resource": "arn:aws:s3:::N/*"}])
    dossier = store([bucket(name, own.replace("N", name), [], []) for name in NAMES], [], [])
    [together] = store_subjects([dossier], None, AROUND.moment)
    assert len({id(one.decided) for one in together.buckets.values()}) == 1
    named = own[:-2] + ', "Condition": {"ArnLike": {"aws:SourceArn": "arn:aws:s3:::N"}}}]}'
    dossier = store([bucket(name, named.replace("N", name), [], []) for name in NAMES], [], [])
    [apart] = store_subjects([dossier], None, AROUND.moment)
    assert len({id(one.decided) for one in apart.buckets.values()}) == len(NAMES)


WILD = ("s3:*", "s3:Get*", "s3:GetObject", "s3:*Acl", "s3:PutObject*", "s3:*Version*", "s3:List*", "*")
ACL = tuple(Grant("anyone", permission) for permission in ("read", "write", "read-acp", "write-acp"))


@st.composite
def pairs(draw: st.DrawFn) -> tuple[str, str]:
    """Two actions of one verb."""
    found = st.sampled_from([action.name for action in actions_of(draw(st.sampled_from(VERBS)))])
    return draw(found), draw(found)


@LAW
@given(
    st.lists(statements(), max_size=3),
    st.lists(st.sampled_from(WILD), min_size=3, max_size=3),
    st.lists(st.sampled_from(ACL), max_size=2),
    pairs(),
)
def test_actions_that_no_rule_tells_from_one_another_are_decided_alike(
    found: list[dict[str, Any]], acted: list[str], acl: list[Grant], pair: tuple[str, str]
) -> None:
    written = [statement | {"Action": action} for statement, action in zip(found, acted, strict=False)]
    rules = Rules("reed", parse_policy(document(written)), acl=tuple(acl))
    alike = len(unlike(rules, pair)) == 1
    one, other = (
        decide(rules, Request(action, "a" if PUBLISHED[action].target == "object" else "", ANONYMOUS, {}))
        for action in pair
    )
    assert not alike or (one.allowed, one.by) == (other.allowed, other.by)
    assert unlike(rules, pair)[0] == pair[0]


def test_some_actions_are_alike_and_some_are_not() -> None:
    """Else the law above holds of nothing."""
    rules = Rules("reed", parse_policy(document([])))
    of_settings = [action.name for action in actions_of("change-settings")]
    assert 1 < len(unlike(rules, of_settings)) < len(of_settings) / 2


no: Answer[Any] = Answer("unsupported")


def store(buckets: list[Bucket], identities: list[Identity], groups: list[Group]) -> Dossier:
    return Dossier(
        store="s", taken=AROUND.moment, listing=Answer("known", len(buckets)), account=Answer("known", "400100200300"),
        public_access_guards=Answer("known", Guards()), network=Answer("absent"), buckets=buckets,
        identities=Answer("known", identities), groups=Answer("known", groups), credentials=Answer("known", []),
        encryption_keys=Answer("absent"), links=Answer("absent"),
    )  # fmt: skip


def bucket(name: str, policy: str, acl: list[Grant], rights: list[Right]) -> Bucket:
    fields = S3.of_bucket() | {"rights": Answer("known", rights)}
    return Bucket(
        name=name, policy=Answer("known", policy), acl=Answer("known", acl), public_access_guards=Answer("known",
        Guards()),
        ownership=Answer("known", "object-writer"), object_acls=Answer("known", ObjectAcls()), **fields,
    )  # fmt: skip


identities = st.sampled_from(
    [
        ("keeper", ""),
        ("reader", "arn:aws:iam::400100200300:user/reader"),
        ("clerk", ""),
        ("guest", "arn:aws:iam::777777777777:user/guest"),
    ]
)
permissions = st.lists(statements(attached=True), max_size=2).map(
    lambda found: [AttachedPolicy("own", document(found))] if found else []
)
acl = st.lists(
    st.builds(
        Grant, st.just("named"), st.sampled_from(["read", "write"]), st.sampled_from(["keeper", "clerk", "readers"])
    ),
    max_size=1,
)
rights = st.lists(
    st.builds(
        Right, st.sampled_from(["named", "group"]), st.just(["list", "read"]), st.just(""),
        st.sampled_from(["keeper", "readers", "clerk"]),
    ),
    max_size=1,
)  # fmt: skip


@LAW
@given(
    st.lists(policies, min_size=1, max_size=2),
    st.lists(st.tuples(identities, permissions, st.booleans()), min_size=1, max_size=3, unique_by=lambda one: one[0]),
    acl,
    rights,
)
def test_permissions_told_together_are_those_of_each_identity_on_each_bucket(
    written: list[str],
    people: list[tuple[tuple[str, str], list[AttachedPolicy], bool]],
    granted: list[Grant],
    permitted: list[Right],
) -> None:
    found = [
        Identity(name=name, resource=resource, kind="person", policies=Answer("known", own),
               groups=Answer("known", ["readers"] if member else []))
        for (name, resource), own, member in people
    ]  # fmt: skip
    group = Group(
        name="readers",
        members=[name for (name, _), _, member in people if member],
        policies=Answer("known", people[0][1]),
    )
    texts = [written[number % len(written)] for number in range(len(NAMES))]
    buckets = [
        bucket(name, text.replace("reed", name) if number % 2 else text, granted, permitted)
        for number, (name, text) in enumerate(zip(NAMES, texts, strict=True))
    ]
    across: EffectivePermissions = store_subjects([store(buckets, found, [group])], None, AROUND.moment)[0].across
    for identity in found:
        together = {
            (name, verb): one.level
            for permitted_ in across.of(identity)
            for name in permitted_.buckets
            for verb, one in permitted_.reach.items()
        }
        alone = {(name, verb): one.level for name in NAMES for verb, one in across.on(identity, name).items()}
        by_bucket = {
            (name, verb): one.level
            for name in NAMES for who, reach in across.reaching.on(name) if who is identity
            for verb, one in reach.items()
        }  # fmt: skip
        assert together == alone == by_bucket, identity


OWN = [
    [{"Effect": effect, "Action": action, "Resource": resource}]
    for effect in ("Allow", "Deny")
    for action in ("s3:*", "s3:ListBucket")
    for resource in ("*", "arn:aws:s3:::reed*", "arn:aws:s3:::*/k")
]


@settings(deadline=None, max_examples=whole_or(80, 200))
@given(
    st.lists(st.sampled_from([[], *OWN]), min_size=2, max_size=4),
    st.lists(st.tuples(st.integers(0, 3), st.booleans()), min_size=len(NAMES), max_size=len(NAMES)),
)
def test_whom_a_bucket_lets_in_is_decided_by_what_is_refused_to_each(
    own: list[list[dict[str, str]]], named: list[tuple[int, bool]]
) -> None:
    """Buckets that are alike but for whom they name, and identities that are alike but for what refuses them."""
    who = [f"arn:aws:iam::400100200300:user/p{number}" for number in range(len(own))]
    buckets = []
    for name, (number, by_policy) in zip(NAMES, named, strict=True):
        to = {"AWS": who[number % len(who)]}
        let_in = {"Effect": "Allow", "Principal": to, "Action": "s3:ListBucket", "Resource": f"arn:aws:s3:::{name}"}
        acl = [] if by_policy else [Grant("named", "read", f"p{number % len(who)}")]
        buckets.append(bucket(name, document([let_in] if by_policy else []), acl, []))
    people = [
        Identity(name=f"p{number}", resource=who[number], groups=Answer("absent"),
                 policies=Answer("known", [AttachedPolicy("own", document(said))] if said else []))
        for number, said in enumerate(own)
    ]  # fmt: skip
    across = store_subjects([store(buckets, people, [])], None, AROUND.moment)[0].across
    for one in people:
        together = {name: group.reach for group in across.of(one) for name in group.buckets}
        for name in NAMES:
            alone = {verb: reach.level for verb, reach in across.on(one, name).items()}
            assert {verb: reach.level for verb, reach in together.get(name, {}).items()} == alone, (one.name, name)


USERS = ("deck", "tern", "fen$warden", "fen$wader")
TENANTS = {"reed": "", "bed": "", "reed-bed": "", "fen:reed": "fen", "fen:bed": "fen"}
"""A gateway's bucket → its tenant."""
some_actions = st.sampled_from(["s3:*", "s3:GetObject", "s3:ListBucket"])
own_statement = st.builds(
    lambda effect, action, element, resource: {"Effect": effect, "Action": action, element: resource},
    st.sampled_from(["Allow", "Deny"]), some_actions, st.sampled_from(["Resource", "NotResource"]),
    st.sampled_from(["*", "arn:aws:s3:::reed*", "arn:aws:s3:::reed/*", "arn:aws:s3:::bed", "arn:aws:s3::fen:reed/*",
                     "arn:aws:s3:::*ed/*", "arn:aws:s3:::*ed*"]),
)  # fmt: skip
let_in = st.builds(
    lambda effect, element, user, action: {"Effect": effect, element: {"AWS": user_named(user).name}, "Action": action},
    st.sampled_from(["Allow", "Deny"]), st.sampled_from(["Principal", "NotPrincipal"]), st.sampled_from(USERS),
    some_actions,
)  # fmt: skip
on_objects = st.builds(
    ObjectGrant, st.just("named"), st.sampled_from(["read", "full-control"]), st.sampled_from(["k", "m"]),
    st.sampled_from(USERS), st.booleans(),
)  # fmt: skip
nobody: tuple[list[Any], list[Any], bool] = ([], [], True)
inside = st.just(nobody) | st.tuples(st.lists(let_in, max_size=2), st.lists(on_objects, max_size=2), st.booleans())


@LAW
@given(
    st.tuples(*[st.none() | st.lists(own_statement, max_size=2)] * len(USERS)),
    st.tuples(*[inside] * len(TENANTS)),
)
def test_permissions_of_a_gateways_users_told_together_are_those_of_each_on_each_bucket(
    own: tuple[list[dict[str, str]] | None, ...],
    rules: tuple[tuple[list[dict[str, Any]], list[ObjectGrant], bool], ...],
) -> None:
    denied: Answer[Any] = Answer("denied")
    people = [
        Identity(name=user, resource=user_named(user).name, groups=Answer("absent"), aliases=[user],
                 policies=denied if said is None else Answer("known", [AttachedPolicy("own", document(said))]))
        for user, said in zip(USERS, own, strict=True)
    ]  # fmt: skip
    deck = people[0]
    people += [
        msgspec.structs.replace(deck, name=f"deck:{level}", resource=f"{deck.resource}:{level}", acl_level=level,
                                aliases=["deck", deck.resource])
        for level in ("", "read", "write")
    ]  # fmt: skip
    none: Answer[Any] = Answer("known", [])  # users of a Keystone act as `deck` where ACLs name it, and no policy can
    people += [Identity(name=name, groups=Answer("absent"), policies=none, aliases=["deck"]) for name in ("ann", "ben")]
    buckets = []
    for (name, tenant), (written, grants, whole) in zip(TENANTS.items(), rules, strict=True):
        plain = name.rpartition(":")[2]
        said = [one | {"Resource": [f"arn:aws:s3:::{plain}", f"arn:aws:s3:::{plain}/*"]} for one in written]
        made = bucket(name, document(said), [Grant("named", "full-control", "keeper")], [])
        of_objects = ObjectAcls(grants, complete=True, names_complete=whole)
        told = Answer("known", tenant) if tenant else Answer("absent")
        buckets.append(msgspec.structs.replace(made, object_acls=Answer("known", of_objects), tenant=told))
    dossier = msgspec.structs.replace(store(buckets, people, []), dialect=GATEWAY, acl_reading="gateway")
    across = store_subjects([dossier], None, AROUND.moment)[0].across
    for one in people:
        together = {name: group.reach for group in across.of(one) for name in group.buckets}
        for name in TENANTS:
            alone = {verb: reach.level for verb, reach in across.on(one, name).items()}
            assert {verb: reach.level for verb, reach in together.get(name, {}).items()} == alone, (one.name, name)


def test_a_star_within_buckets_names_that_ends_early_is_of_one_bucket_and_not_of_another() -> None:
    own = document([{"Effect": "Allow", "Action": "s3:GetObject", "Resource": "arn:aws:s3:::*ed/*"}])
    policies = Answer("known", [AttachedPolicy("own", own)])
    deck = Identity(name="deck", groups=Answer("absent"), policies=policies, state=Answer("known", "enabled"))
    alike = [bucket(name, document([]), [], []) for name in ("bed", "reed")]
    dossier = store([msgspec.structs.replace(one, tenant=Answer("absent")) for one in alike], [deck], [])
    for dialect, buckets in ((COMMON, ("bed", "reed")), (GATEWAY, ("bed",))):
        subject, *_ = store_subjects([msgspec.structs.replace(dossier, dialect=dialect)], None, AROUND.moment)
        reading = [group.buckets for group in subject.across.of(deck) if group.reach["read"].level == "open"]
        assert reading == [buckets]


def test_a_tenant_that_a_policy_names_is_let_in_whether_or_not_the_stores_account_was_read() -> None:
    """A tenant is no account whose own permissions would be needed besides (tried: `tests/test_gateway_tenants.py`)."""
    warden = Identity(name="fen$warden", resource=user_named("fen$warden").name, groups=Answer("absent"),
                      policies=Answer("known", []), state=Answer("known", "enabled"))  # fmt: skip
    named = {"Effect": "Allow", "Principal": {"AWS": "arn:aws:iam::fen:root"}, "Action": "s3:GetObject",
             "Resource": "arn:aws:s3:::reed/*"}  # fmt: skip
    open_to_it = msgspec.structs.replace(bucket("reed", document([named]), [], []), tenant=Answer("absent"))
    dossier = msgspec.structs.replace(store([open_to_it], [warden], []), dialect=GATEWAY, acl_reading="gateway")
    for account in (Answer("known", "keeper"), Answer[str]("denied")):
        subject, *_ = store_subjects([msgspec.structs.replace(dossier, account=account)], None, AROUND.moment)
        assert subject.across.on(warden, "reed")["read"].level == "open"


def test_two_keys_that_go_by_one_name_each_have_their_own_permissions() -> None:
    """What a key stands for is called by its owner and the first letters of its id."""
    read = document([{"Effect": "Allow", "Action": "s3:GetObject", "Resource": "*"}])
    keys = [Identity(name="S3 key b10b… of yard-pilot", groups=Answer("absent"), policies=Answer("known", own))
            for own in ([], [AttachedPolicy("own", read)])]  # fmt: skip
    [one] = store_subjects([store([bucket("reed", document([]), [], [])], [], [])], None, AROUND.moment)
    assert [[list(group.reach) for group in one.across.of(key)] for key in keys] == [[], [["read"]]]
    assert [one.of_identity(key).value for key in keys] == ["", "read"]


KEEPER = "arn:aws:iam::400100200300:user/keeper"
ONE_FOR_BOTH = document(
    [{"Effect": "Allow", "Principal": {"AWS": KEEPER}, "Action": "s3:PutObject", "Resource": "arn:aws:s3:::pier-*/*"}]
)


@pytest.mark.parametrize("policy", [ONE_FOR_BOTH, ONE_FOR_BOTH.replace("keeper", "ke\\u0065per")])
def test_two_buckets_with_the_same_text_are_decided_each(policy: str) -> None:
    """A pattern that reaches both gives each its own verdict, whichever is asked first."""
    keeper = Identity(name="keeper", resource=KEEPER, policies=Answer("known", []), groups=Answer("known", []))
    dossier = store([bucket(name, policy, [], []) for name in ("mole", "pier-1", "pier-2")], [keeper], [])
    found = store_subjects([dossier], None, AROUND.moment)[0].across.of(keeper)
    assert [name for one in found if "write" in one.reach for name in one.buckets] == ["pier-1", "pier-2"]


sheet_texts = st.lists(
    st.tuples(
        st.sampled_from(["", "of: {name: 'r*'}", "of: {tags.class: a}", "of: {store: s}", "of: {not: {name: reed}}"]),
        st.sampled_from(
            ["{versioning: on}", "{versioning: on or absent}", "{lock.enabled: on, versioning: on}",
             "{credential.state: active}", "{versioning: null}"]
        ),
    ),
    min_size=1,
    max_size=4,
)  # fmt: skip
tags: st.SearchStrategy[Answer[dict[str, str]]] = st.sampled_from(
    [Answer("absent"), Answer("known", {"class": "a"}), Answer("known", {"class": "b"}), Answer("denied")]
)


@LAW
@given(sheet_texts, st.lists(st.tuples(st.sampled_from(NAMES), tags, st.sampled_from(["bucket", "credential"]))))
def test_a_cascade_worked_out_once_is_the_cascade_of_each_subject(
    written: list[tuple[str, str]], subjects: list[tuple[str, Answer[dict[str, str]], str]]
) -> None:
    text = "title: t\nsheets:\n" + "".join(
        f"  - sheet: s{n}\n" + (f"    {of}\n" if of else "") + f"    require: {require}\n"
        for n, (of, require) in enumerate(written)
        if require != "{versioning: null}"
    )
    if "sheet:" not in text:
        return
    baseline = read_baseline(text, "baseline.yaml")
    cascade = Cascade(baseline)
    for name, said, kind in subjects:
        subject = Said(kind, "s", name, said)
        assert cascade.required_of(subject) == required_of(baseline, subject)


def test_rules_of_a_bucket_are_the_same_whoever_asks() -> None:
    """The moment is part of what a decision depends on, so two moments are kept apart."""
    policy = document([{"Effect": "Allow", "Principal": "*", "Action": "s3:GetObject",
                        "Resource": "arn:aws:s3:::reed/*",
                        "Condition": {"DateLessThan": {"aws:CurrentTime": "2026-12-01T00:00:00Z"}}}])  # fmt: skip
    shapes, dossier = VerdictCache(), store([bucket("reed", policy, [], [])], [], [])
    rules = rules_of(dossier.buckets[0], dossier)
    later = EvaluationContext(datetime(2027, 1, 1, tzinfo=UTC), AROUND.account)
    assert shapes.of(rules, AROUND).exposures("reed")["anyone", "read"].level == "open"
    assert shapes.of(rules, later).exposures("reed")["anyone", "read"].level == "closed"


def test_a_journal_that_is_whole_gives_every_store_the_same_again(
    whole: Whole, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Whatever an answer tells, a survey that is gone on with has it from the journal: also the numbers of answers."""
    place = Workspace(whole.folder)
    for store in (whole.served.harbour, whole.served.skerry):
        fewer = {name: versions[:40] for name, versions in store.holdings.versions.items()}
        monkeypatch.setattr(store, "holdings", replace(store.holdings, versions=fewer))
    plan = SurveyPlan(place.estate(), whole.folder, datetime(2026, 11, 2, 6, tzinfo=UTC), probe=True, objects="all")
    partial = tmp_path / "surveys" / "X.partial"
    remove = Path.unlink
    monkeypatch.setattr(Path, "unlink", lambda path, **more: path.suffix == ".jsonl" or remove(path, **more))
    surveyed = []
    for _ in range(2):
        dossiers = asyncio.run(read_all(plan, partial / "journal"))
        tables = {path: path.read_bytes() for path in sorted(partial.rglob("*.parquet"))}
        surveyed.append(([encode(dossier) for dossier in dossiers], tables))
        for path in tables:
            remove(path)
    assert (len(surveyed[0][0]), len(surveyed[0][1])) == (9, 56)
    assert surveyed[0] == surveyed[1]
