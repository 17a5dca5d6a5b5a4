"""What the administration protocol's answers say of users, groups and keys.

A user's name is its access key. Users and groups have policies by name, with commas between them; a group that is
disabled is shown without any. A *service account* is a further access key of a user, which may have a policy of its
own: then it can do what both allow. All of it was tried on a JuiceFS gateway 1.4.2.
"""

from __future__ import annotations

from typing import Any

import msgspec

from rusty_lantern.core.access.policy.principals import user_named
from rusty_lantern.core.answer import Answer, Evidence
from rusty_lantern.core.model.identity import AttachedPolicy, Credential, Group, Identity
from rusty_lantern.stores.minio.powers import powers_of

ROOT = "root"
"""What the server's root is called here: its own name, which is its access key, is shown to nobody."""
_NO_RECORD: Answer[Any] = Answer("unsupported", None, "the server keeps no record of it")
_NONE: Answer[Any] = Answer("absent")
_UNSUPPORTED: Answer[Any] = Answer("unsupported")
_EVERYTHING = '{"Version": "2012-10-17", "Statement": {"Effect": "Allow", "Action": "s3:*", "Resource": "*"}}'
Documents = Answer[dict[str, str]]
"""Policies by name."""


class User(msgspec.Struct, rename="camel"):
    """A user, as the list of users has it."""

    status: str = ""
    policy_name: str = ""


class ShownGroup(msgspec.Struct):
    """A group, as it is shown."""

    members: list[str] | None = None
    policy: str = ""


class ServiceAccount(msgspec.Struct, rename="camel"):
    """A further access key of a user."""

    parent_user: str
    account_status: str
    implied_policy: bool
    """Whether it can do what its user can."""
    policy: str = ""


def policies_named(names: str, documents: Documents) -> Answer[list[AttachedPolicy]]:
    """The policies of these names."""
    wanted = [name for name in names.split(",") if name]
    if not wanted:
        return Answer("known", [], "", documents.evidence)
    if documents.value is None:
        return Answer(documents.state, None, documents.note, documents.evidence)
    gone = next((name for name in wanted if name not in documents.value), None)
    if gone is not None:
        return Answer("failed", None, f"its policy {gone} is in no list", documents.evidence)
    policies = [AttachedPolicy(name, documents.value[name], "attached") for name in wanted]
    return Answer("known", policies, "", documents.evidence)


def root_of(evidence: Evidence) -> Identity:
    """The server's root, which can do everything."""
    return Identity(
        name=ROOT, kind="root", state=Answer("known", "enabled", "", evidence), groups=_NONE, policies=_NONE,
        created=_NO_RECORD, mfa=_UNSUPPORTED, password=_UNSUPPORTED, tags=_UNSUPPORTED,
    )  # fmt: skip


def identity_of(
    name: str, user: User, documents: Documents, groups: Answer[list[Group]], evidence: Evidence
) -> Identity:
    """A user."""
    state: Answer[Any] = Answer("known", user.status, "", evidence)
    if user.status not in ("enabled", "disabled"):
        state = Answer("failed", None, f'its status is "{user.status[:20]}"', evidence)
    own = policies_named(user.policy_name, documents)
    member_of = groups.map(lambda every: [group.name for group in every if name in group.members])
    return Identity(
        name=name, resource=user_named(name).name, kind="user", state=state, policies=own, groups=member_of,
        administers=powers_of(together(name, own, groups)),
        created=_NO_RECORD, mfa=_UNSUPPORTED, password=_UNSUPPORTED, tags=_UNSUPPORTED,
    )  # fmt: skip


def together(name: str, own: Answer[list[AttachedPolicy]], groups: Answer[list[Group]]) -> Answer[list[AttachedPolicy]]:
    """A user's own policies and those of its groups; what was not read of them, where something was not."""
    if groups.value is None:
        return Answer(groups.state, None, groups.note, groups.evidence)
    sources = [own, *(group.policies for group in groups.value if name in group.members)]
    lost = next((source for source in sources if source.value is None), None)
    return lost if lost is not None else own.map(lambda _: [one for source in sources for one in source.value or ()])


def own_key(user: Identity) -> Credential:
    """The access key that is a user's name."""
    return _key(user.name, user.name, user.state)


def further_key(
    name: str, shown: ServiceAccount, owner: Identity | None, groups: Answer[list[Group]], evidence: Evidence
) -> Credential:
    """A service account. `owner`: its user; None: root."""
    key = _key(name, owner.name if owner else ROOT, Answer("known", shown.account_status, "", evidence))
    if shown.implied_policy:
        return key
    policies: Answer[list[AttachedPolicy]] = Answer("known", [AttachedPolicy("everything", _EVERYTHING, "attached")])
    acting = Identity(
        name=f"service account {name[:4]}… of {key.owner}", kind="service", groups=_NONE,
        state=owner.state if owner else Answer("known", "enabled", "", evidence),
        policies=together(owner.name, owner.policies, groups) if owner else policies,
        boundary=Answer("known", shown.policy) if shown.policy else Answer("failed", None, "its policy is not shown"),
    )  # fmt: skip
    return msgspec.structs.replace(key, stands_for=acting)


_KEY_STATES = {"enabled": "active", "on": "active", "disabled": "disabled", "off": "disabled"}
"""Words of users and of service accounts."""


def _key(name: str, owner: str, state: Answer[Any]) -> Credential:
    active: Answer[Any] = state.map(_KEY_STATES.get)
    if active.state == "known" and active.value is None:
        active = Answer("failed", None, f'its status is "{str(state.value)[:20]}"', state.evidence)
    return Credential(
        id=name, owner=owner, state=active, created=_NO_RECORD, last_used=_NO_RECORD, expires=_NONE,
        used_for=_NO_RECORD,
    )  # fmt: skip
