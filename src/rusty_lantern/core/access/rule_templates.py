"""The rules of a bucket without its name, and the names in them without whose they are: what makes pairs alike.

Buckets with one template are decided alike for anybody; templates that are *veiled* alike for somebody are decided
alike for them. A name is veiled by the part that it plays: whose it is does not matter, unless rules ask who one is.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping

import msgspec

from rusty_lantern.core.access.policy.document import Policy, Principals, Statement
from rusty_lantern.core.access.policy.principals import also_known_as
from rusty_lantern.core.access.rules.bucket_rules import Rules
from rusty_lantern.core.access.rules.identity_policies import depends_on_caller as conditions_ask
from rusty_lantern.core.access.rules.identity_policies import principal_of
from rusty_lantern.core.access.rules.rule_inputs import OWN
from rusty_lantern.core.access.solver.action_patterns import unlisted
from rusty_lantern.core.access.solver.verdict_cache import owned
from rusty_lantern.core.model.identity import Identity

_PERSONAL = ("aws:principal", "aws:username", "aws:userid")


class Template(msgspec.Struct, frozen=True):
    """The rules of a bucket but for its name: a key, the names in them, whether they ask who one is."""

    rules: Rules
    key: bytes
    names: frozenset[str]
    personal: bool


def nameless(rules: Rules) -> Rules:
    """The rules of a bucket as those of one called `OWN`; as they are where a pattern may reach several buckets."""
    bare = msgspec.structs.replace(rules, members={})
    statements = owned(rules.policy.statements, rules.bucket)
    if statements is None:
        return bare
    return msgspec.structs.replace(
        bare, bucket=OWN, policy=msgspec.structs.replace(rules.policy, statements=statements)
    )


def asks_who(statements: Iterable[Statement]) -> bool:
    """Whether what statements say depends on who it is that has them."""
    return any(
        any("${" in text for text in (*s.resources, *_values(s)))
        or any(c.key.startswith(_PERSONAL) for c in s.every_condition)
        or bool(s.principals and (s.principals.vague or s.principals.negated))
        or (s.within is not None and asks_who([s.within]))
        for s in statements
    )


def _values(statement: Statement) -> Iterator[str]:
    for condition in statement.conditions:
        yield from condition.values


DELEGATING = ("own account", "own root", "account, own account", "root, own root")
"""Parts of names by which a bucket leaves it to its own account to decide: they name nobody in particular."""


def parts_of(identity: Identity, groups: Iterable[str], account: str) -> dict[str, str]:
    """Name → what part it plays in rules for this identity. One name may play several."""
    who = principal_of(identity)
    parts: dict[str, str] = {}
    for part, names in (
        ("name", [identity.name]), ("resource", [identity.resource]), ("group", groups),
        ("alias", {*also_known_as(identity.name), *identity.aliases} - {identity.name}),
        ("account", [who.account]), ("root", [_root(who.account)]),
        ("own account", [account]), ("own root", [_root(account)]),
    ):  # fmt: skip
        for name in names:
            if name:
                parts[name] = f"{parts[name]}, {part}" if name in parts else part
    return parts


def _root(account: str) -> str:
    return f"arn:aws:iam::{account}:root" if account else ""


def encoded(rules: Rules) -> bytes:
    """A key that is the same for the same rules."""
    return msgspec.json.encode(rules, order="deterministic")


def names_in(rules: Rules) -> frozenset[str]:
    """Every name in rules that may be an identity's, an account's or a group's."""
    whos = [w for s in rules.policy.statements for one in _with_caps(s) if (w := one.principals) is not None]
    names = {name for who in whos for name in (*who.accounts, *who.canonical)}
    names |= {grant.identity for grant in rules.acl} | {right.identity for right in rules.rights}
    names |= {grant.identity for grant in rules.named_object_acls}
    return frozenset(names - {""})


def refuses(statements: Iterable[Statement]) -> bool:
    """Whether statements may refuse anything."""
    return any(statement.effect != "Allow" for statement in statements)


def keyless(rules: Rules) -> Rules:
    """Rules for which it does not matter on which objects something is granted: where nothing refuses one of them."""
    granted = dict.fromkeys(msgspec.structs.replace(one, key="") for one in rules.named_object_acls)
    return msgspec.structs.replace(rules, named_object_acls=tuple(granted))


def _with_caps(statement: Statement) -> Iterator[Statement]:
    yield statement
    if statement.within is not None:
        yield from _with_caps(statement.within)


def veiled(rules: Rules, parts: Mapping[str, str]) -> Rules:
    """Rules with each name in them put as the part that it plays; resources and conditions stay as they are."""

    def part(name: str) -> str:
        return parts.get(name, "somebody else") if name else ""

    def whose(who: Principals) -> Principals:
        return msgspec.structs.replace(
            who, accounts=tuple(map(part, who.accounts)), canonical=tuple(map(part, who.canonical))
        )

    def statement_of(said: Statement) -> Statement:
        cap = statement_of(said.within) if said.within else None
        return msgspec.structs.replace(said, principals=whose(said.principals) if said.principals else None, within=cap)

    return msgspec.structs.replace(
        rules,
        policy=Policy(tuple(map(statement_of, rules.policy.statements)), rules.policy.unreadable),
        acl=tuple(msgspec.structs.replace(one, identity=part(one.identity)) for one in rules.acl),
        rights=tuple(msgspec.structs.replace(one, identity=part(one.identity)) for one in rules.rights),
        named_object_acls=tuple(
            msgspec.structs.replace(one, identity=parts[one.identity])
            for one in rules.named_object_acls
            if one.identity in parts  # what objects grant others says nothing of this one
        ),
    )


def may_name_anybody(statement: Statement) -> bool:
    """Whether an Allow may let in somebody without naming them as rules do: it cannot be read, or conditions do."""
    who = statement.principals
    if statement.effect == "Deny":
        return False
    if who is None or who.vague or unlisted(statement.actions, negated=statement.actions_negated):
        return True
    asking = conditions_ask(statement) or (statement.within is not None and conditions_ask(statement.within))
    return who.everyone != who.negated and asking
