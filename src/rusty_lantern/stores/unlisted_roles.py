"""The roles of a store that does not list them."""

from __future__ import annotations

from typing import Any

from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.identity import Identity


def any_role(lost: Answer[Any]) -> Identity:
    """The identity that represents all roles where they could not be listed: nobody knows what it may."""
    return Identity(
        name="any role", kind="role", state=lost, created=lost, mfa=Answer("unsupported"),
        password=Answer("absent"), groups=Answer("absent"), policies=lost, boundary=lost, tags=lost,
        assumable_by=lost,
    )  # fmt: skip
