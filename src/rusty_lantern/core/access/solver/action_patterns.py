"""Which published actions the action patterns of a statement reach."""

from __future__ import annotations

from functools import lru_cache
from itertools import chain

from rusty_lantern.core.access.policy.actions import ACTIONS, BY_LOWER_NAME, ELSEWHERE, VERBS, actions_of
from rusty_lantern.core.access.solver.sets import Budget
from rusty_lantern.core.access.solver.sets.matching import matching
from rusty_lantern.core.access.solver.sets.patterns import glob

VERB_ACTIONS = {verb: frozenset(action.name for action in actions_of(verb)) for verb in VERBS}


@lru_cache(maxsize=4096)
def reached_actions(patterns: tuple[str, ...], negated: bool) -> frozenset[str]:
    """The known actions that a statement's Action (or NotAction) reaches; all of them where it was not understood."""
    if not patterns:
        return frozenset(ACTIONS)
    fitting = frozenset().union(*(_fitting(pattern.lower()) for pattern in patterns))
    return frozenset(name for lowered, name in BY_LOWER_NAME.items() if (lowered in fitting) != negated)


@lru_cache(maxsize=4096)
def unlisted(patterns: tuple[str, ...], *, negated: bool) -> str:
    """A pattern that reaches no published action of this service though it means one; empty where none does.

    It may be an action of a store's own, or a slip: what it grants nobody can say. It takes nothing away, since every
    published action is another.
    """
    if negated:
        return ""
    return next((p for p in patterns if p[:3].lower() == "s3:" and not _fitting(p.lower())), "")


_NAMES = frozenset(chain(BY_LOWER_NAME, ELSEWHERE))
_LONGEST = max(map(len, _NAMES))


@lru_cache(maxsize=4096)
def _fitting(pattern: str) -> frozenset[str]:
    """The published actions, in lower case, that a pattern reaches; one longer than any of them reaches none."""
    if len(pattern) - pattern.count("*") > _LONGEST:
        return frozenset()
    texts = matching((glob(pattern),), Budget(_ENOUGH))
    return frozenset(filter(texts.holds, _NAMES))


_ENOUGH = 200_000
"""Steps for a pattern of as many characters as the longest action has."""
