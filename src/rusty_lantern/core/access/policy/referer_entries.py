"""Entries of container ACLs about the Referer header (`.r:…`) → conditions on its host."""

from __future__ import annotations

from collections.abc import Iterator

from rusty_lantern.core.access.policy.condition_keys import REFERER_HOST
from rusty_lantern.core.access.policy.document import Condition
from rusty_lantern.core.model.dossier import AclReading

NO_REFERER = ""
"""The value of `REFERER_HOST` in a request without a Referer."""


def host_clauses(entries: tuple[str, ...], reading: AclReading) -> Iterator[tuple[str, tuple[Condition, ...]]]:
    """Which hosts of the Referer header are let in: the entries are taken in order, and the last that fits counts.

    Each entry that lets in is one clause, of which the later ones that leave out take away. Source: measured on the
    servers. `.r:-*` leaves out nobody but at a gateway, where it leaves out every request that has a Referer.
    """
    for number, entry in enumerate(entries):
        if entry.startswith("-") or not entry:
            continue
        later = [one.removeprefix("-") for one in entries[number + 1 :] if one.startswith("-")]
        conditions = () if entry == "*" else host_condition(entry, reading, negated=False)
        if conditions is None:
            continue
        without = [condition for one in later for condition in host_condition(one, reading, negated=True) or ()]
        words = ",".join([f".r:{entry}", *(f".r:-{one}" for one in later)])
        yield words, (*conditions, *without)


def host_condition(entry: str, reading: AclReading, *, negated: bool) -> tuple[Condition, ...] | None:
    """A condition on the host: one host, or all below a domain. None where no host fits: they are in lower case, and
    have no port, path or scheme, though an ACL may be written with one."""
    if entry == "*" and negated and reading == "gateway":
        return (Condition("stringequals", REFERER_HOST, (NO_REFERER,), ".r:-*"),)
    if entry != entry.lower() or entry == "*":
        return None
    if not _IN_NO_HOST["gateway" if reading == "gateway" else ""].isdisjoint(entry):
        return None
    values = [f"*{entry}"] if entry.startswith(".") else [entry]
    if entry == "unknown" and reading != "gateway":
        values.append(NO_REFERER)  # the servers put this word where there is no Referer
    operator = "like" if entry.startswith(".") else "equals"
    place = f".r:{'-' if negated else ''}{entry}"
    return (Condition(f"string{'not' if negated else ''}{operator}", REFERER_HOST, tuple(values), place),)


_IN_NO_HOST = {"gateway": frozenset("/:"), "": frozenset("/:?#@[]")}
"""What a Referer's host never has in it, as the servers read it (tried on a gateway 16.2 and on Swift 2.30)."""
