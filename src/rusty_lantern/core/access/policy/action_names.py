"""Whether a statement names an action of another service than storage: one that no bucket decides."""

from __future__ import annotations

import re
from fnmatch import translate
from functools import lru_cache

from rusty_lantern.core.access.policy.document import Statement


def names_action(statement: Statement, action: str) -> bool:
    """Whether a statement is about an action, by `Action` or by `NotAction`; letter case does not count."""
    return any(fits(pattern, action, fold_case=True) for pattern in statement.actions) != statement.actions_negated


def fits(pattern: str, text: str, *, fold_case: bool = False) -> bool:
    """Whether a text fits a pattern of the policy language.

    >>> fits("iam:Put*", "iam:putuserpolicy", fold_case=True), fits("A*", "ab"), fits("a[bc]", "ab")
    (True, False, False)
    """
    return _compiled(pattern, re.IGNORECASE if fold_case else re.NOFLAG).fullmatch(text) is not None


@lru_cache(maxsize=4_096)
def _compiled(pattern: str, case: re.RegexFlag) -> re.Pattern[str]:
    return re.compile(translate(pattern.replace("[", "[[]")), case)
