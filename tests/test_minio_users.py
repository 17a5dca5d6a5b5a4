"""Users of a MinIO engine as its answers tell of them, sound and not; a real one is asked in test_juicefs.py."""

from __future__ import annotations

import asyncio
import json
from collections.abc import Callable
from datetime import UTC, datetime
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rusty_lantern.core.access.rules.identity_policies import identity_policies_of
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.dossier import Dossier, Software
from rusty_lantern.core.model.store_index import StoreIndex
from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.http.reply import Reply
from rusty_lantern.stores.minio.reader import PATH, PEOPLE, read_users
from rusty_lantern.stores.minio.sealed import opened
from tests.juicefs_server import sealed

MOMENT, SECRET = datetime(2026, 11, 28, tzinfo=UTC), "sk-keeper-000"
SEALED = ("list-users", "list-service-accounts", "info-service-account")
READS = {"Version": "2012-10-17", "Statement": [{"Effect": "Allow", "Action": ["s3:GetObject"], "Resource": ["*"]}]}
POWER = {"Version": "2012-10-17", "Statement": [{"Effect": "Allow", "Action": ["admin:*"]}]}
NO_POWER = {"Version": "2012-10-17", "Statement": [{"Effect": "Deny", "Action": ["admin:Create*"]}]}
SOUND: dict[str, Any] = {
    "list-users": {"deck": {"policyName": "reads,power", "status": "enabled"}, "night": {"status": "disabled"},
                   "odd": {"policyName": "gone", "status": "asleep"}, "torn": {"policyName": "power,no-power"}},
    "list-canned-policies": {"reads": READS, "power": POWER, "no-power": NO_POWER},
    "groups": ["crew"], "group": {"name": "crew", "members": ["night"], "policy": "reads"},
    "list-service-accounts": {"accounts": ["SVC1"]},
    "info-service-account": {"parentUser": "deck", "accountStatus": "off", "impliedPolicy": False,
                             "policy": json.dumps(READS)},
}  # fmt: skip


class Server:
    """Answers as the protocol does; some answers are replaced."""

    def __init__(self, **instead: Any) -> None:
        self.answers = SOUND | {name.replace("_", "-"): answer for name, answer in instead.items()}

    async def ask(self, *, path: str, query: Any, reshape: Callable[[bytes], bytes] | None) -> Reply:
        what = path.removeprefix(PATH)
        answer = self.answers[what]
        if isinstance(answer, int):
            return Reply(answer, {}, b'{"Code":"AccessDenied"}')
        body = answer if isinstance(answer, bytes) else json.dumps(answer).encode()
        if what in SEALED and not isinstance(answer, bytes):
            body = sealed(body, SECRET)
        return Reply(200, {}, reshape(body) if reshape else body)


def read(**instead: Any) -> dict[str, Any]:
    return asyncio.run(read_users(Server(**instead), SECRET, MOMENT))  # type: ignore[arg-type]


@pytest.mark.parametrize("word,state,value", [
    ("on", "known", "active"), ("off", "known", "disabled"), ("dormant", "failed", None), ("", "failed", None),
])  # fmt: skip
def test_a_service_account_of_a_status_that_is_not_known_is_not_disabled(word: str, state: str, value: Any) -> None:
    told = read(info_service_account=SOUND["info-service-account"] | {"accountStatus": word})
    [account] = [one for one in told["credentials"].value if one.id == "SVC1"]
    assert (account.state.state, account.state.value) == (state, value)


def test_users_groups_and_keys_are_what_the_answers_say() -> None:
    told = read()
    users = {one.name: one for one in told["identities"].value}
    assert list(users) == ["root", "deck", "night", "odd", "torn"]
    assert [one.name for one in users["deck"].policies.value] == ["reads", "power"]
    assert users["deck"].administers.value[0] == "admin:CreateUser"
    assert users["night"].state.value == "disabled" and users["night"].groups.value == ["crew"]
    assert users["night"].administers.state == "absent"
    for answer in (users["odd"].policies, users["odd"].state, users["torn"].administers, users["torn"].state):
        assert answer.state == "failed"
    keys = {one.id: one for one in told["credentials"].value}
    assert {name: one.owner for name, one in keys.items()} == {
        "deck": "deck", "night": "night", "odd": "odd", "torn": "torn", "SVC1": "deck",
    }  # fmt: skip
    assert keys["SVC1"].state.value == "disabled"
    assert keys["SVC1"].stands_for is not None and keys["SVC1"].stands_for.boundary.value == json.dumps(READS)
    dossier = Dossier(store="quay", taken=MOMENT, software=Answer("known", Software("", dialect="minio-2021")), **told)
    refused = identity_policies_of(StoreIndex(dossier, MOMENT), users["night"]).statements
    assert [one.effect for one in refused] == ["Allow", "Deny"]  # its group's, and that it is disabled


@pytest.mark.parametrize(
    ("instead", "lost"),
    [
        ({"list_users": 403}, PEOPLE), ({"list_users": b"{}"}, PEOPLE), ({"list_users": 500}, PEOPLE),
        ({"groups": 403}, ("groups",)), ({"group": 403}, ("groups",)), ({"groups": {"a": 1}}, ("groups",)),
        ({"list_service_accounts": 403}, ("credentials",)), ({"info_service_account": 501}, ("credentials",)),
        ({"info_service_account": {"parentUser": 3}}, ("credentials",)),
    ],
)  # fmt: skip
def test_what_is_not_answered_is_unread_and_never_a_user_less(instead: dict[str, Any], lost: tuple[str, ...]) -> None:
    told = read(**instead)
    assert {name for name in PEOPLE if told[name].unread} == set(lost)
    if "groups" in lost and "identities" not in lost:
        assert all(one.groups.unread for one in told["identities"].value if one.kind != "root")


def test_policies_that_are_not_read_leave_what_users_may_do_unread() -> None:
    users = {one.name: one for one in read(list_canned_policies=403)["identities"].value}
    assert users["deck"].policies.state == "denied" and users["deck"].administers.unread
    assert users["night"].policies.value == []
    assert read(list_canned_policies=403)["groups"].value[0].policies.state == "denied"


@given(st.binary(max_size=200))
def test_no_bytes_are_taken_for_an_answer(body: bytes) -> None:
    with pytest.raises(RequestFailed):
        opened(body, SECRET)


def test_an_answer_that_was_changed_or_cut_off_is_not_taken() -> None:
    text = b'{"deck": {}}' * 5000
    for chacha in (False, True):
        body = sealed(text, SECRET, chacha=chacha)
        assert opened(body, SECRET) == text
        whole_pieces = len(body) - len(text) % 16384 - 16
        for wrong in (body[:-1], body[:whole_pieces], body[:100] + b"?" + body[101:], body[:32] + b"\2" + body[33:]):
            with pytest.raises(RequestFailed):
                opened(wrong, SECRET)
        with pytest.raises(RequestFailed):
            opened(body, "another secret")
