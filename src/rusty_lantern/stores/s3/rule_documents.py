"""Settings documents that are lists of rules: lifecycle, replication, notifications."""

from __future__ import annotations

import re
from collections.abc import Iterator
from datetime import datetime

from rusty_lantern.core.model.bucket import EVENT_BUS, LifecycleRule, ReplicationRule
from rusty_lantern.core.value_types import DAY
from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.http.timestamps import read_time
from rusty_lantern.stores.http.xml import Element, children, name, text

_BUCKET_NAMED = re.compile(r"(?:arn:[^:]*:s3:::)?([^:/]+)")

_NOTIFIED = {
    "TopicConfiguration": "Topic",
    "QueueConfiguration": "Queue",
    "CloudFunctionConfiguration": "CloudFunction",
}


def number(written: str) -> int:
    """A count of days or years; 0 where nothing is written."""
    if written and not re.fullmatch("[0-9]{1,6}", written):
        raise RequestFailed("failed", f'"{written[:20]}" is not a number of days or years')
    return int(written or 0)


def lifecycle(root: Element) -> list[LifecycleRule]:
    """The rules by which the store deletes."""
    return [
        LifecycleRule(
            text(rule, "ID"),
            _in_force(rule),
            _prefix(rule),
            number(text(rule, "Expiration", "Days")) * DAY,
            number(text(rule, "NoncurrentVersionExpiration", "NoncurrentDays")) * DAY,
            number(text(rule, "AbortIncompleteMultipartUpload", "DaysAfterInitiation")) * DAY,
            _date(text(rule, "Expiration", "Date")),
            " ".join(_narrowing(rule)),
        )
        for rule in children(root, "Rule")
    ]


def _in_force(rule: Element) -> bool:
    status = text(rule, "Status")
    if status not in ("Enabled", "Disabled"):
        raise RequestFailed("failed", f'a rule with the status "{status[:40]}" is not understood')
    return status == "Enabled"


def _prefix(rule: Element) -> str:
    """The prefix of keys that a rule is for, in either form of it."""
    return text(rule, "Prefix") or text(rule, "Filter", "Prefix") or text(rule, "Filter", "And", "Prefix")


def _date(written: str) -> datetime | None:
    moment = read_time(written)
    if written and moment is None:
        raise RequestFailed("failed", f'"{written[:40]}" is no date')
    return moment


def _narrowing(rule: Element) -> Iterator[str]:
    """What a rule asks for besides a prefix: whatever its filter holds, and how many old versions it leaves."""
    filters = list(children(rule, "Filter"))
    filters += [part for one in filters for part in children(one, "And")]
    for part in filters:
        yield from (name(one) for one in part if name(one) not in ("", "Prefix", "And"))
    if text(rule, "NoncurrentVersionExpiration", "NewerNoncurrentVersions"):
        yield "NewerNoncurrentVersions"


def replication(root: Element) -> list[ReplicationRule] | None:
    """The rules in force by which the store copies; None where there is none."""
    enabled = [rule for rule in children(root, "Rule") if _in_force(rule)]
    return [
        ReplicationRule(
            _target(text(rule, "Destination", "Bucket")),
            " ".join([*["Prefix"] * bool(_prefix(rule)), *_narrowing(rule)]),
            text(rule, "Destination", "Account"),
        )
        for rule in enabled
    ] or None


def _target(written: str) -> str:
    """The bucket that a rule copies to: by its name, where that is all its resource name says. Elsewhere the resource
    name says in which other store or tenant it is (`arn:minio:replication::ID:NAME`): the whole of it."""
    if not written:
        raise RequestFailed("failed", "a rule of replication names no bucket")
    plain = _BUCKET_NAMED.fullmatch(written)
    return plain[1] if plain else written


def notifications(root: Element) -> list[str] | None:
    """Whom the store notifies of changes, by resource name; None where nobody is."""
    return [_notified(entry) for entry in root if name(entry)] or None


def _notified(entry: Element) -> str:
    kind = name(entry)
    if kind == "EventBridgeConfiguration":  # it is empty: every event goes to the bus of the bucket's account
        return EVENT_BUS
    if kind not in _NOTIFIED:
        raise RequestFailed("failed", f'a notification of the kind "{kind[:40]}" is not understood')
    return text(entry, _NOTIFIED[kind])
