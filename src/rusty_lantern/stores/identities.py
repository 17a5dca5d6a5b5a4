"""Reading an identity service of the widely implemented query protocol: users, groups, roles, permissions, keys.

Only actions that read are ever named (`READING`), and they are put as GET, so that this module cannot change anything.
What the service does not offer is learnt once and not asked again. One action tells most of it where it is offered
(`GetAccountAuthorizationDetails`); where it is not, users are listed and asked about one by one.
"""

from __future__ import annotations

import asyncio
import re
from collections.abc import AsyncIterator
from datetime import datetime
from typing import Any, Literal
from urllib.parse import unquote

import msgspec

from rusty_lantern.core.dossier import Dossier
from rusty_lantern.core.evidence import Answer, Evidence
from rusty_lantern.core.holders import Credential, Document, Group, Holder, Kind, Password
from rusty_lantern.stores.errors import Unanswered
from rusty_lantern.stores.s3.answers import Element, child, children, name, parse, text
from rusty_lantern.stores.s3.client import Client
from rusty_lantern.stores.s3.counts import read_time
from rusty_lantern.stores.s3.settings import error_code, refusal

VERSION = "2010-05-08"
READING = frozenset({
    "GetAccountAuthorizationDetails", "GetAccountSummary", "ListUsers", "ListGroupsForUser", "ListUserPolicies",
    "GetUserPolicy", "ListAttachedUserPolicies", "GetPolicy", "GetPolicyVersion", "ListAccessKeys",
    "GetAccessKeyLastUsed", "GetLoginProfile", "ListMFADevices",
})  # fmt: skip
MAX_PAGES = 2_000
AT_ONCE = 8
"""Users that are asked about at the same time."""


class Missing(Exception):
    """The service knows no such thing."""


class Asker:
    """Puts questions to one identity service."""

    def __init__(self, client: Client, moment: datetime) -> None:
        self.client = client
        self.moment = moment
        self.lacking: dict[str, Unanswered] = {}

    async def ask(self, action: str, **about: str) -> Element:
        """The result of one action. Raises `Unanswered`, or `Missing` where there is no such entity."""
        assert action in READING
        if action in self.lacking:
            raise self.lacking[action]
        query = (("Action", action), ("Version", VERSION), *about.items())
        reply = await self.client.ask(query=query)
        if reply.status == 200:
            root = parse(reply.body)
            result = child(root, f"{action}Result")
            if result is not None:
                return result
            raise self._lacks(action, f'answered with a "{name(root)[:60]}"')
        code, message = error_code(_error_part(reply.body))
        if reply.status == 404 and code == "NoSuchEntity":
            raise Missing
        if reply.status in (401, 403):
            raise Unanswered("denied", refusal(code), f"{reply.status} {code}".strip())
        if reply.status in (404, 405, 501) or "Action" in code or code in ("NotImplemented", "MethodNotAllowed"):
            raise self._lacks(action, f"answered {reply.status} {code}".strip())
        raise Unanswered("failed", f"answered {reply.status} {code or message}".strip(), str(reply.status))

    def _lacks(self, action: str, answer: str) -> Unanswered:
        self.lacking[action] = Unanswered("unsupported", "", answer)
        return self.lacking[action]

    async def pages(self, action: str, **about: str) -> AsyncIterator[Element]:
        """The results of an action, page by page. Raises `Unanswered` for a list that never ends."""
        seen = {""}
        marker: dict[str, str] = {}
        for _ in range(MAX_PAGES):
            result = await self.ask(action, **about, **marker)
            yield result
            following = text(result, "Marker")
            if text(result, "IsTruncated") != "true":
                return
            if following in seen:
                break
            seen.add(following)
            marker = {"Marker": following}
        raise Unanswered("failed", f"{action} never ends: a page came twice, or too many came", "endless list")

    async def answer(self, action: str, read: Any, **about: str) -> Answer[Any]:
        """What `read` makes of an action's result; absent where there is no such entity."""
        asked = f"GET {action}" + "".join(f" {value}" for value in about.values())
        try:
            return Answer("known", read(await self.ask(action, **about)), "", Evidence(asked, "200", self.moment))
        except Missing:
            return Answer("absent", None, "", Evidence(asked, "404", self.moment))
        except Unanswered as error:
            return Answer(error.state, None, error.note, Evidence(asked, error.answer, self.moment))


def _error_part(body: bytes) -> bytes:
    """The inner error of an answer in the query protocol's wrapping."""
    start, end = body.find(b"<Error>"), body.rfind(b"</Error>")
    return body[start : end + len(b"</Error>")] if 0 <= start < end else body


async def read_identities(client: Client, moment: datetime) -> dict[str, Any]:
    """The dossier's fields that an identity service tells: identities, groups, credentials, the account's number."""
    asker = Asker(client, moment)
    try:
        users = await _users(asker)
    except Unanswered as error:
        asked = Evidence(f"ListUsers at {client.store.at}", error.answer, moment)
        lost: Answer[Any] = Answer(error.state, None, error.note, asked)
        return {"identities": lost, "groups": lost, "credentials": lost}
    details = await _details(asker)
    holders, groups, roles = _joined(asker, users, details)
    read = await _each(asker, holders)
    root, root_keys = await _root(asker)
    evidence = Evidence(f"ListUsers at {client.store.at}", "200", moment)
    keys = [key for _, mine in read for key in mine] + root_keys
    unsettled = next((key for key in keys if key.id == ""), None)
    credentials: Answer[Any] = Answer("known", keys, "", evidence)
    if unsettled is not None:
        credentials = Answer(unsettled.state.state, None, unsettled.state.note, unsettled.state.evidence)
    return {
        "identities": Answer("known", [*root, *(holder for holder, _ in read), *roles], "", evidence),
        "groups": groups,
        "credentials": credentials,
        "account_number": _number([holder.resource for holder in holders]),
    }


def _number(resources: list[str]) -> str:
    """The account's number, where all resource names agree on one."""
    numbers = {found[1] for name in resources if (found := re.match(r"arn:[^:]*:iam::(\d{12}):", name))}
    return numbers.pop() if len(numbers) == 1 else ""


async def _users(asker: Asker) -> list[Element]:
    found: list[Element] = []
    async for page in asker.pages("ListUsers"):
        listed = child(page, "Users")
        found.extend(children(listed, "member") if listed is not None else ())
    return found


class _Details:
    """What the account's authorization details tell: permissions by user, groups, roles, documents by name."""

    def __init__(self) -> None:
        self.users: dict[str, Element] = {}
        self.groups: list[Element] = []
        self.roles: list[Element] = []
        self.documents: dict[str, str] = {}

    def take(self, page: Element) -> None:
        """Take in one page."""
        for entry in _members(page, "UserDetailList"):
            self.users[text(entry, "UserName")] = entry
        self.groups.extend(_members(page, "GroupDetailList"))
        self.roles.extend(_members(page, "RoleDetailList"))
        for entry in _members(page, "Policies"):
            for version in _members(entry, "PolicyVersionList"):
                if text(version, "IsDefaultVersion") == "true":
                    self.documents[text(entry, "Arn")] = unquote(text(version, "Document"))

    def attached(self, entry: Element, inline: str) -> list[Document]:
        """The documents that are attached to a user, group or role, and those that stand in it."""
        found = [
            Document(text(one, "PolicyName"), unquote(text(one, "PolicyDocument")), "inline")
            for one in _members(entry, inline)
        ]
        for one in _members(entry, "AttachedManagedPolicies"):
            document = self.documents.get(text(one, "PolicyArn"), "")
            found.append(Document(text(one, "PolicyName"), document, "attached"))
        return found


def _members(element: Element, wanted: str) -> list[Element]:
    listed = child(element, wanted)
    return list(children(listed, "member")) if listed is not None else []


async def _details(asker: Asker) -> _Details | Unanswered:
    details = _Details()
    try:
        async for page in asker.pages("GetAccountAuthorizationDetails"):
            details.take(page)
    except Unanswered as error:
        return error
    return details


def _joined(
    asker: Asker, users: list[Element], details: _Details | Unanswered
) -> tuple[list[Holder], Answer[list[Group]], list[Holder]]:
    """Users with their permissions where these are told, groups, and roles."""
    evidence = Evidence("GetAccountAuthorizationDetails", "200", asker.moment)
    if isinstance(details, Unanswered):
        asked = msgspec.structs.replace(evidence, answer=details.answer)
        lost: Answer[Any] = Answer(details.state, None, details.note, asked)
        return [_user(entry, lost, lost, {}) for entry in users], lost, []
    holders = []
    groups_of: dict[str, list[str]] = {}
    for entry in users:
        told = details.users.get(text(entry, "UserName"))
        if told is None:
            gone: Answer[Any] = Answer("failed", None, "the authorization details leave it out", evidence)
            holders.append(_user(entry, gone, gone, {}))
            continue
        groups = [(one.text or "").strip() for one in _members(told, "GroupList")]
        policies = _documents(details.attached(told, "UserPolicyList"), evidence)
        holders.append(_user(entry, policies, Answer("known", groups, "", evidence), _bounded(told, details)))
        for group in groups:
            groups_of.setdefault(group, []).append(text(entry, "UserName"))
    found = [
        Group(
            name=text(entry, "GroupName"),
            members=groups_of.get(text(entry, "GroupName"), []),
            policies=_documents(details.attached(entry, "GroupPolicyList"), evidence),
        )
        for entry in details.groups
    ]
    roles = [_role(entry, details, evidence) for entry in details.roles]
    return holders, Answer("known", found, "", evidence), roles


def _documents(found: list[Document], evidence: Evidence) -> Answer[list[Document]]:
    """The documents, unless the text of one was not told."""
    missing = next((document for document in found if not document.text), None)
    if missing is not None:
        return Answer("failed", None, f"the text of the permission {missing.name} was not told", evidence)
    return Answer("known", found, "", evidence)


def _bounded(entry: Element, details: _Details) -> dict[str, Any]:
    boundary = text(entry, "PermissionsBoundary", "PermissionsBoundaryArn")
    tags = {text(one, "Key"): text(one, "Value") for one in _members(entry, "Tags")}
    found: dict[str, Any] = {"tags": Answer("known", tags)}
    if boundary:
        document = details.documents.get(boundary)
        found["boundary"] = Answer("known", document) if document else Answer("failed", None, "its text was not told")
    return found


def _user(entry: Element, policies: Answer[list[Document]], groups: Answer[list[str]], more: dict[str, Any]) -> Holder:
    return Holder(
        name=text(entry, "UserName"),
        resource=text(entry, "Arn"),
        state=Answer("known", "enabled", "the service has no way to disable an identity as a whole"),
        created=_moment(text(entry, "CreateDate")),
        password=Answer("failed", None, text(entry, "PasswordLastUsed")),
        groups=groups,
        policies=policies,
        **more,
    )


def _role(entry: Element, details: _Details, evidence: Evidence) -> Holder:
    none: Answer[Any] = Answer("absent")
    return Holder(
        name=f"role {text(entry, 'RoleName')}",
        resource=text(entry, "Arn"),
        kind="role",
        state=Answer("known", "enabled"),
        created=_moment(text(entry, "CreateDate")),
        second_factor=Answer("unsupported"),
        password=none,
        groups=none,
        policies=_documents(details.attached(entry, "RolePolicyList"), evidence),
        **_bounded(entry, details),
    )


def _moment(written: str) -> Answer[datetime]:
    found = read_time(written) if written else None
    return Answer("known", found) if found else Answer("failed", None, "the service does not say when")


async def _each(asker: Asker, holders: list[Holder]) -> list[tuple[Holder, list[Credential]]]:
    """Each user's password, second factor and keys. A credential without an id stands for keys that were not told."""
    left = iter(enumerate(holders))
    found: dict[int, tuple[Holder, list[Credential]]] = {}

    async def worker() -> None:
        for number, holder in left:
            found[number] = await _one(asker, holder)

    async with asyncio.TaskGroup() as group:
        for _ in range(AT_ONCE):
            group.create_task(worker())
    return [found[number] for number in sorted(found)]


async def _one(asker: Asker, holder: Holder) -> tuple[Holder, list[Credential]]:
    user = {"UserName": holder.name}
    if holder.policies.state == "unsupported":
        policies, groups = await asyncio.gather(_own_documents(asker, holder.name), _own_groups(asker, user))
        holder = msgspec.structs.replace(holder, policies=policies, groups=groups)
    last_seen = read_time(holder.password.note) if holder.password.note else None
    signed_in: Answer[datetime] = Answer("known", last_seen) if last_seen else Answer("absent")
    password, factor, listed = await asyncio.gather(
        asker.answer("GetLoginProfile", lambda r: _password(r, signed_in), **user),
        asker.answer("ListMFADevices", lambda r: bool(_members(r, "MFADevices")), **user),
        asker.answer("ListAccessKeys", lambda r: _members(r, "AccessKeyMetadata"), **user),
    )
    if listed.value is None and listed.state != "absent":
        keys = [Credential(id="", owner=holder.name, state=Answer(listed.state, None, listed.note, listed.evidence))]
    else:
        keys = [await _key(asker, holder.name, entry) for entry in listed.value or ()]
    kinds: dict[str, Kind] = {"known": "person", "absent": "service"}
    kind = kinds.get(password.state, "unknown")
    return msgspec.structs.replace(holder, password=password, second_factor=factor, kind=kind), keys


async def _own_groups(asker: Asker, user: dict[str, str]) -> Answer[list[str]]:
    names: Answer[Any] = await asker.answer(
        "ListGroupsForUser", lambda r: [text(one, "GroupName") for one in _members(r, "Groups")], **user
    )
    return names


async def _own_documents(asker: Asker, user: str) -> Answer[list[Document]]:
    """A user's own permissions, asked for one by one. Whatever cannot be read makes them all unread."""
    asked = Evidence(f"ListUserPolicies {user}", "200", asker.moment)
    found: list[Document] = []
    try:
        async for page in asker.pages("ListUserPolicies", UserName=user):
            for one in _members(page, "PolicyNames"):
                told = await asker.ask("GetUserPolicy", UserName=user, PolicyName=one.text or "")
                found.append(Document(one.text or "", unquote(text(told, "PolicyDocument")), "inline"))
        async for page in asker.pages("ListAttachedUserPolicies", UserName=user):
            for one in _members(page, "AttachedPolicies"):
                found.append(await _managed(asker, text(one, "PolicyName"), text(one, "PolicyArn")))
    except Missing:
        return Answer("failed", None, "a permission was gone when it was asked for", asked)
    except Unanswered as error:
        return Answer(error.state, None, error.note, msgspec.structs.replace(asked, answer=error.answer))
    return _documents(found, asked)


async def _managed(asker: Asker, title: str, resource: str) -> Document:
    version = text(await asker.ask("GetPolicy", PolicyArn=resource), "Policy", "DefaultVersionId")
    told = await asker.ask("GetPolicyVersion", PolicyArn=resource, VersionId=version)
    return Document(title, unquote(text(told, "PolicyVersion", "Document")), "attached")


def _password(result: Element, last_used: Answer[datetime]) -> Password:
    return Password(_moment(text(result, "LoginProfile", "CreateDate")), last_used)


async def _key(asker: Asker, owner: str, entry: Element) -> Credential:
    used = await asker.answer(
        "GetAccessKeyLastUsed",
        lambda r: read_time(text(r, "AccessKeyLastUsed", "LastUsedDate")),
        AccessKeyId=text(entry, "AccessKeyId"),
    )
    live: Literal["live", "disabled"] = "live" if text(entry, "Status") == "Active" else "disabled"
    return Credential(
        id=text(entry, "AccessKeyId"),
        owner=owner,
        state=Answer("known", live),
        created=_moment(text(entry, "CreateDate")),
        last_used=Answer("absent", None, "", used.evidence) if used.state == "known" and used.value is None else used,
        expires=Answer("absent"),
        used_for=Answer("unsupported"),
    )


ROOT = "account root"


async def _root(asker: Asker) -> tuple[list[Holder], list[Credential]]:
    """The account's root, as the account summary tells of it."""
    summary = await asker.answer("GetAccountSummary", _summary)
    if summary.value is None:
        return [], []
    told = summary.value
    factor: Answer[bool] = Answer("known", told.get("AccountMFAEnabled") == "1", "", summary.evidence)
    none: Answer[Any] = Answer("absent")
    untold: Answer[Any] = Answer("unsupported", None, "the service tells only that there is one", summary.evidence)
    root = Holder(
        name=ROOT, kind="root", state=Answer("known", "enabled"), second_factor=factor, groups=none, policies=none,
        password=Answer("known", Password(untold, untold)),
    )  # fmt: skip
    keys = int(told.get("AccountAccessKeysPresent") or 0)
    mine = [
        Credential(id=f"root-key-{n + 1}", owner=ROOT, state=Answer("known", "live"), created=untold, last_used=untold,
                   expires=Answer("absent"), used_for=untold)
        for n in range(min(keys, 10))
    ]  # fmt: skip
    return [root], mine


def _summary(result: Element) -> dict[str, str]:
    told = child(result, "SummaryMap")
    return {text(one, "key"): text(one, "value") for one in children(told, "entry")} if told is not None else {}


def with_identities(dossier: Dossier, told: dict[str, Any]) -> Dossier:
    """The dossier with what the identity service told."""
    return msgspec.structs.replace(dossier, **told)
