"""From patterns to automata: the texts that match at least one of some globs.

Plain patterns, a text or its beginning, are laid letter by letter; others by the subset construction over positions in
the patterns. Small automata are remembered.
"""

from __future__ import annotations

from collections.abc import Iterable

from rusty_lantern.core.access.solver.sets import Budget, OverBudget
from rusty_lantern.core.access.solver.sets.automata import ALL_TEXTS, MAX_STATES, NO_TEXTS, TextSet
from rusty_lantern.core.access.solver.sets.patterns import RUN, Gap, Pattern, glob, plain


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


class _Places:
    """The places in some patterns, laid end to end: a set of places is a number, with a bit for each.

    Behind the last token of a pattern is one more place, which accepts. A step from all places of a set at once is a
    shift and a few masks, by what each place's token takes.
    """

    def __init__(self, patterns: tuple[Pattern, ...], work: Budget) -> None:
        """Raises `OverBudget` for patterns of so many tokens that no step is quick."""
        size = sum(map(len, patterns)) + len(patterns)
        self.cost = 1 + size // 16_384
        """Steps of the budget for a step from one set."""
        work.spend(size * self.cost)
        self.first = self.accepting = self.to_the_end = 0
        self._single = self._run = 0
        self._naming: dict[str, int] = {}
        self._stopped: dict[str, int] = {}
        bit = 1
        for pattern in patterns:
            self.first |= bit
            for at, token in enumerate(pattern):
                if isinstance(token, Gap):
                    self._run |= bit if token.run else 0
                    self._single |= 0 if token.run else bit
                    self.to_the_end |= bit if token == RUN and at == len(pattern) - 1 else 0
                    self._stopped |= {char: self._stopped.get(char, 0) | bit for char in token.stops}
                else:
                    self._naming |= {char: self._naming.get(char, 0) | bit for char in token}
                bit <<= 1
            self.accepting |= bit
            bit <<= 1
        self.first = self._with_empty_runs(self.first)
        self.characters = sorted({*self._naming, *self._stopped})
        """The characters that any token names; all others are alike."""
        work.spend(len(self.characters) * self.cost)
        self._told = {char: self._naming.get(char, 0) | self._stopped.get(char, 0) for char in self.characters}

    def told_apart(self, places: int) -> list[str]:
        """The characters that a token at one of these places names."""
        return [char for char, naming in self._told.items() if naming & places]

    def after(self, places: int, char: str) -> int:
        """The places after one more character; the empty text stands for any that no token names."""
        passing = ~self._stopped.get(char, 0)
        stepping = places & (self._naming.get(char, 0) | (self._single & passing))
        return self._with_empty_runs((stepping << 1) | (places & self._run & passing))

    def _with_empty_runs(self, places: int) -> int:
        """Also what is reached without a character: a run may be empty."""
        more = places
        while more := ((more & self._run) << 1) & ~places:
            places |= more
        return places


def _subsets(patterns: tuple[Pattern, ...], work: Budget) -> TextSet:
    """The subset construction: each state is the set of places at which one can be."""
    known = _Places(patterns, work)
    index: dict[int, int] = {}
    states: list[int] = []

    def number(places: int) -> int:
        if places & known.to_the_end:
            places = known.to_the_end  # a run of anything at the end: everything from here on matches
        if places not in index:
            index[places] = len(states)
            states.append(places)
            if len(states) > MAX_STATES:
                raise OverBudget
        return index[places]

    edges: list[dict[str, int]] = []
    rest: list[int] = []
    accept: list[bool] = []
    number(known.first)
    for here, places in enumerate(states):
        if places & known.to_the_end:
            edges.append({})
            rest.append(here)
            accept.append(True)
            continue
        characters = known.told_apart(places)
        work.spend((2 + len(characters) + len(known.characters) // 16) * known.cost)
        default = number(known.after(places, ""))
        targets = {char: number(known.after(places, char)) for char in characters}
        edges.append({char: target for char, target in targets.items() if target != default})
        rest.append(default)
        accept.append(bool(places & known.accepting))
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


def starting_with(prefix: str, work: Budget) -> TextSet:
    """The texts that begin with `prefix`."""
    return matching(((*plain(prefix), RUN),), work)


def globs(patterns: Iterable[str], work: Budget) -> TextSet:
    """The texts that match at least one of the globs."""
    return matching(tuple(glob(pattern) for pattern in sorted(set(patterns))), work)
