"""Reading a Keystone identity service: users, groups, effective roles, application credentials, S3 keys and trusts.

It lists everybody who can have a token, and so everybody who can be let in by name. What a question is denied makes
what hangs on it unread, for everybody whom it may concern.
"""

from __future__ import annotations

import asyncio
from dataclasses import dataclass
from datetime import datetime
from typing import Any, TypeVar
from urllib.parse import parse_qsl, urlsplit

from rusty_lantern.core.answer import Answer, Evidence
from rusty_lantern.core.config.estate import Service
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.stores.http.client import Client
from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.http.pooled import pooled
from rusty_lantern.stores.keystone.at_gateway import at_gateway, beside_own_users
from rusty_lantern.stores.keystone.documents import (
    ApplicationCredential,
    Assignment,
    Inference,
    Named,
    S3Key,
    Trust,
    User,
    is_gone,
    read_list,
    read_one,
    without_secrets,
)
from rusty_lantern.stores.keystone.people import Lists, People
from rusty_lantern.stores.keystone.permissions import Account

T = TypeVar("T")
MOST_PAGES = 1000
PEOPLE = ("identities", "groups", "credentials")


async def read_people(
    client: Client, service: Service, dossier: Dossier, moment: datetime, most: int | None = None
) -> dict[str, Any]:
    """The dossier's fields that the service fills, of the first `most` users or of all. Never raises for what the
    service does."""
    asker = _Client(client, urlsplit(service.at).path.rstrip("/"), moment)
    users = await asker.list("/users", "users", User)
    if users.value is None:
        return dict.fromkeys(PEOPLE, users)
    users = users.map(lambda every: every[:most])
    lists = await _read_lists(asker, users.value or [])
    gateway, account = dossier.acl_reading == "gateway", dossier.account.value or ""
    swift = Account(account.rpartition("_")[2], service.roles, account)
    people = People(users.value or [], lists, at_gateway(dossier, service.roles) if gateway else swift)
    read: dict[str, Answer[Any]] = {
        "identities": Answer("known", [*people.identities(), *people.roles_from_outside()], "", users.evidence),
        "groups": people.groups(),
        "credentials": people.credentials(),
    }
    return beside_own_users(dossier, read) if gateway else read


@dataclass
class _Client:
    """Puts the questions."""

    client: Client
    base: str
    moment: datetime

    async def list(
        self, path: str, name: str, entry: type[T], query: tuple[tuple[str, str], ...] = (), *, secret: bool = False
    ) -> Answer[list[T]]:
        """Every entry of a list, page by page. `secret`: its answers show secrets, which are dropped first."""
        question, following, listed = f"GET {self.base}{path}", query, list[T]()
        seen = {query}
        try:
            for _ in range(MOST_PAGES):
                reply = await self.client.ask(
                    path=self.base + path, query=following, reshape=without_secrets if secret else None
                )
                entries, more = read_list(reply, name, entry)
                listed += entries
                if not more:
                    return Answer("known", listed, "", Evidence(question, str(reply.status), self.moment))
                following = tuple(parse_qsl(urlsplit(more).query, keep_blank_values=True))
                if following in seen:
                    break
                seen.add(following)
        except RequestFailed as error:
            return Answer(error.state, None, error.note, Evidence(question, error.answer, self.moment))
        return Answer("failed", None, "the list never ends", Evidence(question, "endless list", self.moment))

    async def one(self, path: str, name: str, entry: type[T]) -> Answer[T]:
        """One entry; absent where the service has none."""
        question = f"GET {self.base}{path}"
        try:
            reply = await self.client.ask(path=self.base + path)
            if is_gone(reply):
                return Answer("absent", None, "", Evidence(question, "404", self.moment))
            return Answer("known", read_one(reply, name, entry), "", Evidence(question, str(reply.status), self.moment))
        except RequestFailed as error:
            return Answer(error.state, None, error.note, Evidence(question, error.answer, self.moment))


async def _read_lists(asker: _Client, users: list[User]) -> Lists:
    roles, domains, projects, groups, trusts, providers = await asyncio.gather(
        asker.list("/role_assignments", "role_assignments", Assignment, (("effective", ""), ("include_names", ""))),
        asker.list("/domains", "domains", Named),
        asker.list("/projects", "projects", Named),
        asker.list("/groups", "groups", Named),
        asker.list("/OS-TRUST/trusts", "trusts", Trust),
        asker.list("/OS-FEDERATION/identity_providers", "identity_providers", Named),
    )

    async def of_user(user: User) -> tuple[Answer[list[ApplicationCredential]], Answer[list[S3Key]]]:
        of, mine = f"/users/{user.id}", "application_credentials"
        return await asyncio.gather(
            asker.list(f"{of}/{mine}", mine, ApplicationCredential),
            asker.list(f"{of}/credentials/OS-EC2", "credentials", S3Key, secret=True),
        )

    async def of_group(group: Named) -> Answer[list[Named]]:
        return await asker.list(f"/groups/{group.id}/users", "users", Named)

    async def whole(trust: Trust) -> Answer[Trust]:
        """The list leaves out a trust's roles, and has trusts that are over: those are not there when asked for."""
        return await asker.one(f"/OS-TRUST/trusts/{trust.id}", "trust", Trust)

    implied = await asker.list("/role_inferences", "role_inferences", Inference)
    own = await pooled(of_user, users)
    inside = await pooled(of_group, groups.value or ())
    if trusts.value is not None:
        known = await pooled(whole, [trust for trust in trusts.value if trust.deleted_at is None])
        lost = next((one for one in known if one.unread), None)
        trusts = (
            Answer("known", [one.value for one in known if one.value is not None], "", trusts.evidence)
            if lost is None
            else Answer(lost.state, None, lost.note, lost.evidence)
        )
    return Lists(
        roles, domains, projects, groups,
        {group.id: answer for group, answer in zip(groups.value or (), inside, strict=True)},
        {user.id: answer for user, (answer, _) in zip(users, own, strict=True)},
        {user.id: answer for user, (_, answer) in zip(users, own, strict=True)},
        trusts, providers, implied,
    )  # fmt: skip
