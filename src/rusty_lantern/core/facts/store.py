"""Facts of encryption keys, of share links, and of stores as a whole."""

from __future__ import annotations

from datetime import datetime
from typing import get_args, get_type_hints

from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.answer import Answer, Fact, absent_fact, fact_of, lost, since, switch_fact
from rusty_lantern.core.facts.bucket_access import LEVEL
from rusty_lantern.core.facts.identities import absent_or_lost
from rusty_lantern.core.facts.registry import fact
from rusty_lantern.core.model.dossier import Software
from rusty_lantern.core.model.network import REACH, network_fact
from rusty_lantern.core.model.resources import TEMPORARY_URL_KEY, Certificate
from rusty_lantern.core.model.store_index import StoreIndex
from rusty_lantern.core.model.subjects import KeyView, LinkView, age_of, store_may_use
from rusty_lantern.core.value_types import COUNT, DURATION, MOMENT, SWITCH, TEXT, Parts, Words, show_moment

KEY, LINK, STORE = "encryption-key", "link", "store"
KEY_STATES = Words(("destroyed", "pending-deletion", "disabled", "enabled"), ordered=True)
PROTECTION = Words(("software", "hardware-module", "external-manager"), ordered=True)
UNUSED = "no bucket has it as its default"
CERTIFICATES = Words(get_args(get_type_hints(Certificate)["verdict"]))


@fact(
    "encryption-key.state",
    KEY_STATES,
    "whether it can be used: what it encrypts cannot be read if not",
    of=KEY,
    advice=(
        ("pending-deletion", "cancel the scheduled deletion in time: {note}"),
        (
            "no bucket has it as its default",
            (
                "no bucket needs it: see by lantern encryption whether objects are under it; if none are, "
                "delete it, or leave it and waive this"
            ),
        ),
        ("destroyed", "restore what it encrypts from a copy, and use another key"),
        ("", "enable the key again: nothing encrypted with it can be read until then ({note})"),
    ),
    safe="enabled",
)
def key_state(view: KeyView, name: str) -> Fact:
    """As the key service says; the note tells what hangs on it."""
    state, uses = view.key.state, key_buckets(view, name)
    if state.value is None or uses.value is None:
        return fact_of(state)
    note = UNUSED if not uses.value else f"the default of {uses.note}"
    if view.key.deleted.value is not None:
        note = f"{note}; it is to be destroyed on {show_moment(view.key.deleted.value)}"
    return Answer("known", state.value, note, state.evidence)


@fact(
    "encryption-key.region",
    TEXT,
    "where it lives",
    of=KEY,
    advice="an encryption key does not move: make one in the right region, and use it instead",
)
def key_place(view: KeyView, _: str) -> Fact:
    """As the key service says."""
    return fact_of(view.key.region)


fact("encryption-key.managed-by", Words(("provider", "customer"), ordered=True), "who manages it", of=KEY, habit=False)(
    lambda view, _: fact_of(view.key.managed_by)
)

fact(
    "encryption-key.kept-in",
    PROTECTION,
    "where its material is kept",
    of=KEY,
    advice="where a key is kept cannot change: make one in {wanted}, and use it instead",
)(lambda view, _: fact_of(view.key.kept_in))

fact(
    "encryption-key.rotation",
    DURATION,
    "the period in which it is rotated by itself; absent: it is not",
    unit="seconds",
    of=KEY,
    advice="switch automatic rotation on: {wanted}",
)(lambda view, _: fact_of(view.key.rotates))

fact(
    "encryption-key.next-rotation",
    MOMENT,
    "when it is rotated next; absent: no rotation is planned",
    of=KEY,
    advice="plan the key's next rotation",
    restless=True,
)(lambda view, _: fact_of(view.key.next_rotation))

# Both are needed where it was never rotated.
fact(
    "encryption-key.age",
    DURATION,
    "how long its material has been in use: since it was rotated, or made",
    unit="seconds",
    of=KEY,
    advice="rotate the key",
    grows=True,
)(lambda view, _: age_of(view.key, view.index))


@fact(
    "encryption-key.buckets",
    COUNT,
    "how many buckets have it as their default: what would be unreadable without it",
    of=KEY,
)
def key_buckets(view: KeyView, _: str) -> Fact:
    """Of the buckets that were read."""
    named = ", ".join(bucket.name for bucket in view.index.protected_by.get(view.key.id, [])[:10])
    index = view.index
    if not index.whole:
        return Answer("failed", None, "not all buckets of the store were read")
    unread = next((b for b in view.index.dossier.buckets if not b.encryption.settled), None)
    if unread is not None:
        return Answer("failed", None, f"the encryption of {unread.name} could not be read: {unread.encryption.reason}")
    return Answer("known", len(view.index.protected_by.get(view.key.id, [])), named)


# Without it the store can neither encrypt nor decrypt.
fact(
    "encryption-key.usable-by-store",
    SWITCH,
    "whether the store's own service identity may use it",
    of=KEY,
    advice="allow the store's service identity to encrypt and decrypt with it",
)(lambda view, _: store_may_use(view.key, view.index))

fact(
    "encryption-key.scheduled-deletion",
    MOMENT,
    "when it is going to be destroyed; absent: it is not",
    of=KEY,
    advice="cancel the scheduled deletion in time",
)(lambda view, _: fact_of(view.key.deleted))

fact("link.scope", Words(("object", "prefix", "bucket", "store"), ordered=True), "how much it opens", of=LINK)(
    lambda view, _: Answer("known", view.link.scope)
)

fact("link.allows", Parts(VERBS), "what it allows whoever has it", of=LINK)(
    lambda view, _: Answer("known", " ".join(verb for verb in VERBS if verb in view.verbs))
)


@fact("link.lifetime", DURATION, "from when it was made until it ends; absent: it never ends", unit="seconds", of=LINK)
def link_lifetime(view: LinkView, _: str) -> Fact:
    """Needs both moments."""
    link = view.link
    end = _end(view)
    if end.value is None:
        return absent_or_lost(end)
    if link.issued.value is None:
        return lost(link.issued) if not link.issued.settled else Answer("failed", None, "when it was made is not known")
    return Answer("known", int((end.value - link.issued.value).total_seconds()))


def _end(view: LinkView) -> Answer[datetime]:
    """When a link ends: by its own word, or by the policy that it names, whichever comes first."""
    ends = [end for end in view.ends if end is not None]
    return Answer("known", min(ends)) if ends else view.link.expires


fact("link.expires", MOMENT, "when it ends; absent: never", of=LINK)(lambda view, _: fact_of(_end(view)))


@fact(
    "link.signing-key",
    Words(("missing", "disabled", "active"), ordered=True),
    "the state of the access key that signed it: active, disabled, or unknown to the store",
    of=LINK,
)
def link_signed_by(view: LinkView, _: str) -> Fact:
    """Absent where it was signed by none."""
    if view.link.form in ("ad-hoc", "stored-policy", "account"):
        return fact_of(view.index.dossier.shared_keys.map(lambda on: "active" if on else "disabled"))
    if not view.link.credential:
        return Answer("absent")
    if view.link.credential == TEMPORARY_URL_KEY:
        return _temporary_url_key(view)
    found = view.index.credentials.get(view.link.credential)
    if found is not None:
        return fact_of(found.state)
    listed = view.index.dossier.credentials
    return Answer("known", "missing") if listed.settled else lost(listed)


def _temporary_url_key(view: LinkView) -> Fact:
    """Whether there is a key that may have signed a temporary URL: which one it was, nobody can tell."""
    dossier = view.index.dossier
    bucket = next((bucket for bucket in dossier.buckets if bucket.name == view.link.bucket), None)
    keys = [dossier.temporary_url_key, *([bucket.temporary_url_key] if bucket is not None else ())]
    if any(key.value for key in keys):
        return Answer("known", "active", "there is such a key; whether it is the same one is not told")
    unread = next((key for key in keys if not key.settled and key.state != "unsupported"), None)
    return lost(unread) if unread is not None else Answer("known", "missing")


fact(
    "link.form",
    Words(("ad-hoc", "stored-policy", "account", "identity")),
    "how it was made: for itself, by a policy that the bucket stores, for the account as a whole, or by an identity's "
    "own short-lived key; absent: the protocol has one way only",
    of=LINK,
    advice="make links by a stored policy: removing it ends them, and no key has to be changed",
    habit=False,
)(lambda view, _: Answer("known", view.link.form) if view.link.form else Answer("absent"))

# A link into a closed bucket is a door beside the door.
fact(
    "link.bucket-exposure",
    LEVEL,
    "how far the public gets anyway, by the bucket's own rules, with its widest verb",
    of=LINK,
)(lambda view, _: min_exposure(view))


def min_exposure(view: LinkView) -> Fact:
    """The narrowest of the public's verdicts on the verbs of a link; absent where it has none."""
    if not view.link.bucket:
        return Answer("absent")
    found = [view.permissions.of_public(view.link.bucket, verb) for verb in view.verbs]
    doubt = next((one for one in found if one.value is None), None)
    return doubt or min(found, key=lambda one: LEVEL.rank(str(one.value)), default=Answer("absent"))


# Held against the trust that the estate file names.
fact(
    "store.certificate",
    CERTIFICATES,
    "what the certificate in the TLS handshake is worth",
    of=STORE,
    advice="install a certificate that is valid and for this name",
)(lambda index, _: fact_of(index.dossier.certificate.map(lambda found: found.verdict)))


@fact(
    "store.certificate-expires-in",
    DURATION,
    "how long the certificate is still good for; absent: no longer",
    unit="seconds",
    of=STORE,
    advice="renew the certificate before it ends",
    restless=True,
)
def store_certificate_left(index: StoreIndex, _: str) -> Fact:
    """As of the moment of the audit."""
    found = index.dossier.certificate
    if found.value is None:
        return absent_or_lost(found)
    left = int((found.value.ends - index.moment).total_seconds())
    return Answer("known", left, "", found.evidence) if left > 0 else absent_fact(found)


# Who uses it lets everyone on the way read along.
fact(
    "store.plain-http",
    SWITCH,
    "whether it answers over plain http as well",
    of=STORE,
    advice="stop answering in plain http",
    safe="off",
)(lambda index, _: switch_fact(index.dossier.plain_http))

# They rest on SHA-1 and never expire by themselves.
fact(
    "store.legacy-signatures",
    SWITCH,
    "whether it accepts signatures of the first generation",
    of=STORE,
    advice="refuse signatures of the first generation",
    safe="off",
)(lambda index, _: switch_fact(index.dossier.legacy_signatures))

# Absent where it has no network rules.
fact("store.network", REACH, "from where it may be asked at all", of=STORE, advice="allow named networks only")(
    lambda index, _: network_fact(index.dossier.network)
)


# Anything older than 1.2 can be broken on the way.
fact(
    "store.minimum-tls",
    Words(("1.0", "1.1", "1.2", "1.3"), ordered=True),
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
    made = index.dossier.exported
    return since(Answer("known", made), index.dossier.taken) if made else Answer("absent")


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
    "whom the account's own ACL lets into every container (Swift protocol); absent where nobody",
    of=STORE,
    advice="take them out of X-Account-Access-Control, and name them in the ACLs of the containers that they need",
)
def store_account_acl(index: StoreIndex, _: str) -> Fact:
    """Level by level."""
    told = index.dossier.account_acl
    levels = (
        {"admin": told.value.admin, "read-write": told.value.read_write, "read-only": told.value.read_only}
        if told.value
        else {}
    )
    words = "; ".join(f"{level}: {', '.join(map(_quoted, names))}" for level, names in levels.items() if names)
    return fact_of(told.map(lambda _: words)) if words else absent_fact(told) if told.settled else lost(told)


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


def _software_words(found: Software) -> str:
    words = " ".join(part for part in (found.name, found.release) if part)
    return f"{words or 'not recognized'}, dialect {found.dialect or 'common'}"
