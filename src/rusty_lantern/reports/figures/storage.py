"""Where data sits: bytes by store and encryption at rest, and whether a lock keeps them.

Locked are objects whose own version is: a default retention counts only for what is stored under it, and ends.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from io import BytesIO
from pathlib import Path

from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.value_types import show_bytes
from rusty_lantern.objects.retention_summary import ProtectedBytes
from rusty_lantern.reports.figures.canvas import DEEP, INK, MILD, SAND, bare, drawn, make_room_for_names, plain
from rusty_lantern.reports.results.of_survey import OfSurvey

KINDS = {
    "locked, encrypted": (DEEP, ""), "encrypted": (MILD, "//"), "locked, not encrypted": (SAND, ".."),
    "neither": ("#7a1f2b", "xx"), "unknown": ("#ffffff", "||"),
}  # fmt: skip


def protection_of(encrypted: bool | None, locked: bool | None) -> str:
    """The kind that objects belong to which are, or are not, encrypted and locked."""
    if encrypted is None or locked is None:
        return "unknown"
    if encrypted:
        return "locked, encrypted" if locked else "encrypted"
    return "locked, not encrypted" if locked else "neither"


def parts_of(view: BucketSubject, applied: Sequence[ProtectedBytes]) -> Iterator[tuple[str, int]]:
    """A bucket's bytes by kind: what was seen of its objects, else what its settings certainly make of them.

    Without a lock none is locked. With one, or with encryption, only the objects themselves show it.
    """
    usage = view.bucket.usage.value
    left = usage.bytes if usage else 0
    lock, at_rest = view.fact("lock.enabled"), view.fact("encryption.at-rest")
    unlocked = False if lock.value == "off" or lock.state == "unsupported" else None
    default = at_rest.value not in (None, "none") if at_rest.settled else None
    for part in applied:
        left -= part.bytes
        encrypted = default if part.encrypted is None else part.encrypted
        yield protection_of(encrypted, unlocked if part.locked is None else part.locked), part.bytes
    if left > 0:
        yield protection_of(default, unlocked), left


def where_data_sits(
    views: Sequence[BucketSubject],
    applied: Mapping[str, Sequence[ProtectedBytes]],
    about: OfSurvey,
    out: Path | BytesIO,
    size: str = "slide",
) -> None:
    """Draw bytes by store and tier, by how they are kept. `applied`: STORE/BUCKET → what its objects are under, of
    buckets whose objects were looked at. Raises `BadInput`, `CannotWrite`."""
    places: dict[str, dict[str, int]] = {}
    uncounted = 0
    for view in views:
        usage = view.bucket.usage.value
        if usage is None:
            uncounted += 1
            continue
        tier = view.fact("tier")
        name = f"{view.dossier.store}, {tier.value}" if tier.value else view.dossier.store
        kinds = places.setdefault(name, dict.fromkeys(KINDS, 0))
        for kind, size_ in parts_of(view, applied.get(view.title, ())):
            kinds[kind] += size_
    also = f"; {uncounted} buckets were not counted" if uncounted else ""
    words = f"survey {about.survey}: bytes of current objects, by encryption, and by the locks that they have"
    words += also + about.missing
    with drawn("Where data is stored, and how it is protected", words, out, size=size) as (figure, (axes,)):
        from matplotlib.patches import Patch

        names = sorted(places, key=lambda name: -sum(places[name].values()))
        most = max((sum(places[name].values()) for name in names), default=1) or 1
        for place, name in enumerate(names):
            left = 0
            for kind, number in places[name].items():
                colour, hatch = KINDS[kind]
                if number:
                    axes.barh(
                        place, number, left=left, color=colour, hatch=hatch, edgecolor=INK, linewidth=0.6, height=0.6
                    )
                left += number
            axes.text(left + most * 0.01, place, show_bytes(left), va="center", fontsize=11)
        axes.set_yticks(range(len(names)), [plain(name) for name in names])
        axes.set_ylim(len(names) - 0.4, -0.6)
        axes.set_xlim(0, most * 1.12)
        axes.xaxis.set_major_formatter(lambda value, _: show_bytes(int(value)))
        handles = [Patch(facecolor=c, hatch=h, edgecolor=INK, label=k) for k, (c, h) in KINDS.items()]
        figure.legend(handles=handles, loc="lower center", ncols=5, frameon=False, labelcolor=DEEP)
        axes.tick_params(axis="y", length=0)
        bare(axes, "top", "right", "left")
        figure.subplots_adjust(top=0.85, bottom=0.14)
        make_room_for_names(figure, axes)
