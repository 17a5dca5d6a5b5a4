"""What can go wrong between a question and its answer, mapped once, at the border."""

from __future__ import annotations

from rusty_lantern.core.answer import State
from rusty_lantern.core.errors import LanternError


class RequestFailed(Exception):
    """A question got no usable answer. `state` is what its fact becomes, `note` says why in words."""

    def __init__(self, state: State, note: str, answer: str = "") -> None:
        super().__init__(note)
        self.state: State = state
        self.note = note
        self.answer = answer or note


class NoCredential(LanternError):
    """The credential that the estate file names cannot be found or used."""


class NoLongerAccepted(LanternError):
    """A credential that the store accepted before is refused now, and there is no other; `--resume` can go on."""

    exit_code = 3
