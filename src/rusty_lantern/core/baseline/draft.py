"""A first baseline, written from a survey.

The value that most subjects of a kind share becomes the requirement. A subject with another value, or with an unknown
one, becomes a question in a comment and is left out until somebody answers it. So the estate passes its own draft, and
whatever an audit finds later is new. What is safe, and most do without, is named in a comment: nobody is to take a
draft for a baseline that asks for it.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from textwrap import wrap

import msgspec

from rusty_lantern.core.answer import Fact
from rusty_lantern.core.baseline.builtin import OF_MIRRORS
from rusty_lantern.core.baseline.comparisons import read_comparison
from rusty_lantern.core.baseline.finding_words import show_fact
from rusty_lantern.core.baseline.selectors import Subject
from rusty_lantern.core.facts.catalogue import REGISTER
from rusty_lantern.core.facts.registry import lookup
from rusty_lantern.core.value_types import Levels
from rusty_lantern.core.yaml_source import escaped, quoted

COMMON = 0.6
"""The share of a kind from which on a value counts as what they have in common."""
FEWEST = 3
"""Of fewer than this nothing is common."""

_KINDS = {
    "bucket": "every bucket",
    "identity": "every identity",
    "credential": "every access key",
    "encryption-key": "every encryption key",
    "store": "every store",
}


class CommonValue(msgspec.Struct, frozen=True):
    """A value that subjects of a kind may have in common, and those that have not: with what they have, or why that is
    unknown."""

    fact: str
    required: str
    fits: int
    """How many have it."""
    known: int
    """Of how many it is known whether they have it."""
    unknown: int
    """Of how many it is not."""
    others: tuple[tuple[Subject, str], ...]

    @property
    def is_known(self) -> bool:
        """Whether it is known of enough of them to say what they have in common."""
        return self.known >= max(FEWEST, COMMON * (self.known + self.unknown))

    @property
    def is_common(self) -> bool:
        """Whether most have it."""
        return bool(self.required) and self.is_known and self.fits >= COMMON * self.known


def draft(subjects: Sequence[Subject], title: str, survey: str) -> str:
    """A baseline as YAML text, with questions as comments."""
    parts = [
        f"title: {_plain(title)}\nedition: {_plain(f'drafted from {survey}')}\n\n"
        "# What most have in common is required. Whatever deviates is a question below: answer it by writing what the\n"
        "# fact must be instead of `anything`, or by taking the names out.\n"
        "sheets:\n"
    ]
    questions = []
    for kind, name in _KINDS.items():
        mine = [subject for subject in subjects if subject.kind == kind and not subject.unseen]
        values = [_shared(fact, mine) for fact in _facts(kind, mine)] if len(mine) >= FEWEST else []
        habits = [value for value in values if value.is_common]
        if habits:
            parts.append(f"  - sheet: {name}\n    require:\n" + "".join(_line(habit) for habit in habits))
        parts += _left_out(name, [value for value in values if not value.is_common])
        if not habits:
            continue
        questions += [(habit, kind) for habit in habits if habit.others]
        unseen = sorted({subject.store for subject in subjects if subject.kind == kind and subject.unseen})
        if unseen:
            parts.append(_unread(kind, unseen, habits))
    questions += [(habit, "mirror") for habit in _mirrors(subjects)]
    parts += [_question(number, habit, kind) for number, (habit, kind) in enumerate(questions, 1)]
    return "\n".join(parts)


def _facts(kind: str, subjects: Sequence[Subject]) -> list[str]:
    mine = [(name, entry) for name, entry in REGISTER.items() if entry.subject == kind and entry.habit]
    names = [name for name, entry in mine if isinstance(entry.scale, Levels) or entry.safe]
    names += [name.removesuffix("*") + word for name, entry in mine for word in entry.drafted]
    if kind == "bucket":
        tags = Counter(tag for subject in subjects for tag in subject.tags.value or ())
        names += [f"tags.{tag}" for tag, count in sorted(tags.items()) if count >= COMMON * len(subjects)]
    return [name for name in names if not name.endswith(".*")]


def _shared(fact: str, subjects: Sequence[Subject]) -> CommonValue:
    """How many have the safe value of a fact, or, where none is safe, the one that most have."""
    seen = [(subject, subject.fact(fact)) for subject in subjects]
    settled = [(subject, _words(fact, answer), answer) for subject, answer in seen if answer.settled]
    words = Counter(words for _, words, _ in settled)
    required = lookup(fact).safe or next((word for word, _ in words.most_common(1) if word != "absent"), "")
    holds = read_comparison(required, lookup(fact).scale).holds if required else None
    others = [(subject, words) for subject, words, answer in settled if holds is None or not holds(answer)]
    fits = len(settled) - len(others)
    others += [(subject, f"unknown: {answer.reason}") for subject, answer in seen if not answer.settled]
    return CommonValue(fact, required, fits, len(settled), len(seen) - len(settled), tuple(others))


def _left_out(every: str, values: Sequence[CommonValue]) -> Iterator[str]:
    """What is not required, as comments: what is safe and most do without, and what is unknown of too many. `every`:
    the kind in words."""
    without = "".join(f"  #   {_line(one).lstrip()}" for one in values if one.is_known and lookup(one.fact).safe)
    if without:
        yield f"  # Not required of {every}, since most do without. Put that right, then add it:\n{without}"
    unknown = ", ".join(one.fact for one in values if not one.is_known)
    if unknown:
        names = "".join(f"  #   {line}\n" for line in wrap(unknown, 110, break_on_hyphens=False))
        yield f"  # Not required of {every}, since of too many it is unknown:\n{names}"


def _mirrors(subjects: Sequence[Subject]) -> list[CommonValue]:
    """What the estate file promises of copies, and does not hold."""
    mine = [subject for subject in subjects if subject.kind == "mirror"]
    habits = []
    for promised in OF_MIRRORS:
        seen = [(subject, subject.fact(promised.fact)) for subject in mine]
        assert promised.comparison is not None
        broken = tuple(
            (subject, show_fact(promised.fact, answer))
            for subject, answer in seen
            if not answer.settled or not promised.comparison.holds(answer)
        )
        known = sum(answer.settled for _, answer in seen)
        if broken:
            words = promised.comparison.words
            habits.append(CommonValue(promised.fact, words, len(seen) - len(broken), known, len(seen) - known, broken))
    return habits


def _plain(text: str) -> str:
    """A text as a baseline takes it: a `$` in it names no value."""
    return quoted(text.replace("$", "$$"))


def _words(fact: str, answer: Fact) -> str:
    """The value, or only whether there is one where any will do."""
    if answer.value is None:
        return "absent"
    return "present" if fact.startswith("tags.") else lookup(fact).scale.show(answer.value)


def _line(habit: CommonValue) -> str:
    severity = ", severity: high" if lookup(habit.fact).grave else ""
    required = habit.required.replace("$", "$$")
    written = f"{{is: {required}{severity}}}" if severity else required
    name = _plain(habit.fact) if habit.fact.startswith("tags.") else habit.fact
    rest = f", {habit.unknown} unknown" if habit.unknown else ""
    return f"      {name}: {written}  # {habit.fits} of {habit.known}{rest}\n"


def _unread(kind: str, stores: list[str], habits: list[CommonValue]) -> str:
    names = ", ".join(stores)
    lines = "".join(f"      {habit.fact}: anything\n" for habit in habits)
    return (
        f"  # {names}: no {kind.replace('-', ' ')} could be read there, so nothing is required of any.\n"
        f"  - sheet: {_plural(kind)} in {names}\n    of: {{store: [{names}]}}\n    require:\n{lines}"
    )


def _plural(kind: str) -> str:
    return {"identity": "identities"}.get(kind, f"{kind}s").replace("-", " ")


def _question(number: int, habit: CommonValue, kind: str) -> str:
    """The subjects that deviate, as comments, and a sheet that leaves them out for now."""
    exceptions = "".join(f"  #   {quoted(f'{s.store}/{s.label}')}: {quoted(words)}\n" for s, words in habit.others)
    stores: dict[str, list[str]] = {}
    for subject, _ in habit.others:
        names = stores.setdefault(subject.store, [])
        if escaped(subject.name) not in names:
            names.append(escaped(subject.name))
    choices = [f"{{store: {store}, name: [{', '.join(_plain(n) for n in names)}]}}" for store, names in stores.items()]
    of = choices[0] if len(choices) == 1 else "{any of: [" + ", ".join(choices) + "]}"
    name = _plain(habit.fact) if habit.fact.startswith("tags.") else habit.fact
    return (
        f"  # Question {number}: {quoted(habit.fact)[1:-1]} is {habit.required} for most {_plural(kind)}. "
        f"Is it meant to be different here?\n{exceptions}"
        f"  - sheet: {_plain(f'question {number}: {habit.fact}')}\n    of: {of}\n    require:\n      {name}: anything\n"
    )
