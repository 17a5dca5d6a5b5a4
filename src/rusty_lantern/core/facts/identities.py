"""Facts of identities and of their credentials."""

from __future__ import annotations

from typing import Any

import msgspec

from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.access.policy.role_trust import SCALE
from rusty_lantern.core.answer import Answer, Fact, Partly, absent_fact, fact_of, lost, since, switch_fact
from rusty_lantern.core.facts.event_actions import MFA_ACTIONS, PASSWORD_ACTIONS
from rusty_lantern.core.facts.registry import fact
from rusty_lantern.core.model.assumed_roles import NO_ROLES
from rusty_lantern.core.model.identity import Identity, Verb, is_well_known
from rusty_lantern.core.model.subjects import IdentityView, Permissions
from rusty_lantern.core.value_sets import NAMES, WordSet
from rusty_lantern.core.value_types import COUNT, DURATION, MOMENT, SWITCH, TEXT, Levels, show_names

KINDS = Levels(("root", "person", "service", "role"))
IDENTITY = "identity"
TRUSTED = "trusted"


fact(
    "identity.kind",
    KINDS,
    "what it is: the account's root, a person, a program, a role to be taken on",
    of=IDENTITY,
    habit=False,
)(lambda view, _: kind_of(view.identity))


def kind_of(identity: Identity) -> Fact:
    """What it is, where the store says so."""
    if identity.kind == "user":
        return Partly("failed", None, "the store does not say whether a person uses it", among=("person", "service"))
    if identity.kind == "unknown":
        return Answer("failed", None, "the store does not say what it is")
    return Answer("known", identity.kind)


# A disabled identity may still hold live credentials.
fact(
    "identity.state",
    Levels(("disabled", "enabled"), ordered=True),
    "whether it can be used at all",
    of=IDENTITY,
    advice="disable the identity, or enable it: it is to be {wanted}",
    causes="UpdateUser DisableUser EnableUser",
    habit=False,
)(lambda view, _: fact_of(view.identity.state))

fact("identity.created", MOMENT, "when it was made", of=IDENTITY)(lambda view, _: fact_of(view.identity.created))

# Off where none is set up.
fact(
    "identity.mfa",
    SWITCH,
    "whether signing in needs MFA",
    of=IDENTITY,
    safe="on",
    advice="set up MFA for it",
    causes=MFA_ACTIONS,
)(lambda view, _: switch_fact(view.identity.mfa))

# Programs and roles need none.
fact(
    "identity.password",
    SWITCH,
    "whether it can sign in with a password",
    of=IDENTITY,
    advice="require MFA, or remove the password",
    causes=PASSWORD_ACTIONS,
    habit=False,
)(lambda view, _: fact_of(view.identity.password.map(lambda _: "on").default("off")))


@fact(
    "identity.password-without-mfa",
    SWITCH,
    "whether it can sign in with a password and no MFA",
    of=IDENTITY,
    advice="require MFA, or remove the password",
    causes=PASSWORD_ACTIONS,
    habit=False,
)
def identity_password_alone(view: IdentityView, _: str) -> Fact:
    """A password that is guessed or given away is enough."""
    password, factor = view.identity.password, view.identity.mfa
    if password.state == "absent":
        return Answer("known", "off", "it has no password", password.evidence)
    if password.value is None or not factor.settled:
        return lost(password if password.value is None else factor)
    return Answer("known", "off" if factor.value else "on", "", factor.evidence)


@fact(
    "identity.password-age",
    DURATION,
    "how long it has had this password; absent without one",
    unit="seconds",
    of=IDENTITY,
    advice="have the password changed: it is {observed} old",
    causes=PASSWORD_ACTIONS,
    grows=True,
    habit=False,
)
def identity_password_age(view: IdentityView, _: str) -> Fact:
    """From when it was last changed."""
    password = view.identity.password
    return since(password.value.changed, view.index.moment) if password.value else absent_or_lost(password)


@fact(
    "identity.password-idle",
    DURATION,
    "how long ago it last signed in with its password; absent without one, or where it never did",
    unit="seconds",
    of=IDENTITY,
    advice="take its password away, or disable it: nobody has signed in for {observed}",
    causes=PASSWORD_ACTIONS,
    grows=True,
    habit=False,
)
def identity_password_idle(view: IdentityView, _: str) -> Fact:
    """As far back as the store keeps a record."""
    password = view.identity.password
    return since(password.value.last_used, view.index.moment) if password.value else absent_or_lost(password)


def absent_or_lost(answer: Answer[Any]) -> Fact:
    """Nothing there, or nothing known: what an answer without a value says of its parts."""
    return absent_fact(answer) if answer.state == "absent" else lost(answer)


# Each of them opens the door alone.
fact(
    "identity.active-keys",
    COUNT,
    "how many of its credentials are not disabled",
    of=IDENTITY,
    advice="disable the access keys that are not in use: {wanted}",
)(lambda view, _: view.index.active_keys(view.identity.name))

# The names that are tried first.
fact(
    "identity.well-known-name",
    SWITCH,
    "whether it has a default or well-known administrator's name",
    of=IDENTITY,
    safe="off",
    advice="make an identity under another name, move its users to it, and disable this one",
)(lambda view, _: Answer("known", "on" if is_well_known(view.identity.name) else "off"))


fact(
    "identity.password-expires",
    MOMENT,
    "when its password has to be changed at the latest; absent: never",
    of=IDENTITY,
    advice="let its password end: {wanted}",
    causes=PASSWORD_ACTIONS,
    habit=False,
)(lambda view, _: _password_ends(view))


def _password_ends(view: IdentityView) -> Fact:
    password = view.identity.password
    return fact_of(password.value.expires) if password.value else absent_or_lost(password)


# With it one can give oneself any permission anywhere, whichever place it is held in.
fact(
    "identity.assumes",
    NAMES,
    "the roles of the store's account that it may assume: it can do what they can; absent: none",
    of=IDENTITY,
    advice="take it out of the trust policies, or its permission to assume them: {observed}",
    habit=False,
)(lambda view, _: _assumes(view.identity))


def _assumes(identity: Identity) -> Fact:
    sure, perhaps = identity.assumes, identity.perhaps_assumes
    if sure.value is None:
        return lost(sure)
    known = NAMES.join(sure.value)
    if perhaps:
        why = f"whether it may assume {show_names(perhaps)} is not worked out"
        return Partly("failed", None, why, sure.evidence, certain=known)
    return Answer("known", known, "", sure.evidence) if known else absent_fact(sure)


fact(
    "identity.administers",
    TEXT,
    "what makes it an administrator: where it has that role in the identity service, which permissions there, or which "
    "capabilities at a gateway's administration door; itself, or as a role that it may assume. One is enough to take "
    "every permission. Absent: nothing",
    of=IDENTITY,
    advice="take from it what makes it an administrator: {observed}",
    safe="absent",
)(lambda view, _: _administers(view))


def _administers(view: IdentityView) -> Fact:
    """By its own permissions; else by those of a role that it may assume."""
    own = view.identity.administers
    roles, unread = view.permissions.roles_of(view.identity) if not own.value else NO_ROLES
    powers = [(role, doubt, role.administers) for role, doubt in roles]
    sure = [f"{', '.join(has.value)} as {role.name}" for role, doubt, has in powers if has.value and not doubt]
    if sure:
        return Answer("known", "; ".join(sure), "", own.evidence)
    perhaps = (doubt or f"{role.name}: {has.reason}" for role, doubt, has in powers if has.value or has.unread)
    why = "" if own.unread else next(perhaps, unread)
    return Answer("failed", None, why, own.evidence) if why else fact_of(own.map(", ".join))


@fact(
    "identity.assumable-by",
    Levels((*SCALE[: SCALE.index("own-account") + 1], TRUSTED, *SCALE[SCALE.index("federated") :]), ordered=True),
    "who may assume it, by a role's trust policy: the widest sort of caller that it names; nobody where it is no role; "
    "`trusted` where outside the account it names those alone that estate.yaml trusts. "
    "Who signs in at a service that gives tokens to everybody is `anybody`, unless the policy binds it to a subject",
    of=IDENTITY,
    advice=(
        ("anybody", "name in its trust policy who may assume it; of a sign-in service, the subject too"),
        ("", "name in its trust policy who may assume it, and nobody else"),
    ),
    safe="at most trusted",
    grave=True,
)
def assumed_by(view: IdentityView, _: str) -> Fact:
    """A role that anybody may assume opens every bucket that it reaches."""
    assumable = view.identity.assumable_by
    if assumable.state == "unsupported" and view.identity.kind != "role":
        return Answer("known", "nobody", "it is no role")
    if view.identity.assumable_by_trusted(view.trusted):
        return Answer("known", TRUSTED, show_names(view.identity.assumed_from), assumable.evidence)
    services = view.identity.unknown_services
    if services and assumable.value is not None and assumable.value != "anybody":
        words = f"whether {show_names(services)} gives a token to anybody is not known"
        why = f"{words}, and its trust policy binds it to no subject"
        return Partly(
            "failed", None, why, assumable.evidence, certain=assumable.value, among=(assumable.value, "anybody")
        )
    return fact_of(assumable.map(str))


@fact(
    "identity.groups",
    TEXT,
    "the groups whose permissions it has, joined by commas; absent without any",
    of=IDENTITY,
    advice="change the groups that it is in: {wanted}",
)
def identity_groups(view: IdentityView, _: str) -> Fact:
    """By its own entry or the groups', and through groups within groups."""
    names = ", ".join(view.index.memberships.get(view.identity.name, []))
    groups = view.index.dossier.groups
    if groups.unread or not (groups.settled or view.identity.groups.settled):
        return lost(groups)
    if view.identity.groups.unread and not groups.settled:
        return lost(view.identity.groups)
    return Answer("known", names) if names else Answer("absent")


# Decided as `lantern access` decides.
fact(
    "identity.permissions",
    WordSet(VERBS),
    "what it can do on at least one bucket of the store, by its own permissions, its groups' and the buckets' rules "
    "together, and by the roles that it may assume",
    of=IDENTITY,
    advice="take verbs away from it, and from the roles that it may assume, until it can do {wanted}",
)(lambda view, _: view.permissions.of_identity(view.identity))

# `nothing` is as it should be.
fact(
    "identity.excess-permissions",
    WordSet(VERBS),
    "what it can do and does not need, by the word of who answers for it (`may`)",
    of=IDENTITY,
    advice="take away the verbs that it does not need, and the roles by which it has them: {observed}",
)(lambda view, _: excess_permissions(view.identity, view.permissions))


def excess_permissions(identity: Identity, permissions: Permissions) -> Fact:
    """The verbs that an identity has and does not need, by the word of whoever answers for it."""
    if identity.may.value is None:
        return lost(identity.may)
    can = permissions.of_identity(identity)
    if isinstance(can, Partly) and can.certain is not None:
        return msgspec.structs.replace(can, certain=_but(str(can.certain), identity.may.value))
    if can.value is None:
        return can
    return Answer("known", _but(str(can.value), identity.may.value), f"needs {' '.join(identity.may.value)}")


def _but(verbs: str, needs: list[Verb]) -> str:
    return " ".join(verb for verb in verbs.split() if verb not in needs)
