"""Facts of credentials: what sort they are, whose, how old, how long idle, and what they open."""

from __future__ import annotations

from typing import get_args

from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.answer import Answer, Fact, fact_of, lost, since, switch_fact
from rusty_lantern.core.facts.identities import KINDS, excess_permissions, kind_of
from rusty_lantern.core.facts.registry import fact
from rusty_lantern.core.model.identity import CredentialKind, is_well_known
from rusty_lantern.core.model.subjects import CredentialView
from rusty_lantern.core.value_sets import WordSet
from rusty_lantern.core.value_types import COUNT, DURATION, MOMENT, SWITCH, TEXT, Levels

CREDENTIAL = "credential"

fact(
    "credential.kind",
    Levels(get_args(CredentialKind)),
    "what sort of credential it is",
    of=CREDENTIAL,
    habit=False,
)(lambda view, _: Answer("known", view.credential.kind))

# By its own entry; its owner may be disabled all the same.
fact(
    "credential.state",
    Levels(("disabled", "active"), ordered=True),
    "whether it opens anything",
    of=CREDENTIAL,
    habit=False,
)(lambda view, _: fact_of(view.credential.state))

# Absent where nobody is named.
fact("credential.owner", TEXT, "whose it is", of=CREDENTIAL)(
    lambda view, _: Answer("known", view.credential.owner) if view.credential.owner else Answer("absent")
)

fact(
    "credential.owner-kind",
    KINDS,
    "what its owner is; the root's access key can do everything",
    of=CREDENTIAL,
    advice="delete the root's access key; work as a named identity",
    habit=False,
)(lambda view, _: kind_of(view.owner) if view.owner else _no_owner(view))


@fact(
    "credential.owner-state",
    Levels(("missing", "disabled", "enabled"), ordered=True),
    "whether its owner is enabled, disabled, or nobody that the store knows",
    of=CREDENTIAL,
    safe="enabled",
    advice=(
        (
            "missing",
            (
                "find out who uses the key: its owner does not exist. Give them an identity of their own, "
                "then disable and delete this key"
            ),
        ),
        ("", "disable the access key too: its owner is disabled"),
    ),
    grave=True,
)
def credential_owner_state(view: CredentialView, _: str) -> Fact:
    """A live key of a disabled owner still opens the door in many stores."""
    if view.owner is not None:
        return fact_of(view.owner.state)
    identities = view.index.dossier.identities
    return Answer("known", "missing", "", identities.evidence) if identities.settled else lost(identities)


def _no_owner(view: CredentialView) -> Fact:
    identities = view.index.dossier.identities
    return lost(identities) if not identities.settled else Answer("failed", None, "the store knows no such owner")


# A key is rotated by making another and disabling this one.
fact(
    "credential.age",
    DURATION,
    "how long ago it was made",
    unit="seconds",
    of=CREDENTIAL,
    advice="make a second access key, move its users to it, then disable and delete this one",
    grows=True,
)(lambda view, _: since(view.credential.created, view.index.moment))

# As far back as the store keeps a record.
fact(
    "credential.used",
    Levels(("never", "once"), ordered=True),
    "whether it was ever used",
    of=CREDENTIAL,
    advice="disable the access key; delete it once nobody has missed it",
    habit=False,
)(lambda view, _: fact_of(view.credential.last_used.map(lambda _: "once").default("never")))


@fact(
    "credential.idle",
    DURATION,
    "how long it has not been used; for one never used, since it was made",
    unit="seconds",
    of=CREDENTIAL,
    advice="disable the access key; delete it once nobody has missed it",
    grows=True,
)
def credential_idle(view: CredentialView, _: str) -> Fact:
    """Nobody misses a key that nobody uses."""
    if view.credential.last_used.state == "absent":
        age = since(view.credential.created, view.index.moment)
        return Answer(age.state, age.value, "never used" if age.settled else age.note, age.evidence)
    return since(view.credential.last_used, view.index.moment)


fact(
    "credential.expires",
    MOMENT,
    "when it ends; absent: never",
    of=CREDENTIAL,
    advice="give the access key an end date, or replace it by one that has: {wanted}",
)(lambda view, _: fact_of(view.credential.expires))

# Two at a time are for the days of a rotation.
fact(
    "credential.active-keys-of-owner",
    COUNT,
    "how many credentials its owner has that are not disabled",
    of=CREDENTIAL,
    advice="disable the access keys that are not in use, and keep one",
)(lambda view, _: view.index.active_keys(view.credential.owner))

# The names that are tried first.
fact(
    "credential.owner-well-known-name",
    SWITCH,
    "whether its owner has a well-known administrator's name",
    of=CREDENTIAL,
    safe="off",
    advice="make an identity under another name, move its users to it, and disable this one",
)(lambda view, _: Answer("known", "on" if is_well_known(view.credential.owner) else "off"))

# An application on the administrator's key can do whatever the administrator can.
fact(
    "credential.shared-by-admin-and-app",
    SWITCH,
    "whether administration and applications both use it",
    of=CREDENTIAL,
    advice="give each application its own access key, and leave this one to the administrator",
    safe="off",
)(lambda view, _: switch_fact(view.credential.used_for, lambda uses: len(set(uses)) > 1))

fact(
    "credential.permissions",
    WordSet(VERBS),
    "what it opens on at least one bucket of the store: all that its owner can do, or less",
    of=CREDENTIAL,
    advice="take verbs away from its owner until it can do {wanted}",
)(lambda view, _: view.permissions.of_identity(view.stands_for) if view.stands_for else _no_owner(view))

# `nothing` is as it should be.
fact(
    "credential.excess-permissions",
    WordSet(VERBS),
    "what it can do and its owner does not need (`may`)",
    of=CREDENTIAL,
    advice="take away the verbs that its owner does not need, and the roles by which it has them: {observed}",
)(lambda view, _: excess_permissions(view.stands_for, view.permissions) if view.stands_for else _no_owner(view))

# A key that is good for GET alone does less harm when it leaks.
fact(
    "credential.limits",
    TEXT,
    "the only requests it is good for; absent: every request",
    of=CREDENTIAL,
    advice="replace it by one with access rules that let through only what is needed",
)(lambda view, _: fact_of(view.credential.limits.map(", ".join)))

# Whoever finds it makes more of them, that live on when this one is deleted.
fact(
    "credential.makes-more",
    SWITCH,
    "whether it can make further credentials of its owner's",
    of=CREDENTIAL,
    advice="replace it by one that is restricted, and look for what was made with it",
    safe="off",
)(lambda view, _: switch_fact(view.credential.makes_more))

# The giver of a trust has the permissions, somebody else has the use of them.
fact("credential.used-by", TEXT, "who else may use it; absent: nobody", of=CREDENTIAL)(
    lambda view, _: Answer("known", view.credential.used_by) if view.credential.used_by else Answer("absent")
)
