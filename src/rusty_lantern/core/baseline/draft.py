"""A first baseline, written from a survey.

The value that most subjects of a kind share becomes the requirement. A subject with another value, or with an unknown
one, becomes a question in a comment and is left out until somebody answers it. So the estate passes its own draft, and
whatever an audit finds later is new. What is safe, and most do without, is named in a comment: nobody is to take a
draft for a baseline that asks for it.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence
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
    """What most subjects of a kind have in common, and those that have not: with what they have, or why unknown."""

    fact: str
    required: str
    fits: int
    """How many have it."""
    known: int
    """Of how many it is known whether they have it."""
    unknown: int
    """Of how many it is not."""
    others: tuple[tuple[Subject, str], ...]


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
        facts = _facts(kind, mine)
        habits = [habit for fact in facts if (habit := _habit(fact, mine)) is not None]
        if habits:
            parts.append(f"  - sheet: {name}\n    require:\n" + "".join(_line(habit) for habit in habits))
        parts += _left_out(name, mine, [fact for fact in facts if fact not in {habit.fact for habit in habits}])
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
    names = [
        name
        for name, entry in REGISTER.items()
        if entry.subject == kind and isinstance(entry.scale, Levels) and entry.habit
    ]
    if kind == "bucket":
        tags = Counter(tag for subject in subjects for tag in subject.tags.value or ())
        names += [f"tags.{tag}" for tag, count in sorted(tags.items()) if count >= COMMON * len(subjects)]
    return [name for name in names if not name.endswith(".*")]


def _habit(fact: str, subjects: Sequence[Subject]) -> CommonValue | None:
    seen = [(subject, subject.fact(fact)) for subject in subjects]
    settled = [(subject, answer) for subject, answer in seen if answer.settled]
    if len(settled) < FEWEST:
        return None
    words = [_words(fact, answer) for _, answer in settled]
    required = lookup(fact).safe or Counter(words).most_common(1)[0][0]
    if required == "absent":
        return None
    fits = list(map(_accepting(fact, required), (answer for _, answer in settled)))
    if sum(fits) < COMMON * len(settled) or len(settled) < COMMON * len(seen):
        return None
    others = [(s, w) for (s, _), w, fit in zip(settled, words, fits, strict=True) if not fit]
    others += [(subject, f"unknown: {answer.reason}") for subject, answer in seen if not answer.settled]
    return CommonValue(fact, required, sum(fits), len(settled), len(seen) - len(settled), tuple(others))


def _left_out(every: str, subjects: Sequence[Subject], facts: Sequence[str]) -> list[str]:
    """What is safe and not required, as comments: what most do without, and what is unknown of too many. `every`: the
    kind in words."""
    if len(subjects) < FEWEST:
        return []
    without, unknown = [], []
    for fact in facts:
        required = lookup(fact).safe
        answers = [answer for answer in (subject.fact(fact) for subject in subjects) if answer.settled]
        if len(answers) < COMMON * len(subjects):
            unknown.append(fact)
        elif required:
            fits = sum(map(_accepting(fact, required), answers))
            without.append(CommonValue(fact, required, fits, len(answers), len(subjects) - len(answers), ()))
    comments = []
    if without:
        lines = "".join(f"  #   {_line(one).lstrip()}" for one in without)
        why = f"# Not required of {every}, since most do without. Put that right, then add it:"
        comments.append(f"  {why}\n{lines}")
    if unknown:
        names = "".join(f"  #   {line}\n" for line in wrap(", ".join(unknown), 110, break_on_hyphens=False))
        comments.append(f"  # Not required of {every}, since of too many it is unknown:\n{names}")
    return comments


def _accepting(fact: str, required: str) -> Callable[[Fact], bool]:
    holds = read_comparison(required, lookup(fact).scale).accepts
    return lambda answer: answer.value is not None and holds(answer.value)


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
