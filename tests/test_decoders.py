"""Every decoder of outside bytes: whatever comes, an answer with a state, in bounded time, and never a crash."""

from __future__ import annotations

import itertools
import json
from datetime import UTC, datetime
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rusty_lantern.core.answer import UNSETTLED, Answer
from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.config.declared_bucket import read_declared
from rusty_lantern.core.config.estate_file import read_estate
from rusty_lantern.core.errors import LanternError
from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.core.model.dossier import Dossier, decode, encode
from rusty_lantern.core.model.resources import EncryptionKey
from rusty_lantern.simulator import s3_answers as documents
from rusty_lantern.simulator.demo import harbour as saltmarsh
from rusty_lantern.stores.blob.documents import described, read_properties
from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.http.refusal import error_code
from rusty_lantern.stores.http.reply import Reply
from rusty_lantern.stores.s3.setting_answers import read_answer
from rusty_lantern.stores.s3.settings import QUESTIONS, Question
from rusty_lantern.stores.s3.usage import listed

NOW = datetime(2026, 11, 2, tzinfo=UTC)
TAGS = (
    "Rule Status Grant Grantee URI Permission TagSet Tag Key Value Days Mode Owner AccessControlList "
    "AccessControlPolicy ListBucketResult Error Code VersioningConfiguration ID"
)
names = st.sampled_from(TAGS.split())
texts = st.text(alphabet="aZ0-&<>\"' é\x85\u202e", max_size=6)


@st.composite
def elements(draw: st.DrawFn, depth: int = 3) -> str:
    name = draw(names)
    if depth and draw(st.booleans()):
        return f"<{name}>{''.join(draw(st.lists(elements(depth - 1), max_size=3)))}</{name}>"
    value = draw(texts).replace("&", "&amp;").replace("<", "&lt;")
    return f"<{name}>{value}</{name}>"


bodies = st.one_of(
    st.binary(max_size=80), elements().map(str.encode), texts.map(lambda t: t.encode("utf-8", "replace"))
)


@pytest.mark.parametrize("word,served", [("true", True), ("True", True), ("1", True), ("false", False), ("", False)])
def test_a_boolean_means_the_same_in_whatever_letters(word: str, served: bool) -> None:
    site = f"<StaticWebsite><Enabled>{word}</Enabled><IndexDocument>i</IndexDocument></StaticWebsite>"
    properties = read_properties(f"<StorageServiceProperties>{site}</StorageServiceProperties>".encode())
    assert (properties.website == "i") is served
    assert listed({"kind": "Version", "Key": "k", "Size": "1", "IsLatest": word or "0"}).current is served


@pytest.mark.parametrize("word,state", [("true", "known"), ("TRUE", "known"), ("1", "known"), ("on", "failed")])
def test_a_guard_in_a_word_that_is_no_boolean_is_not_one_that_is_off(word: str, state: str) -> None:
    question = next(one for one in QUESTIONS if one.field == "public_access_guards")
    body = f"<PublicAccessBlockConfiguration><BlockPublicAcls>{word}</BlockPublicAcls></PublicAccessBlockConfiguration>"
    answer = read_answer(question, Reply(200, {}, body.encode()), "GET /b?publicAccessBlock", NOW)
    assert answer.state == state
    assert (answer.value is not None and answer.value.refuse_new_acls) is (state == "known")


def test_a_word_that_is_no_boolean_shuts_no_site_and_hides_no_version() -> None:
    with pytest.raises(RequestFailed, match="neither true nor false"):
        read_properties(b"<StorageServiceProperties><StaticWebsite><Enabled>on</Enabled></StaticWebsite>"
                        b"</StorageServiceProperties>")  # fmt: skip
    with pytest.raises(RequestFailed, match="neither true nor false"):
        listed({"kind": "Version", "Key": "k", "Size": "1", "IsLatest": "on"})


MODE, UNTIL, HOLD = "x-ms-immutability-policy-mode", "x-ms-immutability-policy-until-date", "x-ms-legal-hold"


@pytest.mark.parametrize("headers,mode,hold", [
    ({}, "", False), ({MODE: "Mutable"}, "", False), ({HOLD: "True"}, "", True), ({HOLD: "odd"}, "", None),
    ({MODE: "Locked", UNTIL: "Fri, 01 Jan 2027 00:00:00 GMT"}, "compliance", False), ({MODE: "Locked"}, None, False),
    ({MODE: "unlocked", UNTIL: "some day"}, None, False), ({MODE: "Frozen"}, None, False),
])  # fmt: skip
def test_a_blob_that_is_kept_in_words_that_are_not_known_is_not_taken_for_a_free_one(
    headers: dict[str, str], mode: str | None, hold: bool | None
) -> None:
    told = described(headers, whole=False, held=False)
    assert (told["mode"], told["hold"]) == (mode, hold)
    assert (told["until"] is not None) is (mode == "compliance")


@pytest.mark.parametrize("question", QUESTIONS, ids=lambda q: q.field)
@given(bodies, st.sampled_from([200, 301, 400, 403, 404, 405, 500, 501]))
def test_any_reply_to_a_question_is_an_answer(question: Question, body: bytes, status: int) -> None:
    answer = read_answer(question, Reply(status, {}, body), "GET /b?x", NOW)
    assert answer.state in ("known", "absent", *UNSETTLED)
    assert (answer.value is not None) == (answer.state == "known")
    assert answer.state != "failed" or answer.note
    error_code(body)


PAGE = b"<html><body>Not here</body></html>"
CODES = ("NotFound", "NoSuchKey", "NoSuchBucket", "NoSuchUpload", "NoSuchVersion", "InvalidRequest", "SlowDown")
OTHER = [f"<Error><Code>{code}</Code></Error>".encode() for code in CODES]


@pytest.mark.parametrize("question", QUESTIONS, ids=lambda q: q.field)
def test_what_stands_in_front_says_nothing_of_a_setting(question: Question) -> None:
    """A proxy's page, an empty answer, or an error about something else is never *not configured* or *not offered*."""
    bodies = (PAGE, b"", b"null", b"<Whatever/>", *OTHER)
    statuses = (200, 204, 301, 304, 400, 401, 403, 404, 405, 409, 429, 500, 501, 502, 503)
    for status, body in itertools.product(statuses, bodies):
        state = read_answer(question, Reply(status, {}, body), "GET /b?x", NOW).state
        assert state == ("denied" if status in (401, 403) else "failed"), (status, body)


def test_only_the_stores_own_word_says_that_it_has_no_policies_and_no_acls() -> None:
    """405 to a question for a policy is what whoever is not of the bucket's own account gets."""
    named = {question.field: question for question in QUESTIONS}
    for code, status, acl, policy in (
        ("NotImplemented", 501, "unsupported", "unsupported"),
        ("MethodNotAllowed", 405, "denied", "denied"),
        ("NoSuchBucketPolicy", 404, "failed", "absent"),
        ("NoSuchTagSet", 404, "failed", "failed"),
    ):
        reply = Reply(status, {}, f"<Error><Code>{code}</Code></Error>".encode())
        states = [read_answer(named[field], reply, "GET /b?x", NOW).state for field in ("acl", "policy")]
        assert states == [acl, policy], code
    listing = Reply(200, {}, b"<ListBucketResult><Name>b</Name></ListBucketResult>")
    states = [read_answer(named[field], listing, "GET /b?x", NOW).state for field in ("acl", "policy", "website")]
    assert states == ["failed", "failed", "unsupported"]


def rule(inside: str) -> str:
    return f"<Rule>{inside}<Status>Enabled</Status><Destination><Bucket>arn:x:s3:::copy</Bucket></Destination></Rule>"


def default(algorithm: str, key: str = "") -> str:
    named = f"<KMSMasterKeyID>{key}</KMSMasterKeyID>" if key else ""
    inside = f"<SSEAlgorithm>{algorithm}</SSEAlgorithm>{named}"
    return f"<Rule><ApplyServerSideEncryptionByDefault>{inside}</ApplyServerSideEncryptionByDefault></Rule>"


FACTS = {
    default("AES256"): "provider-managed",
    default("aws:kms"): "provider-managed",
    default("aws:kms:dsse"): "provider-managed",
    default("aws:kms", "arn:aws:kms:x:400100200300:alias/aws/s3"): "provider-managed",
    default("aws:kms", "tide-key"): "customer-managed",
    default("aws:kms", "house-key"): "provider-managed",
    default("another"): None,
    rule(""): "on",
    rule("<Filter/>"): "on",
    rule("<Prefix></Prefix>"): "on",
    rule("<Prefix>a/</Prefix>"): "part",
    rule("<Filter><Prefix>a/</Prefix></Filter>"): "part",
    rule("<Filter><Tag><Key>k</Key><Value>v</Value></Tag></Filter>"): "part",
    rule("<Filter><And><Prefix>a</Prefix></And></Filter>") + rule("<Filter><Prefix></Prefix></Filter>"): "on",
    rule("").replace("Enabled", "Disabled"): "off",
    "<RedirectAllRequestsTo><HostName>a.example</HostName></RedirectAllRequestsTo>": "a.example",
    "<RoutingRules><RoutingRule><Redirect><HostName>a.example</HostName></Redirect></RoutingRule><RoutingRule>"
    "<Redirect><HostName>b.example</HostName></Redirect></RoutingRule></RoutingRules>": "a.example, b.example",
    "<RoutingRules><RoutingRule><Redirect><ReplaceKeyWith>k</ReplaceKeyWith></Redirect></RoutingRule></RoutingRules>":
    None,
}  # fmt: skip
"""Default encryption (the store's list of keys has one, the provider's `house-key`), rules for copies, rules of a web
site → what the fact says."""
ROOTS = {
    "<Rule><Apply": ("encryption", "ServerSideEncryption", "encryption.at-rest"),
    "<Rule>": ("replication", "Replication", "replication"),
    "<R": ("website", "Website", "website.redirects-to"),
}


@pytest.mark.parametrize("inside", FACTS)
def test_a_document_says_no_more_than_its_rules(inside: str) -> None:
    field, root, fact = next(found for start, found in ROOTS.items() if inside.startswith(start))
    question = next(one for one in QUESTIONS if one.field == field)
    body = f"<{root}Configuration>{inside}</{root}Configuration>".encode()
    answer = read_answer(question, Reply(200, {}, body), "GET /b?x", NOW)
    made = Bucket(name="b", **{field: answer})
    keys = Answer("known", [EncryptionKey(id="house-key", managed_by=Answer("known", "provider"))])
    view = BucketSubject(made, Dossier(store="s", taken=NOW, buckets=[made], encryption_keys=keys), NOW)
    assert view.fact(fact).value == FACTS[inside]


OURS, THEIRS = "222222222222", "333333333333"
NOTIFIED: dict[str, str | None] = {
    "": "off",
    f"<TopicConfiguration><Topic>arn:aws:sns:x:{OURS}:t</Topic></TopicConfiguration>": "off",
    f"<QueueConfiguration><Queue>arn:aws:sqs:x:{THEIRS}:q</Queue></QueueConfiguration>": "on",
    f"<CloudFunctionConfiguration><CloudFunction>arn:aws:lambda:x:{THEIRS}:f</CloudFunction>"
    "</CloudFunctionConfiguration>": "on",
    # the answer of a real gateway 16.2, whose topics send to any address
    "<TopicConfiguration><Id>n</Id><Topic>arn:aws:sns:default::shore</Topic><Event>s3:ObjectCreated:*</Event>"
    "</TopicConfiguration>": None,
    "<EventBridgeConfiguration/>": None,
    f"<EventBridgeConfiguration/><QueueConfiguration><Queue>arn:aws:sqs:x:{THEIRS}:t</Queue></QueueConfiguration>":
    "on",
    "<SomethingNewConfiguration/>": None,
}  # fmt: skip
"""Inside of a notification document → whether something in another account is notified; None: unknown."""


@pytest.mark.parametrize("inside", NOTIFIED)
def test_notifications_that_do_not_say_in_whose_account_they_end_are_unknown(inside: str) -> None:
    question = next(one for one in QUESTIONS if one.field == "notifications")
    body = f"<NotificationConfiguration>{inside}</NotificationConfiguration>".encode()
    made = Bucket(name="b", notifications=read_answer(question, Reply(200, {}, body), "GET /b?x", NOW))
    dossier = Dossier(store="s", taken=NOW, buckets=[made], account=Answer("known", OURS))
    assert BucketSubject(made, dossier, NOW).fact("notifications.outside").value == NOTIFIED[inside]


@pytest.mark.parametrize("rule", ["<Status>enabled</Status>", "<Status/>", ""])
@pytest.mark.parametrize("field", ["lifecycle", "replication"])
def test_a_rule_whose_status_is_not_understood_may_be_in_force(field: str, rule: str) -> None:
    question = next(one for one in QUESTIONS if one.field == field)
    root = next(iter(question.roots))
    body = f"<{root}><Rule><ID>a</ID>{rule}<Expiration><Days>3</Days></Expiration></Rule></{root}>".encode()
    assert read_answer(question, Reply(200, {}, body), "GET /b?x", NOW).state == "failed"


@pytest.mark.parametrize("question", QUESTIONS, ids=lambda q: q.field)
@given(st.data())
def test_a_torn_or_altered_answer_never_becomes_another_value_unnoticed(
    question: Question, data: st.DataObject
) -> None:
    """A cut answer is unusable; it is never read as *nothing is configured*."""
    writers = {ask: (field, write) for ask, (field, write, _) in documents.WRITERS.items()}
    field, write = writers[question.ask]
    held = [getattr(b, field).value for b in saltmarsh.harbour().dossier.buckets if getattr(b, field).value is not None]
    if not held or question.field == "owner":
        return
    whole = write(data.draw(st.sampled_from(held)))
    cut = whole[: data.draw(st.integers(0, len(whole) - 1))]
    answer: Any = read_answer(question, Reply(200, {}, cut), "GET /b?x", NOW)
    assert answer.state == "failed" or question.field == "policy", (answer, cut)


@given(st.one_of(st.binary(max_size=200), st.text(max_size=100).map(str.encode)))
def test_any_bytes_are_a_dossier_or_are_refused(document: bytes) -> None:
    with pytest.raises(LanternError):
        decode(document, "x.json")


@given(st.data())
def test_an_altered_dossier_is_read_or_refused(data: st.DataObject) -> None:
    document: Any = json.loads(encode(saltmarsh.harbour().dossier))
    bucket = data.draw(st.sampled_from(document["buckets"]))
    field = data.draw(st.sampled_from(sorted(bucket)))
    bucket[field] = data.draw(st.one_of(st.none(), st.integers(), st.text(max_size=5), st.just({}), st.just([])))
    try:
        decode(json.dumps(document).encode(), "x.json")
    except LanternError as error:
        assert "not a dossier" in str(error)


@given(st.text(max_size=80))
def test_any_text_is_an_estate_or_a_declared_bucket_or_is_refused(text: str) -> None:
    for read in (read_estate, read_declared):
        try:
            read(text, "file.yaml")
        except LanternError as error:
            assert str(error)
