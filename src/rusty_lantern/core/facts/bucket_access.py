"""Facts of who gets into a bucket: what its rules let in, its policy, ACLs and guards.

Order is the order of the reference page and of `lantern show`.
"""

from __future__ import annotations

from functools import lru_cache

from rusty_lantern.core.access.dialects.readings import OF_EVERY_POLICY, bearing
from rusty_lantern.core.access.dialects.shipped import SHIPPED, dialect_of
from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.access.policy.condition_keys import AUDIENCES
from rusty_lantern.core.access.policy.document import parse_policy
from rusty_lantern.core.access.rules.rule_inputs import text_as_own
from rusty_lantern.core.access.solver.verdict_words import BEYOND_TRUSTED
from rusty_lantern.core.answer import Answer, Fact, absent_fact, fact_of, lost, switch_fact
from rusty_lantern.core.facts.event_actions import (
    ACCESS_ACTIONS,
    ACL_ACTIONS,
    POINT_ACTIONS,
    POLICY_ACTIONS,
)
from rusty_lantern.core.facts.registry import BucketView, fact
from rusty_lantern.core.model.dialect import Dialect
from rusty_lantern.core.model.identity import Verb
from rusty_lantern.core.value_sets import NAMES, WordSet
from rusty_lantern.core.value_types import SWITCH, TEXT, Levels

LEVEL = Levels(("closed", "restricted", "open"), ordered=True)
VERB_WORDS = {
    "list": "list the objects in the bucket",
    "read": "read objects, by the bucket's rules and objects' own ACLs (`object-acls.public`)",
    "write": "store or overwrite objects",
    "delete": "delete objects",
    "change-settings": "change the bucket's settings, policy or ACL",
    "bypass-retention": "bypass governance retention",
    "read-settings": "read the bucket's settings",
}
BY_OBJECT_ACLS = ("read", "change-settings", "read-settings")
"""The verbs that objects' own ACLs can grant."""
AUDIENCE_WORDS = {
    "anyone": "anyone on the Internet, without credentials,",
    "any-account": "any unrelated account of the provider",
}


def _exposure(name: str, meaning: str, *, habit: bool = True, mirrored: bool = False) -> None:
    """Enter one fact of exposure."""
    advice = "restrict or remove what allows the public (lantern remedy shows the exact document)"
    by_objects = name == BEYOND_TRUSTED or name.rpartition(".")[2] in BY_OBJECT_ACLS
    fact(
        f"exposure.{name}", LEVEL, meaning, area="access", advice=advice, causes=ACCESS_ACTIONS, restless=True,
        safe="closed", grave=True, habit=habit, mirrored=mirrored, asks_objects="acl" if by_objects else "",
    )(lambda subject, _: subject.exposures[name])  # fmt: skip


def _enter_exposures() -> None:
    for verb in VERBS:
        meaning = f"whether the public (`anyone` or `any-account`, the wider of the two) can {VERB_WORDS[verb]}"
        _exposure(verb, meaning, mirrored=verb in ("list", "read", "write", "delete"))
    for audience in AUDIENCES:
        for verb in VERBS:
            meaning = f"whether {AUDIENCE_WORDS[audience]} can {VERB_WORDS[verb]}"
            _exposure(f"{audience}.{verb}", meaning, habit=False)
    _exposure(
        BEYOND_TRUSTED,
        "public access from other networks than those that the estate file trusts: the widest verdict of all "
        "verbs, without those restricted to trusted networks",
    )


_enter_exposures()


@fact(
    "name",
    TEXT,
    "the bucket's own name: `matches` holds it to a rule of naming",
    advice="a bucket cannot be renamed: make another one and copy",
)
def name(subject: BucketView, _: str) -> Fact:
    """Always known."""
    return Answer("known", subject.bucket.name)


@fact(
    "policy",
    Levels(("none", "present")),
    "whether the bucket has an access policy",
    area="access",
    causes=POLICY_ACTIONS,
    habit=False,
)
def policy(subject: BucketView, _: str) -> Fact:
    """A policy document is attached, whatever it says."""
    return fact_of(subject.bucket.policy.map(lambda _: "present").default("none"))


@fact(
    "policy.portable",
    SWITCH,
    "whether every dialect that is known reads the policy as the published language has it; absent without a policy",
    area="access",
    advice="write it with what all software reads alike: {note}",
    causes=POLICY_ACTIONS,
    habit=False,
)
def policy_portable(subject: BucketView, _: str) -> Fact:
    """A document that moves with its bucket is to mean the same where it arrives."""
    policy = subject.bucket.policy
    if policy.value is None:
        return absent_fact(policy) if policy.settled else lost(policy)
    fault, differences = _read_otherwise(policy.value, subject.bucket.name, dialect_of(subject.dossier))
    if fault and not differences:
        return Answer("failed", None, f"the policy is not understood: {fault}", policy.evidence)
    return Answer("known", "off" if differences else "on", differences, policy.evidence)


def _read_otherwise(text: str, bucket: str, own: Dialect) -> tuple[str, str]:
    """The first fault of a policy, and what dialects read otherwise, in words. No words depend on resources: policies
    that name each its own bucket there are looked at once."""
    alike = text_as_own(text, bucket)
    fault, differences = _of_text(text if alike is None else alike, own)
    return _of_text(text, own) if fault else (fault, differences)


@lru_cache(maxsize=1024)
def _of_text(text: str, own: Dialect) -> tuple[str, str]:
    policy = parse_policy(text)
    every = {**SHIPPED, own.dialect: own}.values()
    differences = [
        f"{dialect.dialect}: {words}" for dialect in every for words in bearing(policy, dialect, OF_EVERY_POLICY)
    ]
    return str(policy.faults[0]) if policy.faults else "", "; ".join(differences)


def _container_acl(side: str) -> None:
    """Enter one side of the container ACL."""
    words = {"read": "may read and list", "write": "may store and delete"}[side]
    meaning = (
        f"the container ACL that says who {words}, as the store shows it (Swift protocol, here or by another door)"
    )
    fact(
        f"container-acl.{side}", TEXT, meaning, area="access", causes=f"SetContainer {ACL_ACTIONS}", habit=False,
        advice="set that header of the container to what is required, by whoever owns it",
    )(lambda subject, _: _acl_side(subject, side))  # fmt: skip


def _acl_side(subject: BucketView, side: str) -> Fact:
    acl = subject.bucket.container_acl
    text = getattr(acl.value, side) if acl.value is not None else ""
    return fact_of(acl.map(lambda _: text)) if text else absent_fact(acl) if acl.settled else lost(acl)


for _side in ("read", "write"):
    _container_acl(_side)


@fact(
    "temporary-url-key",
    SWITCH,
    "whether the container has a key of its own: whoever has it makes links to whatever is in it",
    area="access",
    advice="remove the key from the container's metadata, if nobody makes links with it",
    safe="off",
)
def temporary_url_key(subject: BucketView, _: str) -> Fact:
    """That there is one; the key itself is dropped while the answer is read."""
    return switch_fact(subject.bucket.temporary_url_key)


@fact(
    "synchronization-key",
    SWITCH,
    "whether the container has a key for synchronization: whoever has it may store and delete objects without a token",
    area="access",
    advice="remove the container's X-Container-Sync-Key, if it is not synchronized; else change it, and tell nobody",
    safe="off",
)
def synchronization_key(subject: BucketView, _: str) -> Fact:
    """On release 2.38 of the real server the key alone lets a PUT and a DELETE of an object through, from any address;
    release 2.30 wants the key of the cluster's realm as well."""
    return switch_fact(subject.bucket.synchronization_key)


@fact(
    "keeps-versions-of",
    TEXT,
    "the containers whose earlier versions the store keeps in this one: whoever may write to these writes here too, "
    "may delete here, and this container's own ACL is not asked (Swift protocol)",
    area="access",
    advice="take X-Versions-Location off the container that is named, or have a container of its own keep its versions",
    causes="SetContainer",
    habit=False,
)
def keeps_versions_of(subject: BucketView, _: str) -> Fact:
    """Where a container could not be read, its versions may be kept anywhere."""
    acl = subject.bucket.container_acl
    if acl.value is None or acl.value.versions_unread:
        why = acl.value.versions_unread if acl.value is not None else ""
        return Answer("failed", None, why, acl.evidence) if why else absent_fact(acl) if acl.settled else lost(acl)
    names = ", ".join(sorted(source.name for source in acl.value.versions_of))
    return fact_of(acl.map(lambda _: names)) if names else absent_fact(acl)


@fact(
    "access.*",
    WordSet(VERBS),
    "what an identity can do here: `access.500600700800`, a resource name, a canonical id, by the bucket's rules; "
    "`access.tide-reader`, one of the store's own, by its own permissions and the rules together, and by the roles "
    "that it may assume; `access.outside`, everyone named who is not of a trusted account; or `access.through-roles`, "
    "whoever assumes a role from another account or sign-in service. `within [read]` says what they may, at most",
    area="access",
    advice="take verbs away from the identities named, in the bucket's rules or in their own permissions, or trust "
    "their account in the estate file",
    causes=ACCESS_ACTIONS,
    asks_objects="acl",
    safe="nothing",
    drafted=("outside", "through-roles"),
    grave=True,
)
def access(subject: BucketView, name: str) -> Fact:
    """By everything that is known of whoever is named."""
    return subject.access(name)


@fact(
    "anonymous-test",
    Levels(("disagrees", "ambiguous", "agrees"), ordered=True),
    "whether anonymous requests (`survey --probe`) are answered as the rules say (if not: drift)",
    area="access",
    advice="first find out why the store does not answer as its rules say",
    restless=True,
    habit=False,
)
def doors(subject: BucketView, _: str) -> Fact:
    """The worst of the bucket's list and read doors."""
    return subject.probed


@fact(
    "access-points",
    NAMES,
    "the access points of the bucket: further addresses of it, with policies of their own; absent without any. Those "
    "that other accounts have of it are shown to them alone",
    area="access",
    advice="delete the access points that nobody needs ({observed}), or take their accounts out of the policy",
    causes=POINT_ACTIONS,
    habit=False,
)
def access_points(subject: BucketView, _: str) -> Fact:
    """Through which of them somebody gets in, the exposure says."""
    return fact_of(subject.bucket.access_points.map(lambda points: NAMES.join(point.name for point in points)))


@fact(
    "differs-by-door",
    TEXT,
    "what another door of the store shows differently for the same bucket (`policy`, `container_acl`); absent where "
    "they agree",
    area="access",
    advice="find out which door is right: the store itself holds what the administration door shows",
    causes=ACCESS_ACTIONS,
    habit=False,
)
def differs_by_door(subject: BucketView, _: str) -> Fact:
    """Only where two doors show the same setting."""
    differing = subject.bucket.differs_by_door
    if differing.value:
        return Answer("known", ", ".join(differing.value), differing.note, differing.evidence)
    return Answer("absent", evidence=differing.evidence) if differing.settled else lost(differing)


@fact(
    "front-bypass",
    SWITCH,
    "whether something in front of the store (a `web` door) hands out an object that the store itself refuses to "
    "everybody; absent where none was tried",
    area="access",
    advice="let what stands in front ask with a credential of its own only for what it should show, and take this "
    "bucket out of it",
    safe="off",
    restless=True,
    habit=False,
    grave=True,
)
def front_bypass(subject: BucketView, _: str) -> Fact:
    """Found by the anonymous test alone: no setting of the bucket shows it."""
    tested = subject.bucket.anonymous_test
    probes = [answer for answer in tested.value if answer.verb == "read"] if tested.value else []
    fronts = [answer for answer in probes if answer.door == "web"]
    if not fronts:
        return absent_fact(tested) if tested.settled else lost(tested)
    if any(answer.let_in for answer in probes if answer.door != "web"):
        return Answer("known", "off", "the store gives it to everybody itself", tested.evidence)
    passed = next((answer for answer in fronts if answer.let_in), None)
    if passed is not None:
        return Answer("known", "on", f"{passed.asked} was answered {passed.answer}", tested.evidence)
    if any(answer.let_in is None for answer in fronts):
        return Answer("failed", None, f"{fronts[0].asked} was answered {fronts[0].answer}", tested.evidence)
    return Answer("known", "off", "", tested.evidence)


@fact(
    "public-status",
    Levels(("private", "public"), ordered=True),
    "the store's own word on whether the policy is public: a cross-check on `exposure`, not its equal",
    area="access",
    causes=ACCESS_ACTIONS,
    habit=False,
)
def public_status(subject: BucketView, _: str) -> Fact:
    """Stores count some restricted access as public and some open access as private."""
    return fact_of(
        subject.bucket.public_status.map(lambda public: "public" if public else "private").default("private")
    )


def _principals(verb: Verb) -> None:
    """Enter who may use one verb."""
    meaning = (
        f"everybody who can {VERB_WORDS[verb]}, by name: the store's own identities, by both sides or by a role that "
        "they may assume, whoever else the rules name, and the public as `anyone` and `any-account`. "
        "`within [records-clerk, boat-*]`: they, at most; `none of [old-importer]`: not they"
    )
    fact(
        f"principals.{verb}", NAMES, meaning, area="access", causes=ACCESS_ACTIONS, restless=True, habit=False,
        advice="take {last} from {observed}: in the bucket's rules, or in their own permissions",
        asks_objects="acl" if verb in BY_OBJECT_ACLS else "",
    )(lambda subject, _: subject.principals[verb])  # fmt: skip


for _verb in VERBS:
    _principals(_verb)
