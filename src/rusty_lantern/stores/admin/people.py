"""The users of a gateway, as its administration door shows them: their logins, keys, and own permissions."""

from __future__ import annotations

from typing import Any, get_args

from rusty_lantern.core.access.policy.principals import user_named
from rusty_lantern.core.answer import Answer, Evidence
from rusty_lantern.core.model.bucket import AccountAcl
from rusty_lantern.core.model.identity import AttachedPolicy, Credential, Identity, Operation
from rusty_lantern.core.model.unlisted import any_of
from rusty_lantern.stores.account_acl import read_account_acl
from rusty_lantern.stores.admin.documents import ACCOUNT_ACL, MANAGED_POLICIES, Instance, User, own_policies
from rusty_lantern.stores.keystone.at_gateway import OF_KEYSTONE

NO_RECORD = "the gateway keeps no record of it"
OPERATIONS: tuple[Operation, ...] = get_args(Operation)
OF_LOGIN = "what a further login of a user for whom no refusal counts may do is not known"


def account_acl(kept: Answer[Instance]) -> Answer[AccountAcl]:
    """The account ACL of a user, which opens all its buckets at the Swift door."""
    if kept.value is None:
        return Answer(kept.state, None, kept.note, kept.evidence)
    try:
        written = kept.value.value(ACCOUNT_ACL).rstrip(b"\0").decode()
    except ValueError as error:
        return Answer("failed", None, f"the account ACL cannot be read: {error}", kept.evidence)
    return read_account_acl(written, kept.evidence)


def _own_policies(user: User, kept: Answer[Instance]) -> Answer[list[AttachedPolicy]]:
    """The permissions that are attached to a user, where they are all that says what it can do beside its buckets."""
    if kept.value is None:
        return Answer(kept.state, None, kept.note, kept.evidence)
    if kept.value.has(MANAGED_POLICIES) or user.unlike:
        return Answer("failed", None, user.unlike or "policies that it shares with others are not read", kept.evidence)
    try:
        policies = own_policies(kept.value)
    except ValueError as error:
        return Answer("failed", None, f"its own permissions are written in a way that is not understood: {error}")
    return Answer("known", policies, "", kept.evidence)


def _operations(user: User, evidence: Evidence) -> Answer[list[Operation]]:
    """What the gateway lets a user do at all, with each of its logins."""
    words = {word.strip() for word in user.op_mask.split(",")} - {"", "<none>"}
    if unknown := words.difference(OPERATIONS):
        what = f"the gateway limits its operations in a word that is not known ({min(unknown)[:40]})"
        return Answer("failed", None, what, evidence)
    if not user.op_mask or words.issuperset(OPERATIONS):
        return Answer("absent", evidence=evidence)
    return Answer("known", [one for one in OPERATIONS if one in words], "", evidence)


def _names(user: str, login: str) -> dict[str, Any]:
    """How rules name a user, or a further login of it (`deck:night`): policies by its own name and by its user's, ACLs
    by its user's alone (tried on a gateway 16.2)."""
    resource = user_named(user).name
    if login == user:
        return {"resource": resource, "aliases": [user]}
    return {"resource": f"{resource}:{login.rpartition(':')[2]}", "aliases": [user, resource]}


def people_of(users: Answer[list[User]], kept: dict[str, Answer[Instance]]) -> dict[str, Answer[Any]]:
    """Users and their logins, and the ids of their access keys."""
    evidence = users.evidence
    if users.value is None:
        lost: Answer[Any] = Answer(users.state, None, users.note, evidence)
        return {"identities": lost, "credentials": lost, "groups": lost}
    identities: list[Identity] = []
    credentials: list[Credential] = []
    for user in users.value:
        state: Answer[Any] = Answer("known", "disabled" if user.suspended else "enabled", "", evidence)
        mfa: Answer[Any] = Answer("known", bool(user.mfa_ids), "", evidence)
        kind: Any = "root" if user.everything else "user"
        levels = {sub.id: sub.permissions for sub in user.subusers}
        own, power = _own_policies(user, kept[user.name]), user.full_power
        operations = _operations(user, evidence)
        administers: Answer[list[str]] = (
            Answer("known", power, "", evidence) if power else Answer("absent", evidence=evidence)
        )
        stands_for_project = user.type == "keystone" and not (user.keys or user.swift_keys)
        for name in (user.name, *levels):
            named: Any = {} if stands_for_project else _names(user.name, name)  # no policy can name its people
            given = levels.get(name, "full-control")
            level = {"full-control": "", "<none>": "none", "": "none"}.get(given, given)
            identities.append(Identity(
                **named, name=name, kind="service" if name in levels else kind, state=state, mfa=mfa,
                password=Answer("absent", evidence=evidence), groups=Answer("absent", evidence=evidence),
                administers=administers,  # a further login has its user's capabilities
                policies=Answer("failed", None, OF_LOGIN) if name in levels and user.everything else own,
                operations=operations, acl_level=level, tags=Answer("unsupported"),
                created=Answer("unsupported", None, NO_RECORD),
            ))  # fmt: skip
        logins = [(key.access_key, key.user, "access-key") for key in user.keys]
        logins += [(f"swift {key.user}", key.user, "token") for key in user.swift_keys]
        for key, owner, sort in logins:
            credentials.append(Credential(
                id=key, owner=owner, kind=sort,  # type: ignore[arg-type]
                state=Answer("known", "disabled" if user.suspended else "active", "", evidence),
                created=Answer("unsupported", None, NO_RECORD), last_used=Answer("unsupported", None, NO_RECORD),
                expires=Answer("absent", evidence=evidence), used_for=Answer("unsupported", None, NO_RECORD),
            ))  # fmt: skip
    if any(user.type == "keystone" for user in users.value):  # its users, and whoever signs in through another service
        lost = Answer("failed", None, OF_KEYSTONE, evidence)
        identities += [any_of("user", lost), any_of("role", lost)]
    return {
        "identities": Answer("known", identities, "", evidence),
        "credentials": Answer("known", credentials, "", evidence),
        "groups": Answer("absent", evidence=evidence),
    }
