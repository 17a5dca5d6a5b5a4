""""""

from __future__ import annotations

from datetime import datetime

import msgspec

from rusty_lantern.core.audit.audit import Judge
from rusty_lantern.core.audit.store_subject import PartSubject, StoreSubject
from rusty_lantern.core.baseline.evaluation import Cascade
from rusty_lantern.core.model.identity import masked
from rusty_lantern.core.model.resources import Link
from rusty_lantern.core.value_types import show_moment
from rusty_lantern.reports.results.identities import Judged, judged_with


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
    status: str
    bucket_exposure: str
    grants_beyond_bucket: list[str]
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


def link_row(
    subject: PartSubject, judge: Judge | None, *, presumed: bool = False, host: str = "", ours: bool = True
) -> LinkRow:
    """One link; `ours`: whether it belongs to a store of the estate."""
    link, standing = subject.view.link, subject.view.standing
    store_subject = subject.context if ours else None
    signed_by = exposure = "unknown"
    if store_subject is not None:
        signed_by = str(subject.fact("link.signing-key").value or subject.fact("link.signing-key").state)
        exposure = str(subject.fact("link.bucket-exposure").value or "unknown")
    return LinkRow(
        store=store_subject.index.dossier.store if store_subject else "",
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
        status=standing,
        bucket_exposure=exposure,
        grants_beyond_bucket=[
            v for v in link.verbs if store_subject and store_subject.of_public(link.bucket, v).value == "closed"
        ],
        against_baseline=_wanted_closed(store_subject, link, judge.cascade) if store_subject and judge else {},
        host=host,
        found=link.found,
        probe="",
        judged=judged_with(judge, subject if store_subject and standing in ("valid", "unknown") else None),
    )


def _wanted_closed(store_subject: StoreSubject, link: Link, cascade: Cascade) -> dict[str, str]:
    """The verbs of a link that the baseline wants closed to the public on its bucket, with where it says so."""
    view = store_subject.buckets.get(link.bucket)
    if view is None:
        return {}
    found: dict[str, str] = {}
    for required in cascade.required_of(view):
        verb = required.requirement.fact.removeprefix("exposure.").removeprefix("anyone.")
        wanted = required.requirement.comparison
        if verb in link.verbs and required.sure and wanted is not None and not wanted.accepts("open"):
            found[verb] = str(required.requirement.place)
    return found
