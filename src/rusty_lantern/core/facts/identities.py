"""Facts of identities and of their credentials."""

from __future__ import annotations

from typing import Any, get_args

import msgspec

from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.answer import Answer, Fact, Partly, absent_fact, fact_of, lost, since
from rusty_lantern.core.facts.registry import fact
from rusty_lantern.core.model.identity import Identity, Kind, Verb, is_well_known
from rusty_lantern.core.model.store_index import StoreIndex
from rusty_lantern.core.model.subjects import CredentialView, IdentityView
from rusty_lantern.core.value_types import COUNT, DURATION, MOMENT, SWITCH, TEXT, Parts, Words

KINDS = Words(get_args(Kind))
IDENTITY, CREDENTIAL = "identity", "credential"


def _switch(answer: Answer[bool]) -> Fact:
    return fact_of(answer.map(lambda on: "on" if on else "off").default("off"))


@fact("identity.kind", KINDS, "what it is: the account's root, a person, a program, a role to be taken on", of=IDENTITY)
def identity_kind(view: IdentityView, _: str) -> Fact:
    """As the store or its owner says."""
    return _kind(view.holder)


def _kind(holder: Identity) -> Fact:
    if holder.kind == "unknown":
        return Answer("failed", None, "the store does not say what it is")
    return Answer("known", holder.kind)


@fact("identity.state", Words(("disabled", "enabled"), ordered=True), "whether it can be used at all", of=IDENTITY)
def identity_state(view: IdentityView, _: str) -> Fact:
    """A disabled identity may still hold live credentials."""
    return fact_of(view.holder.state)


@fact("identity.created", MOMENT, "when it was made", of=IDENTITY)
def identity_created(view: IdentityView, _: str) -> Fact:
    """As the store says."""
    return fact_of(view.holder.created)


@fact("identity.second-factor", SWITCH, "whether signing in needs a second factor", of=IDENTITY)
def identity_second_factor(view: IdentityView, _: str) -> Fact:
    """Off where none is set up."""
    return _switch(view.holder.second_factor)


@fact("identity.password", SWITCH, "whether it can sign in with a password", of=IDENTITY)
def identity_password(view: IdentityView, _: str) -> Fact:
    """Programs and roles need none."""
    return fact_of(view.holder.password.map(lambda _: "on").default("off"))


@fact("identity.password-alone", SWITCH, "whether it can sign in with a password and no second factor", of=IDENTITY)
def identity_password_alone(view: IdentityView, _: str) -> Fact:
    """A password that is guessed or given away is enough."""
    password, factor = view.holder.password, view.holder.second_factor
    if password.state == "absent":
        return Answer("known", "off", "it has no password", password.evidence)
    if password.value is None or not factor.settled:
        return lost(password if password.value is None else factor)
    return Answer("known", "off" if factor.value else "on", "", factor.evidence)


@fact("identity.password-age", DURATION, "how long it has had this password; absent without one", unit="seconds",
      of=IDENTITY)  # fmt: skip
def identity_password_age(view: IdentityView, _: str) -> Fact:
    """From when it was last changed."""
    password = view.holder.password
    return since(password.value.changed, view.roster.moment) if password.value else absent_or_lost(password)


@fact("identity.password-idle", DURATION, "how long ago it last signed in with its password; absent without one, or "
      "where it never did", unit="seconds", of=IDENTITY)  # fmt: skip
def identity_password_idle(view: IdentityView, _: str) -> Fact:
    """As far back as the store keeps a record."""
    password = view.holder.password
    return since(password.value.last_used, view.roster.moment) if password.value else absent_or_lost(password)


def absent_or_lost(answer: Answer[Any]) -> Fact:
    """Nothing there, or nothing known: what an answer without a value says of its parts."""
    return absent_fact(answer) if answer.state == "absent" else lost(answer)


@fact("identity.live-keys", COUNT, "how many of its credentials are not disabled", of=IDENTITY)
def identity_live_keys(view: IdentityView, _: str) -> Fact:
    """Each of them opens the door alone."""
    return view.roster.live_keys(view.holder.name)


@fact("identity.default-name", SWITCH, "whether it has a default or well-known administrator's name", of=IDENTITY)
def identity_default_name(view: IdentityView, _: str) -> Fact:
    """The names that are tried first."""
    return Answer("known", "on" if is_well_known(view.holder.name) else "off")


@fact("identity.groups", TEXT, "the groups whose permissions it has, joined by commas; absent without any",
      of=IDENTITY)  # fmt: skip
def identity_groups(view: IdentityView, _: str) -> Fact:
    """By its own entry or the groups', and through groups within groups."""
    found = ", ".join(view.roster.memberships.get(view.holder.name, []))
    asked = view.roster.dossier.groups
    if asked.unread or not (asked.settled or view.holder.groups.settled):
        return lost(asked)
    if view.holder.groups.unread and not asked.settled:
        return lost(view.holder.groups)
    return Answer("known", found) if found else Answer("absent")


@fact("identity.verbs", Parts(VERBS), "what it can do on at least one bucket of the store, by its own permissions, its "
      "groups' and the buckets' rules together", of=IDENTITY)  # fmt: skip
def identity_verbs(view: IdentityView, _: str) -> Fact:
    """Decided as `lantern access` decides."""
    return view.roster.can(view.holder)


@fact("identity.beyond", Parts(VERBS), "what it can do and does not need, by the word of who answers for it (`may`)",
      of=IDENTITY)  # fmt: skip
def identity_beyond(view: IdentityView, _: str) -> Fact:
    """`nothing` is as it should be."""
    return _beyond(view.holder, view.roster)


def _beyond(holder: Identity, roster: StoreIndex) -> Fact:
    if holder.may.value is None:
        return lost(holder.may)
    can = roster.can(holder)
    if isinstance(can, Partly) and can.certain is not None:
        return msgspec.structs.replace(can, certain=_but(str(can.certain), holder.may.value))
    if can.value is None:
        return can
    return Answer("known", _but(str(can.value), holder.may.value), f"needs {' '.join(holder.may.value)}")


def _but(verbs: str, needs: list[Verb]) -> str:
    return " ".join(verb for verb in verbs.split() if verb not in needs)


@fact("credential.kind", Words(("access-key", "token", "certificate")), "what sort of credential it is", of=CREDENTIAL)
def credential_kind(view: CredentialView, _: str) -> Fact:
    """As the store says."""
    return Answer("known", view.credential.kind)


@fact("credential.state", Words(("disabled", "live"), ordered=True), "whether it opens anything", of=CREDENTIAL)
def credential_state(view: CredentialView, _: str) -> Fact:
    """By its own entry; its owner may be disabled all the same."""
    return fact_of(view.credential.state)


@fact("credential.owner", TEXT, "whose it is", of=CREDENTIAL)
def credential_owner(view: CredentialView, _: str) -> Fact:
    """Absent where nobody is named."""
    return Answer("known", view.credential.owner) if view.credential.owner else Answer("absent")


@fact("credential.owner-kind", KINDS, "what its owner is; a root's own key opens everything", of=CREDENTIAL)
def credential_owner_kind(view: CredentialView, _: str) -> Fact:
    """From the store's list of identities."""
    return _kind(view.owner) if view.owner else _no_owner(view)


@fact("credential.owner-state", Words(("missing", "disabled", "enabled"), ordered=True),
      "whether its owner is enabled, disabled, or nobody that the store knows", of=CREDENTIAL)  # fmt: skip
def credential_owner_state(view: CredentialView, _: str) -> Fact:
    """A live key of a disabled owner still opens the door in many stores."""
    if view.owner is not None:
        return fact_of(view.owner.state)
    identities = view.roster.dossier.identities
    return Answer("known", "missing", "", identities.evidence) if identities.settled else lost(identities)


def _no_owner(view: CredentialView) -> Fact:
    identities = view.roster.dossier.identities
    return lost(identities) if not identities.settled else Answer("failed", None, "the store knows no such owner")


@fact("credential.age", DURATION, "how long ago it was made", unit="seconds", of=CREDENTIAL)
def credential_age(view: CredentialView, _: str) -> Fact:
    """A key is rotated by making another and disabling this one."""
    return since(view.credential.created, view.roster.moment)


@fact("credential.used", Words(("never", "once"), ordered=True), "whether it was ever used", of=CREDENTIAL)
def credential_used(view: CredentialView, _: str) -> Fact:
    """As far back as the store keeps a record."""
    return fact_of(view.credential.last_used.map(lambda _: "once").default("never"))


@fact("credential.idle", DURATION, "how long it has not been used; for one never used, since it was made",
      unit="seconds", of=CREDENTIAL)  # fmt: skip
def credential_idle(view: CredentialView, _: str) -> Fact:
    """Nobody misses a key that nobody uses."""
    if view.credential.last_used.state == "absent":
        age = since(view.credential.created, view.roster.moment)
        return Answer(age.state, age.value, "never used" if age.settled else age.note, age.evidence)
    return since(view.credential.last_used, view.roster.moment)


@fact("credential.expires", MOMENT, "when it ends; absent: never", of=CREDENTIAL)
def credential_expires(view: CredentialView, _: str) -> Fact:
    """As the store says."""
    return fact_of(view.credential.expires)


@fact("credential.live-with-owner", COUNT, "how many credentials its owner has that are not disabled", of=CREDENTIAL)
def credential_live_with_owner(view: CredentialView, _: str) -> Fact:
    """Two at a time are for the days of a rotation."""
    return view.roster.live_keys(view.credential.owner)


@fact("credential.owner-default-name", SWITCH, "whether its owner has a well-known administrator's name", of=CREDENTIAL)
def credential_default_name(view: CredentialView, _: str) -> Fact:
    """The names that are tried first."""
    return Answer("known", "on" if is_well_known(view.credential.owner) else "off")


@fact("credential.mixed", SWITCH, "whether administration and applications both use it", of=CREDENTIAL)
def credential_mixed(view: CredentialView, _: str) -> Fact:
    """An application on the administrator's key can do whatever the administrator can."""
    return fact_of(view.credential.used_for.map(lambda uses: "on" if len(set(uses)) > 1 else "off").default("off"))


@fact("credential.verbs", Parts(VERBS), "what its owner can do on at least one bucket of the store", of=CREDENTIAL)
def credential_verbs(view: CredentialView, _: str) -> Fact:
    """As `identity.verbs`."""
    return view.roster.can(view.owner) if view.owner else _no_owner(view)


@fact("credential.beyond", Parts(VERBS), "what it can do and its owner does not need (`may`)", of=CREDENTIAL)
def credential_beyond(view: CredentialView, _: str) -> Fact:
    """`nothing` is as it should be."""
    return _beyond(view.owner, view.roster) if view.owner else _no_owner(view)
