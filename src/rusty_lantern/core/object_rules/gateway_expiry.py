"""Objects that a gateway deletes at a moment that they carry, whatever keeps them.

A POST at a gateway's Swift door sets that moment (`X-Delete-At`), and no policy is asked. When it has come, the gateway
deletes the version, whatever its retention, its mode, or its legal hold. The S3 door does not show that moment.
Measured on release 16.2: `tests/test_gateway_retention.py` does it again.
"""

from __future__ import annotations

from typing import Any

from rusty_lantern.core.answer import NOT_IN_DOSSIER, Answer
from rusty_lantern.core.model.dialect import GATEWAY_16
from rusty_lantern.core.model.dossier import OBJECT_GATEWAY, Dossier

WAY_AROUND = "X-Delete-At, set at the Swift door"


def expiry_by_swift(store: Dossier) -> Answer[bool]:
    """Whether objects of a store may carry such a moment, set at a Swift door that it has."""
    software = store.software
    if software.unread:
        return _unread(software) if software.note != NOT_IN_DOSSIER else Answer("known", value=False)
    known = software.value
    if known is None or (known.name != OBJECT_GATEWAY and known.dialect != GATEWAY_16):
        return Answer("known", value=False)
    if store.protocol == "swift":
        return Answer("known", value=True)
    if store.doors.unread:
        return _unread(store.doors)
    return Answer("known", value=any(door.name == "swift" for door in store.doors.value or ()))


def deletions_by_expiry(store: Dossier) -> Answer[str]:
    """How locked versions of a store can be deleted so; absent where they cannot."""
    by_swift = expiry_by_swift(store)
    if by_swift.unread:
        return Answer(by_swift.state, None, by_swift.note, by_swift.evidence)
    if not by_swift.value:
        return Answer("absent", None, "", store.software.evidence)
    if store.software.value is None or store.software.value.dialect != GATEWAY_16:
        return Answer("failed", None, f"{WAY_AROUND} deletes locked versions on release 16 (this one was not tried)")
    return Answer("known", WAY_AROUND, "whoever may write at that door sets it, and no policy is asked")


def _unread(answer: Answer[Any]) -> Answer[bool]:
    return Answer(answer.state, None, answer.note, answer.evidence)
