"""The result of checking a dossier."""

from __future__ import annotations

import msgspec

from rusty_lantern.core.config.dossier_validation import Fault
from rusty_lantern.core.model.dossier import Dossier


class CheckResult(msgspec.Struct, frozen=True, kw_only=True):
    """`lantern dossier check --json`. `contains` counts what the document holds; empty where it cannot be read."""

    file: str
    usable: bool
    faults: list[Fault]
    contains: dict[str, int]
    left_out: list[str]
    """Parts that a dossier lacks: what follows from them is going to be unknown."""

    @classmethod
    def of(cls, file: str, faults: list[Fault], dossier: Dossier | None) -> CheckResult:
        """The result of a check."""
        sections = ("identities", "groups", "credentials", "encryption_keys", "links")
        contains, left_out = {}, []
        if dossier is not None:
            contains["buckets"] = len(dossier.buckets)
            contains |= {name: len(getattr(dossier, name).value or ()) for name in sections}
            left_out = [name for name in sections if getattr(dossier, name).state == "failed"]
            fields = dossier.buckets[0].__struct_fields__[1:] if dossier.buckets else ()
            left_out += [
                f"buckets: {name}"
                for name in fields
                if name not in ("anonymous_test", "table")
                and all(getattr(b, name).state == "failed" for b in dossier.buckets)
            ]
        usable = dossier is not None and not any(fault.fatal for fault in faults)
        return cls(file=file, usable=usable, faults=faults, contains=contains, left_out=left_out)
