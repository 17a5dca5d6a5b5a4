"""The answers of an identity service of the query protocol, written from a dossier."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable
from datetime import datetime
from html import escape
from urllib.parse import quote

from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.core.model.identity import AttachedPolicy, Group, Identity
from rusty_lantern.core.remediation.s3_documents import element
from rusty_lantern.stores.iam.answers import ROOT

NAMESPACE = "https://iam.amazonaws.com/doc/2010-05-08/"
PAGE = 5
"""Entries on a page: few, so that pages are turned."""


def answer(dossier: Dossier, query: dict[str, str]) -> tuple[int, bytes]:
    """Status and document for one action."""
    action = query["Action"]
    write = _WRITERS.get(action)
    if write is None:
        return 400, _error("InvalidAction", f"no action {action}")
    try:
        body = write(dossier, query)
    except KeyError:
        return 404, _error("NoSuchEntity", "no such entity")
    return (
        200,
        f'<{action}Response xmlns="{NAMESPACE}"><{action}Result>{body}</{action}Result></{action}Response>'.encode(),
    )


def _error(code: str, message: str) -> bytes:
    parts = element("Type", "Sender") + element("Code", code) + element("Message", message)
    return f'<ErrorResponse xmlns="{NAMESPACE}"><Error>{parts}</Error></ErrorResponse>'.encode()


def _people(dossier: Dossier) -> list[Identity]:
    return [h for h in dossier.identities.value or () if h.kind in ("person", "service")]


def _person(dossier: Dossier, query: dict[str, str]) -> Identity:
    return {identity.name: identity for identity in _people(dossier)}[query["UserName"]]


def _many(tag: str, entries: Iterable[str]) -> str:
    return f"<{tag}>{''.join(f'<member>{entry}</member>' for entry in entries)}</{tag}>"


def _time(tag: str, answer_: Answer[datetime]) -> str:
    return element(tag, answer_.value.strftime("%Y-%m-%dT%H:%M:%SZ")) if answer_.value else ""


def _users(dossier: Dossier, query: dict[str, str]) -> str:
    people = _people(dossier)
    start = int(query.get("Marker", "0"))
    entries = [_user(identity) for identity in people[start : start + PAGE]]
    more = start + PAGE < len(people)
    turned = element("IsTruncated", str(more).lower()) + (element("Marker", start + PAGE) if more else "")
    return _many("Users", entries) + turned


def _user(identity: Identity) -> str:
    password = identity.password.value
    used = _time("PasswordLastUsed", password.last_used) if password else ""
    return (
        element("UserName", identity.name)
        + element("Arn", identity.resource)
        + _time("CreateDate", identity.created)
        + used
    )


def _attached(documents: list[AttachedPolicy], inline: str) -> str:
    inside = [
        element("PolicyName", d.name) + element("PolicyDocument", quote(d.text, safe=""))
        for d in documents
        if d.via == "inline"
    ]
    outside = [element("PolicyName", d.name) + element("PolicyArn", _arn(d)) for d in documents if d.via != "inline"]
    return _many(inline, inside) + _many("AttachedManagedPolicies", outside)


def _arn(document: AttachedPolicy) -> str:
    return f"arn:aws:iam::400100200300:policy/{document.name}"


def _cap(identity: Identity) -> list[AttachedPolicy]:
    """An identity's boundary, as the managed document that it is to the service."""
    return (
        [AttachedPolicy(f"{identity.name}-boundary", identity.boundary.value, "attached")]
        if identity.boundary.value
        else []
    )


def _boundary(identity: Identity) -> str:
    return "".join(
        f"<PermissionsBoundary>{element('PermissionsBoundaryArn', _arn(cap))}</PermissionsBoundary>"
        for cap in _cap(identity)
    )


_TRUSTED = {
    "services": {"Service": "logs.saltmarsh.example"},
    "own-account": {"AWS": "arn:aws:iam::400100200300:root"},
    "other-accounts": {"AWS": "arn:aws:iam::400100200399:root"},
    "anybody": {"AWS": "*"},
}


def _trust(role: Identity, dossier: Dossier) -> str:
    """A role's trust policy, as the service shows it: percent-encoded."""
    own = [one.resource for one in dossier.identities.value or () if role.name in (one.assumes.value or ())]
    named = {"AWS": own, **_TRUSTED["services"]} if own else _TRUSTED.get(role.assumable_by.value or "")
    statement = {"Effect": "Allow", "Principal": named, "Action": "sts:AssumeRole"}
    written = json.dumps({"Version": "2012-10-17", "Statement": [statement] if named else []})
    return element("AssumeRolePolicyDocument", quote(written)) if role.assumable_by.value else ""


def _details(dossier: Dossier, _: dict[str, str]) -> str:
    groups = dossier.groups.value or []
    people = [
        element("UserName", h.name)
        + _attached(h.policies.value or [], "UserPolicyList")
        + _boundary(h)
        + _many("GroupList", [escape(g.name) for g in groups if h.name in g.members])
        + _many("Tags", (element("Key", k) + element("Value", v) for k, v in (h.tags.value or {}).items()))
        for h in _people(dossier)
    ]
    roles = [
        element("RoleName", h.name.removeprefix("role "))
        + element("Arn", h.resource)
        + _time("CreateDate", h.created)
        + _attached(h.policies.value or [], "RolePolicyList")
        + _boundary(h)
        + _trust(h, dossier)
        for h in dossier.identities.value or ()
        if h.kind == "role"
    ]
    together = [element("GroupName", g.name) + _attached(g.policies.value or [], "GroupPolicyList") for g in groups]
    return (
        _many("UserDetailList", people)
        + _many("GroupDetailList", together)
        + _many("RoleDetailList", roles)
        + _many("Policies", _managed(dossier.identities.value or [], groups))
        + element("IsTruncated", "false")
    )


def _managed(identities: list[Identity], groups: list[Group]) -> list[str]:
    sources = [*(h.policies for h in identities), *(g.policies for g in groups)]
    attached = [d for s in sources for d in s.value or () if d.via != "inline"]
    managed = {d.name: d for d in (*attached, *(cap for identity in identities for cap in _cap(identity)))}
    return [
        element("PolicyName", d.name)
        + element("Arn", _arn(d))
        + _many(
            "PolicyVersionList", [element("Document", quote(d.text, safe="")) + element("IsDefaultVersion", "true")]
        )
        for d in managed.values()
    ]


def _keys(dossier: Dossier, query: dict[str, str]) -> str:
    identity = _person(dossier, query)
    return _many(
        "AccessKeyMetadata",
        (
            element("UserName", identity.name)
            + element("AccessKeyId", key.id)
            + element("Status", "Active" if key.state.value == "active" else "Inactive")
            + _time("CreateDate", key.created)
            for key in dossier.credentials.value or ()
            if key.owner == identity.name
        ),
    ) + element("IsTruncated", "false")


def _last_used(dossier: Dossier, query: dict[str, str]) -> str:
    key = {key.id: key for key in dossier.credentials.value or ()}[query["AccessKeyId"]]
    when = _time("LastUsedDate", key.last_used)
    return (
        element("UserName", key.owner) + f"<AccessKeyLastUsed>{when}{element('ServiceName', 's3')}</AccessKeyLastUsed>"
    )


def _login(dossier: Dossier, query: dict[str, str]) -> str:
    identity = _person(dossier, query)
    if identity.password.value is None:
        raise KeyError(identity.name)
    parts = element("UserName", identity.name) + _time("CreateDate", identity.password.value.changed)
    return f"<LoginProfile>{parts}</LoginProfile>"


def _factors(dossier: Dossier, query: dict[str, str]) -> str:
    identity = _person(dossier, query)
    devices = [element("SerialNumber", f"device of {identity.name}")] if identity.mfa.value else []
    return _many("MFADevices", devices) + element("IsTruncated", "false")


def _summary(dossier: Dossier, _: dict[str, str]) -> str:
    root = next((h for h in dossier.identities.value or () if h.kind == "root"), None)
    factor = bool(root and root.mfa.value)
    keys = sum(key.owner == ROOT for key in dossier.credentials.value or ())
    values = {"AccountMFAEnabled": int(factor), "AccountAccessKeysPresent": keys}
    entries = "".join(f"<entry>{element('key', k)}{element('value', v)}</entry>" for k, v in values.items())
    return f"<SummaryMap>{entries}</SummaryMap>"


_WRITERS: dict[str, Callable[[Dossier, dict[str, str]], str]] = {
    "ListUsers": _users,
    "GetAccountAuthorizationDetails": _details,
    "ListAccessKeys": _keys,
    "GetAccessKeyLastUsed": _last_used,
    "GetLoginProfile": _login,
    "ListMFADevices": _factors,
    "GetAccountSummary": _summary,
}
