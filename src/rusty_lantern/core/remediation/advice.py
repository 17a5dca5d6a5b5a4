"""What a person can do about a drift, in words: a table of facts, of what was seen of them, and of what puts it right.

The first row that fits counts, so a row for one value stands before the row for all others. Every sentence says
something that can be done by whoever reads it, and `tests/test_remedies.py` has the demo's read by a person.
"""

from __future__ import annotations

from typing import NamedTuple

from rusty_lantern.core.baseline.evaluation import Finding, observed_words
from rusty_lantern.core.facts.store import UNUSED


class Advice(NamedTuple):
    """For facts that begin so, and for what was seen (empty: whatever it is; the note counts too): what to do."""

    fact: str
    seen: str
    words: str


_KEY = "use a key of the same place that is enabled, rotated, and that the store itself may use"

TABLE: tuple[Advice, ...] = (
    Advice("exposure.", "", "fence or take out what lets the public in (lantern remedy shows the exact document)"),
    Advice("versioning.second-factor", "", "have the deletion of versions ask for a second factor"),
    Advice("versioning", "", "switch versioning on; what was overwritten before stays lost"),
    Advice("encryption.at-rest", "", "set the default encryption, and write again what is there unencrypted"),
    Advice("encryption.required", "", "add a Deny to the policy for uploads that do not ask for encryption"),
    Advice("encryption.key-state", "pending-deletion", "cancel the scheduled deletion of the key while there is time"),
    Advice("encryption.key-state", "disabled", "enable the key again: nothing under it can be read until then"),
    Advice("encryption.key-state", "missing", "find out where the key is kept; if it is lost, restore from a copy"),
    Advice("encryption.key-state", "destroyed", "restore what is under it from a copy, and name another key"),
    Advice("encryption.key-age", "", "rotate the key, or have it rotated by itself"),
    Advice("encryption.key-usable", "", "let the store's own service identity encrypt and decrypt with the key"),
    Advice("encryption.key", "", _KEY),
    Advice("transport.required", "", "add a Deny to the policy for requests that come over plain http"),
    Advice("lock.enabled", "", "make a new bucket with the lock and copy, or see whether yours can add it"),
    Advice("lock.", "", "change the default retention; versions that are there keep their own"),
    Advice("tags.", "", "tag the bucket with {last}: {wanted}"),
    Advice("logging.target", "", "let the record be written to another bucket, one that only its readers get into"),
    Advice("logging.exempted", "", "take these identities out of the list of those that are not recorded"),
    Advice("logging", "", "switch the record of reads and writes on, into a bucket that is kept for it"),
    Advice("objects.mode", "", "set the retention of the versions named: a default counts for what is stored later"),
    Advice(
        "objects.keep", "",
        "set the retention of the versions named: longer can be set at once, shorter only under governance",
    ),
    Advice("objects.hold", "", "put the versions named under legal hold, or lift it: {wanted}"),
    Advice(
        "objects.current-version", "",
        "set a retention on the current version too, or delete the newer unprotected version",
    ),
    Advice("objects.encryption", "", "copy each object named onto itself, so that the default encryption takes hold"),
    Advice("objects.under-default-key", "", "copy each object named onto itself, so that the default key takes hold"),
    Advice("objects.deletable-by", "", "set a retention or a legal hold on the versions named"),
    Advice("objects.public", "", "take the public grant out of the access lists of the objects named"),
    Advice(
        "objects.type-fits", "",
        "copy each object named onto itself with the content type that its extension stands for, or rename it",
    ),
    Advice("objects.content-type", "", "copy each object named onto itself with a content type that is {wanted}"),
    Advice("objects.cache-control", "", "copy each object named onto itself with Cache-Control: {wanted}"),
    Advice("objects.metadata.", "", 'copy each object named onto itself with the metadata "{last}": {wanted}'),
    Advice("objects.tags.", "", 'tag the objects named with "{last}": {wanted}'),
    Advice("objects.tier", "", "move the objects named to another tier: {wanted}"),
    Advice("objects.checksum", "", "copy each object named onto itself and have the store compute a checksum"),
    Advice("objects.name", "", "copy the objects named to a key that is {wanted}, and delete the old ones"),
    Advice("objects.extension", "", "copy the objects named to a key with an extension that is {wanted}"),
    Advice("objects.size", "", "ask the owner of the objects named: their size is to be {wanted}"),
    Advice("objects.age", "", "delete or archive what is older, or have an expiry rule do it: {wanted}"),
    Advice("credential.idle", "", "disable the key; delete it once nobody missed it"),
    Advice("credential.used", "", "disable the key; delete it once nobody missed it"),
    Advice("credential.age", "", "make a second key, move its users to it, then disable and delete this one"),
    Advice("credential.expires", "", "give the key an end, or replace it by one that ends: {wanted}"),
    Advice("credential.owner-kind", "", "delete the root's key; work as a named identity"),
    Advice(
        "credential.owner-state", "missing",
        "find out who uses the key: its owner does not exist. Give them an identity of their own, then disable and "
        "delete this key",
    ),
    Advice("credential.owner-state", "", "disable the key too: its owner is disabled"),
    Advice("credential.owner-default-name", "", "make an identity under another name, move its users to it, and "
           "disable this one"),
    Advice("credential.live-with-owner", "", "disable the keys that are not in use, and keep one"),
    Advice("credential.mixed", "", "give each application a key of its own, and leave this one to the administrator"),
    Advice("credential.beyond", "", "take away the verbs that its owner does not need: {observed}"),
    Advice("credential.verbs", "", "take verbs away from its owner until it can do {wanted}"),
    Advice("credential.", "", "replace the key by one whose {last} is {wanted}"),
    Advice("identity.beyond", "", "take away the verbs that it does not need: {observed}"),
    Advice("identity.verbs", "", "take verbs away from it until it can do {wanted}"),
    Advice("identity.password-idle", "", "take its password away, or disable it: nobody has signed in for {observed}"),
    Advice("identity.password-age", "", "have the password changed: it is {observed} old"),
    Advice("identity.password", "", "ask for a second factor, or take the password away"),
    Advice("identity.second-factor", "", "set up a second factor for it"),
    Advice("identity.live-keys", "", "disable the keys that are not in use: {wanted}"),
    Advice("identity.default-name", "", "make an identity under another name, move its users to it, and disable this "
           "one"),
    Advice("identity.state", "", "disable the identity, or enable it: it is to be {wanted}"),
    Advice("identity.groups", "", "change the groups that it is in: {wanted}"),
    Advice("identity.", "", "ask whoever answers for it: its {last} is to be {wanted}"),
    Advice("link.", "", "withdraw the link, if need be by disabling the key that signed it; give out a shorter one"),
    Advice("encryption-key.state", "pending-deletion", "cancel the scheduled deletion while there is time: {note}"),
    Advice("encryption-key.destruction", "", "cancel the scheduled deletion while there is time"),
    Advice(
        "encryption-key.state", UNUSED,
        "no bucket needs it: see by lantern encryption whether objects are under it; if none are, delete it, or leave "
        "it and waive this",
    ),
    Advice("encryption-key.state", "destroyed", "restore what is under it from a copy, and name another key"),
    Advice("encryption-key.state", "", "enable the key again: nothing under it can be read until then ({note})"),
    Advice("encryption-key.age", "", "rotate the key"),
    Advice("encryption-key.rotation", "", "have the key rotated by itself: {wanted}"),
    Advice("encryption-key.store-may-use", "", "let the store's own service identity encrypt and decrypt with it"),
    Advice("encryption-key.place", "", "a key does not move: make one in the right place, and name it instead"),
    Advice("encryption-key.protection", "", "a key does not change its protection: make one that is {wanted}, and name "
           "it instead"),
    Advice("encryption-key.", "", "ask whoever answers for the key: its {last} is to be {wanted}"),
    Advice("soft-delete", "", "keep deleted objects for longer: {wanted}"),
    Advice("settings.secret", "on", "take the secret out ({note}), and change it wherever it opens anything"),
    Advice("network.", "", "allow named networks only"),
    Advice("uploads.scanned", "", "have uploads scanned"),
    Advice("uploads.unfinished", "", "clear unfinished uploads by a lifecycle rule"),
    Advice("uploads.oldest", "", "clear unfinished uploads by a lifecycle rule"),
    Advice("uploads.", "", "have the store refuse other uploads: {wanted}"),
    Advice("lifecycle.against-retention", "", "change the lifecycle rules so that they wait for the retention to end"),
    Advice("lifecycle.", "", "add or change the lifecycle rule: {wanted}"),
    Advice("cross-origin", "", "name the web pages that may use the bucket"),
    Advice("notifications.outside", "", "take the outside target out, or trust its account in the estate file"),
    Advice("access.", "", "take verbs away from the identities named, or trust their account in the estate file"),
    Advice("guards.", "", "switch that guard on, for the bucket or for the whole account"),
    Advice("grants.by-object", "", "let the bucket's owner own every object, so that objects carry no grants of their "
           "own"),
    Advice("website", "", "stop serving the bucket as a web site, or put what is public into a bucket of its own"),
    Advice("replication", "", "set up replication: {wanted}"),
    Advice("quota.", "", "set the quota: {wanted}"),
    Advice("doors", "", "find out why the store answers otherwise than its rules say, before anything else"),
    Advice("mirror.content", "missing", "make the bucket at the copy's store, with the original's settings, and copy"),
    Advice("mirror.content", "lacking", "copy the missing objects ({note}), then find out why they never went"),
    Advice("mirror.content", "behind", "find out why copying has stopped: {note}"),
    Advice("mirror.content", "more", "delete at the copy what was deleted at the original, or let deletions travel"),
    Advice("mirror.settings", "", "give the copy the original's settings ({note}): a store copies objects, rarely "
           "settings"),
    Advice("store.plain-http", "", "stop answering in plain http"),
    Advice("store.legacy-signatures", "", "refuse signatures of the first generation"),
    Advice("store.certificate-left", "", "renew the certificate before it ends"),
    Advice("store.certificate", "", "put a certificate in place that is valid and for this name"),
    Advice("store.dossier-age", "", "ask the store's owner for a new dossier: this one is {observed} old"),
    Advice("store.network", "", "allow named networks only"),
    Advice("place", "", "a bucket does not move: make one in the right place and copy"),
    Advice("deletion", "", "withdraw the deletion while there is time: {observed}"),
    Advice("name", "", "a bucket keeps its name: make one that is called otherwise and copy"),
)  # fmt: skip


def advice(judgement: Finding) -> str:
    """What puts a drift right, in words alone."""
    requirement, seen = judgement.requirement, judgement.observed
    value = "" if seen.value is None else str(seen.value)
    row = next(
        (
            row
            for row in TABLE
            if requirement.fact.startswith(row.fact) and (not row.seen or row.seen in (value, seen.note))
        ),
        Advice("", "", "see to it that {fact} is {wanted}"),
    )
    wanted = requirement.comparison.words if requirement.comparison else ""
    return row.words.format(
        fact=requirement.fact,
        last=_last(requirement.fact),
        wanted={"present": "any value", "absent": "none"}.get(wanted, wanted),
        observed=observed_words(judgement),
        note=seen.note,
    ).replace(" ()", "")


def _last(fact: str) -> str:
    """What a fact's name says beyond its area.

    >>> _last("objects.metadata.station"), _last("tags.cost centre"), _last("credential.owner-state")
    ('station', 'cost centre', 'owner state')
    """
    area, _, rest = fact.partition(".")
    if area == "objects" and rest.startswith(("metadata.", "tags.")):
        return rest.partition(".")[2]
    return rest if area == "tags" else rest.replace("-", " ")
