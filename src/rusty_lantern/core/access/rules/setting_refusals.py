"""What network rules refuse, as statements of the policy language."""

from __future__ import annotations

import json
from functools import lru_cache

import msgspec

from rusty_lantern.core.access.policy.document import Fault, Principals, Statement, parse_policy
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.network import Network


def of_network(level: str, answer: Answer[Network]) -> tuple[Statement, ...]:
    """Network rules as a Deny of everything from elsewhere; one that may or may not be there if they are unread."""
    title = f"network rules of the {level}"
    everyone = Principals(everyone=True)
    if answer.unread:
        fault = Fault(title, f"could not be read ({answer.reason})")
        unread = Statement(title, "Deny", principals=everyone, actions=("*",), resources=("*",), faults=(fault,))
        return (msgspec.structs.replace(unread, at_every_door=True),)
    network = answer.value
    if network is None or network.everywhere:
        return ()
    restriction: dict[str, dict[str, list[str]]] = {"NotIpAddress": {"aws:SourceIp": network.networks}}
    if not network.networks:
        restriction = {}
    if network.endpoints:
        restriction["StringNotEquals"] = {"aws:SourceVpce": network.endpoints}
    denied = {"Effect": "Deny", "Principal": "*", "Action": "*", "Resource": "*", "Condition": restriction}
    read = own_statement(json.dumps(denied))
    return tuple(msgspec.structs.replace(statement, place=title, at_every_door=True) for statement in read)


@lru_cache(maxsize=256)
def own_statement(statement: str) -> tuple[Statement, ...]:
    """A statement that is written here, not by a store, read as a policy's statements are."""
    return parse_policy(f'{{"Version": "2012-10-17", "Statement": {statement}}}').statements
