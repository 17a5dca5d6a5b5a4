"""What a bucket sends into other accounts: news of changes, and copies. An account that is not shown is not ours."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import msgspec
import pytest

from rusty_lantern.core.answer import NO_EVIDENCE, Answer
from rusty_lantern.core.audit.store_subject import views
from rusty_lantern.core.config.estate import Estate
from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.stores.http.reply import Reply
from rusty_lantern.stores.s3.setting_answers import read_answer
from rusty_lantern.stores.s3.settings import QUESTIONS
from rusty_lantern.stores.swift.headers import container_fields
from tests.conftest import lantern
from tests.gateway import empty_mock_server, standard_client
from tests.real_store import workspace_for
from tests.test_copies import OPEN, SHUT, fact, store
from tests.test_decoders import NOW, OURS, THEIRS

TRUSTED = "444444444444"
MOCKS = "123456789012"
"""The account of a mock server."""
DENIED: Answer[Any] = Answer("denied", None, "AccessDenied")
UNKNOWN = None


def rule(target: str, account: str = "", status: str = "Enabled") -> str:
    of = f"<Account>{account}</Account>" if account else ""
    return f"<Rule><Status>{status}</Status><Destination><Bucket>{target}</Bucket>{of}</Destination></Rule>"


def sent(field: str, inside: str, account: Answer[str], number: str = "") -> Any:
    """The bucket `b`, with this in a document of its settings, in a store that has a bucket `kept` too."""
    question = next(one for one in QUESTIONS if one.field == field)
    root = sorted(question.roots)[-1]
    answer = read_answer(question, Reply(200, {}, f"<{root}>{inside}</{root}>".encode()), "GET /b?x", NOW)
    return in_store(field, answer, account, number)


def in_store(field: str, answer: Answer[Any], account: Answer[str], number: str = "") -> Any:
    made = msgspec.structs.replace(Bucket(name="b"), **{field: answer})
    kept = Bucket(name="kept", replication=Answer("absent"))
    dossier = Dossier(store="s", taken=NOW, buckets=[made, kept], account=account, account_number=number)
    estate = Estate(name="e", stores=(), trusted_accounts=frozenset({TRUSTED}))
    return next(view for view in views([dossier], estate, NOW) if view.name == "b")


KNOWN = Answer("known", OURS)
COPIES: dict[str, str | None] = {
    "": "off",
    rule("kept"): "off",
    rule("arn:aws:s3:::kept"): "off",
    rule("arn:aws-cn:s3:::kept"): "off",
    rule("arn:aws:s3:::kept", OURS): "off",
    rule("arn:aws:s3:::elsewhere", OURS): "off",  # not listed, and said to be ours
    rule("arn:aws:s3:::elsewhere", TRUSTED): "off",
    rule("arn:aws:s3:::elsewhere", THEIRS): "on",
    rule("arn:aws:s3:::kept", THEIRS): "on",
    rule("arn:aws:s3:::elsewhere", THEIRS, "Disabled"): "off",
    rule("arn:aws:s3:::elsewhere"): UNKNOWN,
    rule("arn:aws:s3:::elsewhere") + rule("arn:aws:s3:::kept", THEIRS): "on",
    rule("arn:aws:s3:::kept", THEIRS) + rule("arn:aws:s3:::elsewhere"): "on",
    rule("arn:aws:s3:::elsewhere", THEIRS) + rule("arn:aws:s3:::elsewhere"): "on",
    rule("arn:aws:s3:::elsewhere", "deck"): UNKNOWN,
    # another store's bucket of the same name
    rule("arn:minio:replication::0b1c:kept"): UNKNOWN,
    rule("deck:kept"): UNKNOWN,
    rule(""): UNKNOWN,
    "<Rule><Status>Enabled</Status></Rule>": UNKNOWN,
}
"""Inside of a replication document → whether anything is copied into another account."""


@pytest.mark.parametrize("inside", COPIES)
def test_a_copy_is_outside_where_its_account_is_neither_ours_nor_trusted(inside: str) -> None:
    assert sent("replication", inside, KNOWN).fact("replication.outside").value == COPIES[inside]


NEWS: dict[str, str | None] = {
    f"arn:aws:sns:x:{OURS}:t": "off",
    f"arn:aws:sns:x:{TRUSTED}:t": "off",
    f"arn:aws:sns:x:{THEIRS}:t": "on",
    "arn:minio:sqs::1:webhook": UNKNOWN,  # its fifth part is a number of its own
    "arn:aws:sns:default::shore": UNKNOWN,
    "": UNKNOWN,
}
"""Resource name of a topic → whether something in another account is notified."""


@pytest.mark.parametrize("topic", NEWS)
def test_news_goes_outside_where_its_account_is_neither_ours_nor_trusted(topic: str) -> None:
    inside = f"<TopicConfiguration><Topic>{topic}</Topic></TopicConfiguration>"
    assert sent("notifications", inside, KNOWN).fact("notifications.outside").value == NEWS[topic]


@pytest.mark.parametrize("field", ["replication", "notifications"])
def test_whose_account_it_is_takes_an_account_number_of_the_stores_own(field: str) -> None:
    def outside(target: str, account: Answer[str], number: str = "") -> tuple[str, object]:
        topic = f"<TopicConfiguration><Topic>arn:aws:sns:x:{target}:t</Topic></TopicConfiguration>"
        inside = rule("arn:aws:s3:::elsewhere", target) if field == "replication" else topic
        fact = sent(field, inside, account, number).fact(f"{field}.outside")
        return fact.state, fact.value

    canonical = Answer("known", "79a5" * 16)
    assert outside(THEIRS, canonical) == ("failed", None)
    assert outside(THEIRS, canonical, OURS) == ("known", "on")
    assert outside(OURS, canonical, OURS) == ("known", "off")
    assert outside(THEIRS, DENIED) == ("denied", None)
    assert outside(TRUSTED, DENIED) == ("known", "off")
    assert in_store(field, DENIED, KNOWN).fact(f"{field}.outside").state == "denied"


@pytest.mark.parametrize("elsewhere", ["arn:minio:replication::0b1c:", "deck:"])
def test_a_bucket_of_the_same_name_in_another_store_is_not_the_one_here(elsewhere: str) -> None:
    named = store(**{OPEN: [SHUT]})
    assert fact(named, OPEN, "target-exposure") == ("known", "closed")
    assert fact(named, SHUT, "source-exposure") == ("known", "open")
    other = store(**{OPEN: [elsewhere + SHUT]})
    assert fact(other, OPEN, "target") == ("known", elsewhere + SHUT)
    assert fact(other, OPEN, "target-exposure") == ("failed", None)
    assert fact(other, SHUT, "source-exposure") == ("failed", None)  # it may be this store by another address
    assert fact(other, "payroll-drop", "source-exposure") == ("known", "closed")


SYNCHRONIZED: dict[str, str | None] = {
    "//realm/here/AUTH_deck/kept": UNKNOWN,  # an account of this name, here or in another cluster
    "//realm/here/AUTH_bosun/kept": "on",
    "https://far.example/v1/AUTH_bosun/kept": "on",
    "https://far.example/v1/AUTH%5Fdeck/kept": UNKNOWN,
    "kept": "off",
    "": "off",
}
"""What a container is synchronized to → whether that is another account."""


@pytest.mark.parametrize("target", SYNCHRONIZED)
def test_a_container_is_synchronized_into_the_account_that_its_address_names(target: str) -> None:
    headers = {"x-container-read": "x", "x-container-sync-to": target, "x-container-sync-key": "k"}
    fields = container_fields(headers, NO_EVIDENCE, gateway=False)
    view = in_store("replication", fields["replication"], Answer("known", "AUTH_deck"))
    assert view.fact("replication.outside").value == SYNCHRONIZED[target]


@pytest.fixture
def mock() -> Iterator[str]:
    with empty_mock_server() as address:
        yield address


def test_what_a_standard_client_set_up_is_read_and_trusting_the_account_puts_it_right(
    mock: str, tmp_path: Path
) -> None:
    client = standard_client(mock, "mock", "mock")
    targets = {"to-kept": "", "to-nobody": None, "to-ours": MOCKS, "to-theirs": THEIRS, "to-whom": ""}
    for name in (*targets, "kept"):
        client.create_bucket(Bucket=name)
        client.put_bucket_versioning(Bucket=name, VersioningConfiguration={"Status": "Enabled"})
    for name, account in targets.items():
        if account is not None:
            there = {"Bucket": f"arn:aws:s3:::{'kept' if name == 'to-kept' else 'far-away'}"}
            there |= {"Account": account} if account else {}
            copied = {"Status": "Enabled", "Prefix": "", "Destination": there}
            client.put_bucket_replication(
                Bucket=name, ReplicationConfiguration={"Role": f"arn:aws:iam::{MOCKS}:role/copy", "Rules": [copied]}
            )
    standard_client(mock, "mock", "mock", service="iam").create_user(UserName="bosun")
    folder = workspace_for(tmp_path / "w", mock, ("mock", "mock"))
    estate = (folder / "estate.yaml").read_text() + f"    identities: {{at: {mock}}}\n"
    (folder / "estate.yaml").write_text(estate)
    baseline = "title: sent away\nsheets:\n  - sheet: copies\n    require: {replication.outside: off}\n"
    (folder / "baseline.yaml").write_text(baseline)
    assert lantern("survey", cwd=folder).code == 0

    def outside() -> dict[str, Any]:
        shown = {name: json.loads(lantern("show", f"real/{name}", "--json", cwd=folder).out) for name in targets}
        return {
            name: next(fact["value"] for fact in of["facts"] if fact["fact"] == "replication.outside")
            for name, of in shown.items()
        }

    inside = {"to-kept": "off", "to-nobody": "off", "to-ours": "off", "to-whom": None}
    assert outside() == inside | {"to-theirs": "on"}
    assert "trust the account in the estate file" in lantern("remedy", "real/to-theirs", cwd=folder).out
    [why] = json.loads(lantern("audit", "--json", cwd=folder).out)["overview"]["unknown"]
    assert (why["subjects"], "see whose it is and waive it" in why["settled_by"]) == (["real/to-whom"], True)
    (folder / "estate.yaml").write_text(f'{estate}trusted: {{accounts: ["{THEIRS}"]}}\n')
    assert outside() == inside | {"to-theirs": "off"}
