"""Where data sits: bytes by store and encryption at rest, and whether a lock keeps them."""

from __future__ import annotations

from collections.abc import Sequence
from io import BytesIO
from pathlib import Path

from rusty_lantern.core.assess import BucketView
from rusty_lantern.core.scales import show_bytes
from rusty_lantern.reports.figures.frame import DEEP, INK, MILD, SAND, bare, drawn, plain

KINDS = {
    "locked, encrypted": (DEEP, ""), "encrypted": (MILD, "//"), "locked, not encrypted": (SAND, ".."),
    "neither": ("#7a1f2b", "xx"), "cannot be told": ("#ffffff", "||"),
}  # fmt: skip


def protection_of(view: BucketView) -> str:
    """How what is in a bucket is kept, by its defaults."""
    at_rest, lock = view.fact("encryption.at-rest"), view.fact("lock.enabled")
    if not at_rest.settled or not lock.settled:
        return "cannot be told"
    locked, encrypted = lock.value == "on", at_rest.value not in (None, "none")
    if encrypted:
        return "locked, encrypted" if locked else "encrypted"
    return "locked, not encrypted" if locked else "neither"


def where_data_sits(views: Sequence[BucketView], survey: str, out: Path | BytesIO, size: str = "slide") -> None:
    """Draw bytes by store and tier, by how they are kept. Raises `BadInput`, `CannotWrite`."""
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
        kinds[protection_of(view)] += usage.bytes
    also = f"; {uncounted} buckets were not counted" if uncounted else ""
    words = f"survey {survey}: bytes of current objects, by the bucket's default encryption and lock{also}"
    with drawn("Where data sits, and how it is kept", words, out, size=size) as (figure, (axes,)):
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
        figure.subplots_adjust(left=0.16, top=0.85, bottom=0.14)
