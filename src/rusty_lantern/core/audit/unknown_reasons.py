"""Why requirements are unknown, and what settles each: a permission, a command, a line of the estate file.

A reason has parts where several things are missing. Each part has its own step, and all of them are needed.
"""

from __future__ import annotations

import re
from collections.abc import Container, Sequence
from functools import lru_cache

import msgspec

from rusty_lantern.core.access.policy.actions import ACTIONS
from rusty_lantern.core.answer import NOT_IN_DOSSIER
from rusty_lantern.core.baseline.evaluation import Finding


class UnknownReason(msgspec.Struct, frozen=True):
    """Why requirements are unknown, of which subjects, and what would settle them."""

    reason: str
    subjects: tuple[str, ...]
    """`STORE/NAME`."""
    facts: int
    """How many requirements are unknown for this reason."""
    fact_names: tuple[str, ...]
    """The facts that they are about."""
    settled_by: str


def unknown_reasons(unknown: Sequence[Finding], by_a_document: Container[str] = ()) -> tuple[UnknownReason, ...]:
    """Why things are unknown, and what settles it; the same of several subjects once, that of most facts first.
    `by_a_document`: stores that are read by one."""
    grouped: dict[tuple[str, bool], list[Finding]] = {}
    for finding in unknown:
        grouped.setdefault((_own_reason(finding.reason), finding.store in by_a_document), []).append(finding)
    reasons = []
    for (reason, by_document), mine in grouped.items():
        names = dict.fromkeys((one.store, one.name) for one in mine)
        facts = dict.fromkeys(one.requirement.fact for one in mine)
        settled = settled_by(mine[0], by_document=by_document)
        reasons.append(UnknownReason(reason, tuple(map("/".join, names)), len(mine), tuple(facts), settled))
    return tuple(sorted(reasons, key=lambda one: (-one.facts, one.reason, one.settled_by)))


@lru_cache(maxsize=1_024)
def _own_reason(reason: str) -> str:
    """A reason without the name of the bucket that it comes from, so that what has one cause has one reason."""
    return _OF_BUCKET.sub("", reason or "it could not be read")


_OF_BUCKET = re.compile(r"^(\w+:)?[a-z0-9][a-z0-9.-]*: (?=the |its |objects' )")


_PERMISSIONS = {
    f"{action.method}?{action.query}": action.name for action in ACTIONS.values() if action.target == "bucket"
}


def settled_by(finding: Finding, *, by_document: bool = False) -> str:
    """What would settle an unknown finding: all the permissions, commands and declarations that are missing.
    `by_document`: whether the store is read by one."""
    permission = _permission(finding.observed.evidence.question)
    steps = dict.fromkeys(_step(part, permission, by_document=by_document) for part in finding.reason.split("; "))
    steps.pop("", None)
    return "; and ".join(steps) or OTHERWISE


def _permission(question: str) -> str:
    """The permission that a question about a bucket needs; empty where that is not known."""
    _, slash, query = question.partition("/")
    return _PERMISSIONS.get(f"GET?{query.partition('?')[2]}", "") if slash else ""


def _step(part: str, permission: str, *, by_document: bool) -> str:
    """What settles one part of a reason; empty where nobody knows. `permission`: what the question needs."""
    of_another = "could not be read" in part or "own permissions" in part
    if "denied" in part and permission and (not of_another or "the policy could not be read" in part):
        return f"allow s3:{permission.removeprefix('s3:')} to the surveying credential, then: lantern survey"
    step = next((words for marks, words in _SETTLED if any(mark in part for mark in marks)), "")
    return _BY_DOCUMENT if by_document and step.startswith(_LOOK) else step


_LOOK = "lantern survey --objects all"
_BY_DOCUMENT = "have the document tell it too (docs/exports.md), or declare it in estate.yaml (stated:)"
_LOOKED_AT = "and waive it (observed: unknown)"
_SETTLED = (
    (
        ("cannot connect", "no answer within", "broke off", "did not answer in time"),
        "lantern reach shows when it answers again; then: lantern survey",
    ),
    (("newer than",), "export it again; then: lantern survey"),
    (("is gone", "NoSuchBucket"), "lantern survey, which leaves out what is gone"),
    (("names as no region",), "name that region and its address in estate.yaml (regions:), then: lantern survey"),
    (("ExpiredToken",), "give the credential a new token, then: lantern survey"),
    (
        ("what answers", "how its software reads", "how this store's software reads"),
        "name its dialect in estate.yaml (dialect:, docs/access.md), then: lantern survey",
    ),
    (
        ("does not name that door", "estate.yaml does not name it"),
        "name that door in estate.yaml (lantern reach has the lines), then: lantern survey",
    ),
    (
        ("its Swift door ", "administration door was not read"),
        "put that door's address and credential right in estate.yaml (lantern reach tries them), then: lantern survey",
    ),
    (
        ("which estate.yaml does not name", "at its administration door alone"),
        "name that door in estate.yaml (docs/doors.md), then: lantern survey",
    ),
    (("the account door names no address",), "add that region's address to the account door in estate.yaml"),
    (
        ("only the administration door shows it", "may not be shown it", "no header that only owners see"),
        "survey it by a credential of its owner, or one that its owner lets see it (docs/permissions.md)",
    ),
    (
        ("only the administration door shows",),
        "name the administration door in estate.yaml (doors: admin:, docs/doors.md)",
    ),
    (
        ("not shown to this credential",),
        "survey it by a credential that is shown it (docs/permissions.md), or declare it in estate.yaml (stated:)",
    ),
    (("beside the store",), "name a dossier or an export that says it in estate.yaml (beside:, docs/dossiers.md)"),
    (("estate.yaml names none under identities", "names no identity service"), "name it in estate.yaml (identities:)"),
    (("what roles mean",), "say in estate.yaml what roles mean to the store (roles:, docs/doors.md)"),
    (
        ("shows its roles to no question",),
        f"see at the gateway who may assume its roles, {_LOOKED_AT}",
    ),
    (("does not say what it needs",), "say in estate.yaml what it needs (may:)"),
    (("denied",), "allow the surveying credential to read it (docs/permissions.md), then: lantern survey"),
    (
        ("of which not all were read", "may name others"),
        f"{_LOOK}, by a credential that may read ACLs (s3:GetObjectAcl)",
    ),
    (("no object ACLs", "not inspected"), _LOOK),
    (("could not be inspected",), "allow s3:GetObject on it, or waive it (observed: unknown)"),
    (
        ("which versions are current",),
        "map the inventory's column that says which versions are current in estate.yaml (docs/objects.md)",
    ),
    (("old versions were not listed",), "have the store list them (lantern reach tries that), then: lantern survey"),
    (
        ("not offered", "the service itself removes them"),
        "declare it in estate.yaml (stated:), or lift the requirement for this store",
    ),
    (
        ("in none of these documents", NOT_IN_DOSSIER, "the export does not say", "the dossier does not say"),
        _BY_DOCUMENT,
    ),
    (
        ("neither ACLs nor access policies", "drops the question"),
        "test it without credentials (lantern survey --probe), then declare it in estate.yaml (stated:)",
    ),
    (
        ("gives a token to anybody",),
        "bind the service to a subject in the trust policy, or trust it in estate.yaml (trusted: accounts:)",
    ),
    (
        ("who meets its condition",),
        f"trust the organisation in estate.yaml (trusted: accounts:), or see who it is {_LOOKED_AT}",
    ),
    (("whose names fit its patterns",), f"see whose names do, {_LOOKED_AT}"),
    (("lists no such group",), f"see who is in that group, {_LOOKED_AT}"),
    (("whether it may assume",), f"read that role's trust policy, {_LOOKED_AT}"),
    (("which roles it may assume",), "have the document list that role, or take it out of what the identity assumes"),
    (("not worked out",), f"read that policy, {_LOOKED_AT}"),
    (("content delivery network",), f"see to whom that network hands it on, {_LOOKED_AT}"),
    (("is not in this store, or was not read",), f"see in that bucket's own store who gets at it, {_LOOKED_AT}"),
    (
        ("in whose account it ends",),
        f"have the setting name the account, or see whose it is {_LOOKED_AT}",
    ),
    (
        ("account number is not known", "the account that the bucket is in, which was not read"),
        "name the identity service or the account door in estate.yaml (identities:, doors: account:)",
    ),
    (("a condition that is not understood",), f"read the condition, {_LOOKED_AT}"),
    (("only a sample",), f"{_LOOK}, or a larger sample in estate.yaml"),
    (
        ("not all buckets", "bucket was not read", "the target "),
        "have all its buckets read (only: in estate.yaml, docs/permissions.md), then: lantern survey",
    ),
    (("no such owner",), "see at the store whose it is, and disable it if it is nobody's"),
    (("version tables",), "read the store itself, or declare it in estate.yaml (stated:)"),
    (
        ("show to their account alone",),
        f"see in the account of the access point whom its policy lets in, {_LOOKED_AT}",
    ),
    (("stores that do so refuse both",), f"see with a request whether the ACL counts there, {_LOOKED_AT}"),
    (("does not say who keeps",), "see at the store who keeps that key, and declare it in estate.yaml (stated:)"),
    (("too intricate",), f"lantern why decides one request at a time; read that policy, {_LOOKED_AT}"),
    (("is no published action", "has no agreed meaning", "is not understood"), f"read that policy, {_LOOKED_AT}"),
)
"""Words of a part of a reason → what settles it; the first that fits."""
OTHERWISE = "the reason says what is missing; lantern reach shows what each store answers"
