"""Rights of stores without policies: both deciders agree, whatever rights, conditions, doors and guards there are."""

from __future__ import annotations

from datetime import UTC, datetime
from itertools import product

from hypothesis import given
from hypothesis import strategies as st

from rusty_lantern.core.access.evaluator.evaluate import decide
from rusty_lantern.core.access.evaluator.request import ANONYMOUS, Caller, Request
from rusty_lantern.core.access.policy.actions import ACTIONS, VERBS
from rusty_lantern.core.access.policy.condition_keys import always_carried
from rusty_lantern.core.access.policy.principals import read_principal
from rusty_lantern.core.access.rules.bucket_rules import EvaluationContext, Rules
from rusty_lantern.core.access.rules.guards import Guard
from rusty_lantern.core.access.solver.audience_view import BUDGET
from rusty_lantern.core.access.solver.exposure import exposures
from rusty_lantern.core.access.solver.principal_reach import reach_of
from rusty_lantern.core.access.solver.sets import Budget
from rusty_lantern.core.model.acl import Right

MOMENT = datetime(2026, 11, 2, tzinfo=UTC)
AROUND = EvaluationContext(MOMENT, "400100200300")
STRANGER = Caller("909090909090", "arn:aws:iam::909090909090:user/x")
KEYS = ("a", "pub/x")
RIGHTS = st.lists(
    st.builds(
        Right,
        st.sampled_from(["anyone", "any-account"]) | st.just("named"),
        st.lists(st.sampled_from([*VERBS, "create", "update"]), min_size=1, max_size=3, unique=True),
        st.sampled_from(["", "", "pub/"]),
        st.just("ivy"),
        st.sampled_from(["", "public access level: blob"]),
        st.sampled_from(["", "", "request.time < timestamp('2027-01-01T00:00:00Z')"]),
        st.sampled_from(["", "blob", "web"]),
    ).map(lambda right: right if right.to == "named" else _unnamed(right)),
    max_size=4,
)
GUARDS = st.sampled_from([Guard(False), Guard(True, source="a guard"), Guard(False, sure=False, source="unread")])


def _unnamed(right: Right) -> Right:
    import msgspec

    return msgspec.structs.replace(right, identity="")


def answers(rules: Rules, caller: Caller, verb: str) -> set[bool | None]:
    """What the plain decider says of every request of a verb."""
    found: set[bool | None] = set()
    for action, key in product((a for a in ACTIONS.values() if a.verb == verb and a.method), KEYS):
        context = always_carried(anonymous=caller.anonymous) | {"aws:sourceip": ("203.0.113.9",)}
        request = Request(action.name, "" if action.target == "bucket" else key, caller, context)
        found.add(decide(rules, request, public="no").allowed)
    return found


def expected(found: set[bool | None]) -> str:
    """The verdict that these answers come to."""
    return "open" if True in found else "unknown" if None in found else "closed"


@given(RIGHTS, GUARDS)
def test_verdicts_of_audiences_are_what_the_plain_decider_answers(rights: list[Right], guard: Guard) -> None:
    rules = Rules("b", rights=tuple(rights), ignore_acls=guard)
    verdicts = exposures(rules, AROUND)
    for verb in VERBS:
        assert verdicts["anyone", verb].level == expected(answers(rules, ANONYMOUS, verb)), (verb, rights, guard)
        assert verdicts["any-account", verb].level == expected(answers(rules, STRANGER, verb)), (verb, rights, guard)


@given(RIGHTS, GUARDS)
def test_what_a_named_one_reaches_is_what_the_plain_decider_answers(rights: list[Right], guard: Guard) -> None:
    rules = Rules("b", rights=tuple(rights), ignore_acls=guard)
    reached = reach_of(read_principal("ivy"), rules, AROUND, Budget(BUDGET))
    ivy = Caller("", "", canonical="ivy")
    for verb in VERBS:
        assert reached[verb].level == expected(answers(rules, ivy, verb)), (verb, rights, guard)


@given(RIGHTS)
def test_a_condition_never_settles_and_a_guard_keeps_back_all_but_the_static_site(rights: list[Right]) -> None:
    shut = exposures(Rules("b", rights=tuple(rights), ignore_acls=Guard(True, source="a guard")), AROUND)
    by_site = {verb for right in rights for verb in VERBS if right.door == "web" and right.gives(verb)}
    assert {verb for verb in VERBS if shut["anyone", verb].level != "closed"} <= by_site
