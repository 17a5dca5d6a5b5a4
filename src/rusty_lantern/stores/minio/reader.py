"""Reading the users of a store with a MinIO engine: by GET alone, from its administration protocol."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from typing import Any, TypeVar

import msgspec

from rusty_lantern.core.answer import Answer, Evidence
from rusty_lantern.core.model.identity import Credential, Group, Identity
from rusty_lantern.stores.http.client import Client
from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.http.pooled import pooled
from rusty_lantern.stores.http.refusal import read_status
from rusty_lantern.stores.minio.people import (
    Documents,
    ServiceAccount,
    ShownGroup,
    User,
    further_key,
    identity_of,
    own_key,
    policies_named,
    root_of,
)
from rusty_lantern.stores.minio.sealed import opened

T = TypeVar("T")
PATH = "/minio/admin/v3/"
PEOPLE = ("identities", "groups", "credentials")


class _Names(msgspec.Struct):
    accounts: list[str] | None = None


@dataclass
class _Asker:
    """Puts the questions."""

    client: Client
    secret: str
    moment: datetime
    below: str = ""
    """The path of the server's address, where it has one."""

    async def ask(self, what: str, wanted: type[T], *query: tuple[str, str], sealed: bool = False) -> T:
        """One answer. `sealed`: it comes encrypted, and is kept as what it says. Raises `RequestFailed`."""
        reshape: Callable[[bytes], bytes] | None = (lambda body: opened(body, self.secret)) if sealed else None
        reply = await self.client.ask(path=self.below + PATH + what, query=query, reshape=reshape)
        read_status(reply)
        try:
            return msgspec.json.decode(reply.body, type=wanted)
        except (msgspec.DecodeError, UnicodeDecodeError, RecursionError) as error:
            note = f"the answer cannot be read: {str(error)[:120]}"
            raise RequestFailed("failed", note, "unreadable answer") from None

    def evidence(self, what: str, answer: str = "200") -> Evidence:
        """Where an answer is from."""
        return Evidence(f"GET {self.below}{PATH}{what}", answer, self.moment)

    def lost(self, what: str, error: RequestFailed) -> Answer[Any]:
        """What there is in place of an answer."""
        return Answer(error.state, None, error.note, self.evidence(what, error.answer))


async def read_users(
    client: Client, secret: str, moment: datetime, most: int | None = None, below: str = ""
) -> dict[str, Any]:
    """The dossier's fields that the administration protocol fills, with the further keys of `most` users or of all.
    `secret`: the secret key by which answers are decrypted; `below`: the path of the server's address. Never raises for
    what the server does."""
    asker = _Asker(client, secret, moment, below)
    try:
        users = await asker.ask("list-users", dict[str, User], sealed=True)
    except RequestFailed as error:
        return dict.fromkeys(PEOPLE, asker.lost("list-users", error))
    documents = await _documents(asker)
    groups = await _groups(asker, documents)
    evidence = asker.evidence("list-users")
    identities = [identity_of(name, user, documents, groups, evidence) for name, user in sorted(users.items())]
    return {
        "identities": Answer("known", [root_of(evidence), *identities], "", evidence),
        "groups": groups,
        "credentials": await _keys(asker, identities, groups, most),
    }


async def _documents(asker: _Asker) -> Documents:
    try:
        written = await asker.ask("list-canned-policies", dict[str, msgspec.Raw])
    except RequestFailed as error:
        return asker.lost("list-canned-policies", error)
    texts = {name: bytes(document).decode("utf-8", "replace") for name, document in written.items()}
    return Answer("known", texts, "", asker.evidence("list-canned-policies"))


async def _groups(asker: _Asker, documents: Documents) -> Answer[list[Group]]:
    async def shown(name: str) -> Group:
        one = await asker.ask("group", ShownGroup, ("group", name))
        return Group(name=name, members=sorted(one.members or ()), policies=policies_named(one.policy, documents))

    try:
        names: list[str] | None = await asker.ask("groups", list[str] | None)  # type: ignore[arg-type]
        return Answer("known", await pooled(shown, sorted(names or ())), "", asker.evidence("groups"))
    except RequestFailed as error:
        return asker.lost("groups", error)
    except ExceptionGroup as several:
        return asker.lost("group", _first(several))


async def _keys(
    asker: _Asker, users: list[Identity], groups: Answer[list[Group]], most: int | None
) -> Answer[list[Credential]]:
    """The key that is a user's name, and the service accounts of each, and of whoever asks. Root's own is not shown."""
    by_name = {user.name: user for user in users}

    async def further(owner: str) -> list[Credential]:
        names = await asker.ask("list-service-accounts", _Names, *([("user", owner)] if owner else []), sealed=True)
        return [await account(name) for name in sorted(names.accounts or ())]

    async def account(name: str) -> Credential:
        shown = await asker.ask("info-service-account", ServiceAccount, ("accessKey", name), sealed=True)
        evidence = asker.evidence("info-service-account")
        return further_key(name, shown, by_name.get(shown.parent_user), groups, evidence)

    try:
        every = await pooled(further, ["", *list(by_name)[:most]])
    except ExceptionGroup as several:
        return asker.lost("list-service-accounts", _first(several))
    keys = {key.id: key for key in [*map(own_key, users), *(key for some in every for key in some)]}
    return Answer("known", list(keys.values()), "", asker.evidence("list-users"))


def _first(several: ExceptionGroup[Exception]) -> RequestFailed:
    """The first of errors that came together. Raises them again where one is another sort of error."""
    failed, others = several.split(RequestFailed)
    if others is not None or failed is None:
        raise several
    first = failed.exceptions[0]
    assert isinstance(first, RequestFailed)
    return first
