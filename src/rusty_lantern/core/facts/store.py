"""Facts of stores as a whole: how they are reached, which protocols they use, what is set for all their buckets."""

from __future__ import annotations

from typing import get_args, get_type_hints

from rusty_lantern.core.answer import Answer, Fact, absent_fact, fact_of, lost, since, switch_fact
from rusty_lantern.core.facts.identities import absent_or_lost
from rusty_lantern.core.facts.registry import fact
from rusty_lantern.core.model.dossier import Software
from rusty_lantern.core.model.network import REACH, network_fact
from rusty_lantern.core.model.resources import Certificate
from rusty_lantern.core.model.store_index import StoreIndex
from rusty_lantern.core.value_types import DURATION, SWITCH, TEXT, Levels

STORE = "store"
CERTIFICATES = Levels(get_args(get_type_hints(Certificate)["verdict"]))


def _certificates(index: StoreIndex) -> list[tuple[str, Answer[Certificate]]]:
    """What the store shows, and what each of its other addresses does, each with where."""
    dossier = index.dossier
    main = (f"at {dossier.address}" if dossier.address else "at its address", dossier.certificate)
    others = [(f"at {one.at}", one.shown) for one in dossier.other_certificates]
    over_tls = [(where, shown) for where, shown in (main, *others) if shown.state != "unsupported"]
    return over_tls or [main]


def _unread_certificate(certificates: list[tuple[str, Answer[Certificate]]]) -> Fact | None:
    """Why one of them is not known; None where all are."""
    where, shown = next(((where, one) for where, one in certificates if one.value is None), ("", None))
    if shown is None:
        return None
    if len(certificates) == 1:
        return absent_or_lost(shown)
    return Answer("failed", None, f"the certificate {where}: {shown.reason or 'there is none'}", shown.evidence)


@fact(
    "store.certificate",
    CERTIFICATES,
    "the verdict on the certificate in the TLS handshake; where one of its nodes, regions or doors shows one that is "
    "not trusted, on that",
    of=STORE,
    safe="trusted",
    advice="install a certificate that is valid and for this name ({note})",
)
def store_certificate(index: StoreIndex, _: str) -> Fact:
    """Held against the trust that the estate file names. Whoever is sent to a node sees that node's alone."""
    certificates = _certificates(index)
    known = [(where, shown.value, shown.evidence) for where, shown in certificates if shown.value is not None]
    for where, certificate, evidence in known:
        if certificate.verdict != "trusted":
            return Answer("known", certificate.verdict, where, evidence)
    return _unread_certificate(certificates) or Answer("known", "trusted", "", known[0][2])


@fact(
    "store.certificate-expires-in",
    DURATION,
    "how long the certificate is still good for, at the address where it ends first; absent: no longer",
    unit="seconds",
    of=STORE,
    advice="renew the certificate before it ends ({note})",
    restless=True,
)
def store_certificate_left(index: StoreIndex, _: str) -> Fact:
    """As of the moment of the audit."""
    certificates = _certificates(index)
    known = [(shown.value.ends, where, shown.evidence) for where, shown in certificates if shown.value is not None]
    ends, where, evidence = min(known, key=lambda one: one[0], default=(index.moment, "", certificates[0][1].evidence))
    left = int((ends - index.moment).total_seconds())
    if known and left <= 0:
        return Answer("absent", None, where, evidence)
    return _unread_certificate(certificates) or Answer("known", left, where, evidence)


# Who uses it lets everyone on the way read along.
fact(
    "store.plain-http",
    SWITCH,
    "whether it, or one of its nodes, regions or doors, answers over plain http as well",
    of=STORE,
    advice="stop answering in plain http ({note})",
    safe="off",
)(lambda index, _: switch_fact(index.dossier.plain_http))

# They rest on SHA-1 and never expire by themselves.
fact(
    "store.legacy-signatures",
    SWITCH,
    "whether it, or one of its nodes or regions, accepts signatures of the first generation",
    of=STORE,
    advice="refuse signatures of the first generation ({note})",
    safe="off",
)(lambda index, _: switch_fact(index.dossier.legacy_signatures))

# Absent where it has no network rules.
fact(
    "store.network",
    REACH,
    "from where it may be asked at all",
    of=STORE,
    safe="at least public-networks",
    advice="allow named networks only",
)(lambda index, _: network_fact(index.dossier.network))


# Anything older than 1.2 can be broken on the way.
fact(
    "store.minimum-tls",
    Levels(("1.0", "1.1", "1.2", "1.3"), ordered=True),
    "the oldest release of TLS that it still speaks",
    of=STORE,
    advice="refuse releases of TLS before {wanted}",
    safe="at least 1.2",
)(lambda index, _: fact_of(index.dossier.minimum_tls))

# Whoever has one can do everything, and no record says who it was.
fact(
    "store.shared-keys",
    SWITCH,
    "whether the account's own keys open everything in it, beside its identities",
    of=STORE,
    advice="move whoever uses them to identities of their own, then switch the account's own keys off",
    safe="off",
)(lambda index, _: switch_fact(index.dossier.shared_keys))

fact(
    "store.bucket-soft-delete",
    DURATION,
    "for how long a deleted bucket can be brought back; absent: not at all",
    unit="seconds",
    of=STORE,
    advice="switch on that deleted buckets are kept for a while: {wanted}",
)(lambda index, _: fact_of(index.dossier.bucket_soft_delete))


@fact(
    "store.dossier-age",
    DURATION,
    "how old the dossier was that it was read from; absent where it was read itself",
    unit="seconds",
    of=STORE,
    advice="ask the store's owner for a new dossier: this one is {observed} old",
    restless=True,
    grows=True,
)
def store_dossier_age(index: StoreIndex, _: str) -> Fact:
    """From when the document was made until the survey."""
    made, listing = index.dossier.exported, index.dossier.listing
    if made is None:
        return Answer("absent") if listing.settled else lost(listing)
    return since(Answer("known", made), index.dossier.taken)


@fact(
    "store.unread-doors",
    TEXT,
    "the protocols that it answers and that were not read, with their addresses; absent where there is none",
    of=STORE,
    advice="name that door under `doors:` in estate.yaml, with a credential that may read ACLs: lantern reach has the "
    "lines",
)
def store_unread_doors(index: StoreIndex, _: str) -> Fact:
    """What such a door could open is unknown."""
    doors = index.dossier.doors
    unread = [door for door in doors.value or () if not door.read and door.name != "web"]
    if unread:
        words = ", ".join(f"{door.name} at {door.at}" for door in unread)
        return Answer("known", words, "; ".join(door.note for door in unread), doors.evidence)
    return absent_fact(doors) if doors.settled else lost(doors)


@fact(
    "store.account-acl",
    TEXT,
    "who may enter every container by the account's own ACL (Swift protocol); absent where nobody",
    of=STORE,
    advice="take them out of X-Account-Access-Control, and name them in the ACLs of the containers that they need",
)
def store_account_acl(index: StoreIndex, _: str) -> Fact:
    """Level by level."""
    acl = index.dossier.account_acl
    levels = (
        {"admin": acl.value.admin, "read-write": acl.value.read_write, "read-only": acl.value.read_only}
        if acl.value
        else {}
    )
    words = "; ".join(f"{level}: {', '.join(map(_quoted, names))}" for level, names in levels.items() if names)
    return fact_of(acl.map(lambda _: words)) if words else absent_fact(acl) if acl.settled else lost(acl)


def _quoted(name: str) -> str:
    return name or '"" (every request without a token)'


fact(
    "store.temporary-url-key",
    SWITCH,
    "whether the account has a key: whoever has it makes links to whatever is in all its containers",
    of=STORE,
    advice="remove the key from the account's metadata, if nobody makes links with it; change it every year otherwise",
    safe="off",
)(lambda index, _: switch_fact(index.dossier.temporary_url_key))


fact(
    "store.software",
    TEXT,
    "what answers for the store, with its release and the dialect by which it reads policies",
    of=STORE,
    habit=False,
)(lambda index, _: fact_of(index.dossier.software.map(_software_words)))


def _software_words(software: Software) -> str:
    words = " ".join(part for part in (software.name, software.release) if part)
    return f"{words or 'not recognized'}, dialect {software.dialect or 'common'}"
