"""What was asked, what came back, and therefore what is known: the states of an answer.

Every setting that a reader looks at becomes an `Answer`. Only `known` and `absent` say something about the
subject; the others say why nothing can be said, and a judgement made from them is `unknown`, never `held`.
"""

from collections.abc import Callable
from datetime import datetime
from typing import Any, Generic, Literal, TypeVar

import msgspec

from rusty_lantern.core.value_types import Value

State = Literal["known", "absent", "unsupported", "denied", "hidden", "failed", "stated"]
"""
`known`: asked, and this is the value · `absent`: asked, and nothing is configured · `unsupported`: the store
does not offer it · `denied`: this credential may not ask · `hidden`: asked, and the store leaves this out of its
answers to lesser callers, so that nothing shown does not mean nothing there · `failed`: no usable answer · `stated`:
could not be read; the store's owner says so in writing.
"""

T = TypeVar("T")
U = TypeVar("U")


class Evidence(msgspec.Struct, frozen=True, omit_defaults=True, gc=False):
    """The question asked, the answer's status, and when."""

    question: str = ""
    answer: str = ""
    at: datetime | None = None


NO_EVIDENCE = Evidence()


class Answer(msgspec.Struct, Generic[T], frozen=True, omit_defaults=True, gc=False):
    """One setting of one subject: its state, its value if there is one, a note on why, and the evidence."""

    state: State = "known"
    value: T | None = None
    note: str = ""
    evidence: Evidence = NO_EVIDENCE

    @property
    def settled(self) -> bool:
        """Whether the answer says something about the subject (known, absent or stated)."""
        return self.state in ("known", "absent", "stated")

    @property
    def unread(self) -> bool:
        """Whether there may be something that was not seen. What a store does not offer is not there."""
        return self.state in ("denied", "hidden", "failed")

    @property
    def reason(self) -> str:
        """Why nothing can be said, in words; empty when something can."""
        word = UNSETTLED.get(self.state, "")
        if self.state == "failed" and self.note:
            return self.note
        return f"{word}: {self.note}" if word and self.note else word

    def map(self, change: Callable[[T], U]) -> "Answer[U]":
        """The same answer with its value, if there is one, put through `change`."""
        value = None if self.value is None else change(self.value)
        return Answer(self.state, value, self.note, self.evidence)

    def default(self, value: T) -> "Answer[T]":
        """The same answer, where `absent` means `value`."""
        if self.state != "absent":
            return self
        return Answer("known", value, self.note, self.evidence)


Fact = Answer[Value]
"""One named setting of one subject: state, value on the fact's scale, note, evidence."""


class Partly(Answer[T], frozen=True, omit_defaults=True, gc=False):
    """An unsettled answer of which a part is certain: words that surely belong to a set, or the least of a count; or
    of which only a few values are possible.

    What such a part breaks already is drift, whatever else there may be. What holds for each of a few values holds.
    """

    certain: T | None = None
    among: tuple[T, ...] = ()
    """The only values that are possible; empty: any is."""


UNSETTLED: dict[State, str] = {
    "unsupported": "not offered by this store",
    "denied": "denied to this credential",
    "hidden": "not shown to this credential",
    "failed": "no usable answer",
}


SECRET_SEEN = "it holds what looks like a secret, which was left out"  # noqa: S105  (a sentence about one)
NOT_IN_DOSSIER = "not in the dossier"


def unread(note: str = NOT_IN_DOSSIER) -> Answer[T]:
    """The answer to a question that was never put."""
    return Answer("failed", None, note)


def fact_of(answer: Answer[Any]) -> Fact:
    """An answer whose value is on a scale, as a fact."""
    return answer if type(answer) is Answer else Answer(answer.state, answer.value, answer.note, answer.evidence)


def switch_fact(answer: Answer[Any], on: Callable[[Any], bool] = bool) -> Fact:
    """An answer as a switch: `on` where its value says so, `off` where nothing is configured."""
    if answer.state == "absent":
        return Answer("known", "off", answer.note, answer.evidence)
    value = answer.value
    return Answer(answer.state, None if value is None else "on" if on(value) else "off", answer.note, answer.evidence)


def absent_fact(answer: Answer[Any]) -> Fact:
    """That this part of an answer is not configured."""
    return Answer("absent", None, answer.note, answer.evidence)


def since(answer: Answer[datetime], moment: datetime) -> Fact:
    """How many seconds before `moment` something was; never less than none."""
    return answer.map(lambda then: max(0, int((moment - then).total_seconds())))


def lost(answer: Answer[Any]) -> Fact:
    """The same state without a value: why something that follows from an answer is unknown."""
    return Answer(answer.state, None, answer.note, answer.evidence)
