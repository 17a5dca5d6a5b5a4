"""Facts of encryption keys, of share links, and of stores as a whole."""

from __future__ import annotations

from typing import get_args, get_type_hints

from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.answer import Answer, Fact, absent_fact, fact_of, lost, since
from rusty_lantern.core.facts.bucket import LEVEL
from rusty_lantern.core.facts.identities import absent_or_lost
from rusty_lantern.core.facts.registry import fact
from rusty_lantern.core.model.network import REACH, network_fact
from rusty_lantern.core.model.resources import Certificate
from rusty_lantern.core.model.store_index import StoreIndex
from rusty_lantern.core.model.subjects import KeyView, LinkView, age_of, store_may_use
from rusty_lantern.core.value_types import COUNT, DURATION, MOMENT, SWITCH, TEXT, Parts, Words, show_moment

KEY, LINK, STORE = "encryption-key", "link", "store"
KEY_STATES = Words(("destroyed", "pending-deletion", "disabled", "enabled"), ordered=True)
PROTECTION = Words(("software", "hardware", "external"), ordered=True)
UNUSED = "no bucket has it as its default"
CERTIFICATES = Words(get_args(get_type_hints(Certificate)["verdict"]))


@fact("encryption-key.state", KEY_STATES, "whether it can be used: what hangs on it is unreadable if not", of=KEY)
def key_state(view: KeyView, name: str) -> Fact:
    """As the key service says; the note tells what hangs on it."""
    state, uses = view.key.state, key_buckets(view, name)
    if state.value is None or uses.value is None:
        return fact_of(state)
    note = UNUSED if not uses.value else f"the default of {uses.note}"
    if view.key.deleted.value is not None:
        note = f"{note}; it is to be destroyed on {show_moment(view.key.deleted.value)}"
    return Answer("known", state.value, note, state.evidence)


@fact("encryption-key.place", TEXT, "where it lives", of=KEY)
def key_place(view: KeyView, _: str) -> Fact:
    """As the key service says."""
    return fact_of(view.key.place)


@fact("encryption-key.kept-by", Words(("provider", "customer"), ordered=True), "who manages it", of=KEY)
def key_kept_by(view: KeyView, _: str) -> Fact:
    """As the key service says."""
    return fact_of(view.key.kept_by)


@fact("encryption-key.protection", PROTECTION, "what guards its material", of=KEY)
def key_protection(view: KeyView, _: str) -> Fact:
    """As the key service says."""
    return fact_of(view.key.protection)


@fact("encryption-key.rotation", DURATION, "the period in which it is rotated by itself; absent: it is not",
      unit="seconds", of=KEY)  # fmt: skip
def key_rotation(view: KeyView, _: str) -> Fact:
    """As the key service says."""
    return fact_of(view.key.rotates)


@fact("encryption-key.age", DURATION, "how long its material has been in use: since it was rotated, or made",
      unit="seconds", of=KEY)  # fmt: skip
def key_age(view: KeyView, _: str) -> Fact:
    """Both are needed where it was never rotated."""
    return age_of(view.key, view.roster)


@fact("encryption-key.buckets", COUNT, "how many buckets have it as their default: what would be unreadable without it",
      of=KEY)  # fmt: skip
def key_buckets(view: KeyView, _: str) -> Fact:
    """Of the buckets that were read."""
    named = ", ".join(bucket.name for bucket in view.roster.protected_by.get(view.key.id, [])[:10])
    roster = view.roster
    if not roster.whole:
        return Answer("failed", None, "not all buckets of the store were read")
    unread = next((b for b in view.roster.dossier.buckets if not b.encryption.settled), None)
    if unread is not None:
        return Answer("failed", None, f"the encryption of {unread.name} could not be read: {unread.encryption.reason}")
    return Answer("known", len(view.roster.protected_by.get(view.key.id, [])), named)


@fact("encryption-key.store-may-use", SWITCH, "whether the store's own service identity may use it", of=KEY)
def key_usable(view: KeyView, _: str) -> Fact:
    """Without it the store can neither encrypt nor decrypt."""
    return store_may_use(view.key, view.roster)


@fact("encryption-key.destruction", MOMENT, "when it is going to be destroyed; absent: it is not", of=KEY)
def key_destruction(view: KeyView, _: str) -> Fact:
    """As the key service says."""
    return fact_of(view.key.deleted)


@fact("link.scope", Words(("object", "prefix", "bucket"), ordered=True), "how much it opens", of=LINK)
def link_scope(view: LinkView, _: str) -> Fact:
    """As it says itself."""
    return Answer("known", view.link.scope)


@fact("link.verbs", Parts(VERBS), "what it lets whoever has it do", of=LINK)
def link_verbs(view: LinkView, _: str) -> Fact:
    """As it says itself."""
    return Answer("known", " ".join(verb for verb in VERBS if verb in view.link.verbs))


@fact("link.lifetime", DURATION, "from when it was made until it ends; absent: it never ends", unit="seconds", of=LINK)
def link_lifetime(view: LinkView, _: str) -> Fact:
    """Needs both moments."""
    link = view.link
    if link.expires.value is None:
        return absent_or_lost(link.expires)
    if link.issued.value is None:
        return lost(link.issued) if not link.issued.settled else Answer("failed", None, "when it was made is not known")
    return Answer("known", int((link.expires.value - link.issued.value).total_seconds()))


@fact("link.ends", MOMENT, "when it ends; absent: never", of=LINK)
def link_ends(view: LinkView, _: str) -> Fact:
    """As it says itself."""
    return fact_of(view.link.expires)


@fact("link.signed-by", Words(("missing", "disabled", "live"), ordered=True),
      "how its credential stands: live, disabled, or none that the store knows", of=LINK)  # fmt: skip
def link_signed_by(view: LinkView, _: str) -> Fact:
    """Absent where it was signed by none."""
    if not view.link.credential:
        return Answer("absent")
    found = view.roster.credentials.get(view.link.credential)
    if found is not None:
        return fact_of(found.state)
    listed = view.roster.dossier.credentials
    return Answer("known", "missing") if listed.settled else lost(listed)


@fact("link.bucket-exposure", LEVEL, "how far the public gets anyway, by the bucket's own rules, with its widest verb",
      of=LINK)  # fmt: skip
def link_exposure(view: LinkView, _: str) -> Fact:
    """A link into a closed bucket is a door beside the door."""
    return min_exposure(view)


def min_exposure(view: LinkView) -> Fact:
    """The narrowest of the public's verdicts on the verbs of a link; absent where it has none."""
    found = [view.roster.opened(view.link.bucket, verb) for verb in view.link.verbs]
    doubt = next((one for one in found if one.value is None), None)
    return doubt or min(found, key=lambda one: LEVEL.rank(str(one.value)), default=Answer("absent"))


@fact("store.certificate", CERTIFICATES, "what the certificate in the TLS handshake is worth", of=STORE)
def store_certificate(roster: StoreIndex, _: str) -> Fact:
    """Held against the trust that the estate file names."""
    return fact_of(roster.dossier.certificate.map(lambda found: found.verdict))


@fact("store.certificate-left", DURATION, "how long the certificate is still good for; absent: no longer",
      unit="seconds", of=STORE)  # fmt: skip
def store_certificate_left(roster: StoreIndex, _: str) -> Fact:
    """As of the moment of the audit."""
    found = roster.dossier.certificate
    if found.value is None:
        return absent_or_lost(found)
    left = int((found.value.ends - roster.moment).total_seconds())
    return Answer("known", left, "", found.evidence) if left > 0 else absent_fact(found)


@fact("store.plain-http", SWITCH, "whether it answers over plain http as well", of=STORE)
def store_plain_http(roster: StoreIndex, _: str) -> Fact:
    """Who uses it lets everyone on the way read along."""
    return fact_of(roster.dossier.plain_http.map(lambda on: "on" if on else "off").default("off"))


@fact("store.legacy-signatures", SWITCH, "whether it accepts signatures of the first generation", of=STORE)
def store_legacy(roster: StoreIndex, _: str) -> Fact:
    """They rest on SHA-1 and never expire by themselves."""
    return fact_of(roster.dossier.legacy_signatures.map(lambda on: "on" if on else "off").default("off"))


@fact("store.network", REACH, "from where it may be asked at all", of=STORE)
def store_network(roster: StoreIndex, _: str) -> Fact:
    """Absent where it has no network rules."""
    return network_fact(roster.dossier.network)


@fact("store.dossier-age", DURATION, "how old the dossier was that it was read from; absent where it was read itself",
      unit="seconds", of=STORE)  # fmt: skip
def store_dossier_age(roster: StoreIndex, _: str) -> Fact:
    """From when the document was made until the survey."""
    made = roster.dossier.exported
    return since(Answer("known", made), roster.dossier.taken) if made else Answer("absent")
