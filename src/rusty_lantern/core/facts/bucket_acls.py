"""Facts of what objects' own ACLs may grant, and of the public-access guards over all ACLs and policies."""

from __future__ import annotations

from rusty_lantern.core.access.rules.bucket_rules import objects_have_acls, of_objects
from rusty_lantern.core.access.rules.other_doors import unread_door
from rusty_lantern.core.answer import Answer, Fact, fact_of, lost, switch_fact
from rusty_lantern.core.facts.event_actions import (
    ACL_ACTIONS,
    GUARD_ACTIONS,
)
from rusty_lantern.core.facts.registry import BucketView, fact
from rusty_lantern.core.model.guards import Guards
from rusty_lantern.core.value_types import SWITCH, Levels

NO_OBJECT_ACLS = "this store's software lets in nobody by ACLs of objects"


@fact(
    "object-acls.enabled",
    SWITCH,
    "whether objects can have ACLs (off: the ownership mode disables them)",
    area="access",
    advice="let the bucket's owner own every object, so that objects have no ACLs",
    causes=ACL_ACTIONS,
    safe="off",
)
def grants_by_object(subject: BucketView, _: str) -> Fact:
    """Off if the ownership mode disables ACLs, or a guard ignores public ones for good."""
    ownership, granted_by = subject.bucket.ownership, subject.bucket.granted_by
    if (by_software := _by_software(subject, "off")) is not None:
        return by_software
    if granted_by.unread:
        return lost(granted_by)
    if granted_by.settled:
        return switch_fact(granted_by, lambda how: bool(how == "object"))
    if subject.bucket.acl.state == ownership.state == "unsupported":
        return lost(ownership)
    if ownership.state in ("absent", "unsupported"):
        return Answer("known", "on", "the store knows no mode that disables them", ownership.evidence)
    return fact_of(ownership.map(lambda mode: "off" if mode == "bucket-owner-enforced" else "on"))


@fact(
    "object-acls.public",
    Levels(("none", "some")),
    "whether objects' own ACLs allow the public anything: they open what the bucket's rules close",
    area="access",
    safe="none",
    causes=ACL_ACTIONS,
    asks_objects="acl",
)
def grants_of_objects(subject: BucketView, _: str) -> Fact:
    """None where objects cannot have any; not known where not all were read, unless one that was read grants."""
    acls = subject.bucket.object_acls
    if (by_software := _by_software(subject, "none")) is not None:
        return by_software
    acl, doubt = of_objects(subject.inputs)
    if acl:
        return Answer("known", "some", f"such as {acl[0].words} on {acl[0].key}", acls.evidence)
    return Answer("failed", None, doubt, acls.evidence) if doubt else Answer("known", "none", "", acls.evidence)


def _by_software(subject: BucketView, without: str) -> Fact | None:
    """What follows from the store's software alone: `without`, where that looks at no object's ACL; None where it may
    look at them. Where it was not read what answers, either may be so."""
    dossier = subject.dossier
    if not objects_have_acls(dossier):
        return Answer("known", without, NO_OBJECT_ACLS)
    return lost(dossier.software) if unread_door(dossier.software) and dossier.dialect is None else None


def _guard(subject: BucketView, name: str) -> Fact:
    """A guard is on if the account or the bucket sets it: the stronger level wins."""
    account, own = subject.dossier.public_access_guards, subject.bucket.public_access_guards
    if account.value is not None and getattr(account.value, name):
        return Answer("known", "on", "set for the whole account", account.evidence)
    if own.value is not None and getattr(own.value, name):
        return Answer("known", "on", "", own.evidence)
    for unread in (account, own):
        if unread.unread:
            return lost(unread)
    if account.state == own.state == "unsupported":
        return Answer("unsupported", None, own.note, own.evidence)
    return Answer("known", "off", "", own.evidence)


_GUARDS = {
    "refuse-new-acls": "new public ACLs are refused; existing ones stay in force",
    "ignore-acls": "public ACLs are ignored, existing ones too",
    "refuse-new-policies": "new public policies are refused; existing ones stay in force",
    "restrict-policies": "a public policy allows nobody outside the account",
}
for _name, _meaning in _GUARDS.items():
    _field = _name.replace("-", "_")
    assert _field in Guards.__struct_fields__
    fact(
        f"public-access-guards.{_name}",
        SWITCH,
        f"public-access guard: {_meaning}",
        area="access",
        causes=GUARD_ACTIONS,
        safe="on",
        advice="switch that public-access guard on, for the bucket or for the whole account",
    )(
        lambda subject, _, f=_field: _guard(subject, f)  # type: ignore[misc]
    )
