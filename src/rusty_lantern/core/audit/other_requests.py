"""What else a caller can do, where the request that was asked about is not allowed.

A verb is several actions, and a caller may have it by one of them, or with another key, address or time. A refusal that
does not say so reads as if the verb were closed.
"""

from __future__ import annotations

from collections.abc import Iterable

import msgspec

from rusty_lantern.core.access.evaluator.evaluate import decide, unlike
from rusty_lantern.core.access.evaluator.request import Decision, Request
from rusty_lantern.core.access.evaluator.request_builder import RequestSpec
from rusty_lantern.core.access.policy.actions import ACTIONS, VERBS
from rusty_lantern.core.access.policy.condition_keys import AUDIENCES
from rusty_lantern.core.access.policy.public_policy import PublicStatus
from rusty_lantern.core.access.rules.bucket_rules import Rules
from rusty_lantern.core.access.solver.exposure import as_match
from rusty_lantern.core.access.solver.witness import Witness
from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.model.identity import Identity, Verb


class OtherRequests(msgspec.Struct, frozen=True, kw_only=True):
    """That a caller has a verb by other requests than the one that was decided."""

    verb: str
    level: str
    restriction: str
    """The condition that they are allowed under, where that is known."""
    example: Witness | None


def by_another_action(
    asking: RequestSpec, first: Request, decision: Decision, rules: Rules, public: PublicStatus, actions: Iterable[str]
) -> tuple[Request, Decision]:
    """A verb is more than the action that represents it: the same request by another of its actions that is allowed, or
    may be."""
    for action in actions:
        key = asking.key if ACTIONS[action].target == "object" else ""
        request = msgspec.structs.replace(first, action=action, key=key)
        other = decide(rules, request, public=as_match(public))
        if other.allowed:
            return request, other
        if other.allowed is None and decision.allowed is False:
            first, decision = request, other
    return first, decision


class VerbsOfCallers(dict[tuple[str, str], "OtherRequests | None"]):
    """Caller and verb → how far the caller has the verb by whatever request; None where that is not known."""

    def __init__(self, view: BucketSubject) -> None:
        super().__init__()
        self.view = view
        self._actions: dict[tuple[str, str], list[str]] = {}

    def actions(self, identity: Identity | None, verb: str, rules: Rules) -> list[str]:
        """The other actions of a verb that these rules, the holder's among them, treat differently from the first."""
        key = identity.name if identity is not None else "", verb
        if key not in self._actions:
            names = [action.name for action in ACTIONS.values() if action.verb == verb]
            self._actions[key] = unlike(rules, names)[1:]
        return self._actions[key]

    def __missing__(self, key: tuple[str, str]) -> OtherRequests | None:
        caller, verb = key
        others = self[key] = self._others_of(caller, next(one for one in VERBS if one == verb))
        return others

    def _others_of(self, caller: str, verb: Verb) -> OtherRequests | None:
        view = self.view
        audience = next((one for one in AUDIENCES if one == caller), None)
        if audience is not None:
            verdict = view.verdicts[audience, verb]
            words = verdict.restriction.words if verdict.restriction else ""
            return OtherRequests(verb=verb, level=verdict.level, restriction=words, example=verdict.witness)
        identity = view.identity_named(caller)
        if identity is not None:
            reach = view.context.across.on(identity, view.name).get(verb) if view.context is not None else None
        else:
            principal = view.rules.principal(caller)
            reach = view.granted(principal)[verb] if principal in view.named else None
        if reach is None:
            return None
        return OtherRequests(verb=verb, level=reach.level, restriction=reach.restriction, example=None)
