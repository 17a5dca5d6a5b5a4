"""Sets of texts, exactly: their unions, intersections and complements, as automata.

A set is a complete deterministic automaton over all Unicode characters. A state lists the few characters that
matter to it (`edges`); every other character takes its `rest` transition. So the alphabet is never enumerated,
and the complement is the same automaton with accepting and refusing states swapped. Union, intersection and
difference walk two automata in step (the product construction); a pair is explored only while it can still
make a difference. `matching` builds them from patterns.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterable
from functools import lru_cache

from rusty_lantern.core.access.solver.sets import Budget, OverBudget

MAX_STATES = 6_000
"""No single automaton grows beyond this; a real policy needs a few dozen states."""

READABLE = "abcdefghijklmnopqrstuvwxyz0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZ-_./ "


class TextSet:
    """A set of texts. State 0 is the start."""

    __slots__ = ("_sinks", "accept", "edges", "rest")

    def __init__(self, edges: list[dict[str, int]], rest: list[int], accept: list[bool]) -> None:
        self.edges = edges
        self.rest = rest
        self.accept = accept
        self._sinks = [not e and rest[i] == i for i, e in enumerate(edges)]

    def holds(self, text: str) -> bool:
        """Whether `text` is a member."""
        state = 0
        for char in text:
            if self._sinks[state]:
                break
            state = self.edges[state].get(char, self.rest[state])
        return self.accept[state]

    @property
    def empty(self) -> bool:
        """Whether there is no member: every state listed can be reached, so none may accept."""
        return not any(self.accept)

    @property
    def everything(self) -> bool:
        """Whether every text is a member."""
        return all(self.accept)

    def meet(self, other: TextSet, work: Budget) -> TextSet:
        """Members of both."""
        if self.everything or other is self:
            return other
        if other is SOME_TEXT and not self.accept[0]:
            return self
        if self is SOME_TEXT and not other.accept[0]:
            return other
        return self if other.everything else _product(self, other, _both, work)

    def join(self, other: TextSet, work: Budget) -> TextSet:
        """Members of either."""
        if self.empty or other is self:
            return other
        return self if other.empty else _product(self, other, _either, work)

    def minus(self, other: TextSet, work: Budget) -> TextSet:
        """Members of this one and not of `other`."""
        if other.empty:
            return self
        return complement(other) if self.everything else _product(self, other, _only_first, work)

    def apart(self, other: TextSet) -> bool:
        """Never plain without walking both."""
        return False

    def after(self, prefix: str) -> TextSet:
        """The texts that, put behind `prefix`, are members."""
        return self.behind(self.state_after(prefix))

    def behind(self, state: int) -> TextSet:
        """The texts that lead on from a state to a member."""
        return _reachable_from(self, state)

    def state_after(self, text: str) -> int:
        """The state in which `text` leaves the automaton."""
        state = 0
        for char in text:
            state = self.step(state, char)
        return state

    def stays(self, state: int) -> bool:
        """Whether nothing leads out of a state."""
        return self._sinks[state]

    def step(self, state: int, char: str) -> int:
        """The state that a character leads to."""
        return self.edges[state].get(char, self.rest[state])

    def pick(self) -> str | None:
        """A shortest member, made of readable characters where possible; None if there is none."""
        queue: deque[tuple[int, str]] = deque([(0, "")])
        seen = {0}
        while queue:
            state, text = queue.popleft()
            if self.accept[state]:
                return text
            for char, target in self._steps(state):
                if target not in seen:
                    seen.add(target)
                    queue.append((target, text + char))
        return None

    def _steps(self, state: int) -> Iterable[tuple[str, int]]:
        edges = self.edges[state]
        spare = next((c for c in READABLE if c not in edges), None) or next(
            chr(code) for code in range(0xA1, 0x10FFFF) if chr(code) not in edges
        )
        steps = [*edges.items(), (spare, self.rest[state])]
        return sorted(steps, key=lambda step: (not step[0].isprintable(), step[0]))

    def __repr__(self) -> str:
        return f"<TextSet {len(self.edges)} states, e.g. {self.pick()!r}>"


def _both(a: bool, b: bool) -> bool:
    return a and b


def _either(a: bool, b: bool) -> bool:
    return a or b


def _only_first(a: bool, b: bool) -> bool:
    return a and not b


Keep = Callable[[bool, bool], bool]


def _product(a: TextSet, b: TextSet, keep: Keep, work: Budget) -> TextSet:
    """The product, once for each pair of automata: groups of actions and audiences ask for the same ones."""
    known = work.memo.get((id(a), id(b), keep))
    if known is None:
        known = work.memo[id(a), id(b), keep] = (_walk(a, b, keep, work), a, b)
    made: TextSet = known[0]
    return made


def _walk(a: TextSet, b: TextSet, keep: Keep, work: Budget) -> TextSet:
    """Walk both automata in step; a pair of sinks, or one that decides alone, becomes a single sink."""
    index: dict[tuple[int, int], int] = {}
    pairs: list[tuple[int, int]] = []
    by_left = [_decided(keep(one, True), keep(one, False)) if a._sinks[n] else None for n, one in enumerate(a.accept)]
    by_right = [_decided(keep(True, one), keep(False, one)) if b._sinks[n] else None for n, one in enumerate(b.accept)]

    def number(left: int, right: int) -> int:
        pair = by_left[left] or by_right[right] or (left, right)
        known = index.get(pair)
        if known is None:
            known = index[pair] = len(pairs)
            pairs.append(pair)
            if known >= MAX_STATES:
                raise OverBudget
        return known

    edges: list[dict[str, int]] = []
    rest: list[int] = []
    accept: list[bool] = []
    number(0, 0)
    for here, (left, right) in enumerate(pairs):  # the list grows while it is walked
        if left < 0:
            edges.append({})
            rest.append(here)
            accept.append(bool(right))
            continue
        left_edges, right_edges = a.edges[left], b.edges[right]
        left_rest, right_rest = a.rest[left], b.rest[right]
        default = number(left_rest, right_rest)
        out: dict[str, int] = {}
        work.spend(2 + len(left_edges) + len(right_edges))
        for char in {**left_edges, **right_edges}:
            target = number(left_edges.get(char, left_rest), right_edges.get(char, right_rest))
            if target != default:
                out[char] = target
        edges.append(out)
        rest.append(default)
        accept.append(keep(a.accept[left], b.accept[right]))
    return TextSet(edges, rest, accept)


def _decided(one: bool, other: bool) -> tuple[int, int] | None:
    """The pair that represents a sink of both, where one side's sink decides alone."""
    return (-1, int(one)) if one == other else None


def _reachable_from(texts: TextSet, start: int) -> TextSet:
    order = [start]
    index = {start: 0}
    edges: list[dict[str, int]] = []
    rest: list[int] = []
    for state in order:
        for target in (*texts.edges[state].values(), texts.rest[state]):
            if target not in index:
                index[target] = len(order)
                order.append(target)
        edges.append({char: index[target] for char, target in texts.edges[state].items()})
        rest.append(index[texts.rest[state]])
    return TextSet(edges, rest, [texts.accept[state] for state in order])


def complement(texts: TextSet) -> TextSet:
    """Every text that is not a member."""
    return TextSet(texts.edges, texts.rest, [not accepting for accepting in texts.accept])


ALL_TEXTS = TextSet([{}], [0], [True])
NO_TEXTS = TextSet([{}], [0], [False])
SOME_TEXT = TextSet([{}, {}], [1, 1], [False, True])
"""Every text but the empty one."""


@lru_cache(maxsize=4096)
def literals(values: frozenset[str]) -> TextSet:
    """Exactly these texts."""
    dead = 1
    edges: list[dict[str, int]] = [{}, {}]
    accept = [False, False]
    for value in sorted(values):
        state = 0
        for char in value:
            if char not in edges[state]:
                edges[state][char] = len(edges)
                edges.append({})
                accept.append(False)
            state = edges[state][char]
        accept[state] = True
    if not any(edges) and not accept[0]:
        return NO_TEXTS
    if len(edges) > 50 * MAX_STATES:
        raise OverBudget
    return TextSet(edges, [dead] * len(edges), accept)


def just(value: str) -> TextSet:
    """Exactly one text."""
    return literals(frozenset({value}))
