"""Replacing any one answer of a dossier by `denied` may make facts unknown; it never yields another settled value."""

from __future__ import annotations

import json
import random
from collections.abc import Iterator, Sequence
from pathlib import Path as Path_
from typing import Any

import msgspec
import pytest

from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.access.policy.document import parse_policy
from rusty_lantern.core.access.policy.principals import read_principal
from rusty_lantern.core.access.rules.bucket_rules import EvaluationContext, Rules, objects_have_acls
from rusty_lantern.core.access.solver.audience_view import BUDGET
from rusty_lantern.core.access.solver.principal_reach import reach_of
from rusty_lantern.core.access.solver.sets import Budget
from rusty_lantern.core.answer import Answer, Fact
from rusty_lantern.core.audit.replicas import mirrored
from rusty_lantern.core.audit.store_subject import StoreSubject, store_subjects
from rusty_lantern.core.baseline.finding_words import observed_words
from rusty_lantern.core.baseline.loader import read_baseline
from rusty_lantern.core.config.estate import Mirror
from rusty_lantern.core.errors import Place
from rusty_lantern.core.facts.catalogue import REGISTER
from rusty_lantern.core.history.changes import changes
from rusty_lantern.core.model.acl import Grant
from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.core.model.dossier import Door, Dossier, Software, decode
from rusty_lantern.core.model.identity import AttachedPolicy, Credential, Group, Identity
from rusty_lantern.intake.exported import assembled
from rusty_lantern.simulator.demo import harbour as saltmarsh
from rusty_lantern.simulator.demo.other_stores import attic, undercroft
from rusty_lantern.simulator.demo.slipway import slipway
from rusty_lantern.stores.beside import joined
from tests.conftest import Lived, whole_or
from tests.subjects import audited

ABSENT: Answer[Any] = Answer("absent")
DENIED: Answer[Any] = Answer("denied", None, "AccessDenied")
STATES: tuple[Answer[Any], ...] = (
    DENIED,
    Answer("failed", None, "no usable answer"),
    Answer("hidden", None, "omitted"),
)
Path = tuple[str | int, ...]
SPREAD = whole_or(1, 2)
"""Subjects of one kind on which each field is denied; every field is, and the subjects differ from field to field."""


def exported(layout: str) -> Dossier:
    """What a layout's own example tells."""
    examples = Path_(__file__).parent.parent / "src" / "rusty_lantern" / "layouts" / "examples"
    return assembled(examples, [layout], layout, "pond", saltmarsh.MOMENT)[0].dossier


def seaweed() -> Dossier:
    """A store in which requests without credentials are a user's, and ACLs count under every ownership mode."""
    like = next(bucket for bucket in saltmarsh.harbour().dossier.buckets if bucket.name == "gallery-web")
    like = msgspec.structs.replace(like, policy=ABSENT, public_access_guards=Answer("unsupported"))

    def bucket(name: str, *said: dict[str, Any], acl: Answer[Any] = ABSENT) -> Bucket:
        where = [f"arn:aws:s3:::{name}", f"arn:aws:s3:::{name}/*"]
        text = json.dumps({"Version": "2012-10-17", "Statement": [{**one, "Resource": where} for one in said]})
        return msgspec.structs.replace(like, name=name, acl=acl, policy=Answer("known", text) if said else ABSENT)

    users = {"Effect": "Allow", "Principal": {"AWS": "arn:aws:iam::*:user/*"}, "Action": "s3:GetObject"}
    buckets = [
        bucket("closed"), bucket("by-acl", acl=Answer("known", [Grant("anyone", "full-control")])),
        bucket("everything", {"Effect": "Allow", "Principal": "*", "Action": "s3:*"}), bucket("of-nobody"),
        bucket("users", users),
    ]  # fmt: skip
    text = '{"Statement": {"Effect": "Allow", "Action": "s3:GetObject", "Resource": "arn:aws:s3:::of-nobody/*"}}'
    own = Answer("known", [AttachedPolicy("own", text, "inline")])
    nobody = Identity(name="anonymous", groups=Answer("known", ["crew"]), policies=own)
    crew = Group(name="crew", members=["anonymous"], policies=Answer("known", []))
    return msgspec.structs.replace(
        saltmarsh.harbour().dossier, buckets=buckets, software=Answer("known", Software("", dialect="seaweed-4")),
        identities=Answer("known", [nobody]), groups=Answer("known", [crew]), credentials=Answer("known", []),
        doors=Answer("known", [Door("filer", "http://filer.example", read=True, takes_changes=False)]),
    )  # fmt: skip


def engine() -> Dossier:
    """A store in which policies are about requests without credentials alone, and whoever asks makes up an address."""
    like = next(bucket for bucket in saltmarsh.harbour().dossier.buckets if bucket.name == "gallery-web")
    none: Answer[Any] = Answer("unsupported")
    like = msgspec.structs.replace(like, policy=ABSENT, public_access_guards=none)
    anybody, deck = {"Principal": "*", "Action": "s3:GetObject"}, {"AWS": "arn:aws:iam:::user/deck"}
    office = {"IpAddress": {"aws:SourceIp": "10.1.0.0/16"}}

    def bucket(name: str, *said: dict[str, Any], acl: Answer[Any] = ABSENT) -> Bucket:
        where = [f"arn:aws:s3:::{name}/*"]
        text = json.dumps({"Version": "2012-10-17", "Statement": [{**one, "Resource": where} for one in said]})
        ownership = like.ownership if acl.settled and acl.value else none  # no such server has a mode, nor a public ACL
        policy = Answer("known", text) if said else ABSENT
        return msgspec.structs.replace(like, name=name, acl=acl, policy=policy, ownership=ownership)

    buckets = [
        bucket("closed"), bucket("by-acl", acl=Answer("known", [Grant("anyone", "full-control")])),
        bucket("office", {"Effect": "Allow", **anybody, "Condition": office}),
        bucket("of-deck", {"Effect": "Allow", **anybody, "Principal": deck}),
        bucket("not-of-deck", {"Effect": "Allow", **anybody}, {"Effect": "Deny", **anybody, "Principal": deck}),
    ]  # fmt: skip
    own = {"Effect": "Allow", "Action": "s3:GetObjectVersion", "Resource": "*", "Condition": office}
    text = json.dumps({"Version": "2012-10-17", "Statement": own})
    user = Identity(
        name="deck",
        state=Answer("known", "enabled"),
        groups=Answer("known", []),
        policies=Answer("known", [AttachedPolicy("own", text, "inline")]),
    )
    everything = json.dumps({"Version": "2012-10-17", "Statement": {"Effect": "Allow", "Action": "*", "Resource": "*"}})
    limited = msgspec.structs.replace(
        user, name="limited", operations=Answer("known", ["read"]),
        policies=Answer("known", [AttachedPolicy("own", everything, "inline")]),
    )  # fmt: skip
    return msgspec.structs.replace(
        saltmarsh.harbour().dossier, buckets=buckets, software=Answer("known", Software("", dialect="minio-2021")),
        identities=Answer("known", [user, limited]), groups=Answer("known", []), credentials=Answer("known", []),
    )  # fmt: skip


ESTATE: dict[str, Dossier] = {
    "seaweed": seaweed(),
    "engine": engine(),
    "harbour": saltmarsh.harbour().dossier,
    "skerry": saltmarsh.skerry().dossier,
    "attic": attic(saltmarsh.MOMENT),
    "undercroft": undercroft(saltmarsh.MOMENT),
    "slipway": joined(
        msgspec.structs.replace(slipway(saltmarsh.MOMENT).dossier, protocol="blob"), exported("account-settings")
    ),
    "boathouse": exported("visibility"),
    "dunes": exported("uniform-access"),
    "sightings": exported("roles-for-anyone"),
}


def answers(part: Any, path: Path = ()) -> Iterator[Path]:
    """Where answers stand in a dossier: at the top, in each bucket, and inside other answers."""
    if isinstance(part, Answer):
        yield path
        part, path = part.value, (*path, "value")
    if isinstance(part, msgspec.Struct):
        for name in part.__struct_fields__:
            yield from answers(getattr(part, name), (*path, name))
    elif isinstance(part, list):
        for number, item in enumerate(part):
            yield from answers(item, (*path, number))


def put(part: Any, path: Path, answer: Answer[Any]) -> Any:
    """The same with another answer at that place."""
    if not path:
        return answer
    step, rest = path[0], path[1:]
    if isinstance(step, int):
        return [put(item, rest, answer) if number == step else item for number, item in enumerate(part)]
    return msgspec.structs.replace(part, **{step: put(getattr(part, step), rest, answer)})


def at(part: Any, path: Path) -> Any:
    for step in path:
        part = part[step] if isinstance(step, int) else getattr(part, step)
    return part


def facts(dossier: Dossier, people: Sequence[str] = ()) -> dict[tuple[str, str, str], Fact]:
    """Every fact of every subject of a store; what these identities can do in each bucket among them."""
    store_subject: StoreSubject = store_subjects([dossier], None, saltmarsh.MOMENT)[0]
    found: dict[tuple[str, str, str], Fact] = {}
    for view in store_subject.buckets.values():
        names = {*view.facts(), *(f"access.{who.name}" for who in view.named), "tags.steward", "tags.class"}
        names |= {f"access.{name}" for name in people}
        found |= {("bucket", view.bucket.name, name): view.fact(name) for name in names}
    for subject in store_subject.subjects():
        for name, definition in REGISTER.items():
            if definition.subject == subject.kind:
                found[subject.kind, subject.label, name] = subject.fact(name)
    for identity in (one for one in dossier.identities.value or () if one.name in people):
        found |= {("what it can do", identity.name, f"{bucket.name} {verb}"): Answer("known", "closed")
                  for bucket in dossier.buckets for verb in VERBS}  # fmt: skip
        found |= {
            ("what it can do", identity.name, f"{bucket} {verb}"): Answer("failed") if reach.level == "unknown" else
            Answer("known", reach.level)
            for group in store_subject.across.of(identity) for bucket in group.buckets
            for verb, reach in group.reach.items()
        }  # fmt: skip
    return found


def places(dossier: Dossier) -> list[Path]:
    """Every field that holds an answer, on a few of the subjects that have it settled."""
    by_field: dict[tuple[Any, ...], list[Path]] = {}
    for path in answers(dossier):
        if at(dossier, path).settled:
            by_field.setdefault(tuple("*" if isinstance(s, int) else s for s in path), []).append(path)
    chosen: list[Path] = []
    for number, found in enumerate(by_field.values()):
        values = {msgspec.json.encode(at(dossier, path).value): path for path in found}  # one of each value
        step = max(1, len(found) // SPREAD)
        chosen += dict.fromkeys([*list(values.values())[:SPREAD], *found[number % step :: step]])
    return chosen


@pytest.mark.parametrize("store", ESTATE)
def test_an_answer_that_is_denied_never_makes_another_fact_certain(store: str) -> None:
    assert made_certain(ESTATE[store]) == []


def test_what_the_seaweed_of_these_laws_lets_in() -> None:
    [subject] = store_subjects([ESTATE["seaweed"]], None, saltmarsh.MOMENT)
    opened = {
        name: {verb for verb in VERBS if view.verdicts["anyone", verb].level == "open"}
        for name, view in subject.buckets.items()
    }
    assert opened == {
        "closed": set(), "by-acl": {"list", "read"}, "users": set(), "everything": set(VERBS), "of-nobody": {"read"},
    }  # fmt: skip
    assert subject.buckets["users"].verdicts["any-account", "read"].level == "open"


def test_what_the_engine_of_these_laws_lets_in() -> None:
    [subject] = store_subjects([ESTATE["engine"]], None, saltmarsh.MOMENT)
    opened = {name for name, view in subject.buckets.items() if view.verdicts["anyone", "read"].level == "open"}
    assert opened == {"office", "not-of-deck"}
    deck, limited = ESTATE["engine"].identities.value or (Identity(name=""),) * 2
    for identity, verb in ((deck, "read"), (limited, "read"), (limited, "list"), (limited, "read-settings")):
        groups = [group for group in subject.across.of(identity) if group.reach[verb].level == "open"]
        assert {bucket for group in groups for bucket in group.buckets} == set(subject.buckets)
    verbs = {verb for group in subject.across.of(limited) for verb in group.reach}
    assert verbs == {"list", "read", "read-settings"}


@pytest.mark.parametrize("store", ["skerry", "cove", "lagoon"])
def test_an_answer_that_is_denied_never_makes_another_fact_of_a_surveyed_store_certain(
    store: str, lived: Lived
) -> None:
    """Of stores with users: at a gateway's administration door, in an identity service, in a document beside."""
    latest = max((lived.folder / "surveys").glob("2*"))
    assert made_certain(decode((latest / "stores" / f"{store}.json").read_bytes(), store)) == []


def made_certain(dossier: Dossier) -> list[object]:
    """Which answer is denied, and which fact is told otherwise than before then."""
    people = [one.name for one in dossier.identities.value or ()][::3]
    before = facts(dossier, people)
    wrong: list[object] = []
    for number, path in enumerate(places(dossier)):
        for subject, fact in facts(put(dossier, path, STATES[number % len(STATES)]), people).items():
            was = before.get(subject)
            if was is not None and fact.settled and (fact.state, fact.value) != (was.state, was.value):
                wrong.append((path, subject, (was.state, was.value), (fact.state, fact.value)))
    return wrong


@pytest.mark.parametrize("store", ESTATE)
def test_no_verdict_changes_between_surveys_without_a_word(store: str) -> None:
    """Whatever one answer is replaced by: who gained or lost access is told, or that it is not known any more."""
    dossier, dice = ESTATE[store], random.Random(store)
    [before] = store_subjects([dossier], None, saltmarsh.MOMENT)
    silent: list[object] = []
    for path in dice.sample(places(dossier), 10):
        others = [at(bucket, path[2:]) for bucket in dossier.buckets] if path[0] == "buckets" and len(path) == 3 else []
        for answer in (DENIED, ABSENT, *dice.sample(others, min(1, len(others)))):
            [after] = store_subjects([put(dossier, path, answer)], None, saltmarsh.MOMENT)
            for old, new in ((before, after), (after, before)):
                found = changes([old], [new])
                told = {(c.name, c.audience, c.verb) for c in found if c.change in ("gained", "lost")}
                known = {(c.name, c.fact) for c in found if c.change in ("now known", "no longer known")}
                for name in old.buckets.keys() & new.buckets.keys():
                    was, now = old.buckets[name], new.buckets[name]
                    for (audience, verb), verdict in was.verdicts.items():
                        levels = {verdict.level, now.verdicts[audience, verb].level}
                        if len(levels) == 2 and "unknown" not in levels and (name, audience, verb) not in told:
                            silent.append((path, answer, name, audience, verb, levels))
                    silent += [
                        (path, answer, name, verb)
                        for verb in VERBS
                        if was.exposures[verb].settled != now.exposures[verb].settled
                        and (name, f"exposure.{verb}") not in known
                    ]
    assert silent == []


@pytest.mark.parametrize("store", ESTATE)
def test_a_bucket_of_which_nothing_was_read_has_no_settled_fact_but_its_name(store: str) -> None:
    named = {"name"} | ({"transport"} if ESTATE[store].transport else set())
    if not objects_have_acls(ESTATE[store]):
        named |= {"object-acls.enabled", "object-acls.public"}
    for bucket in ESTATE[store].buckets:
        bare = Bucket(name=bucket.name, **{f: DENIED for f in Bucket.__struct_fields__ if f != "name"})
        dossier = msgspec.structs.replace(ESTATE[store], buckets=[bare])
        settled = {name for (kind, _, name), fact in facts(dossier).items() if kind == "bucket" and fact.settled}
        assert {name for name in settled if not name.startswith(("public-access-guards.", "network."))} == named


def test_a_bucket_that_was_denied_is_not_told_as_closed_on_the_first_screen() -> None:
    baseline = read_baseline("title: t\nsheets: [{sheet: s, require: {exposure.read: closed}}]\n", "b")
    before = audited([ESTATE["attic"]], baseline, saltmarsh.MOMENT).overview()
    bare = [Bucket(name=one.name, **{f: DENIED for f in Bucket.__struct_fields__ if f != "name"})
            for one in ESTATE["attic"].buckets]  # fmt: skip
    after = audited([msgspec.structs.replace(ESTATE["attic"], buckets=bare)], baseline, saltmarsh.MOMENT).overview()
    assert before.closed > 0
    assert (after.closed, after.public) == (0, ())
    assert set(after.undetermined) == {f"attic/{one.name}" for one in bare}


def compared(harbour: Dossier, skerry: Dossier) -> dict[tuple[str, str], Fact]:
    mirror = Mirror("harbour", "skerry", ("*",), 3600, Place("estate.yaml", 1))
    stores = store_subjects([harbour, skerry], None, saltmarsh.MOMENT)
    found: dict[tuple[str, str], Fact] = {}
    for one in mirrored(stores, (mirror,)):
        found[one.name, "content"] = one.fact("mirror.content")
        found[one.name, "settings"] = one.fact("mirror.settings")
    return found


def test_a_mirror_of_which_a_side_was_not_read_is_not_told_to_be_the_same() -> None:
    harbour, skerry = ESTATE["harbour"], ESTATE["skerry"]
    copies = {bucket.name for bucket in skerry.buckets}
    harbour = msgspec.structs.replace(harbour, buckets=[b for b in harbour.buckets if b.name in copies])
    before = compared(harbour, skerry)
    for side, dossier in (("harbour", harbour), ("skerry", skerry)):
        for path in places(dossier):
            both = {"harbour": harbour, "skerry": skerry} | {side: put(dossier, path, DENIED)}
            for subject, fact in compared(both["harbour"], both["skerry"]).items():
                if subject[0] == "*":
                    assert not fact.settled
                    continue
                was = before[subject]
                lost = subject[1] == "settings" and set(str(fact.value).split(", ")) < set(str(was.value).split(", "))
                assert not fact.settled or fact.value == was.value or lost, (path, subject, was, fact)


def test_two_sides_that_are_both_unread_are_not_alike() -> None:
    harbour, skerry = ESTATE["harbour"], ESTATE["skerry"]
    for field in ("versioning", "encryption", "lock", "lifecycle", "tags"):
        sides = [
            msgspec.structs.replace(d, buckets=[msgspec.structs.replace(b, **{field: DENIED}) for b in d.buckets
                                                if b.name == "permit-scans"])
            for d in (harbour, skerry)
        ]  # fmt: skip
        assert not compared(*sides)["permit-scans", "settings"].settled, field


def _verdict(policy: str = "", account: Answer[Any] = ABSENT, **unread: Answer[Any]) -> str:
    """The verdict on `read` for any account of an open bucket, with something of it not understood or not read."""
    fields = dict.fromkeys(("acl", "ownership", "public_access_guards", "rights", "network"), ABSENT)
    bucket = Bucket(name="bed", **({**fields, "policy": Answer("known", policy or OPEN)} | unread))
    dossier = Dossier(
        store="s", taken=saltmarsh.MOMENT, listing=Answer("known", 1), buckets=[bucket],
        public_access_guards=Answer("absent"),
        network=ABSENT, account=account, groups=Answer("absent"),
    )  # fmt: skip
    view = store_subjects([dossier], None, saltmarsh.MOMENT)[0].buckets["bed"]
    return view.verdicts["any-account", "read"].level


def _unread_rules() -> str:
    """The verdict where one of the rules' sources was not read: the same for each of them."""
    levels = {_verdict(network=DENIED), _only(policy=DENIED), _only(acl=DENIED), _only(rights=DENIED)}
    assert len(levels) == 1, levels
    return levels.pop()


def _only(**unread: Answer[Any]) -> str:
    """The verdict on a bucket that nothing opens, but for what was not read."""
    fields = dict.fromkeys(("policy", "acl", "ownership", "public_access_guards", "rights", "network"), ABSENT) | unread
    dossier = Dossier(
        store="s", taken=saltmarsh.MOMENT, listing=Answer("known", 1), buckets=[Bucket(name="bed", **fields)],
        public_access_guards=ABSENT, network=ABSENT, account=ABSENT, groups=ABSENT,
    )  # fmt: skip
    verdicts = store_subjects([dossier], None, saltmarsh.MOMENT)[0].buckets["bed"].verdicts
    return verdicts["any-account", "list" if unread.get("acl") == DENIED else "read"].level


def _spared() -> str:
    """What a user reaches whom NotPrincipal names without the account."""
    user = "arn:aws:iam::777777777777:user/ann"
    deny = {"Effect": "Deny", "NotPrincipal": {"AWS": user}, "Action": "s3:*", "Resource": "*"}
    policy = json.dumps({"Version": "2012-10-17", "Statement": [*json.loads(OPEN)["Statement"], deny]})
    return reach_of(
        read_principal(user), Rules("bed", parse_policy(policy)), EvaluationContext(saltmarsh.MOMENT), Budget(BUDGET)
    )["read"].level


def _allow(**more: Any) -> str:
    allow = {"Effect": "Allow", "Principal": "*", "Action": "s3:GetObject", "Resource": "arn:aws:s3:::bed/*"} | more
    return json.dumps({"Version": "2012-10-17", "Statement": [allow]})


OPEN = _allow()
OWNED = _allow(Condition={"StringEquals": {"aws:PrincipalAccount": "400100200300"}})
VARIABLE = _allow(Resource="arn:aws:s3:::bed/${aws:username}/*")
NOT_OFFERED: Answer[Any] = Answer("unsupported")
LIMITS = {
    "a store that offers neither ACLs nor policies": lambda: _only(
        **dict.fromkeys(("policy", "acl", "rights", "container_acl"), NOT_OFFERED)),
    "a condition key outside the table": lambda: _verdict(_allow(Condition={"StringEquals": {"x:y": "z"}})),
    "an operator on a key of another kind": lambda: _verdict(_allow(Condition={"DateEquals": {"aws:SourceIp": "1"}})),
    "a wildcard inside a principal": lambda: _verdict(_allow(Principal={"AWS": "arn:aws:iam::*:role/x"})),
    "an action that is in no published list": lambda: _verdict(_allow(Action="s3:GetObjectSideways")),
    "a NotPrincipal that names a user without the account": lambda: _spared(),
    "a duplicated key, an unknown element": lambda: _verdict(_allow(Bogus="x")),
    "a moment without its zone, or in a form that the language does not have": lambda: _verdict(
        _allow(Condition={"DateLessThan": {"aws:CurrentTime": "2099-01-01T00:00:00"}})),
    "a policy variable that the caller chooses (`${aws:username}`)": lambda: _verdict(VARIABLE),
    "objects' own ACLs that were not read": lambda: _only(acl=Answer("known", []), object_acls=DENIED),
    "a key of the bucket's own (`aws:ResourceTag`), where its value was not read": lambda: _verdict(
        _allow(Condition={"StringEquals": {"aws:ResourceTag/sort": "open"}})),
    "a policy, ACL, right, guard or network rule that was not read": lambda: _unread_rules(),
    "the account that the bucket is in, where it was not read": lambda: _verdict(OWNED, account=DENIED),
    "an identity's own permissions, or its groups, where they were not read": lambda: _verbs("policies"),
    "the rules of one bucket that were not read": lambda: _verbs("bucket"),
    "work past its budget (about 200 ms for an audience)": lambda: _verdict(
        _allow(Resource=[f"arn:aws:s3:::bed/*{n}*{n}*" for n in range(200)], Condition={
            "StringLike": {"aws:Referer": [f"*{n}*{n}*" for n in range(200)]}})
    ),
}  # fmt: skip


def _verbs(what: str) -> str:
    dossier = attic(saltmarsh.MOMENT)
    if what == "bucket":
        bare = msgspec.structs.replace(dossier.buckets[0], rights=DENIED)
        dossier = msgspec.structs.replace(dossier, buckets=[bare, *dossier.buckets[1:]])
    else:
        dossier = msgspec.structs.replace(dossier, groups=DENIED)
    return "unknown" if not facts(dossier)["identity", "minutes-clerk", "identity.permissions"].settled else "known"


@pytest.mark.parametrize("row", LIMITS)
def test_a_limit_that_the_page_names_is_an_unknown(row: str) -> None:
    assert LIMITS[row]() == "unknown"


def test_the_page_names_every_limit_and_no_other() -> None:
    page = (Path_(__file__).parent.parent / "docs/access.md").read_text()
    section = page.partition("## What is not understood, or not looked at")[2].partition("##")[0]
    rows = [line.split("|")[1].strip() for line in section.splitlines() if line.startswith("| ")]
    assert rows[1:] == list(LIMITS)


@pytest.mark.parametrize(("second", "status"), [("active", "drift"), ("disabled", "unknown")])
def test_what_is_certain_of_a_count_drifts_already(second: str, status: str) -> None:
    """Of three keys one's state is denied: two live ones are too many for certain, one alone is not."""
    keys = [Credential(id=f"K{n}", owner="clerk", state=state) for n, state in enumerate(
        (Answer("known", "active"), Answer("known", second), DENIED))]  # fmt: skip
    dossier = msgspec.structs.replace(
        ESTATE["attic"], credentials=Answer("known", keys), identities=Answer("known", [Identity(name="clerk")])
    )
    text = "title: t\nsheets: [{sheet: s, require: {identity.active-keys: at most 1}}]\n"
    found = audited([dossier], read_baseline(text, "b"), saltmarsh.MOMENT).findings
    assert [(one.status, observed_words(one)) for one in found] == [
        (status, f"at least {2 if second == 'active' else 1}")
    ]
