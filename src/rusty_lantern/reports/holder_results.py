"""Results about identities, credentials, encryption keys, links and mirrors, as `--json` prints them."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from datetime import datetime
from typing import Any

import msgspec

from rusty_lantern.core.assess import Judge
from rusty_lantern.core.baseline.choosing import Spoken, spoken
from rusty_lantern.core.baseline.judge import Cascade, Judgement
from rusty_lantern.core.circles import Circle
from rusty_lantern.core.facts import Fact
from rusty_lantern.core.holders import Holder, Link, fingerprint, masked
from rusty_lantern.core.mirror_facts import Compared
from rusty_lantern.core.mirrors import judgements as mirror_judgements
from rusty_lantern.core.roster import LinkView
from rusty_lantern.core.scales import show_moment

Seconds = int | None


class Judged(msgspec.Struct, frozen=True, kw_only=True):
    """What the baseline says of one row: facts that drift, with their severity; unknown ones; waived ones."""

    drifted: dict[str, str]
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
    second_factor: str | None
    password: str | None
    password_idle: Seconds
    live_keys: int | None
    groups: str | None
    can: str | None
    can_at_least: str
    """What it certainly can, where not all of it can be told."""
    beyond: str | None
    default_name: bool
    unknown: dict[str, str]
    judged: Judged


class CredentialRow(msgspec.Struct, frozen=True, kw_only=True):
    """One credential: its id masked, and a fingerprint by which it is known again elsewhere. Periods in seconds."""

    store: str
    owner: str
    owner_kind: str | None
    owner_state: str | None
    key: str
    fingerprint: str
    kind: str
    state: str | None
    age: Seconds
    idle: Seconds
    used: str | None
    expires: str | None
    live_with_owner: int | None
    mixed: str | None
    can: str | None
    can_at_least: str
    """What its owner certainly can, where not all of it can be told."""
    beyond: str | None
    unknown: dict[str, str]
    judged: Judged


class LeakRow(msgspec.Struct, frozen=True, kw_only=True):
    """Key material that lies in a file, and whose it is, where that can be told."""

    file: str
    line: int
    what: str
    key: str
    store: str
    owner: str
    state: str


class CredentialsResult(msgspec.Struct, frozen=True, kw_only=True):
    """`lantern credentials --json`."""

    survey: str
    as_of: datetime
    identities: list[IdentityRow]
    credentials: list[CredentialRow]
    unread: dict[str, str]
    """Store → why its identities or credentials could not be told."""
    lying_about: list[LeakRow] | None


class KeyRow(msgspec.Struct, frozen=True, kw_only=True):
    """One encryption key, and the buckets that hang on it."""

    store: str
    key: str
    name: str
    ring: str
    state: str | None
    place: str | None
    protection: str | None
    rotation: Seconds
    age: Seconds
    store_may_use: str | None
    destruction: str | None
    buckets: list[str]
    unknown: dict[str, str]
    judged: Judged


class ProtectionRow(msgspec.Struct, frozen=True, kw_only=True):
    """What protects one bucket at rest, and whether its objects are under something else."""

    store: str
    bucket: str
    by: str | None
    stated: bool
    key: str | None
    key_place: str | None
    key_state: str | None
    usable: str | None
    others: list[Other]
    unknown: dict[str, str]


class Other(msgspec.Struct, frozen=True, kw_only=True):
    """Versions that are not under the bucket's default of today."""

    by: str
    key: str
    versions: int
    bytes: int


class EncryptionResult(msgspec.Struct, frozen=True, kw_only=True):
    """`lantern encryption --json`."""

    survey: str
    as_of: datetime
    keys: list[KeyRow]
    buckets: list[ProtectionRow]
    unread: dict[str, str]


class LinkRow(msgspec.Struct, frozen=True, kw_only=True):
    """One share link, without its secret part."""

    store: str
    bucket: str
    key: str
    scope: str
    verbs: list[str]
    presumed: bool
    """Whether the verb is only what such addresses are usually for."""
    signer: str
    signer_state: str
    issued: str | None
    expires: str | None
    never_ends: bool
    standing: str
    bucket_exposure: str
    beside_the_door: list[str]
    """Verbs that the link gives, and the bucket's own rules give to nobody of the public."""
    against_baseline: dict[str, str]
    """Verbs that the link gives, and the baseline wants closed on its bucket, with where it says so."""
    host: str
    """The host that a link found in text names, where that is not the address that the estate has for its store."""
    found: str
    probe: str
    judged: Judged


class LinksResult(msgspec.Struct, frozen=True, kw_only=True):
    """`lantern links --json`."""

    survey: str
    as_of: datetime
    links: list[LinkRow]
    read_bytes: int
    unread: dict[str, str]


class MirrorRow(msgspec.Struct, frozen=True, kw_only=True):
    """One mirrored bucket."""

    source: str
    target: str
    bucket: str
    content: str
    words: str
    behind: int
    lag: int
    differences: list[DifferenceResult]
    unknown: dict[str, str]
    judged: Judged


class DifferenceResult(msgspec.Struct, frozen=True, kw_only=True):
    """A fact that is not the same in the copy."""

    fact: str
    here: str
    there: str


class MirrorsResult(msgspec.Struct, frozen=True, kw_only=True):
    """`lantern mirrors --json`."""

    survey: str
    as_of: datetime
    mirrors: list[MirrorRow]


def judged_of(judgements: Iterable[Judgement]) -> Judged:
    """What a subject's judgements come to."""
    found = list(judgements)
    return Judged(
        drifted={j.requirement.fact: j.requirement.severity for j in found if j.status == "drifted"},
        waived={j.requirement.fact: j.reason for j in found if j.status == "waived"},
        unknown={j.requirement.fact: j.reason for j in found if j.status == "unknown"},
    )


class Facts:
    """The facts of one subject, asked for by name; keeps why some could not be told."""

    def __init__(self, circle: Circle, kind: str, view: Any) -> None:
        self.circle, self.kind, self.view = circle, kind, view
        self.unknown: dict[str, str] = {}

    def __call__(self, name: str) -> Any:
        """The fact's value in JSON; None where there is none."""
        found: Fact = self.circle.fact(f"{self.kind}.{name}", self.view)
        if not found.settled:
            self.unknown[name] = found.reason
        return show_moment(found.value) if isinstance(found.value, datetime) else found.value


def _judge(judge: Judge | None, circle: Circle, subject: tuple[Spoken, Any] | None) -> Judged:
    return judged_of(judge.of_subject(circle, subject) if judge and subject else ())


def identity_rows(circle: Circle, judge: Judge | None) -> list[IdentityRow]:
    """Every identity of a store."""
    rows = []
    for holder in circle.roster.dossier.identities.value or ():
        subject = circle.holder(holder)
        fact = Facts(circle, "identity", subject[1])
        rows.append(
            IdentityRow(
                store=circle.roster.dossier.store, name=holder.name, kind=fact("kind"), state=fact("state"),
                second_factor=fact("second-factor"), password=fact("password"), password_idle=fact("password-idle"),
                live_keys=fact("live-keys"), groups=fact("groups"), can=fact("verbs"),
                can_at_least=_least(circle, holder),
                beyond=fact("beyond") if holder.may.value is not None else None,
                default_name=fact("default-name") == "on", unknown=fact.unknown,
                judged=_judge(judge, circle, subject),
            )
        )  # fmt: skip
    return rows


def credential_rows(circle: Circle, judge: Judge | None) -> list[CredentialRow]:
    """Every credential of a store, disabled ones too."""
    rows = []
    for credential in circle.roster.dossier.credentials.value or ():
        fact = Facts(circle, "credential", circle.credential_view(credential))
        owner = circle.roster.holders.get(credential.owner)
        rows.append(
            CredentialRow(
                store=circle.roster.dossier.store, owner=credential.owner, owner_kind=fact("owner-kind"),
                owner_state=fact("owner-state"), key=masked(credential.id), fingerprint=fingerprint(credential.id),
                kind=credential.kind, state=fact("state"), age=fact("age"), idle=fact("idle"), used=fact("used"),
                expires=fact("expires"), live_with_owner=fact("live-with-owner"), mixed=fact("mixed"),
                can=fact("verbs"), can_at_least=_least(circle, owner),
                beyond=fact("beyond") if owner and owner.may.value is not None else None,
                unknown=fact.unknown, judged=_judge(judge, circle, circle.credential(credential)),
            )
        )  # fmt: skip
    return rows


def _least(circle: Circle, holder: Holder | None) -> str:
    return circle.across.least(holder) if holder is not None and circle.roster.dossier.listing.settled else ""


def key_rows(circle: Circle, judge: Judge | None) -> list[KeyRow]:
    """Every encryption key of a store."""
    rows = []
    for key in circle.roster.dossier.encryption_keys.value or ():
        subject = circle.key(key)
        fact = Facts(circle, "encryption-key", subject[1])
        rows.append(
            KeyRow(
                store=circle.roster.dossier.store, key=key.id, name=next(iter(key.names), key.id), ring=key.ring,
                state=fact("state"), place=fact("place"), protection=fact("protection"), rotation=fact("rotation"),
                age=fact("age"), store_may_use=fact("store-may-use"), destruction=fact("destruction"),
                buckets=[bucket.name for bucket in circle.roster.protected_by.get(key.id, [])],
                unknown=fact.unknown, judged=_judge(judge, circle, subject),
            )
        )  # fmt: skip
    return rows


Under = Mapping[str, list[tuple[str, str, int, int]]]
"""Bucket → what its versions are encrypted with: by whom kept, which key, versions, bytes."""


def protection_rows(circle: Circle, under: Under) -> list[ProtectionRow]:
    """What protects each bucket of a store."""
    rows = []
    for name, view in circle.buckets.items():
        parts = ("at-rest", "key", "key-place", "key-state", "key-usable")
        facts = {part: view.fact(f"encryption.{part}") for part in parts}
        value = {part: None if fact.value is None else str(fact.value) for part, fact in facts.items()}
        applied = [one for one in under.get(name, []) if one[0] and (one[0], one[1]) != _default(circle, name)]
        rows.append(
            ProtectionRow(
                store=circle.roster.dossier.store, bucket=name, by=value["at-rest"],
                stated=facts["at-rest"].state == "stated", key=value["key"], key_place=value["key-place"],
                key_state=value["key-state"], usable=value["key-usable"],
                others=[Other(by=by, key=key, versions=n, bytes=size) for by, key, n, size in applied],
                unknown={part: fact.reason for part, fact in facts.items() if not fact.settled},
            )
        )  # fmt: skip
    return rows


def _default(circle: Circle, bucket: str) -> tuple[str, str]:
    encryption = circle.buckets[bucket].bucket.encryption
    return (encryption.value.by, encryption.value.key) if encryption.value else ("none", "")


def link_row(
    circle: Circle | None, view: LinkView, judge: Judge | None, *, presumed: bool = False, host: str = ""
) -> LinkRow:
    """One link; without a circle it belongs to no store of the estate."""
    link = view.link
    signed_by = exposure = "unknown"
    if circle is not None:
        signed_by = str(circle.fact("link.signed-by", view).value or circle.fact("link.signed-by", view).state)
        found = circle.fact("link.bucket-exposure", view)
        exposure = str(found.value or "unknown")
    subject = (circle.link_spoken(link), view) if circle is not None and view.standing in ("valid", "unknown") else None
    return LinkRow(
        store=circle.roster.dossier.store if circle else "",
        bucket=link.bucket,
        key=link.key,
        scope=link.scope,
        verbs=list(link.verbs),
        presumed=presumed,
        signer=masked(link.credential) if link.credential else "",
        signer_state=signed_by,
        issued=show_moment(link.issued.value) if link.issued.value else None,
        expires=show_moment(link.expires.value) if link.expires.value else None,
        never_ends=link.expires.state == "absent",
        standing=view.standing,
        bucket_exposure=exposure,
        beside_the_door=[v for v in link.verbs if circle and circle.opened(link.bucket, v).value == "closed"],
        against_baseline=_wanted_closed(circle, link, judge.cascade) if circle and judge else {},
        host=host,
        found=link.found,
        probe="",
        judged=_judge(judge, circle, subject) if circle else judged_of(()),
    )


def _wanted_closed(circle: Circle, link: Link, cascade: Cascade) -> dict[str, str]:
    """The verbs of a link that the baseline wants closed to the public on its bucket, with where it says so."""
    view = circle.buckets.get(link.bucket)
    if view is None:
        return {}
    found: dict[str, str] = {}
    for required in cascade.required_of(spoken(circle.roster.dossier.store, view.bucket, view.fact)):
        verb = required.requirement.fact.removeprefix("exposure.").removeprefix("anyone.")
        wanted = required.requirement.comparison
        if verb in link.verbs and required.sure and wanted is not None and not wanted.accepts("open"):
            found[verb] = str(required.requirement.place)
    return found


def mirror_row(compared: Compared, judge: Judge | None = None) -> MirrorRow:
    """One mirrored bucket as a result."""
    return MirrorRow(
        source=compared.mirror.source,
        target=compared.mirror.target,
        bucket=compared.bucket,
        content=compared.content or "unknown",
        words=compared.words,
        behind=compared.behind,
        lag=compared.mirror.lag,
        differences=[DifferenceResult(fact=d.fact, here=d.here, there=d.there) for d in compared.differences],
        unknown=dict(compared.unknown),
        judged=judged_of(judge.of_mirror(compared) if judge else mirror_judgements(compared)),
    )


def unread_sections(circles: Iterable[Circle], *sections: str) -> dict[str, str]:
    """Store → why a section of its dossier could not be told."""
    found = {}
    for circle in circles:
        dossier = circle.roster.dossier
        lost = next((getattr(dossier, name) for name in sections if not getattr(dossier, name).settled), None)
        if not dossier.listing.settled:
            lost = dossier.listing
        if lost is not None:
            found[dossier.store] = lost.reason
    return found
