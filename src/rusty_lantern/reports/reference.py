"""Writes the reference from the code, so that it cannot lie: `python -m rusty_lantern.reports.reference docs`."""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import Any

import msgspec

from rusty_lantern.core.access.keys import KEYS
from rusty_lantern.core.access.verbs import ACTIONS, VERBS
from rusty_lantern.core.dossier import Dossier
from rusty_lantern.core.register import REGISTER
from rusty_lantern.core.scales import DURATION, SIZE
from rusty_lantern.reports import (
    access_results,
    baseline_schema,
    baseline_view,
    changes_view,
    dossier_view,
    exposure_results,
    holder_results,
    object_results,
    remedy_view,
    report_results,
    results,
    survey_results,
)
from rusty_lantern.stores.s3.reached import Reached

SCHEMAS: dict[str, type[Any]] = {
    "dossier": Dossier,
    "reach": Reached,
    "survey": survey_results.SurveyResult,
    "buckets": results.BucketsResult,
    "show": results.ShowResult,
    "audit": results.AuditResult,
    "exposure": exposure_results.ExposureResult,
    "why": access_results.DecisionResult,
    "access": access_results.AccessResult,
    "history": survey_results.HistoryResult,
    "objects": object_results.ObjectsResult,
    "retention": object_results.RetentionResult,
    "try": access_results.TryResult,
    "credentials": holder_results.CredentialsResult,
    "encryption": holder_results.EncryptionResult,
    "links": holder_results.LinksResult,
    "mirrors": holder_results.MirrorsResult,
    "dossier-check": dossier_view.CheckResult,
    "baseline-check": baseline_view.BaselineCheck,
    "baseline-show": baseline_view.EffectiveSheet,
    "baseline-test": baseline_view.ExamplesResult,
    "changes": changes_view.ChangesResult,
    "changes-declared": changes_view.DeclaredResult,
    "remedy": remedy_view.RemedyResult,
    "report": report_results.ReportResult,
    "try-folder": access_results.TriesResult,
}

FACTS_HEAD = """\
# Facts

What a baseline can require, made from the register in the code (`core/register.py`). Do not edit by hand.

A fact is *known* (with a value), *absent* (asked, and nothing is configured), *unsupported* (the store does not
offer it), *denied*, *hidden* (asked, and the store leaves it out of its answers to this credential), *failed*, or
*stated* by the store's owner in the estate file. Only a known, absent or stated fact can hold or drift; the others
make a requirement `unknown`. Of a set of verbs, what is certain drifts already, whatever else is not known.

| fact | scale | unit | meaning |
|---|---|---|---|
"""

ACCESS_HEAD = """\
# Verbs and condition keys

Made from the tables in the code (`core/access/verbs.py`, `core/access/keys.py`). Do not edit by hand.

## Verbs

| verb | protocol actions |
|---|---|
"""

KEYS_HEAD = """
## Condition keys

*Theirs*: an outsider sends whatever they like, so the key fences nothing. A key that is not theirs can make an
exposure `narrow`. A key that is not in this table is not understood, and makes `unknown` what it could change.

| key | kind | theirs | why |
|---|---|---|---|
"""


def facts_page() -> str:
    """The page of facts."""
    rows = [f"| `{d.name}` | {d.scale.name} | {d.unit} | {d.meaning} |" for d in REGISTER.values()]
    units = "\n".join(f"- {scale.name}: {', '.join(unit for unit, _ in scale.units)}" for scale in (DURATION, SIZE))
    return FACTS_HEAD + "\n".join(rows) + "\n\nUnits:\n" + units + "\n"


def access_page() -> str:
    """The page of verbs and condition keys."""
    verbs = [f"| `{v}` | {', '.join(a.name for a in ACTIONS.values() if a.verb == v)} |" for v in VERBS]
    keys = [
        f"| `{row.name}{'…' if row.name.endswith('/') else ''}` | {row.kind}{', several' if row.many else ''} "
        f"| {'yes' if row.theirs else 'no'} | {row.reason} |"
        for row in KEYS.values()
    ]
    return ACCESS_HEAD + "\n".join(verbs) + "\n" + KEYS_HEAD + "\n".join(keys) + "\n"


def pages() -> dict[str, str]:
    """Every generated page: path below the documentation folder → content."""
    made = {"facts.md": facts_page(), "access-tables.md": access_page()}
    for name, kind in SCHEMAS.items():
        schema = {"$schema": "https://json-schema.org/draft/2020-12/schema", **msgspec.json.schema(kind)}
        made[f"schemas/{name}.json"] = json.dumps(schema, indent=2, sort_keys=True) + "\n"
    made["schemas/baseline.json"] = json.dumps(baseline_schema.schema(), indent=2, sort_keys=True) + "\n"
    return made


def main() -> None:
    """Write the pages into the folder named on the command line."""
    folder = Path(sys.argv[1])
    for path, content in pages().items():
        (folder / path).parent.mkdir(parents=True, exist_ok=True)
        (folder / path).write_text(content, encoding="utf-8")


if __name__ == "__main__":
    main()
