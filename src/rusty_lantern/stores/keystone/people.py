"""A Keystone's answers, as a dossier has them: identities with their permissions, groups, credentials."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import UTC, datetime
from typing import Any, Literal

import msgspec

from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.identity import AttachedPolicy, Credential, Group, Identity, Password
from rusty_lantern.stores.keystone.documents import (
    ApplicationCredential,
    Assignment,
    Inference,
    Named,
    S3Key,
    Trust,
    User,
)
from rusty_lantern.stores.keystone.permissions import (
    ADMINISTRATOR,
    Accounts,
    Held,
    held,
)

_NOT_OFFERED: Answer[Any] = Answer("unsupported")
_NEVER: Answer[Any] = Answer("absent")


class Lists(msgspec.Struct):
    """What the service listed besides its users."""

    roles: Answer[list[Assignment]]
    domains: Answer[list[Named]]
    projects: Answer[list[Named]]
    groups: Answer[list[Named]]
    members: Mapping[str, Answer[list[Named]]]
    applications: Mapping[str, Answer[list[ApplicationCredential]]]
    keys: Mapping[str, Answer[list[S3Key]]]
    trusts: Answer[list[Trust]]
    providers: Answer[list[Named]]
    implied: Answer[list[Inference]]


class People:
    """Everybody that the service listed, as a dossier has them."""

    def __init__(self, users: list[User], lists: Lists, account: Accounts) -> None:
        self.users = users
        self.lists = lists
        self.account = account
        self.domains = {domain.id: domain for domain in lists.domains.value or ()}
        self.projects = {project.id: project for project in lists.projects.value or ()}
        self.known = {user.id: user for user in users}
        self.implied = {one.prior_role.id: one.implies for one in lists.implied.value or ()}
        self.names = {user.id: self._name(user) for user in users}
        self.held: dict[str, list[Held]] = {}
        groups = {group.id: self._title(group) for group in lists.groups.value or ()}
        for one in lists.roles.value or ():
            if one.user is not None and self._in_use(one.scope.project.id if one.scope.project else ""):
                group = one.links.membership.partition("/groups/")[2].partition("/")[0]
                via = f"group {groups.get(group, group)}" if group else ""
                self.held.setdefault(one.user.id, []).append(held(one.role.name, one.scope, via))

    def _name(self, user: User) -> str:
        domain = self.domains.get(user.domain_id)
        return f"{user.name}@{domain.name if domain else user.domain_id}"

    def _title(self, group: Named) -> str:
        domain = self.domains.get(group.domain_id or "")
        return f"{group.name}@{domain.name if domain else group.domain_id}"

    def _in_use(self, project: str) -> bool:
        """Whether a token can be had for a project: none is given for one that is disabled."""
        known = self.projects.get(project)
        if known is None:
            return True
        domain = self.domains.get(known.domain_id or "")
        return known.enabled and (domain is None or domain.enabled)

    def identities(self) -> list[Identity]:
        """The users."""
        return [self._identity(user) for user in self.users]

    def _identity(self, user: User) -> Identity:
        roles = self.lists.roles
        mine = self.held.get(user.id, [])
        lent = [trust for trust in self.lists.trusts.value or () if trust.trustee_user_id == user.id]
        administers = sorted({one.words for one in mine if one.role.lower() == ADMINISTRATOR})
        rules = user.options.multi_factor_auth_rules or []
        factors = bool(user.options.multi_factor_auth_enabled and rules and all(len(rule) > 1 for rule in rules))
        documents = self.account.documents(mine) + [
            msgspec.structs.replace(document, via=f"trust of {self.names.get(trust.trustor_user_id, '?')}")
            for trust in lent
            for document in self._by_trust(trust)
        ]
        return Identity(
            name=self.names[user.id],
            kind=self._kind([*mine, *(role for trust in lent for role in self._roles_by_trust(trust))], "user"),
            state=self._state(user),
            created=_NOT_OFFERED,
            mfa=Answer("known", factors),
            password=_password(user),
            groups=self._groups_of(user.id),
            policies=self._unread(roles) or self._permissions(documents, lent),
            administers=self._unread(roles)
            or (Answer("known", administers) if administers else Answer("absent", None, "", roles.evidence)),
            aliases=[
                *self._aliases(user.id, mine),
                *(name for trust in lent for name in self._names_by_trust(trust)),
            ],
        )  # fmt: skip

    def _kind(self, holding: list[Held], usual: Literal["user", "role"]) -> Literal["root", "user", "role"]:
        return "root" if self.account.rules_all(holding) else usual

    def _state(self, user: User) -> Answer[Any]:
        """Whether a user, or a credential of it, can have a token: nobody can whose domain is disabled."""
        domain = self.domains.get(user.domain_id)
        if not user.enabled or (domain is not None and not domain.enabled):
            return Answer("known", "disabled")
        if domain is not None:
            return Answer("known", "enabled")
        return self._unread(self.lists.domains) or Answer("failed", None, "its domain is not among the domains")

    def _state_of_trust(self, one: Trust) -> Answer[Any]:
        """Whether both who gave and who got a trust can have a token."""
        unknown: Answer[Any] = Answer("failed", None, "the service does not show both of its users")
        state_of = {user.id: self._state(user) for user in self.users}
        states = [state_of.get(user, unknown) for user in (one.trustor_user_id, one.trustee_user_id)]
        return next((state for state in states if state.value == "disabled"), min(states, key=lambda one: one.settled))

    def _aliases(self, user: str, mine: list[Held]) -> list[str]:
        """The names by which ACLs can let in somebody with these roles: ids, roles, plain names where they count."""
        return self.account.names(user, self.known.get(user), mine, self.projects)

    def _permissions(
        self, documents: list[AttachedPolicy], trusts: Sequence[Trust] = ()
    ) -> Answer[list[AttachedPolicy]]:
        """Somebody's permissions, where these trusts give some of them. Trusts that were not read may give anybody
        more, and so may projects, by name, and roles that the roles of a trust imply."""
        needed: list[tuple[str, Answer[Any]]] = [("trusts", self.lists.trusts), ("projects", self.lists.projects)]
        for what, answer in [*needed, *([("implied roles", self.lists.implied)] if trusts else [])]:
            unread = self._unread(answer)
            if unread is not None:
                return Answer(unread.state, None, f"{what}: {unread.note}", unread.evidence)
        return Answer("known", documents, "", self.lists.roles.evidence)

    @staticmethod
    def _unread(answer: Answer[Any]) -> Answer[Any] | None:
        return None if answer.value is not None else Answer(answer.state, None, answer.note, answer.evidence)

    def _in_project(self, roles: list[Named], project: str | None) -> list[Held]:
        """Roles that something carries into a project."""
        known = self.projects.get(project or "")
        words = f"project {known.name if known else project}"
        return [Held(role.name, project or "", words) for role in roles if self._in_use(project or "")]

    def _by_trust(self, trust: Trust) -> list[AttachedPolicy]:
        return self.account.documents(self._roles_by_trust(trust))

    def _roles_by_trust(self, trust: Trust) -> list[Held]:
        """The roles of a token by a trust: those that it names, and those that they imply, which it does not show."""
        roles = {role.id: role for role in trust.roles}
        left = list(roles)
        while left:
            more = {role.id: role for role in self.implied.get(left.pop(), ()) if role.id not in roles}
            roles |= more
            left += more
        return self._in_project(list(roles.values()), trust.project_id)

    def _names_by_trust(self, trust: Trust) -> list[str]:
        """The names that a token by a trust goes by: its giver's, where it acts for them in person."""
        who = trust.trustor_user_id if trust.impersonation else trust.trustee_user_id
        return self._aliases(who, self._roles_by_trust(trust))

    def roles_from_outside(self) -> list[Identity]:
        """Whoever signs in through another service: with which roles, its mappings decide."""
        providers = self.lists.providers
        lost: Answer[Any] = Answer("failed", None, "which roles they get is decided when they sign in")
        assumable: Answer[Any] = Answer("known", "federated")
        if providers.unread:
            names, lost = ["whoever signs in through another service"], self._unread(providers) or lost
            assumable = lost
        else:
            names = [f"whoever signs in through {one.name or one.id}" for one in providers.value or () if one.enabled]
        return [
            Identity(
                name=name, kind="role", state=Answer("known", "enabled"), created=_NOT_OFFERED, mfa=_NOT_OFFERED,
                password=_NEVER, groups=_NEVER, policies=lost, administers=lost, assumable_by=assumable,
            )
            for name in names
        ]  # fmt: skip

    def _groups_of(self, user: str) -> Answer[list[str]]:
        listed = self.lists.groups
        lost = next((one for one in (listed, *self.lists.members.values()) if one.value is None), None)
        if lost is not None:
            return Answer(lost.state, None, lost.note, lost.evidence)
        mine = [
            self._title(group)
            for group in listed.value or ()
            if any(member.id == user for member in self.lists.members[group.id].value or ())
        ]
        return Answer("known", sorted(mine), "", listed.evidence)

    def groups(self) -> Answer[list[Group]]:
        """The groups. What they give is listed with their members, as the service works it out."""
        listed = self.lists.groups
        lost = next((one for one in (listed, *self.lists.members.values()) if one.value is None), None)
        if lost is not None:
            return Answer(lost.state, None, lost.note, lost.evidence)
        listed_groups = [
            Group(
                name=self._title(group),
                members=sorted(
                    self.names.get(one.id, one.name or one.id) for one in self.lists.members[group.id].value or ()
                ),
                policies=Answer("known", []),
            )
            for group in listed.value or ()
        ]
        return Answer("known", listed_groups, "", listed.evidence)

    def credentials(self) -> Answer[list[Credential]]:
        """Application credentials, S3 keys and trusts; passwords come with the users."""
        every: Sequence[Answer[Any]] = [self.lists.trusts, *self.lists.applications.values(), *self.lists.keys.values()]
        lost = next((one for one in every if one.value is None and one.state != "absent"), None)
        if lost is not None:
            return Answer(lost.state, None, lost.note, lost.evidence)
        known: list[Credential] = []
        for user in self.users:
            known += [self._application(user, one) for one in self.lists.applications[user.id].value or ()]
            known += [self._key(user, one) for one in self.lists.keys[user.id].value or ()]
        known += [self._trust(one) for one in self.lists.trusts.value or ()]
        return Answer("known", known, "", self.lists.trusts.evidence)

    def _application(self, user: User, one: ApplicationCredential) -> Credential:
        name, mine = f"application credential {one.name}", self._in_project(one.roles, one.project_id)
        within = self.account.limit(one.access_rules)
        stands_for = Identity(
            name=f"{name} of {self.names[user.id]}", kind="role" if within.unread else self._kind(mine, "role"),
            state=self._state(user),
            policies=self._permissions(self.account.documents(mine)), boundary=within, groups=_NEVER,
            aliases=self._aliases(user.id, mine),
        )  # fmt: skip
        limits = sorted(f"{rule.method} {rule.path}" for rule in one.access_rules or ())
        return Credential(
            id=one.id, name=one.name, owner=self.names[user.id], kind="application-credential",
            state=Answer("known", "active"), created=_NOT_OFFERED, last_used=_NOT_OFFERED, used_for=_NOT_OFFERED,
            expires=_moment(one.expires_at),
            stands_for=stands_for, makes_more=Answer("known", bool(one.unrestricted)),
            limits=_NEVER if one.access_rules is None else Answer("known", limits),
        )  # fmt: skip

    def _key(self, user: User, one: S3Key) -> Credential:
        name = f"S3 key {one.access[:4]}… of {self.names[user.id]}"
        if one.trust_id:
            stands_for = self._by_key_of_trust(name, one.trust_id)
        else:
            project = one.tenant_id or ""
            mine = [role for role in self.held.get(user.id, []) if role.project == project]
            stands_for = Identity(
                name=name, kind=self._kind(mine, "role"), state=self._state(user),
                policies=self._unread(self.lists.roles) or self._permissions(self.account.documents(mine)),
                groups=_NEVER, aliases=self._aliases(user.id, mine),
            )  # fmt: skip
        return Credential(
            id=one.access, owner=self.names[user.id], state=Answer("known", "active"), created=_NOT_OFFERED,
            last_used=_NOT_OFFERED, expires=_NEVER, used_for=_NOT_OFFERED, stands_for=stands_for,
        )  # fmt: skip

    def _by_key_of_trust(self, name: str, trust: str) -> Identity:
        """What an S3 key acts for that was made with a trust: the trust, whoever owns the key."""
        made_with = next((one for one in self.lists.trusts.value or () if one.id == trust), None)
        if made_with is not None:
            return self._acting_by_trust(name, made_with)
        gone: Answer[Any] = Answer("known", "disabled")  # no token is given by a trust that is not there
        return Identity(
            name=name, kind="role", state=self._unread(self.lists.trusts) or gone,
            policies=self._permissions([]), groups=_NEVER,
        )  # fmt: skip

    def _acting_by_trust(self, name: str, one: Trust) -> Identity:
        return Identity(
            name=name, kind=self._kind(self._roles_by_trust(one), "role"), state=self._state_of_trust(one),
            groups=_NEVER,
            policies=self._permissions(self._by_trust(one), [one]), aliases=self._names_by_trust(one),
        )  # fmt: skip

    def _trust(self, one: Trust) -> Credential:
        owner = self.names.get(one.trustor_user_id, one.trustor_user_id)
        stands_for = self._acting_by_trust(f"trust {one.id[:8]} of {owner}", one)
        return Credential(
            id=one.id, owner=owner, kind="trust",
            state=Answer("known", "disabled" if one.remaining_uses == 0 else "active"),
            created=_NOT_OFFERED, last_used=_NOT_OFFERED, expires=_moment(one.expires_at), used_for=_NOT_OFFERED,
            stands_for=stands_for, makes_more=Answer("known", one.redelegation_count > 0),
            used_by=self.names.get(one.trustee_user_id, one.trustee_user_id),
        )  # fmt: skip


def _password(user: User) -> Answer[Password]:
    """A user's password: the service says when it has to be changed, and nothing else."""
    if user.password_expires_at is None or user.options.ignore_password_expiry:
        return Answer("unsupported", None, "the service does not say whether it has a password")
    return Answer("known", Password(_NOT_OFFERED, _NOT_OFFERED, _moment(user.password_expires_at)))


def _moment(text: str | None) -> Answer[datetime]:
    if text is None:
        return _NEVER
    try:
        moment = datetime.fromisoformat(text)
    except ValueError:
        return Answer("failed", None, f'"{text[:40]}" is no moment')
    return Answer("known", moment if moment.tzinfo else moment.replace(tzinfo=UTC))
