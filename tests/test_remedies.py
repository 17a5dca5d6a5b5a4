"""Remedies: the document that is shown closes what it says it closes, and nothing opens."""

from __future__ import annotations

import json
import re
import shutil
from pathlib import Path
from typing import Any

import msgspec
import pytest
from hypothesis import given, settings

from rusty_lantern.archive.surveys import save
from rusty_lantern.archive.workspace import make
from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.access.policy.condition_keys import AUDIENCES
from rusty_lantern.core.access.solver.audience_view import BUDGET
from rusty_lantern.core.access.solver.difference import Asker, difference
from rusty_lantern.core.access.solver.sets import Budget
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.audit.access_differences import own_differences
from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.audit.proposed_bucket import beside
from rusty_lantern.core.audit.refused_policy import refused_by_guard
from rusty_lantern.core.audit.store_subject import store_subjects, views
from rusty_lantern.core.baseline.loader import read_baseline
from rusty_lantern.core.model.acl import Grant, ObjectAcls, ObjectGrant
from rusty_lantern.core.model.bucket import Bucket, Lock
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.core.model.guards import Guards
from rusty_lantern.core.model.identity import Verb
from rusty_lantern.core.remediation.remedies import remedies
from rusty_lantern.core.remediation.remedy import Remedy
from rusty_lantern.simulator.demo import harbour as saltmarsh
from rusty_lantern.simulator.demo.workspace_files import workspace_files
from rusty_lantern.stores.http.xml import parse
from rusty_lantern.stores.s3.settings import QUESTIONS
from tests.conftest import Lived, lantern, whole_or
from tests.policies import AROUND, BUCKET, OWNER, policies
from tests.subjects import audited

SHUT = read_baseline(
    "sheets: [{sheet: s, require: {exposure.read: closed, exposure.write: closed, exposure.list: closed}}]", "b"
)
ABSENT: Answer[Any] = Answer("absent")


def _alone(policy: str, *acl: Grant) -> BucketSubject:
    bucket = Bucket(
        name=BUCKET, policy=Answer("known", policy), acl=Answer("known", list(acl)), ownership=ABSENT,
        public_access_guards=ABSENT, rights=ABSENT, network=ABSENT, object_acls=Answer("known", ObjectAcls()),
    )  # fmt: skip
    dossier = Dossier(
        store="s", taken=AROUND.moment, account=Answer("known", OWNER), account_number=OWNER,
        public_access_guards=ABSENT,
        network=ABSENT, listing=Answer("known", 1), buckets=[bucket],
    )  # fmt: skip
    return views([dossier], None, AROUND.moment)[0]


def _mended(view: BucketSubject) -> tuple[Remedy, BucketSubject] | None:
    """The remedy for what is too open, and the bucket with its documents in place."""
    found = audited([view.dossier], SHUT, view.moment)
    drifted = [j for j in found.findings if j.status == "drift"]
    doors = remedies(view, drifted)
    if not doors:
        return None
    assert doors[0].documents, doors[0].words
    bucket = view.bucket
    for document in doors[0].documents:
        if document.setting == "policy":
            policy = Answer("known", document.text) if document.text else ABSENT
            bucket = msgspec.structs.replace(bucket, policy=policy)
        else:
            kept = [grant for grant in view.bucket.acl.value or () if grant.to == "named"]
            bucket = msgspec.structs.replace(bucket, acl=Answer("known", kept))
    return doors[0], beside(view, bucket)


@settings(max_examples=whole_or(60, 150))
@given(policies)
def test_whatever_the_policy_its_remedy_closes_what_was_too_open_and_opens_nothing(policy: str) -> None:
    view = _alone(policy, Grant("named", "full-control", OWNER), Grant("anyone", "read"))
    found = _mended(view)
    if found is None:
        return  # a Deny of everything shuts the grant as well
    remedy, after = found
    for fact in remedy.facts:
        assert after.fact(fact).value == "closed"
    for audience in AUDIENCES:
        for verb in VERBS:
            change = difference(view.rules, after.rules, after.surroundings, Asker(audience), verb, Budget(BUDGET))
            assert change.gained is None
            asked = f"exposure.{verb}" in remedy.facts
            assert asked or change.lost is None or _told(remedy, audience, "would also lose", verb), remedy.proof
            assert asked or not change.may_lose or _told(remedy, audience, "may also lose", verb), remedy.proof
            assert not change.may_gain or _told(remedy, audience, "may gain", verb), remedy.proof


def _told(remedy: Remedy, who: str, shift: str, verb: str) -> bool:
    """Whether a remedy's proof has somebody gain or lose a verb."""
    split = (words.partition(":")[0].partition(f" {shift} ") for words in remedy.proof)
    return any(who in names.split(", ") and verb in verbs.split(", ") for names, _, verbs in split)


def test_a_statement_with_another_verb_is_split_and_the_other_verb_stays() -> None:
    statement = {"Effect": "Allow", "Principal": "*", "Action": ["s3:GetObject", "s3:GetBucketTagging"],
                 "Resource": [f"arn:aws:s3:::{BUCKET}", f"arn:aws:s3:::{BUCKET}/*"]}  # fmt: skip
    found = _mended(_alone(json.dumps({"Version": "2012-10-17", "Statement": [statement]})))
    assert found is not None
    remedy, after = found
    assert after.fact("exposure.read").value == "closed"
    assert after.fact("exposure.read-settings").value == "open"
    assert list(remedy.proof[-2:]) == [
        "nothing else is known to be lost or gained",
        "the store's own identities were not read (not in the dossier): what they lose or gain is not known",
    ]
    principals = [s["Principal"] for s in json.loads(remedy.documents[0].text)["Statement"]]
    assert sorted(map(str, principals)) == ["*", str({"AWS": [OWNER]})]


def test_a_named_partner_that_loses_access_is_told() -> None:
    partner = "500600700800"
    everyone = {"Effect": "Allow", "Principal": "*", "Action": "s3:GetObject", "Resource": f"arn:aws:s3:::{BUCKET}/*"}
    stores = {
        "Effect": "Allow",
        "Principal": {"AWS": partner},
        "Action": "s3:PutObject",
        "Resource": f"arn:aws:s3:::{BUCKET}/*",
    }
    found = _mended(_alone(json.dumps({"Version": "2012-10-17", "Statement": [everyone, stores]})))
    assert found is not None
    assert any(words.startswith(partner) and "would also lose read" in words for words in found[0].proof)


EVERYONE_READS = {
    "Effect": "Allow", "Principal": "*", "Action": "s3:GetObject", "Resource": f"arn:aws:s3:::{BUCKET}/*",
}  # fmt: skip
PUBLIC_K = ObjectAcls([ObjectGrant("anyone", "read", "k", more=False)])


def _with(view: BucketSubject, **fields: Any) -> BucketSubject:
    bucket = msgspec.structs.replace(view.bucket, **fields)
    return views([msgspec.structs.replace(view.dossier, buckets=[bucket])], None, AROUND.moment)[0]


def _remedies(view: BucketSubject, required: str = "exposure.read: closed") -> list[Remedy]:
    baseline = read_baseline(f"sheets: [{{sheet: s, require: {{{required}}}}}]", "b")
    drifted = [one for one in audited([view.dossier], baseline, view.moment).findings if one.status == "drift"]
    return remedies(view, drifted)


@pytest.mark.parametrize(
    "acls,then,outcome",
    [
        (PUBLIC_K, "open", "exposure.read stays open by objects' own ACLs"),
        (ObjectAcls(complete=False), None, "exposure.read is unknown, since something else may open it: objects may"),
        (ObjectAcls(), "closed", "exposure.read is closed"),
    ],
)
def test_what_objects_own_acls_leave_open_is_not_told_to_be_closed(
    acls: ObjectAcls, then: str | None, outcome: str
) -> None:
    policy = json.dumps({"Version": "2012-10-17", "Statement": [EVERYONE_READS]})
    view = _with(_alone(policy), object_acls=Answer("known", acls), ownership=Answer("known", "object-writer"))
    proposed = _remedies(view)
    assert any(one.proof and one.proof[0].startswith(outcome) for one in proposed), proposed
    words = "remove the public from objects' own ACLs: read to anyone on k; or disable ACLs for the whole bucket"
    assert [one.words for one in proposed if "objects' own" in one.words] == [words] * bool(acls.public)
    after = _with(view, policy=Answer("known", proposed[-1].documents[0].text))
    assert after.fact("exposure.read").value == then


def test_a_setting_that_the_store_does_not_have_is_no_document() -> None:
    view = _with(
        _alone("{}"),
        ownership=Answer("unsupported"),
        granted_by=Answer("unsupported"),
        public_access_guards=Answer("known", Guards()),
    )
    proposed = _remedies(view, "object-acls.enabled: off, public-access-guards.ignore-acls: on")
    assert {one.facts: len(one.documents) for one in proposed} == {
        ("object-acls.enabled",): 0,
        ("public-access-guards.ignore-acls",): 1,
    }
    assert proposed[0].words.startswith("this store has no setting for it (ownership)")


def test_a_policy_that_its_bucket_s_guard_refuses_is_told_so() -> None:
    listing = EVERYONE_READS | {"Action": "s3:ListBucket", "Resource": f"arn:aws:s3:::{BUCKET}"}
    policy = json.dumps({"Version": "2012-10-17", "Statement": [EVERYONE_READS, listing]})
    guarded = _with(_alone(policy), public_access_guards=Answer("known", Guards(refuse_new_policies=True)))
    told = [words for one in _remedies(guarded) for words in one.proof if "refused" in words]
    assert told == [
        "but new public policies are refused by the bucket's public-access guard, and this policy lets the "
        "public list; switch the guard off while this one is applied"
    ]
    assert not [words for one in _remedies(_alone(policy)) for words in one.proof if "refused" in words]
    unread = _with(_alone(policy), public_access_guards=Answer("denied", None, "403"))
    why = "the bucket's public-access guards could not be read (denied to this credential: 403)"
    assert refused_by_guard(unread) == f"{why}: one that refuses new public policies may be on"
    both = _remedies(guarded, "exposure.read: closed, exposure.list: closed")
    assert not [words for one in both for words in one.proof if "refused" in words]


@pytest.mark.parametrize("networks,everywhere", [
    (["0.0.0.0/1", "128.0.0.0/1"], True),
    (["::/1", "8000::/1"], True),
    (["0.0.0.0/1", "8000::/1"], False),
    ("128.0.0.0/1", False),
])  # fmt: skip
def test_a_condition_that_still_names_everywhere_is_told(networks: object, everywhere: bool) -> None:
    statement = {"Effect": "Allow", "Principal": "*", "Action": "s3:GetObject", "Resource": f"arn:aws:s3:::{BUCKET}/*",
                 "Condition": {"IpAddress": {"aws:SourceIp": networks}}}  # fmt: skip
    found = _mended(_alone(json.dumps({"Version": "2012-10-17", "Statement": [statement]})))
    assert found is not None
    told = "but the aws:SourceIp condition of statement 1 names every address: it restricts nothing"
    assert (told in found[0].proof) is everywhere


def test_every_computed_document_of_the_demo_mends_what_it_says_when_it_is_tried(lived: Lived, tmp_path: Path) -> None:
    result = json.loads(lived.run("remedy", "--out", str(tmp_path / "docs"), "--json").out)
    tried = 0
    for row in result["remedies"]:
        for document in row["documents"]:
            if document["setting"] != "policy":
                continue
            where, path = f"{row['store']}/{row['name']}", str(tmp_path / "docs" / document["file"])
            after = json.loads(lived.run("try", "--bucket", where, "--policy", path, "--json").out)
            assert set(row["facts"]) <= set(after["fixed"]), where
            assert after["new_drift"] == []
            assert all(change["gained"] is None for change in after["changes"])
            tried += 1
    assert tried == 6
    again = lived.run("remedy", "--out", str(tmp_path / "docs"))
    assert again.code == 2
    assert "nothing was written" in again.err


@pytest.mark.parametrize("where,setting,holds", [
    ("permit-archive", "object lock", "<Mode>COMPLIANCE</Mode><Years>7</Years>"),
    ("grant-ledger", "object lock", "<Mode>COMPLIANCE</Mode><Years>7</Years>"),
    ("boat-logs", "versioning", "<Status>Enabled</Status>"),
    ("tmp-exchange", "encryption", "<SSEAlgorithm>AES256</SSEAlgorithm>"),
    ("tmp-exchange", "ownership", "BucketOwnerEnforced"),
])  # fmt: skip
def test_a_setting_is_shown_as_the_document_that_makes_it_so(
    lived: Lived, where: str, setting: str, holds: str
) -> None:
    rows = json.loads(lived.run("remedy", f"harbour/{where}", "--json").out)["remedies"]
    documents = [d for row in rows for d in row["documents"] if d["setting"] == setting]
    assert holds in re.sub(r"\n *", "", documents[0]["text"])
    shown = lived.run("remedy", f"harbour/{where}", COLUMNS="40").out
    assert documents[0]["text"] in shown, "a document is to be copied as it is, however restricted the terminal"


EVERYTHING = read_baseline(
    """sheets: [{sheet: s, require: {versioning: on, encryption.at-rest: at least provider-managed,
      tags.steward: finance, tags.class: personal, object-acls.enabled: off,
      lock.mode: compliance, lock.default-retention: at least 8 years,
      public-access-guards.refuse-new-acls: on, public-access-guards.ignore-acls: on, versioning.mfa-delete: on,
      public-access-guards.refuse-new-policies: on, public-access-guards.restrict-policies: on}}]""", "b",
)  # fmt: skip
READ_BACK = {question.field: question for question in QUESTIONS}
FIELDS = {"object lock": "lock", "public-access guards": "public_access_guards"}


def test_one_document_a_setting_meets_all_that_is_required_of_it() -> None:
    """The second of two would take back what the first one did. Each is read back as the reader of stores reads it."""
    found = audited([saltmarsh.harbour().dossier], EVERYTHING, saltmarsh.MOMENT)
    met = 0
    for view in views([saltmarsh.harbour().dossier], None, saltmarsh.MOMENT):
        mine = remedies(view, [j for j in found.findings if j.name == view.name and j.status == "drift"])
        documents = [document for remedy in mine for document in remedy.documents]
        assert len({document.setting for document in documents}) == len(documents), view.name
        bucket = view.bucket
        for document in documents:
            field = FIELDS.get(document.setting, document.setting)
            value = READ_BACK[field].decode(parse(document.text.encode()))
            bucket = msgspec.structs.replace(bucket, **{field: Answer("known", value)})
        after = msgspec.structs.replace(view, bucket=bucket)
        block = "encryption.customer-provided"  # one and the same document says this and which default there is
        assert view.fact(block).value != "refused" or after.fact(block).value == "refused", view.name
        for remedy in (one for one in mine if one.documents):
            for fact in remedy.facts:
                (required,) = [r for sheet in EVERYTHING.sheets for r in sheet.require if r.fact == fact]
                assert required.comparison and required.comparison.holds(after.fact(fact)), (view.name, fact)
                met += 1
        assert not any("versioning.mfa-delete" in remedy.facts for remedy in mine if remedy.documents)
    assert met > 150


def test_the_teams_own_words_go_first(lived: Lived, tmp_path: Path) -> None:
    folder = Path(shutil.copytree(lived.folder, tmp_path / "ws"))
    file = folder / "baseline.yaml"
    text = file.read_text().replace(
        "exposure.write:     {is: closed,", "exposure.write:     {remedy: ring the keeper, is: closed,", 1
    )
    file.write_text(text)
    rows = json.loads(lantern("remedy", "harbour/contractor-drop", "--json", cwd=folder).out)["remedies"]
    assert rows[0]["words"].startswith("ring the keeper; ")


def test_no_remedy_is_for_what_is_waived_or_unknown_and_both_are_told(lived: Lived, tmp_path: Path) -> None:
    folder = Path(shutil.copytree(lived.folder, tmp_path / "ws"))
    why = ("--because", "until the work is done", "--by", "head of works", "--until", "2026-12-31")
    assert lantern("waive", "harbour/contractor-drop", "exposure.write", *why, cwd=folder).code == 0
    assert lantern("remedy", "harbour/contractor-drop", cwd=folder).out.endswith("no drift  1 waived\n")
    whole = json.loads(lantern("remedy", "--json", cwd=folder).out)
    audit = json.loads(lantern("audit", "--json", cwd=folder).out)["counts"]
    assert {"unknown": whole["unknown"], "waived": whole["waived"]} == {w: audit[w] for w in ("unknown", "waived")}


def test_drift_of_an_unknown_kind_still_has_words() -> None:
    found = audited(
        [saltmarsh.harbour().dossier],
        read_baseline("sheets: [{sheet: s, require: {tenant: present}}]", "b"),
        saltmarsh.MOMENT,
    )
    assert remedies(None, found.of("drift")[:1])[0].words


def test_of_many_subjects_each_thing_to_do_is_told_once_with_how_many_need_it(tmp_path: Path) -> None:
    bare, locked = Bucket(name="b", versioning=Answer("absent"), lock=Answer("absent")), Answer("known", Lock(True))
    made = [msgspec.structs.replace(bare, name=f"b-{n:03}", lock=locked if n % 3 else bare.lock) for n in range(120)]
    sheet = "{sheet: s, require: {versioning: {is: on, severity: high}, lock.enabled: {is: on, severity: critical}}}"
    make(tmp_path / "ws", workspace_files("http://127.0.0.1:9") | {"baseline.yaml": (f"sheets: [{sheet}]", 0o644)})
    dossier = Dossier(store="harbour", taken=saltmarsh.MOMENT, listing=Answer("known", 120), buckets=made)
    save(tmp_path / "ws" / "surveys", "x", saltmarsh.MOMENT, [dossier])
    out = lantern("remedy", cwd=tmp_path / "ws").out
    assert out.index("critical  lock.enabled") < out.index("high  versioning")
    told = " ".join(out.split())
    assert "on 40 subjects: harbour/b-000, harbour/b-003" in told
    assert "on 120 subjects: harbour/b-000, harbour/b-003" in told
    assert out.count("b-000") == 3  # the last one says whose documents to look at


WHOLE = saltmarsh.harbour().dossier
UNREAD: Answer[Any] = Answer("denied", None, "AccessDenied")
_PEOPLE = WHOLE.identities.value or []
_ONE_UNREAD = [
    msgspec.structs.replace(
        WHOLE,
        identities=Answer(
            "known", [msgspec.structs.replace(one, policies=UNREAD) if one is who else one for one in _PEOPLE]
        ),
    )
    for who in _PEOPLE
]


@pytest.mark.parametrize(
    "dossier",
    [msgspec.structs.replace(WHOLE, identities=UNREAD), msgspec.structs.replace(WHOLE, groups=UNREAD), *_ONE_UNREAD],
)
def test_whoever_loses_something_may_lose_it_where_permissions_were_not_read(dossier: Dossier) -> None:
    """Rules that are taken away: what the store's own surely lose by it is never nothing once something was denied."""

    def lost(read: Dossier, bucket: Bucket) -> tuple[set[tuple[str, Verb]], set[tuple[str, Verb]], str]:
        [store] = store_subjects([read], None, saltmarsh.MOMENT)
        view = store.buckets[bucket.name]
        own = own_differences(view, beside(view, msgspec.structs.replace(view.bucket, policy=ABSENT, acl=ABSENT)))
        sure = {(one.who, one.verb) for one in own.differences if one.change.lost is not None}
        return sure, {(one.who, one.verb) for one in own.differences if not one.change.sure}, own.unseen

    losers = 0
    for bucket in WHOLE.buckets:
        known, _, _ = lost(WHOLE, bucket)
        sure, perhaps, unseen = lost(dossier, bucket)
        losers += len(known)
        assert sure <= known
        assert unseen or known <= sure | perhaps, (bucket.name, known - sure - perhaps)
    assert losers > 20
