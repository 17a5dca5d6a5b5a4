"""Identities of a store that does not list them."""

from __future__ import annotations

from typing import Any, Literal

from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.identity import Identity


def any_of(kind: Literal["role", "user"], lost: Answer[Any]) -> Identity:
    """The identity that represents all of a kind that could not be listed: nobody knows what it may."""
    return Identity(
        name=f"any {kind}", kind=kind, state=lost, created=lost, mfa=Answer("unsupported"), groups=Answer("absent"),
        password=Answer("absent") if kind == "role" else lost, policies=lost, boundary=lost, tags=lost,
        assumable_by=lost if kind == "role" else Answer("unsupported"),
    )  # fmt: skip
