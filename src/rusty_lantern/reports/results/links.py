"""Share links as a result."""

from __future__ import annotations

import msgspec

from rusty_lantern.core.audit.audit import Judge
from rusty_lantern.core.audit.store_subject import PartSubject, StoreSubject
from rusty_lantern.core.baseline.evaluation import Cascade
from rusty_lantern.core.model.identity import Verb, masked
from rusty_lantern.core.model.resources import Link
from rusty_lantern.core.value_types import show_moment
from rusty_lantern.reports.results.identities import AgainstBaseline, against_baseline
from rusty_lantern.reports.results.of_survey import OfSurvey


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
    form: str
    """How it was made: ad-hoc, stored-policy, account or identity; empty where the protocol has one way only."""
    policy: str
    """The stored policy that it names."""
    starts: str | None
    networks: list[str]
    """The addresses that may use it; none named: every address."""
    tls_only: bool
    services: list[str]
    """What else of the account it opens."""
    ended_by: str
    """What ends it before its time, in words; empty where the protocol has one way only."""
    bucket_exposure: str
    grants_beyond_bucket: list[str]
    """Verbs that the link gives, and the bucket's own rules give to nobody of the public."""
    closed_by_baseline: dict[str, str]
    """Verbs that the link gives, and the baseline wants closed on its bucket, with where it says so."""
    host: str
    """The host that a link found in text names, where that is not the address that the estate has for its store."""
    found: str
    probe: str
    against_baseline: AgainstBaseline


class LinksResult(OfSurvey, frozen=True, kw_only=True):
    """`lantern links --json`."""

    links: list[LinkRow]
    read_bytes: int
    unread: dict[str, str]


def link_row(
    subject: PartSubject, judge: Judge | None, *, host: str = "", ours: bool = True, probe: str = ""
) -> LinkRow:
    """One link; `ours`: whether it belongs to a store of the estate."""
    link, status, verbs = subject.view.link, subject.view.status, subject.view.verbs
    store_subject = subject.context if ours else None
    signed_by = exposure = "unknown"
    if store_subject is not None:
        signing = subject.fact("link.signing-key")
        signed_by = str(signing.value or (signing.state if signing.settled else "unknown"))
        exposure = str(subject.fact("link.bucket-exposure").value or "unknown")
    return LinkRow(
        store=store_subject.index.dossier.store if store_subject else "",
        bucket=link.bucket,
        key=link.key,
        scope=link.scope,
        verbs=verbs,
        presumed=link.presumed,
        signer=masked(link.credential) if link.credential else "",
        signer_state=signed_by,
        issued=show_moment(link.issued.value) if link.issued.value else None,
        expires=next((show_moment(end) for end in sorted(end for end in subject.view.ends if end)), None),
        never_ends=subject.fact("link.expires").state == "absent",
        status=status,
        form=link.form,
        policy=link.policy,
        starts=show_moment(link.starts) if link.starts else None,
        networks=list(link.networks),
        tls_only=link.tls_only,
        services=list(link.services),
        ended_by=ended_by(link),
        bucket_exposure=exposure,
        grants_beyond_bucket=[
            v
            for v in verbs
            if store_subject and link.bucket and store_subject.of_public(link.bucket, v).value == "closed"
        ],
        closed_by_baseline=_wanted_closed(store_subject, link.bucket, verbs, judge.cascade)
        if store_subject and judge
        else {},
        host=host,
        found=link.found,
        probe=probe,
        against_baseline=against_baseline(judge, subject if store_subject and status in ("valid", "unknown") else None),
    )


def ended_by(link: Link) -> str:
    """What ends a link before its time, in words. Source: the blob protocol's documentation of its three forms."""
    by_key = "changing the account key that signed it ends it, and every other link of that key"
    words = {
        "stored-policy": f'removing the policy "{link.policy}" of {link.bucket} ends it; a policy of that name that is '
        "made again revives it",
        "ad-hoc": f"a link made for itself: {by_key}",
        "account": f"a link for the account as a whole: {by_key}",
        "identity": "a link of an identity's own: revoking that identity's delegation keys ends it",
    }
    return words.get(link.form, "")


def _wanted_closed(store_subject: StoreSubject, bucket: str, verbs: list[Verb], cascade: Cascade) -> dict[str, str]:
    """The verbs of a link that the baseline wants closed to the public on its bucket, with where it says so."""
    view = store_subject.buckets.get(bucket)
    if view is None:
        return {}
    lines: dict[str, str] = {}
    for required in cascade.required_of(view):
        verb = required.requirement.fact.removeprefix("exposure.").removeprefix("anyone.")
        wanted = required.requirement.comparison
        if verb in verbs and required.sure and wanted is not None and not wanted.accepts("open"):
            lines[verb] = str(required.requirement.place)
    return lines
