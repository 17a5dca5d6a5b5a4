"""Named identities: who the rules of a bucket speak of by name, and what one of them may do there.

A caller in the bucket's own account needs an Allow on either side, one from another account on both; the rules of
a bucket are one side. Until the other side has been read, what is found here is *what the bucket grants*.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import lru_cache
from typing import Literal

import msgspec

from rusty_lantern.core.access.documents import Principals
from rusty_lantern.core.access.rules import Rules


class Identity(msgspec.Struct, frozen=True):
    """One named identity. `kind` says what `name` is."""

    name: str
    kind: Literal["account", "identity", "canonical", "service", "federated", "group"]

    @property
    def account(self) -> str:
        """The account it belongs to, where its name tells."""
        if self.kind == "account":
            return self.name
        found = re.fullmatch(r"arn:[^:]*:(?:iam|sts)::(\d{12}):.*", self.name)
        return found[1] if found else ""

    @property
    def arn(self) -> str:
        """Its resource name; an account's is that of its root."""
        if self.kind == "account":
            return f"arn:aws:iam::{self.name}:root"
        return self.name if self.kind == "identity" else ""

    def named_by(self, principals: Principals) -> bool:
        """Whether a statement's principals include it."""
        if principals.everyone:
            return True
        if self.kind == "service":
            return self.name in principals.services
        if self.kind == "federated":
            return self.name in principals.federated
        if self.kind == "canonical":
            return self.name in principals.canonical
        root = f"arn:aws:iam::{self.account}:root"
        return bool({self.name, self.account, root} & set(principals.accounts))


@lru_cache(maxsize=4096)
def read_identity(name: str) -> Identity:
    """An identity from its name as policies and access lists write it.

    >>> read_identity("arn:aws:iam::400100200300:root").kind
    'account'
    """
    root = re.fullmatch(r"arn:[^:]*:iam::(\d{12}):root", name)
    if root or re.fullmatch(r"\d{12}", name):
        return Identity(root[1] if root else name, "account")
    if name.startswith("arn:"):
        return Identity(name, "identity")
    if re.fullmatch(r"[a-z0-9.-]+\.[a-z]{2,}(\.[a-z]{2,})?", name):
        return Identity(name, "service")
    return Identity(name, "canonical")


def named_in(rules: Rules) -> Iterator[Identity]:
    """Everyone whom the rules name, each once."""
    seen: dict[Identity, None] = {}
    for statement in rules.policy.statements:
        who = statement.principals
        if who is None or statement.effect == "Deny" or who.negated:
            continue
        seen |= dict.fromkeys(read_identity(name) for name in (*who.accounts, *who.services))
        seen |= dict.fromkeys(Identity(name, "canonical") for name in who.canonical)
        seen |= dict.fromkeys(Identity(name, "federated") for name in who.federated)
    for right in rules.rights:
        if right.to in ("named", "group") and right.identity:
            seen[Identity(right.identity, "group") if right.to == "group" else read_identity(right.identity)] = None
    for grant in rules.grants:
        if grant.to == "named" and grant.identity:
            seen[read_identity(grant.identity)] = None
    yield from seen
