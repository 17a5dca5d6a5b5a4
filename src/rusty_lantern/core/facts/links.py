"""Facts of share links: what they open, for how long, and what they were signed with."""

from __future__ import annotations

from datetime import datetime

from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.answer import Answer, Fact, fact_of, lost
from rusty_lantern.core.facts.bucket_access import LEVEL
from rusty_lantern.core.facts.identities import absent_or_lost
from rusty_lantern.core.facts.registry import fact
from rusty_lantern.core.model.resources import TEMPORARY_URL_KEY
from rusty_lantern.core.model.subjects import LinkView
from rusty_lantern.core.value_sets import WordSet
from rusty_lantern.core.value_types import DURATION, MOMENT, Levels

LINK = "link"

fact("link.scope", Levels(("object", "prefix", "bucket", "store"), ordered=True), "how much it opens", of=LINK)(
    lambda view, _: Answer("known", view.link.scope)
)

_UNSAID = "the link does not say for which method it was signed: most are for reading, some for writing"
_OF_SESSION = "a session's key signed it, and no store lists those"


@fact("link.allows", WordSet(VERBS), "what it allows whoever has it", of=LINK)
def link_allows(view: LinkView, _: str) -> Fact:
    """Unknown of a signed address that fits several methods, and where the policy that it names was not read."""
    doubt = _unclear_verbs(view)
    return doubt or Answer("known", " ".join(verb for verb in VERBS if verb in view.verbs))


def _unclear_verbs(view: LinkView) -> Fact | None:
    """Why it is not known what a link allows; None where it is."""
    if view.link.presumed:
        return Answer("failed", None, _UNSAID)
    return lost(view.policies) if view.policy_unread else None


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
    if not ends and view.policy_unread:
        policies = view.policies
        return Answer(policies.state, None, policies.note, policies.evidence)
    return Answer("known", min(ends)) if ends else view.link.expires


fact("link.expires", MOMENT, "when it ends; absent: never", of=LINK)(lambda view, _: fact_of(_end(view)))


@fact(
    "link.signing-key",
    Levels(("missing", "disabled", "active"), ordered=True),
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
    if view.link.of_session:
        return Answer("failed", None, _OF_SESSION)
    credential = view.index.credentials.get(view.link.credential)
    if credential is not None:
        return fact_of(credential.state)
    listed = view.index.dossier.credentials
    return Answer("known", "missing") if listed.settled else lost(listed)


def _temporary_url_key(view: LinkView) -> Fact:
    """Whether there is a key that may have signed a temporary URL: which one it was is not known."""
    dossier = view.index.dossier
    bucket = next((bucket for bucket in dossier.buckets if bucket.name == view.link.bucket), None)
    keys = [dossier.temporary_url_key, *([bucket.temporary_url_key] if bucket is not None else ())]
    if any(key.value for key in keys):
        return Answer("known", "active", "there is such a key; whether it is the same one is not known")
    unread = next((key for key in keys if not key.settled and key.state != "unsupported"), None)
    return lost(unread) if unread is not None else Answer("known", "missing")


fact(
    "link.form",
    Levels(("ad-hoc", "stored-policy", "account", "identity")),
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
    if (unclear := _unclear_verbs(view)) is not None:
        return unclear
    verdicts = [view.permissions.of_public(view.link.bucket, verb) for verb in view.verbs]
    doubt = next((one for one in verdicts if one.value is None), None)
    return doubt or min(verdicts, key=lambda one: LEVEL.rank(str(one.value)), default=Answer("absent"))
