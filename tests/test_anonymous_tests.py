"""What the store let in without credentials, against what its rules come to: the store's own answer counts."""

from __future__ import annotations

from typing import Any

import pytest

from rusty_lantern.core.answer import Answer, Fact, Partly
from rusty_lantern.core.audit.proposed_bucket import beside, with_policy
from rusty_lantern.core.model.bucket import ProbeAnswer
from tests.test_named_by_conditions import FROM_HERE, said, view_of

OPEN, SHUT = [said("Allow")], [said("Allow"), said("Deny")]
NEAR = [said("Allow", **FROM_HERE)]


def answer(let_in: bool | None, **more: Any) -> ProbeAnswer:
    return ProbeAnswer("read", "GET /gallery-web/a", "", let_in=let_in, **more)


def words(fact: Fact) -> tuple[Any, Any]:
    """The value, and what is certain where it is not known."""
    return fact.value, fact.certain if isinstance(fact, Partly) else None


CLOSED, RESTRICTED, WIDE, LET_IN = ("closed", None), ("restricted", None), ("open", None), (None, "restricted")
FORGED = answer(True, claims="198.51.100.7")


@pytest.mark.parametrize(("statements", "answers", "reading", "tested"), [
    (SHUT, [answer(False)], CLOSED, "agrees"),
    (SHUT, [answer(None)], CLOSED, "ambiguous"),
    (SHUT, [answer(True)], LET_IN, "disagrees"),
    (SHUT, [answer(True, door="swift")], LET_IN, "disagrees"),
    (SHUT, [answer(False), answer(True, door="web")], CLOSED, "agrees"),  # that is `front-bypass`
    (SHUT, [answer(False), FORGED], LET_IN, "disagrees"),
    (NEAR, [answer(False)], RESTRICTED, "agrees"),
    (NEAR, [answer(True)], RESTRICTED, "agrees"),
    (NEAR, [answer(False), FORGED], LET_IN, "disagrees"),  # whoever asks can say where they are
    (NEAR, [answer(False), answer(False, claims="198.51.100.7")], RESTRICTED, "agrees"),
    (OPEN, [answer(True)], WIDE, "agrees"),
    (OPEN, [answer(False)], WIDE, "disagrees"),
])  # fmt: skip
def test_what_was_let_in_is_not_closed(
    statements: list[dict[str, Any]], answers: list[ProbeAnswer], reading: tuple[Any, Any], tested: str
) -> None:
    view = view_of(*statements, anonymous_test=Answer("known", answers))
    assert (words(view.fact("exposure.read")), view.fact("anonymous-test").value) == (reading, tested)
    assert view.fact("exposure.write").value == "closed", "of which nothing was tested"
    assert (view.fact("exposure.beyond-trusted").value is None) == (reading == LET_IN)


def test_a_test_of_before_says_nothing_of_rules_that_are_proposed() -> None:
    """But where the store let in what its rules deny, it may do so under others as well."""
    for before, reading in ((OPEN, CLOSED), (SHUT, LET_IN)):
        view = view_of(*before, anonymous_test=Answer("known", [answer(True)]))
        proposed = beside(view, with_policy(view.bucket, '{"Version": "2012-10-17", "Statement": []}', "policy.json"))
        assert words(proposed.fact("exposure.read")) == reading
