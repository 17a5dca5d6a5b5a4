"""Results about identities, credentials, encryption keys, links and mirrors, as `--json` prints them."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from typing import Any

import msgspec

from rusty_lantern.core.answer import Partly
from rusty_lantern.core.audit.audit import Judge
from rusty_lantern.core.audit.store_subject import StoreSubject
from rusty_lantern.core.baseline.evaluation import Finding
from rusty_lantern.core.baseline.selectors import Subject
from rusty_lantern.core.model.identity import Identity, fingerprint, masked
from rusty_lantern.core.model.subjects import CredentialView
from rusty_lantern.core.value_types import show_moment
from rusty_lantern.reports.results.of_survey import OfSurvey

Seconds = int | None


class AgainstBaseline(msgspec.Struct, frozen=True, kw_only=True):
    """What the baseline says of one row: facts that drift, with their severity; unknown ones; waived ones."""

    drift: dict[str, str]
    unknown: dict[str, str]
    """Fact → why it is unknown."""
    waived: dict[str, str]
    """Fact → until when, by whom and why its drift is accepted."""


class IdentityRow(msgspec.Struct, frozen=True, kw_only=True):
    """One identity. A value of null is not known, or there is none: `unknown` has the reason where it is not known."""

    store: str
    name: str
    kind: str | None
    state: str | None
    mfa: str | None
    password: str | None
    password_idle: Seconds
    active_keys: int | None
    groups: str | None
    can: str | None
    can_at_least: str
    """What it certainly can, where not all of it is known."""
    excess_permissions: str | None
    excess_at_least: str
    """What it certainly can and does not need, where not all of it is known."""
    well_known_name: bool
    unknown: dict[str, str]
    against_baseline: AgainstBaseline


class CredentialRow(msgspec.Struct, frozen=True, kw_only=True):
    """One credential: its id masked, and a fingerprint by which it is known again elsewhere. Periods in seconds."""

    store: str
    owner: str
    owner_kind: str | None
    owner_state: str | None
    key: str
    name: str
    """What its owner calls it."""
    fingerprint: str
    kind: str
    used_by: str | None
    """Whom a trust was given to."""
    limits: str | None
    """The only requests that it is good for; null: every request."""
    makes_more: str | None
    state: str | None
    age: Seconds
    idle: Seconds
    used: str | None
    expires: str | None
    active_keys_of_owner: int | None
    shared_by_admin_and_app: str | None
    can: str | None
    can_at_least: str
    """What its owner certainly can, where not all of it is known."""
    excess_permissions: str | None
    unknown: dict[str, str]
    against_baseline: AgainstBaseline


class LeakRow(msgspec.Struct, frozen=True, kw_only=True):
    """Key material in a file, and whose it is, where that is known."""

    file: str
    line: int
    what: str
    key: str
    store: str
    owner: str
    """Empty where nobody has it, or nobody knows: the lists of some stores were not read."""
    state: str


class CredentialsResult(OfSurvey, frozen=True, kw_only=True):
    """`lantern credentials --json`."""

    identities: list[IdentityRow]
    credentials: list[CredentialRow]
    unread: dict[str, str]
    """Store → why its identities or credentials are unknown."""
    found_in_files: list[LeakRow] | None = None
    """Null, where no files were looked into."""
    files_looked_into: int | None = None
    files_passed_over: dict[str, int] | None = None
    """Why → how many files and folders."""


def counted_against(findings: Iterable[Finding]) -> AgainstBaseline:
    """A subject's findings, counted."""
    judged = list(findings)
    return AgainstBaseline(
        drift={j.requirement.fact: j.requirement.severity for j in judged if j.status == "drift"},
        waived={j.requirement.fact: j.reason for j in judged if j.status == "waived"},
        unknown={j.requirement.fact: j.reason for j in judged if j.status == "unknown"},
    )


class Facts:
    """The facts of one subject, asked for by name; keeps why some are unknown."""

    def __init__(self, subject: Subject) -> None:
        self.subject = subject
        self.unknown: dict[str, str] = {}

    def __call__(self, name: str) -> Any:
        """The fact's value in JSON; None where there is none."""
        fact = self.subject.fact(f"{self.subject.kind}.{name}")
        if not fact.settled:
            self.unknown[name] = fact.reason
        return show_moment(fact.value) if isinstance(fact.value, datetime) else fact.value

    def at_least(self, name: str) -> str:
        """The part of a fact that is certain, where it is not known as a whole."""
        fact = self.subject.fact(f"{self.subject.kind}.{name}")
        return str(fact.certain or "") if isinstance(fact, Partly) else ""


def against_baseline(judge: Judge | None, subject: Subject | None) -> AgainstBaseline:
    """A subject's state under the baseline; empty where there is none."""
    return counted_against(judge.findings(subject) if judge and subject else ())


def identity_rows(store_subject: StoreSubject, judge: Judge | None) -> list[IdentityRow]:
    """Every identity of a store."""
    rows = []
    for identity in store_subject.index.dossier.identities.value or ():
        subject = store_subject.identity(identity)
        fact = Facts(subject)
        rows.append(
            IdentityRow(
                store=store_subject.index.dossier.store, name=identity.name, kind=_kind(fact("kind"), identity),
                state=fact("state"), mfa=fact("mfa"), password=fact("password"), password_idle=fact("password-idle"),
                active_keys=fact("active-keys"), groups=fact("groups"), can=fact("permissions"),
                can_at_least=_least(store_subject, identity),
                excess_permissions=fact("excess-permissions") if identity.may.value is not None else None,
                excess_at_least=fact.at_least("excess-permissions"),
                well_known_name=fact("well-known-name") == "on", unknown=fact.unknown,
                against_baseline=against_baseline(judge, subject),
            )
        )  # fmt: skip
    return rows


def credential_rows(store_subject: StoreSubject, judge: Judge | None) -> list[CredentialRow]:
    """Every credential of a store, disabled ones too."""
    rows = []
    for credential in store_subject.index.dossier.credentials.value or ():
        fact = Facts(store_subject.any_credential(credential))
        view = CredentialView(credential, store_subject.index, store_subject)
        owner = view.owner
        rows.append(
            CredentialRow(
                store=store_subject.index.dossier.store, owner=credential.owner,
                owner_kind=_kind(fact("owner-kind"), owner),
                owner_state=fact("owner-state"), key=masked(credential.id), fingerprint=fingerprint(credential.id),
                name=credential.name, used_by=fact("used-by"), limits=fact("limits"), makes_more=fact("makes-more"),
                kind=credential.kind, state=fact("state"), age=fact("age"), idle=fact("idle"), used=fact("used"),
                expires=fact("expires"), active_keys_of_owner=fact("active-keys-of-owner"),
                shared_by_admin_and_app=fact("shared-by-admin-and-app"),
                can=fact("permissions"), can_at_least=_least(store_subject, view.stands_for),
                excess_permissions=fact("excess-permissions") if owner and owner.may.value is not None else None,
                unknown=fact.unknown, against_baseline=against_baseline(judge, store_subject.credential(credential)),
            )
        )  # fmt: skip
    return rows


def _kind(kind: Any, identity: Identity | None) -> Any:
    """What it is; `user` where it is a person or a service, and the store does not say which."""
    return "user" if kind is None and identity is not None and identity.kind == "user" else kind


def _least(store_subject: StoreSubject, identity: Identity | None) -> str:
    return (
        store_subject.across.least(identity)
        if identity is not None and store_subject.index.dossier.listing.settled
        else ""
    )


def unread_sections(store_subjects: Iterable[StoreSubject], *sections: str) -> dict[str, str]:
    """Store → why a section of its dossier is unknown."""
    reasons = {}
    for store_subject in store_subjects:
        dossier = store_subject.index.dossier
        lost = next((getattr(dossier, name) for name in sections if not getattr(dossier, name).settled), None)
        if not dossier.listing.settled:
            lost = dossier.listing
        if lost is not None:
            reasons[dossier.store] = lost.reason
    return reasons
