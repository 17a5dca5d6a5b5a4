"""Reading an identity service: users, groups, roles, permissions and their boundaries, keys.

One action gives most of it where it may be asked (`GetAccountAuthorizationDetails`); where not, each user, group and
role is asked about by itself. Either way says the same.
"""

from __future__ import annotations

import asyncio
from collections.abc import Iterable, Mapping
from datetime import datetime
from functools import partial
from typing import Any, Literal
from urllib.parse import unquote

import msgspec

from rusty_lantern.core.access.policy.assuming import Trusts
from rusty_lantern.core.answer import Answer, Evidence
from rusty_lantern.core.model.identity import AttachedPolicy, Credential, Group, Identity, Kind
from rusty_lantern.core.model.unlisted import any_of
from rusty_lantern.stores.http.client import Client
from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.http.pooled import pooled
from rusty_lantern.stores.http.timestamps import read_time
from rusty_lantern.stores.http.xml import Element, child, text
from rusty_lantern.stores.iam.answers import (
    Kept,
    account_number_of,
    read_answer_moment,
    read_boundary,
    read_documents,
    read_password,
    read_role,
    read_user,
    trust_policy_of,
    with_what_follows,
)
from rusty_lantern.stores.iam.query_client import Missing, QueryClient, members
from rusty_lantern.stores.iam.root import read_root


async def read_identities(client: Client, moment: datetime, most: int | None = None) -> dict[str, Any]:
    """The dossier's fields that an identity service fills: identities, groups, credentials, the account's number.
    `most`: so many users, roles and groups represent all, of the first page of each list."""
    asker = QueryClient(client, moment, most)
    try:
        users = await _users(asker)
    except RequestFailed as error:
        refused = Evidence(f"ListUsers at {client.store.at}", error.answer, moment)
        lost: Answer[Any] = Answer(error.state, None, error.note, refused)
        return {"identities": lost, "groups": lost, "credentials": lost}
    details = await _details(asker)
    if most is not None:
        there = [one for one in users if not isinstance(details, _Details) or text(one, "UserName") in details.users]
        users = there[:most]
    if isinstance(details, _Details):
        identities, groups, roles, trusts = _joined(asker, users, details)
    elif details.state in ("unsupported", "denied"):
        identities, groups, roles, trusts = await _one_by_one(asker, users)
    else:
        lost = Answer(
            details.state, None, details.note, Evidence("GetAccountAuthorizationDetails", details.answer, moment)
        )
        identities, groups, roles = [read_user(entry, lost, lost, {}) for entry in users], lost, [any_of("role", lost)]
        trusts = lost
    read = await pooled(partial(_one, asker), identities)
    root, root_keys = await read_root(asker)
    evidence = Evidence(f"ListUsers at {client.store.at}", "200", moment)
    keys = [key for _, mine in read for key in mine] + root_keys
    unsettled = next((key for key in keys if key.id == ""), None)
    credentials: Answer[Any] = Answer("known", keys, "", evidence)
    if unsettled is not None:
        credentials = Answer(unsettled.state.state, None, unsettled.state.note, unsettled.state.evidence)
    users_read = [identity for identity, _ in read]
    names, known = {role.resource: role.name for role in roles}, trusts.map(Trusts)
    everybody = [with_what_follows(one, groups, known, names) for one in (*users_read, *roles)]
    return {
        "identities": Answer("known", [*root, *everybody], "", evidence),
        "groups": groups,
        "credentials": credentials,
        "account_number": account_number_of([identity.resource for identity in identities]),
    }


async def _users(asker: QueryClient) -> list[Element]:
    return [entry async for page in asker.pages("ListUsers") for entry in members(page, "Users")]


class _Details:
    """What the account's authorization details hold: permissions by user, groups, roles, documents by name."""

    def __init__(self) -> None:
        self.users: dict[str, Element] = {}
        self.groups: list[Element] = []
        self.roles: list[Element] = []
        self.documents: dict[str, str] = {}

    def take(self, page: Element) -> None:
        """Take in one page."""
        for entry in members(page, "UserDetailList"):
            self.users[text(entry, "UserName")] = entry
        self.groups.extend(members(page, "GroupDetailList"))
        self.roles.extend(members(page, "RoleDetailList"))
        for entry in members(page, "Policies"):
            for version in members(entry, "PolicyVersionList"):
                if text(version, "IsDefaultVersion") == "true":
                    self.documents[text(entry, "Arn")] = unquote(text(version, "Document"))

    def attached(self, entry: Element, inline: str) -> list[AttachedPolicy]:
        """The documents that are attached to a user, group or role, and those inside it."""
        documents = [
            AttachedPolicy(text(one, "PolicyName"), unquote(text(one, "PolicyDocument")), "inline")
            for one in members(entry, inline)
        ]
        for one in members(entry, "AttachedManagedPolicies"):
            document = self.documents.get(text(one, "PolicyArn"), "")
            documents.append(AttachedPolicy(text(one, "PolicyName"), document, "attached"))
        return documents


async def _details(asker: QueryClient) -> _Details | RequestFailed:
    details = _Details()
    try:
        async for page in asker.pages("GetAccountAuthorizationDetails"):
            details.take(page)
    except RequestFailed as error:
        return error
    return details


Sections = tuple[list[Identity], Answer[list[Group]], list[Identity], Answer[Mapping[str, str | None]]]
"""Users, groups and roles, with their permissions; and resource name of a role → its trust policy."""


def _joined(asker: QueryClient, users: list[Element], details: _Details) -> Sections:
    """Users, groups and roles of the authorization details."""
    evidence, documents = Evidence("GetAccountAuthorizationDetails", "200", asker.moment), details.documents
    identities = []
    members_of: dict[str, list[str]] = {}
    for entry in users:
        details_of = details.users.get(text(entry, "UserName"))
        if details_of is None:
            gone: Answer[Any] = Answer("failed", None, "the authorization details leave it out", evidence)
            identities.append(read_user(entry, gone, gone, {}))
            continue
        member_of = [(one.text or "").strip() for one in members(details_of, "GroupList")]
        policies = read_documents(details.attached(details_of, "UserPolicyList"), evidence)
        identities.append(
            read_user(entry, policies, Answer("known", member_of, "", evidence), read_boundary(details_of, documents))
        )
        for group in member_of:
            members_of.setdefault(group, []).append(text(entry, "UserName"))
    groups = [
        Group(
            name=text(entry, "GroupName"),
            members=members_of.get(text(entry, "GroupName"), []),
            policies=read_documents(details.attached(entry, "GroupPolicyList"), evidence),
        )
        for entry in details.groups
    ]
    roles = [
        read_role(
            entry,
            read_documents(details.attached(entry, "RolePolicyList"), evidence),
            read_boundary(entry, details.documents),
        )
        for entry in details.roles
    ]
    return (
        identities,
        Answer("known", groups, "", evidence),
        roles,
        Answer("known", _trusts(details.roles), "", evidence),
    )


def _trusts(roles: Iterable[Element]) -> dict[str, str | None]:
    return {text(entry, "Arn"): trust_policy_of(entry) for entry in roles}


async def _one_by_one(asker: QueryClient, users: list[Element]) -> Sections:
    """Users, groups and roles, each asked about by itself."""

    async def user(entry: Element) -> Identity:
        title = text(entry, "UserName")
        policies, more = await _own(asker, "User", title)
        groups = await asker.answer(
            "ListGroupsForUser", lambda r: [text(one, "GroupName") for one in members(r, "Groups")], UserName=title
        )
        return read_user(entry, policies, groups, more)

    async def group(title: str) -> Group:
        inside = [identity.name for identity in identities if title in (identity.groups.value or ())]
        return Group(name=title, members=inside, policies=await _own_documents(asker, "Group", title))

    async def role(entry: Element) -> Identity:
        policies, more = await _own(asker, "Role", text(entry, "RoleName"))
        return read_role(entry, policies, more)

    identities = await pooled(user, users)
    evidence = Evidence("ListGroupsForUser", "200", asker.moment)
    unread = next((identity.groups for identity in identities if identity.groups.value is None), None)
    groups: Answer[Any] = Answer("known", [], "", evidence)
    if unread is not None:
        groups = Answer(unread.state, None, unread.note, unread.evidence)
    titles = sorted({title for identity in identities for title in identity.groups.value or ()})[: asker.most]
    if titles and unread is None:
        groups = Answer("known", await pooled(group, titles), "", evidence)
    try:
        listed = [entry async for page in asker.pages("ListRoles") for entry in members(page, "Roles")]
    except RequestFailed as error:
        lost: Answer[Any] = Answer(error.state, None, error.note, Evidence("ListRoles", error.answer, asker.moment))
        return identities, groups, [any_of("role", lost)] if error.state != "unsupported" else [], lost
    evidence = Evidence("ListRoles", "200", asker.moment)
    listed = listed[: asker.most]
    return identities, groups, await pooled(role, listed), Answer("known", _trusts(listed), "", evidence)


async def _own(asker: QueryClient, kind: Kept, title: str) -> tuple[Answer[list[AttachedPolicy]], dict[str, Any]]:
    """The own permissions of a user or role, its boundary and its tags."""
    policies, about = await asyncio.gather(_own_documents(asker, kind, title), _about(asker, kind, title))
    return policies, about


async def _about(asker: QueryClient, kind: Kept, title: str) -> dict[str, Any]:
    """The boundary and the tags of a user or role."""
    evidence = Evidence(f"Get{kind} {title}", "200", asker.moment)
    try:
        entry = child(await asker.ask(f"Get{kind}", **{f"{kind}Name": title}), kind)
    except Missing:
        lost: Answer[Any] = Answer("failed", None, "it was deleted before it was asked for", evidence)
        return {"boundary": lost, "tags": lost}
    except RequestFailed as error:
        lost = Answer(error.state, None, error.note, msgspec.structs.replace(evidence, answer=error.answer))
        return {"boundary": lost, "tags": lost}
    if entry is None:
        lost = Answer("failed", None, f"the answer has no {kind.lower()}", evidence)
        return {"boundary": lost, "tags": lost}
    resource, documents = text(entry, "PermissionsBoundary", "PermissionsBoundaryArn"), dict[str, str]()
    if resource:
        try:
            documents[resource] = (await _managed(asker, "boundary", resource)).text
        except (Missing, RequestFailed):
            documents.clear()  # there is one, and its text was not given
    return read_boundary(entry, documents)


async def _one(asker: QueryClient, identity: Identity) -> tuple[Identity, list[Credential]]:
    """A user with its password and second factor, and its keys; one without an id represents keys that were not
    shown."""
    user = {"UserName": identity.name}
    last_seen = read_time(identity.password.note) if identity.password.note else None
    signed_in: Answer[datetime] = Answer("known", last_seen) if last_seen else Answer("absent")
    password, factor, listed = await asyncio.gather(
        asker.answer("GetLoginProfile", lambda r: read_password(r, signed_in), **user),
        asker.answer("ListMFADevices", lambda r: bool(members(r, "MFADevices")), **user),
        asker.answer("ListAccessKeys", lambda r: members(r, "AccessKeyMetadata"), **user),
    )
    if listed.value is None and listed.state != "absent":
        keys = [Credential(id="", owner=identity.name, state=Answer(listed.state, None, listed.note, listed.evidence))]
    else:
        keys = [await _key(asker, identity.name, entry) for entry in listed.value or ()]
    kinds: dict[str, Kind] = {"known": "person", "absent": "service"}
    kind = kinds.get(password.state, "unknown")
    return msgspec.structs.replace(identity, password=password, mfa=factor, kind=kind), keys


async def _own_documents(asker: QueryClient, kind: Kept, title: str) -> Answer[list[AttachedPolicy]]:
    """The own permissions of one, asked for one by one. Whatever cannot be read makes them all unread."""
    evidence = Evidence(f"List{kind}Policies {title}", "200", asker.moment)
    whose = {f"{kind}Name": title}
    own: list[AttachedPolicy] = []
    try:
        async for page in asker.pages(f"List{kind}Policies", **whose):
            for one in members(page, "PolicyNames"):
                answer = await asker.ask(f"Get{kind}Policy", **whose, PolicyName=one.text or "")
                own.append(AttachedPolicy(one.text or "", unquote(text(answer, "PolicyDocument")), "inline"))
        async for page in asker.pages(f"ListAttached{kind}Policies", **whose):
            for one in members(page, "AttachedPolicies"):
                own.append(await _managed(asker, text(one, "PolicyName"), text(one, "PolicyArn")))
    except Missing:
        return Answer("failed", None, "a permission was deleted before it was asked for", evidence)
    except RequestFailed as error:
        evidence = msgspec.structs.replace(evidence, answer=error.answer)
        if error.state == "unsupported":  # it may have some that the service does not show
            return Answer("failed", None, f"the service does not give the permissions of a {kind.lower()}", evidence)
        return Answer(error.state, None, error.note, evidence)
    return read_documents(own, evidence)


async def _managed(asker: QueryClient, title: str, resource: str) -> AttachedPolicy:
    if resource not in asker.texts:
        version = text(await asker.ask("GetPolicy", PolicyArn=resource), "Policy", "DefaultVersionId")
        answer = await asker.ask("GetPolicyVersion", PolicyArn=resource, VersionId=version)
        asker.texts[resource] = unquote(text(answer, "PolicyVersion", "Document"))
    return AttachedPolicy(title, asker.texts[resource], "attached")


_KEY_STATES: dict[str, Literal["active", "disabled"]] = {"Active": "active", "Inactive": "disabled"}


async def _key(asker: QueryClient, owner: str, entry: Element) -> Credential:
    used = await asker.answer(
        "GetAccessKeyLastUsed",
        lambda r: read_time(text(r, "AccessKeyLastUsed", "LastUsedDate")),
        AccessKeyId=text(entry, "AccessKeyId"),
    )
    status = text(entry, "Status")
    state: Answer[Any] = Answer("failed", None, f'its status is "{status[:40]}", which is not known')
    if status in _KEY_STATES:
        state = Answer("known", _KEY_STATES[status])
    return Credential(
        id=text(entry, "AccessKeyId"),
        owner=owner,
        state=state,
        created=read_answer_moment(text(entry, "CreateDate")),
        last_used=Answer("absent", None, "", used.evidence) if used.state == "known" and used.value is None else used,
        expires=Answer("absent"),
        used_for=Answer("unsupported"),
    )
