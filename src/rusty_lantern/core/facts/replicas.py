"""The result of comparing a mirrored bucket with its copy, and its facts."""

from __future__ import annotations

from typing import Literal, get_args

import msgspec

from rusty_lantern.core.answer import Answer, Fact
from rusty_lantern.core.config.estate import Mirror
from rusty_lantern.core.facts.registry import fact
from rusty_lantern.core.value_types import TEXT, Levels

Content = Literal[
    "missing", "objects-missing", "objects-outdated", "behind", "more", "within-lag", "same-counts", "same"
]  # fmt: skip
CONTENT = Levels(get_args(Content), ordered=True)


class Difference(msgspec.Struct, frozen=True):
    """A fact that is not the same on both sides, in words."""

    fact: str
    here: str
    there: str


class Compared(msgspec.Struct, frozen=True):
    """One mirrored bucket: what differs, what could not be compared, and the state of its content."""

    mirror: Mirror
    bucket: str
    content: Content | None
    words: str
    behind: int = 0
    """For how many seconds the newest object that is missing has been waiting."""
    differences: tuple[Difference, ...] = ()
    unknown: tuple[tuple[str, str], ...] = ()
    """What could not be compared, and why."""


@fact(
    "mirror.content",
    CONTENT,
    "the content of a copy against the original",
    of="mirror",
    advice=(
        ("missing", "make the bucket at the copy's store, with the original's settings, and copy"),
        ("objects-missing", "copy the missing objects ({note}), then find out why they never went"),
        ("objects-outdated", "copy these objects again ({note}), then find out why they never went"),
        ("behind", "find out why copying has stopped: {note}"),
        ("more", "delete at the copy what was deleted at the original, or let deletions travel"),
    ),
)
def mirror_content(compared: Compared, _: str) -> Fact:
    """Within the allowed lag a copy is catching up."""
    if compared.content is None:
        return Answer("failed", None, compared.unknown[-1][1])
    return Answer("known", compared.content, compared.words)


@fact(
    "mirror.settings",
    TEXT,
    "the facts that are not the same in a copy, joined by commas; absent: none",
    of="mirror",
    advice="give the copy the original's settings ({note}): a store copies objects, rarely settings",
)
def mirror_settings(compared: Compared, _: str) -> Fact:
    """Settings, lock and tags."""
    if compared.differences:
        words = "; ".join(f"{d.fact}: {d.there} for {d.here}" for d in compared.differences)
        return Answer("known", ", ".join(d.fact for d in compared.differences), words)
    if compared.unknown:
        return Answer("failed", None, f"{compared.unknown[0][0]}: {compared.unknown[0][1]}")
    return Answer("absent")
