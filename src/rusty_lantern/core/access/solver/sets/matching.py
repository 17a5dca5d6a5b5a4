"""From patterns to automata: the texts that match at least one of some globs.

Plain patterns, a text or its beginning, are laid letter by letter; others by the subset construction over positions in
the patterns. Small automata are remembered.
"""

from __future__ import annotations

from collections.abc import Iterable

from rusty_lantern.core.access.solver.sets import Budget, OverBudget
from rusty_lantern.core.access.solver.sets.automata import ALL_TEXTS, MAX_STATES, NO_TEXTS, TextSet
from rusty_lantern.core.access.solver.sets.patterns import RUN, Gap, Pattern, Token, glob, plain


def matching(patterns: tuple[Pattern, ...], work: Budget) -> TextSet:
    """The texts that match at least one of the patterns. Raises `OverBudget`.

    Small automata are remembered: many policies have the same patterns. What making one cost is spent each time, so
    that no verdict hangs on what was decided before.
    """
    known = _KNOWN.get(patterns)
    if known is None:
        before = work.left
        made = _trie(patterns, work) if all(map(_is_plain, patterns)) else _subsets(patterns, work)
        known = made, before - work.left
        if len(made.edges) <= SMALL and len(_KNOWN) < MOST_KNOWN:
            _KNOWN[patterns] = known
    else:
        work.spend(known[1])
    return known[0]


_KNOWN: dict[tuple[Pattern, ...], tuple[TextSet, int]] = {}
SMALL, MOST_KNOWN = 100, 2_000
"""States of an automaton that is remembered, and how many are: some tens of megabytes at the very most."""


def _subsets(patterns: tuple[Pattern, ...], work: Budget) -> TextSet:
    """The subset construction over positions in the patterns."""
    index: dict[frozenset[tuple[int, int]], int] = {}
    states: list[frozenset[tuple[int, int]]] = []

    def number(positions: Iterable[tuple[int, int]]) -> int:
        closed = _close(patterns, positions)
        if any(at == len(patterns[p]) - 1 and patterns[p][at] == RUN for p, at in closed):
            closed = frozenset({(-1, 0)})  # a run of anything at the end: everything from here on matches
        if closed not in index:
            index[closed] = len(states)
            states.append(closed)
            if len(states) > MAX_STATES:
                raise OverBudget
        return index[closed]

    edges: list[dict[str, int]] = []
    rest: list[int] = []
    accept: list[bool] = []
    number((p, 0) for p in range(len(patterns)))
    for here, state in enumerate(states):
        if (-1, 0) in state:
            edges.append({})
            rest.append(here)
            accept.append(True)
            continue
        work.spend(1 + len(state))
        moves = [(p, at, patterns[p][at]) for p, at in state if at < len(patterns[p])]
        default = number(_step(moves, None))
        out: dict[str, int] = {}
        for char in sorted(_characters(moves)):
            work.spend(1 + len(moves))
            target = number(_step(moves, char))
            if target != default:
                out[char] = target
        edges.append(out)
        rest.append(default)
        accept.append(any(at == len(patterns[p]) for p, at in state))
    return TextSet(edges, rest, accept)


def _is_plain(pattern: Pattern) -> bool:
    """Whether a pattern is a text, or a text and then anything."""
    last = len(pattern) - 1
    return all(
        len(token) == 1 if isinstance(token, frozenset) else (at == last and token == RUN)
        for at, token in enumerate(pattern)
    )


def _trie(patterns: tuple[Pattern, ...], work: Budget) -> TextSet:
    """The same for plain patterns, letter by letter."""
    edges: list[dict[str, int]] = [{}, {}]
    rest, accept = [1, 1], [False, False]
    work.spend(sum(map(len, patterns)))
    for pattern in sorted(patterns, key=lambda p: (not (p and isinstance(p[-1], Gap)), len(p))):  # beginnings first
        state = 0
        for token in pattern:
            if rest[state] == state and accept[state]:
                break  # a shorter beginning takes it in
            if isinstance(token, Gap):
                edges[state], rest[state], accept[state] = {}, state, True
                break
            (char,) = token
            if char not in edges[state]:
                edges[state][char] = len(edges)
                edges.append({})
                rest.append(1)
                accept.append(False)
            state = edges[state][char]
        accept[state] = True
    if len(edges) > 50 * MAX_STATES:
        raise OverBudget
    if rest[0] == 0:
        return ALL_TEXTS
    return TextSet(edges, rest, accept) if any(accept) else NO_TEXTS


def _close(patterns: tuple[Pattern, ...], positions: Iterable[tuple[int, int]]) -> frozenset[tuple[int, int]]:
    """Positions reachable without reading a character: a run may be empty."""
    closed: set[tuple[int, int]] = set()
    for pattern, start in positions:
        at = start
        closed.add((pattern, at))
        while at < len(patterns[pattern]) and _may_be_empty(patterns[pattern][at]):
            at += 1
            closed.add((pattern, at))
    return frozenset(closed)


def _may_be_empty(token: Token) -> bool:
    return isinstance(token, Gap) and token.run


def _characters(moves: list[tuple[int, int, Token]]) -> set[str]:
    characters: set[str] = set()
    for _, _, token in moves:
        characters |= set(token.stops) if isinstance(token, Gap) else token
    return characters


def _step(moves: list[tuple[int, int, Token]], char: str | None) -> Iterable[tuple[int, int]]:
    """Positions after one character; None is any character that no token names."""
    for pattern, at, token in moves:
        if not isinstance(token, Gap):
            if char in token:
                yield pattern, at + 1
        elif char is None or char not in token.stops:
            yield pattern, at if token.run else at + 1


def starting_with(prefix: str, work: Budget) -> TextSet:
    """The texts that begin with `prefix`."""
    return matching(((*plain(prefix), RUN),), work)


def globs(patterns: Iterable[str], work: Budget) -> TextSet:
    """The texts that match at least one of the globs."""
    return matching(tuple(glob(pattern) for pattern in sorted(set(patterns))), work)
