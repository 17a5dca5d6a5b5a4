"""How each fact of a bucket follows from its dossier. Adding a fact: one decorated function here.

Order is the order of the reference page and of `lantern show`.
"""

from __future__ import annotations

from collections.abc import Callable

from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.access.policy.bucket_rules import of_objects
from rusty_lantern.core.access.policy.condition_keys import AUDIENCES
from rusty_lantern.core.answer import Answer, Fact, absent_fact, fact_of
from rusty_lantern.core.facts.registry import Subject, fact
from rusty_lantern.core.model.bucket import Guards
from rusty_lantern.core.value_types import COUNT, DURATION, MOMENT, SIZE, SWITCH, TEXT, Parts, Words

LEVEL = Words(("closed", "narrow", "open"), ordered=True)
VERB_WORDS = {
    "list": "list the keys in the bucket",
    "read": "read objects, by the bucket's rules and objects' own access lists (`grants.of-objects`)",
    "write": "store or overwrite objects",
    "delete": "delete objects",
    "govern": "change the bucket's settings, policy or grants",
    "unlock": "bypass governance retention",
    "inspect": "read the bucket's settings",
}
AUDIENCE_WORDS = {
    "anyone": "anyone on the Internet, without credentials,",
    "any-account": "any unrelated account of the provider",
}


def _enter_exposures() -> None:
    for verb in VERBS:
        meaning = f"whether the public (`anyone` or `any-account`, the wider of the two) can {VERB_WORDS[verb]}"
        fact(f"exposure.{verb}", LEVEL, meaning)(lambda subject, _, v=verb: _widest(subject, v))  # type: ignore[misc]
    for audience in AUDIENCES:
        for verb in VERBS:
            name = f"{audience}.{verb}"
            meaning = f"whether {AUDIENCE_WORDS[audience]} can {VERB_WORDS[verb]}"
            fact(f"exposure.{name}", LEVEL, meaning)(lambda subject, _, n=name: subject.exposures[n])  # type: ignore[misc]


def _widest(subject: Subject, verb: str) -> Fact:
    """The wider of both audiences; unknown where the unknown one could be the wider."""
    facts = [subject.exposures[f"{audience}.{verb}"] for audience in AUDIENCES]
    unknown = next((f for f in facts if f.value is None), None)
    known = [f for f in facts if f.value is not None]
    widest = max(known, key=lambda f: LEVEL.rank(str(f.value)), default=None)
    if widest is not None and (unknown is None or widest.value == "open"):
        return widest
    assert unknown is not None
    return unknown


_enter_exposures()


@fact("exposure.beyond-trusted", LEVEL, "how far the public gets in from elsewhere than the networks that the estate "
      "file trusts: the widest verdict of all verbs, one that is fenced to trusted networks left out")  # fmt: skip
def exposure_beyond_trusted(subject: Subject, _: str) -> Fact:
    """`closed` where whatever is let in comes from trusted networks only."""
    left = {name: found for name, found in subject.exposures.items() if name not in subject.trusted_only}
    name, widest = max(
        left.items(), key=lambda one: LEVEL.rank(str(one[1].value)) if one[1].value is not None else -1,
        default=("", Answer("known", "closed")),
    )  # fmt: skip
    doubt = next((found for found in left.values() if found.value is None), None)
    if doubt is not None and widest.value != "open":
        return doubt
    if widest.value != "closed":
        return Answer("known", widest.value, f"{name}: {widest.note}", widest.evidence)
    return Answer("known", "closed", "from trusted networks only" if subject.trusted_only else "", widest.evidence)


@fact("name", TEXT, "the bucket's own name: `matches` holds it to a rule of naming")
def name(subject: Subject, _: str) -> Fact:
    """Always known."""
    return Answer("known", subject.bucket.name)


@fact("policy", Words(("none", "present")), "whether the bucket has an access policy of its own")
def policy(subject: Subject, _: str) -> Fact:
    """A policy document is attached, whatever it says."""
    return fact_of(subject.bucket.policy.map(lambda _: "present").default("none"))


@fact(
    "access.*",
    Parts(VERBS),
    "the verbs that the bucket's rules grant an identity: `access.500600700800`, a resource name, a canonical id; or "
    "`access.outside`, everyone named who is not of a trusted account. `within [read]` says what they may, at most",
)
def access(subject: Subject, name: str) -> Fact:
    """The buckets' side only: what an identity's own permissions add is not read."""
    return subject.access(name)


@fact(
    "doors",
    Words(("disagrees", "ambiguous", "agrees"), ordered=True),
    "whether knocking without credentials (`survey --probe`) was answered as the rules say (if not: drift)",
)
def doors(subject: Subject, _: str) -> Fact:
    """The worst of the bucket's list and read doors."""
    return subject.doors


@fact(
    "public-status",
    Words(("private", "public"), ordered=True),
    "the store's own word on whether the policy is public: a cross-check on `exposure`, not its equal",
)
def public_status(subject: Subject, _: str) -> Fact:
    """Stores count some fences as public and some open doors as private."""
    return fact_of(
        subject.bucket.public_status.map(lambda public: "public" if public else "private").default("private")
    )


@fact(
    "grants.by-object",
    SWITCH,
    "whether objects can carry access grants of their own (off: ownership mode disables)",
)
def grants_by_object(subject: Subject, _: str) -> Fact:
    """Off if the ownership mode disables access lists, or a guard ignores public ones for good."""
    ownership, granted_by = subject.bucket.ownership, subject.bucket.granted_by
    if granted_by.unread:
        return (
            absent_fact(granted_by)
            if granted_by.settled
            else Answer(granted_by.state, None, granted_by.note, granted_by.evidence)
        )
    if granted_by.settled:
        return fact_of(granted_by.map(lambda how: "on" if how == "object" else "off").default("off"))
    if ownership.state in ("absent", "unsupported"):
        return Answer("known", "on", "the store knows no mode that disables them", ownership.evidence)
    return fact_of(ownership.map(lambda mode: "off" if mode == "bucket-owner-enforced" else "on"))


@fact(
    "grants.of-objects",
    Words(("none", "some")),
    "whether objects' own access lists grant the public anything: it opens what the bucket's own rules close",
)
def grants_of_objects(subject: Subject, _: str) -> Fact:
    """None where objects cannot have any; not known where not all were read, unless one that was read grants."""
    asked = subject.bucket.object_grants
    grants, doubt = of_objects(subject.bucket)
    if grants:
        return Answer("known", "some", f"such as {grants[0].permission} to {grants[0].to} on {grants[0].key}",
                      asked.evidence)  # fmt: skip
    return Answer("failed", None, doubt, asked.evidence) if doubt else Answer("known", "none", "", asked.evidence)


def _guard(subject: Subject, name: str) -> Fact:
    """A guard is on if the account or the bucket sets it: the stronger level wins."""
    account, own = subject.store.guards, subject.bucket.guards
    if account.value is not None and getattr(account.value, name):
        return Answer("known", "on", "set for the whole account", account.evidence)
    if own.value is not None and getattr(own.value, name):
        return Answer("known", "on", "", own.evidence)
    for unread in (account, own):
        if unread.unread:
            return Answer(unread.state, None, unread.note, unread.evidence)
    if account.state == own.state == "unsupported":
        return Answer("unsupported", None, own.note, own.evidence)
    return Answer("known", "off", "", own.evidence)


_GUARDS = {
    "refuse-new-grants": "new public grants are refused; standing ones are untouched",
    "ignore-grants": "public grants are ignored, standing ones too",
    "refuse-new-policy": "a new policy that is public is refused; a standing one is untouched",
    "restrict-policy": "a public policy lets in nobody outside the account",
}
for _name, _meaning in _GUARDS.items():
    _field = _name.replace("-", "_")
    assert _field in Guards.__struct_fields__
    fact(f"guards.{_name}", SWITCH, f"public-access guard: {_meaning}")(
        lambda subject, _, f=_field: _guard(subject, f)  # type: ignore[misc]
    )


@fact(
    "versioning",
    Words(("never", "suspended", "on"), ordered=True),
    "whether overwritten and deleted objects are kept as versions",
)
def versioning(subject: Subject, _: str) -> Fact:
    """An empty answer means that it was never switched on."""
    return fact_of(subject.bucket.versioning.map(lambda v: v.state).default("never"))


@fact(
    "encryption.at-rest",
    Words(("none", "provider-key", "managed-key"), ordered=True),
    "default encryption of new objects: nobody's key, the provider's, or one that the team manages",
)
def encryption_at_rest(subject: Subject, _: str) -> Fact:
    """Objects stored before it was switched on stay as they were."""
    return fact_of(subject.bucket.encryption.map(lambda e: e.by).default("none"))  # type: ignore[arg-type]


@fact("encryption.key", TEXT, "the key that default encryption names")
def encryption_key(subject: Subject, _: str) -> Fact:
    """Absent where no key is named."""
    answer = subject.bucket.encryption
    return fact_of(answer.map(lambda e: e.key)) if answer.value is None or answer.value.key else absent_fact(answer)


@fact("encryption.required", SWITCH, "whether the policy refuses every upload that does not ask for encryption itself")
def encryption_required(subject: Subject, _: str) -> Fact:
    """Default encryption encrypts such uploads all the same; some teams want both."""
    return subject.demands("encryption")


@fact("transport.required", SWITCH, "whether the policy refuses every request that comes over plain http")
def transport_required(subject: Subject, _: str) -> Fact:
    """A refusal that spares one action or one folder is none."""
    return subject.demands("transport")


@fact("lock.enabled", SWITCH, "whether versions in the bucket can be locked against deletion")
def lock_enabled(subject: Subject, _: str) -> Fact:
    """Often possible only when the bucket is made, and needs versioning."""
    return fact_of(subject.bucket.lock.map(lambda lock: "on" if lock.enabled else "off").default("off"))


@fact(
    "lock.mode",
    Words(("governance", "compliance"), ordered=True),
    "default retention mode: governance yields to holders of the bypass permission, compliance to nobody",
)
def lock_mode(subject: Subject, _: str) -> Fact:
    """Absent where new versions inherit no retention."""
    answer = subject.bucket.lock
    return (
        fact_of(answer.map(lambda lock: lock.mode))
        if answer.value is None or answer.value.mode
        else absent_fact(answer)
    )


@fact("lock.keep", DURATION, "default retention period of new versions (a year counts 365 days)", unit="seconds")
def lock_keep(subject: Subject, _: str) -> Fact:
    """Absent where new versions inherit no retention."""
    answer = subject.bucket.lock
    return (
        fact_of(answer.map(lambda lock: lock.keep))
        if answer.value is None or answer.value.keep
        else absent_fact(answer)
    )


@fact(
    "lock.shortest-allowed",
    DURATION,
    "the shortest retention that the policy, or the store itself, lets anybody give a version",
    unit="seconds",
)
def lock_shortest(subject: Subject, _: str) -> Fact:
    """Absent where there is no such bound; where there are two, the stricter counts."""
    return _stricter(subject.demands("shortest"), _bound(subject, "shortest"), max)


@fact(
    "lock.longest-allowed",
    DURATION,
    "the longest retention that the policy, or the store itself, lets anybody give a version",
    unit="seconds",
)
def lock_longest(subject: Subject, _: str) -> Fact:
    """Absent where there is no such bound; where there are two, the stricter counts."""
    return _stricter(subject.demands("longest"), _bound(subject, "longest"), min)


def _bound(subject: Subject, name: str) -> Fact:
    """A bound of the store itself; a store of the common protocol has none."""
    answer = subject.bucket.bounds
    if answer.value is None:
        return absent_fact(answer) if answer.state == "unsupported" else fact_of(answer.map(str))
    value = getattr(answer.value, name)
    return Answer("known", value, "", answer.evidence) if value else absent_fact(answer)


def _stricter(one: Fact, other: Fact, choose: Callable[[int, int], int]) -> Fact:
    unread = next((fact for fact in (one, other) if not fact.settled), None)
    if unread is not None:
        return unread
    if one.value is None or other.value is None:
        return other if one.value is None else one
    return Answer("known", choose(int(str(one.value)), int(str(other.value))), one.note, one.evidence)


@fact("place", TEXT, "where the bucket lives, as the store names it")
def place(subject: Subject, _: str) -> Fact:
    """An empty answer means the store's default place."""
    return fact_of(subject.bucket.place)


@fact("created", MOMENT, "when the bucket was made")
def created(subject: Subject, _: str) -> Fact:
    """From the list of buckets."""
    return fact_of(subject.bucket.created)


@fact("objects", COUNT, "how many objects the bucket lists")
def objects(subject: Subject, _: str) -> Fact:
    """Current objects only."""
    return _counted(subject, "objects")


@fact("bytes", SIZE, "the sizes of those objects together", unit="bytes")
def size(subject: Subject, _: str) -> Fact:
    """Current objects only."""
    return _counted(subject, "bytes")


COUNTED_BY = {
    "listing": "",
    "counters": "by the store's own counters, which may lag, and count old versions in",
    "inventory": "by the provider's inventory",
}


def _counted(subject: Subject, name: str) -> Fact:
    answer = subject.bucket.usage
    if answer.value is None:
        return fact_of(answer.map(str))
    counted = getattr(answer.value, name)
    if not answer.value.complete:
        return Answer("failed", None, f"counting stopped at {counted:,}: at least that many", answer.evidence)
    return Answer(answer.state, counted, COUNTED_BY[answer.value.by], answer.evidence)


@fact("tags.*", TEXT, "the value of the bucket's tag of that name (tag names are written as they are)")
def tag(subject: Subject, name: str) -> Fact:
    """Absent where the bucket has no such tag."""
    answer = subject.bucket.tags
    if answer.value is not None and name in answer.value:
        return fact_of(answer.map(lambda tags: tags[name]))
    return absent_fact(answer) if answer.value is not None else fact_of(answer.map(str))
