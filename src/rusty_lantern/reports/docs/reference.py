"""Writes the reference from the code, so that it cannot be wrong: `python -m rusty_lantern.reports.docs.reference
docs`."""

from __future__ import annotations

import json
import sys
from inspect import cleandoc
from pathlib import Path
from typing import Any

import msgspec

from rusty_lantern.core.access.dialects.readings import otherwise
from rusty_lantern.core.access.dialects.shipped import SHIPPED
from rusty_lantern.core.access.policy.actions import ACTIONS, VERBS
from rusty_lantern.core.access.policy.condition_keys import KEYS, SENT
from rusty_lantern.core.facts.catalogue import REGISTER
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.core.value_types import DURATION, SIZE
from rusty_lantern.reports.docs import baseline_schema
from rusty_lantern.reports.docs.glossary import glossary
from rusty_lantern.reports.results import (
    access,
    audit,
    baseline,
    buckets,
    changes,
    decisions,
    dossier,
    encryption,
    evidence,
    exposure,
    facts,
    identities,
    links,
    objects,
    proposal,
    remediation,
    replicas,
    report,
    surveys,
    usage,
)
from rusty_lantern.stores.reachability import StoreReached

SCHEMAS: dict[str, type[Any]] = {
    "dossier": Dossier,
    "reach": StoreReached,
    "survey": surveys.SurveyResult,
    "buckets": buckets.BucketsResult,
    "show": facts.ShowResult,
    "audit": audit.AuditResult,
    "exposure": exposure.ExposureResult,
    "why": decisions.DecisionResult,
    "access": access.AccessResult,
    "history": surveys.HistoryResult,
    "objects": objects.ObjectsResult,
    "retention": objects.RetentionResult,
    "try": proposal.TryResult,
    "credentials": identities.CredentialsResult,
    "encryption": encryption.EncryptionResult,
    "links": links.LinksResult,
    "mirrors": replicas.MirrorsResult,
    "dossier-check": dossier.CheckResult,
    "baseline-check": baseline.BaselineCheck,
    "baseline-show": baseline.EffectiveSheet,
    "baseline-test": baseline.ExamplesResult,
    "changes": changes.ChangesResult,
    "changes-declared": changes.DeclaredResult,
    "remedy": remediation.RemedyResult,
    "report": report.ReportResult,
    "usage": usage.UsageResult,
    "evidence-subject": evidence.SubjectEvidence,
    "try-folder": proposal.TriesResult,
}

FACTS_HEAD = """\
# Facts

What a baseline can require, made from the register in the code (`core/facts/catalogue.py`). Do not edit by hand.

A fact is *known* (with a value), *absent* (asked, and nothing is configured), *unsupported* (the store does not
offer it), *denied*, *hidden* (asked, and the store leaves it out of its answers to this credential), *failed*, or
*stated* by the store's owner in the estate file. Only a known, absent or stated fact can hold or drift; the others
make a requirement `unknown`. Of a set of verbs, what is certain drifts already, whatever else is not known.

| fact | scale | unit | meaning |
|---|---|---|---|
"""

ACCESS_HEAD = """\
# Verbs and condition keys

Made from the tables in the code (`actions.py` and `condition_keys.py` in `core/access/policy`). Do not edit by hand.

## Verbs

| verb | protocol actions |
|---|---|
"""

KEYS_HEAD = """
## Condition keys

*Caller-controlled*: an outsider sends whatever they like, so the key restricts nothing. Any other key can make an
exposure `restricted`. A key that is not in this table is not understood, and makes `unknown` what it could change.

| key | kind | caller-controlled | why |
|---|---|---|---|
"""


def facts_page() -> str:
    """The page of facts."""
    rows = [f"| `{d.name}` | {d.scale.name} | {d.unit} | {d.meaning} |" for d in REGISTER.values()]
    units = "\n".join(f"- {scale.name}: {', '.join(unit for unit, _ in scale.units)}" for scale in (DURATION, SIZE))
    return FACTS_HEAD + "\n".join(rows) + "\n\nUnits:\n" + units + "\n"


DIALECTS_HEAD = """
## Dialects

What the software of some stores reads otherwise than the published language: see [access.md](access.md).

| dialect | reading | construct | the published language | this software | where the language is published |
|---|---|---|---|---|---|
"""


def access_page() -> str:
    """The page of verbs and condition keys."""
    verbs = [f"| `{v}` | {', '.join(a.name for a in ACTIONS.values() if a.verb == v)} |" for v in VERBS]
    keys = [
        f"| `{row.name}{'…' if row.name.endswith('/') else ''}` | {row.kind}{', several' if row.many else ''} "
        f"| {'yes' if row.caller_controlled else 'no'} | {row.reason} |"
        for row in KEYS.values()
        if not row.name.startswith(SENT)
    ]
    return ACCESS_HEAD + "\n".join(verbs) + "\n" + KEYS_HEAD + "\n".join(keys) + "\n" + _dialects()


def _dialects() -> str:
    """What each dialect that comes with the program reads otherwise."""
    rows = [
        f"| {dialect.dialect} ({dialect.title}; measured on {', '.join(map(_family, dialect.measured_on))}) "
        f"| `{field.replace('_', '-')}` | {words.construct.replace('{value}', value)} | {words.common} "
        f"| {words.otherwise.replace('{value}', value)} | {words.source} |"
        for dialect in SHIPPED.values()
        for field, words, value in otherwise(dialect)
    ]
    return DIALECTS_HEAD + "\n".join(rows) + "\n"


def _family(release: str) -> str:
    """A release, or the beginning of the numbers of several."""
    return f"{release}…" if release.endswith(".") else release


def _unindented(schema: Any) -> Any:
    """A schema whose descriptions are docstrings without indentation: msgspec takes it off since release 0.23 alone."""
    if isinstance(schema, list):
        return [_unindented(part) for part in schema]
    if not isinstance(schema, dict):
        return schema
    return {
        name: cleandoc(part) if name == "description" and isinstance(part, str) else _unindented(part)
        for name, part in schema.items()
    }


def pages() -> dict[str, str]:
    """Every generated page: path below the documentation folder → content."""
    made = {"facts.md": facts_page(), "access-tables.md": access_page(), "words.md": glossary()}
    for name, kind in SCHEMAS.items():
        schema = {"$schema": "https://json-schema.org/draft/2020-12/schema", **_unindented(msgspec.json.schema(kind))}
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
