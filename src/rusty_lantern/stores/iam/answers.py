"""What an identity service answers, decoded."""

from __future__ import annotations

import re
from collections.abc import Mapping
from datetime import datetime
from typing import Any, Literal
from urllib.parse import unquote

import msgspec

from rusty_lantern.core.access.policy.administration import administration
from rusty_lantern.core.access.policy.assuming import Trusts
from rusty_lantern.core.access.policy.role_trust import assumable_by, callers_outside, unknown_services
from rusty_lantern.core.answer import Answer, Evidence
from rusty_lantern.core.model.identity import AssumableBy, AttachedPolicy, Group, Identity, Password
from rusty_lantern.stores.http.timestamps import read_time
from rusty_lantern.stores.http.xml import Element, child, children, text
from rusty_lantern.stores.iam.query_client import members


def account_number_of(resources: list[str]) -> str:
    """The account's number, where all resource names agree on one."""
    numbers = {match[1] for name in resources if (match := re.match(r"arn:[^:]*:iam::(\d{12}):", name))}
    return numbers.pop() if len(numbers) == 1 else ""


Kept = Literal["User", "Group", "Role"]
"""What permissions can be attached to."""


def read_documents(documents: list[AttachedPolicy], evidence: Evidence) -> Answer[list[AttachedPolicy]]:
    """The documents, unless the text of one is missing."""
    missing = next((document for document in documents if not document.text), None)
    if missing is not None:
        return Answer("failed", None, f"the text of the permission {missing.name} was not given", evidence)
    return Answer("known", documents, "", evidence)


def read_boundary(entry: Element, documents: Mapping[str, str]) -> dict[str, Any]:
    """The boundary and the tags of an entry; `documents`: the managed ones, by resource name."""
    boundary = text(entry, "PermissionsBoundary", "PermissionsBoundaryArn")
    tags = {text(one, "Key"): text(one, "Value") for one in members(entry, "Tags")}
    fields: dict[str, Any] = {"tags": Answer("known", tags)}
    if boundary:
        document = documents.get(boundary)
        fields["boundary"] = Answer("known", document) if document else Answer("failed", None, "its text was not given")
    return fields


def read_user(
    entry: Element, policies: Answer[list[AttachedPolicy]], groups: Answer[list[str]], more: dict[str, Any]
) -> Identity:
    """A user, with what was read of it elsewhere."""
    return Identity(
        name=text(entry, "UserName"),
        resource=text(entry, "Arn"),
        state=Answer("known", "enabled", "the service has no way to disable an identity as a whole"),
        created=read_answer_moment(text(entry, "CreateDate")),
        password=Answer("failed", None, text(entry, "PasswordLastUsed")),
        groups=groups,
        policies=policies,
        assumable_by=Answer("known", "nobody"),
        **more,
    )


def read_role(entry: Element, policies: Answer[list[AttachedPolicy]], more: dict[str, Any]) -> Identity:
    """A role, with what was read of it elsewhere."""
    none: Answer[Any] = Answer("absent")
    trust: Answer[AssumableBy] = Answer("failed", None, "the service did not give its trust policy")
    account = account_number_of([text(entry, "Arn")])
    if written := trust_policy_of(entry):
        trust = assumable_by(written, account)
    return Identity(
        name=f"role {text(entry, 'RoleName')}",
        resource=text(entry, "Arn"),
        kind="role",
        state=Answer("known", "enabled"),
        created=read_answer_moment(text(entry, "CreateDate")),
        mfa=Answer("unsupported"),
        password=none,
        groups=none,
        policies=policies,
        assumable_by=trust,
        assumed_from=callers_outside(written, account) if written else [],
        unknown_services=unknown_services(written) if written else [],
        **more,
    )


def read_answer_moment(written: str) -> Answer[datetime]:
    """A moment as the service writes it."""
    moment = read_time(written) if written else None
    return Answer("known", moment) if moment else Answer("failed", None, "the service does not say when")


def read_password(result: Element, last_used: Answer[datetime]) -> Password:
    """That a user can sign in with a password."""
    return Password(read_answer_moment(text(result, "LoginProfile", "CreateDate")), last_used)


def trust_policy_of(entry: Element) -> str | None:
    """A role's trust policy; None where the service did not give it."""
    return unquote(text(entry, "AssumeRolePolicyDocument")) or None


def with_what_follows(
    identity: Identity, groups: Answer[list[Group]], trusts: Answer[Trusts], names: Mapping[str, str]
) -> Identity:
    """An identity with what makes it an administrator, and the roles that it may assume, by its own permissions and its
    groups'. `names`: resource name → the role's name."""
    permissions = _together(identity, groups)
    more: dict[str, Any] = {"assumes": Answer(trusts.state, None, trusts.note, trusts.evidence)}
    if trusts.value is not None:
        may = trusts.value.of(identity.resource, permissions, identity.boundary)
        sure, more["perhaps_assumes"] = (sorted(names[one] for one in ones) for ones in (may.sure, may.perhaps))
        more["assumes"] = Answer("known", sure, "", trusts.evidence)
    administers = administration(permissions, identity.boundary, identity.resource)
    return msgspec.structs.replace(identity, administers=administers, **more)


def _together(identity: Identity, groups: Answer[list[Group]]) -> Answer[list[AttachedPolicy]]:
    """Its own permissions and those of its groups; what was not read of them, where something was not."""
    names, lists = identity.groups.value or [], {group.name: group.policies for group in groups.value or ()}
    gone: Answer[Any] = groups if groups.unread else Answer("failed", None, "one of its groups was not read")
    sources: list[Answer[Any]] = [identity.policies, *(lists.get(name, gone) for name in names)]
    lost = next((one for one in (identity.groups, *sources) if one.value is None and one.state != "absent"), None)
    if lost is not None:
        return Answer(lost.state, None, lost.note, lost.evidence)
    return Answer("known", [one for source in sources for one in source.value or ()], "", identity.policies.evidence)


ROOT = "account root"
AS_ROOT: Answer[list[str]] = Answer("known", ["the account's root"])


def read_summary(result: Element) -> dict[str, str]:
    """The service's own counts of the account."""
    entries = child(result, "SummaryMap")
    return {text(one, "key"): text(one, "value") for one in children(entries, "entry")} if entries is not None else {}
