"""The end of a retention as an object gateway keeps it: in 32 bits, as seconds since 1970.

They run out on 2106-02-07, and begin anew at 1970. A default retention of 100 years, also in compliance mode, gives
what is stored today an end in 1990: it can be deleted at once. Measured on release 16.2, where a version's own HEAD
shows the end that counts.
"""

from __future__ import annotations

from datetime import UTC, datetime

import msgspec

from rusty_lantern.core.answer import NOT_IN_DOSSIER, Answer
from rusty_lantern.core.model.bucket import Bucket, Lock
from rusty_lantern.core.model.dialect import GATEWAY_16
from rusty_lantern.core.model.dossier import OBJECT_GATEWAY, Software
from rusty_lantern.core.value_types import DURATION, show_moment

SECONDS = 2**32
LAST_MOMENT = datetime.fromtimestamp(SECONDS - 1, UTC)
"""The latest end of a retention that a gateway can keep."""


def beyond_calendar(lock: Lock, software: Answer[Software], moment: datetime) -> bool:
    """Whether a bucket's default retention would end after a gateway's calendar does, and one may answer for it."""
    known = software.value
    gateway = known is not None and (known.name == OBJECT_GATEWAY or known.dialect == GATEWAY_16)
    may_be = gateway or (software.unread and software.note != NOT_IN_DOSSIER)
    return may_be and int(moment.timestamp()) + lock.retention >= SECONDS


def as_kept(bucket: Bucket, software: Answer[Software], moment: datetime) -> Bucket:
    """A bucket with the default retention that what is stored at this moment gets. It is unknown where a gateway of
    another release answers, or where what answers could not be read."""
    lock = bucket.lock.value
    if lock is None or not beyond_calendar(lock, software, moment):
        return bucket
    begins_anew = f"ends after {show_moment(LAST_MOMENT)}, where a gateway's calendar begins anew at 1970"
    why = f"its default of {DURATION.show(lock.retention)} {begins_anew}"
    if software.value is None or not software.value.dialect:
        why += (
            f" (what answers here is not known: {software.reason})"
            if software.unread
            else " (tried on another release)"
        )
        kept = msgspec.structs.replace(lock, mode="", retention=0, default_unread=why)
        return msgspec.structs.replace(bucket, lock=bucket.lock.map(lambda _: kept))
    ends = (int(moment.timestamp()) + lock.retention) % SECONDS
    left = max(0, ends - int(moment.timestamp()))
    kept = msgspec.structs.replace(lock, mode=lock.mode if left else "", retention=left)
    note = f"{why}: what is stored now is kept until {show_moment(datetime.fromtimestamp(ends, UTC))}"
    return msgspec.structs.replace(bucket, lock=Answer("known", kept, note, bucket.lock.evidence))
