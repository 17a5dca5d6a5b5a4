"""Named identities: whom the rules of a bucket name, and what one of them may do there.

A caller in the bucket's own account needs an Allow on either side, one from another account on both; the rules of
a bucket are one side. Until the other side has been read, what is found here is *what the bucket grants*.
"""

from __future__ import annotations

import re
from functools import lru_cache
from typing import Literal

import msgspec

from rusty_lantern.core.access.policy.document import Principals

Applies = Literal["yes", "no", "maybe"]
"""Whether rules apply to somebody; `maybe` where what is written has no agreed meaning."""
Known = tuple[tuple[str, tuple[str, ...]], ...]


class Principal(msgspec.Struct, frozen=True):
    """One named identity. `kind` says what `name` is."""

    name: str
    kind: Literal["account", "identity", "canonical", "service", "federated", "group"]
    known: Known = ()
    """What its requests carry, as far as that is known: condition key → values. No values: they do not carry the key.
    A family's name, such as `aws:principaltag/`, covers all its keys that are not listed."""
    aliases: tuple[str, ...] = ()
    """Further names by which rules let it in."""

    @property
    def label(self) -> str:
        """The name by which people know it: a user's id, where its resource name says that."""
        return self.aliases[0] if self.kind == "identity" and self.aliases else self.name

    def is_called(self, name: str) -> bool:
        """Whether this is one of its names."""
        return name == self.name or (self.kind == "identity" and name in self.aliases)

    @property
    def account(self) -> str:
        """The account it belongs to, where its name says so."""
        if self.kind == "account":
            return self.name
        match = _IN_ACCOUNT.match(self.name)
        return match[1] if match else ""

    @property
    def account_names(self) -> frozenset[str]:
        """Every name of the account it belongs to; in the Swift protocol also as that account's address has it.

        >>> sorted(read_principal("deck:admin").account_names)
        ['AUTH_deck', 'deck']
        """
        if self.account or self.kind != "canonical":
            return frozenset({self.account} - {""})
        account = self.name.partition(":")[0]
        return frozenset({account, f"AUTH_{account}"} if account not in ("", "*") else ())

    @property
    def arn(self) -> str:
        """The resource name that its requests carry: an account's is that of its root, a session's that of its role."""
        if self.kind == "account":
            return f"arn:aws:iam::{self.name}:root"
        return role_of(self.name) if self.kind == "identity" else ""

    def carries(self, key: str) -> tuple[str, ...] | None:
        """What its requests carry of a condition key: values, nothing; None where it is not known."""
        values = dict(self.known)
        family, slash, _ = key.partition("/")
        return values.get(key, values.get(family + "/") if slash else None)

    def is_named_by(self, principals: Principals) -> Applies:
        """Whether a statement with these principals applies to it."""
        if not principals.negated:
            return self._named_by(principals)
        return {"yes": "no", "no": "yes", "maybe": "maybe"}[self._spared_by(principals)]  # type: ignore[return-value]

    def _named_by(self, principals: Principals) -> Applies:
        if principals.everyone or self._names & set(_of_kind(principals, self.kind)):
            return "yes"
        if self.kind == "identity" and not set(self.aliases).isdisjoint(principals.canonical):
            return "yes"
        return "maybe" if principals.vague else "no"

    def _spared_by(self, principals: Principals) -> Applies:
        """Whether NotPrincipal leaves it out. A user is left out by its own name and its account's together; a session
        by its role's as well (published with the NotPrincipal element). A wildcard inside a name: nobody says."""
        listed = set(_of_kind(principals, self.kind))
        if principals.everyone or (self.kind != "identity" and self._names & listed):
            return "yes"
        if principals.vague:
            return "maybe"
        if self.kind != "identity" or self.name not in listed:
            return "no"
        if ":role/" in self.name:
            sessions = self.name.replace(":iam:", ":sts:").replace(":role/", ":assumed-role/")
            return "maybe" if any(name.startswith(sessions + "/") for name in listed) else "no"
        account = {self.account, f"arn:aws:iam::{self.account}:root"} & listed
        return "yes" if account and role_of(self.name) in listed else "maybe"

    @property
    def _names(self) -> set[str]:
        if self.kind != "identity":
            return {self.arn, *also_known_as(self.name), *self.aliases} - {""}
        others = {name for name in self.aliases if name.startswith("arn:")}
        own = {self.name, self.arn, self.account, f"arn:aws:iam::{self.account}:root"}
        return (own | others) - {"", "arn:aws:iam:::root"}


_IN_ACCOUNT = re.compile(r"arn:[^:]*:(?:iam|sts)::([^:]+):")
_SESSION = re.compile(r"arn:([^:]*):sts::([^:]*):assumed-role/(.+)/[^/]*")


def role_of(name: str) -> str:
    """The role of a session, which its requests carry as `aws:PrincipalArn`; any other name is itself.

    >>> role_of("arn:aws:sts::400100200300:assumed-role/tide-reader/monday")
    'arn:aws:iam::400100200300:role/tide-reader'
    """
    session = _SESSION.fullmatch(name)
    return f"arn:{session[1]}:iam::{session[2]}:role/{session[3]}" if session else name


def in_one_partition(name: str) -> str:
    """A resource name with the partition that this tool writes: account numbers are one of a kind across all of them.

    >>> in_one_partition("arn:aws-cn:iam::400100200300:user/ann")
    'arn:aws:iam::400100200300:user/ann'
    """
    head, colon, tail = name.partition(":iam:")
    if not colon:
        head, colon, tail = name.partition(":sts:")
    return f"arn:aws{colon}{tail}" if colon and head.startswith("arn:aws") else name


def _of_kind(principals: Principals, kind: str) -> tuple[str, ...]:
    if kind == "service":
        return principals.services
    if kind == "federated":
        return principals.federated
    if kind == "canonical":
        return principals.canonical
    return tuple(map(in_one_partition, principals.accounts))


_USER = re.compile(r"arn:aws:iam::([^:]*):user/(.+)")


@lru_cache(maxsize=4096)
def user_named(name: str) -> Principal:
    """An identity of a store in which a user's id and its resource name follow from each other: by either of them.

    >>> user_named("marsh$warden").name, user_named("arn:aws:iam:::user/deck").label
    ('arn:aws:iam::marsh:user/warden', 'deck')
    """
    name = in_one_partition(name)
    match = _USER.fullmatch(name)
    if match:
        return Principal(name, "identity", aliases=(f"{match[1]}${match[2]}" if match[1] else match[2],))
    if ":" in name or not name:
        return read_principal(name)
    tenant, _, user = name.rpartition("$")
    return Principal(f"arn:aws:iam::{tenant}:user/{user}", "identity", aliases=(name,))


@lru_cache(maxsize=4096)
def read_principal(name: str) -> Principal:
    """An identity from its name as policies and ACLs write it.

    >>> read_principal("arn:aws:iam::400100200300:root").kind
    'account'
    """
    name = in_one_partition(name)
    root = re.fullmatch(r"arn:[^:]*:iam::([^:]+):root", name)
    if root or re.fullmatch(r"\d{12}", name):
        return Principal(root[1] if root else name, "account")
    if name.startswith("arn:"):
        return Principal(name, "identity")
    if re.fullmatch(r"[a-z0-9.-]+\.[a-z]{2,}(\.[a-z]{2,})?", name):
        return Principal(name, "service")
    return Principal(name, "canonical")


_ACCOUNT_OF = re.compile(r"[^:/*]+:[^:/*]+")


def also_known_as(name: str) -> frozenset[str]:
    """Every name by which ACLs of the Swift protocol can let one user in.

    >>> sorted(also_known_as("deck:admin"))
    ['*:admin', 'AUTH_deck', 'deck', 'deck:*', 'deck:admin']
    """
    if not _ACCOUNT_OF.fullmatch(name):
        return frozenset({name})
    account, _, user = name.partition(":")
    return frozenset({name, account, f"AUTH_{account}", f"{account}:*", f"*:{user}"})
