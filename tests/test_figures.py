"""What figures say of what was not read: nothing that is missing looks as if it were not there."""

from __future__ import annotations

import hashlib
import json
import shutil
from collections import Counter
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec
import pytest

from rusty_lantern.archive.surveys import save
from rusty_lantern.archive.workspace import make
from rusty_lantern.cli.app import main
from rusty_lantern.cli.figure import Name
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.reports.figures import canvas
from rusty_lantern.reports.figures.credentials import BARS
from rusty_lantern.simulator.demo import harbour as saltmarsh
from rusty_lantern.simulator.demo.workspace_files import workspace_files
from tests.conftest import Lived

if TYPE_CHECKING:
    from matplotlib.figure import Figure

WHOLE = saltmarsh.harbour().dossier
DENIED: Answer[Any] = Answer("denied", note="AccessDenied")
OTHER = msgspec.structs.replace(WHOLE, store="skerry", buckets=[], listing=DENIED)


Draw = Callable[..., "Figure"]


@pytest.fixture
def draw(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Draw:
    """Draws a figure of a survey that read these dossiers, or of a workspace that is there."""
    kept: list[Figure] = []
    monkeypatch.setattr(canvas, "_write", lambda figure, out, kind: kept.append(figure))

    def figure_of(name: str, *dossiers: Dossier, folder: Path | None = None) -> Figure:
        if folder is None:
            folder = tmp_path / str(len(kept))
            make(folder, workspace_files("http://127.0.0.1:9"))
            save(folder / "surveys", "bench", saltmarsh.MOMENT, list(dossiers))
        with pytest.raises(SystemExit) as ended:
            main(["figure", name, "--out", "x.svg", "--workspace", str(folder)])
        assert ended.value.code in (0, None)
        return kept[-1]

    return figure_of


def caption_of(figure: Figure) -> str:
    """The words beneath its title."""
    _, caption = figure.texts[:2]
    return " ".join(caption.get_text().split())


@pytest.mark.parametrize("name", [name for name in Name if name not in (Name.retention, Name.drift)])
def test_a_store_whose_buckets_were_not_listed_is_named(name: str, draw: Draw) -> None:
    assert "; not read: skerry" in caption_of(draw(name, WHOLE, OTHER))
    assert "not read" not in caption_of(draw(name, WHOLE))


def test_so_it_is_of_retention(lived: Lived, tmp_path: Path, draw: Draw) -> None:
    shutil.copytree(lived.folder, tmp_path / "ws")
    assert "not read" not in caption_of(draw("retention", folder=tmp_path / "ws"))
    latest = max((tmp_path / "ws" / "surveys").glob("2*"))
    store, manifest = latest / "stores" / "skerry.json", json.loads((latest / "survey.json").read_text())
    store.write_text(json.dumps(json.loads(store.read_text()) | {"listing": {"state": "denied", "note": "no"}}))
    manifest["files"]["stores/skerry.json"] = hashlib.sha256(store.read_bytes()).hexdigest()
    (latest / "survey.json").write_text(json.dumps(manifest))
    assert "; not read: skerry." in caption_of(draw("retention", folder=tmp_path / "ws"))


def test_a_survey_of_which_not_all_was_read_has_a_hollow_mark(draw: Draw) -> None:
    def marks(*dossiers: Dossier) -> list[int]:
        names = ("holdings", "drift")
        return [sum(line.get_marker() == "v" for line in draw(name, *dossiers).axes[0].lines) for name in names]

    counted = [one for one in WHOLE.buckets if one.usage.value is not None]
    whole = msgspec.structs.replace(WHOLE, buckets=counted, listing=Answer("known", len(counted)))
    uncounted = msgspec.structs.replace(
        whole, buckets=[msgspec.structs.replace(counted[0], usage=DENIED), *counted[1:]]
    )
    assert marks(whole) == [0, 0]
    assert marks(uncounted) == [1, 0]
    assert marks(whole, OTHER) == [1, 1]


def test_keys_that_were_not_listed_and_uses_that_were_not_told_are_no_keys_in_use(draw: Draw) -> None:
    def kinds(dossier: Dossier) -> Counter[str]:
        figure = draw("credentials", dossier)
        names = {hatch: kind for kind, (_, hatch) in BARS.items()}
        return Counter(names[bar.get_hatch() or ""] for bar in figure.axes[0].patches)

    keys = WHOLE.credentials.value or []
    known = kinds(WHOLE)
    assert known["in use"] > 5 and known["not used since"] > 2 and not known["last use unknown"]
    silent = [msgspec.structs.replace(key, last_used=DENIED) for key in keys]
    unknown = kinds(msgspec.structs.replace(WHOLE, credentials=Answer("known", silent)))
    aged = sum(key.created.value is not None and key.state.value != "disabled" for key in keys)
    assert unknown == {"last use unknown": aged}
    unlisted = msgspec.structs.replace(WHOLE, credentials=DENIED)
    assert "; credentials unknown: harbour" in caption_of(draw("credentials", unlisted))
    assert "unknown" not in caption_of(draw("credentials", WHOLE))
