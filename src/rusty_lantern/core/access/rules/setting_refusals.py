"""What settings beside the policy refuse, as statements of the policy language: network rules, and who pays."""

from __future__ import annotations

import json
from functools import lru_cache

import msgspec

from rusty_lantern.core.access.dialects.gateway_deletions import ONE
from rusty_lantern.core.access.policy.document import Fault, Principals, Statement, parse_policy
from rusty_lantern.core.answer import NOT_IN_DOSSIER, Answer
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
    read = _own(json.dumps(denied))
    return tuple(msgspec.structs.replace(statement, place=title, at_every_door=True) for statement in read)


def of_payment(answer: Answer[bool]) -> tuple[Statement, ...]:
    """Where the requester pays, requests without credentials are refused (published with that setting)."""
    if not answer.value and (not answer.unread or answer.note == NOT_IN_DOSSIER):
        return ()  # a dossier without it means the default: the owner pays
    title = "the requester pays" if answer.value else "who pays for requests"
    signed = {"StringEquals": {"aws:PrincipalType": "Anonymous"}}
    denied = {"Effect": "Deny", "Principal": "*", "Action": "*", "Resource": "*", "Condition": signed}
    (read,) = _own(json.dumps(denied))
    faults = (Fault(title, f"could not be read ({answer.reason})"),) if answer.unread else ()
    conditions = (*read.conditions, ONE)  # a gateway's bulk deletion does not look at it
    refused = msgspec.structs.replace(read, place=title, faults=faults, conditions=conditions, at_every_door=True)
    return (refused,)


@lru_cache(maxsize=256)
def _own(statement: str) -> tuple[Statement, ...]:
    """A statement that is written here, not by a store, read as a policy's statements are."""
    return parse_policy(f'{{"Version": "2012-10-17", "Statement": {statement}}}').statements
