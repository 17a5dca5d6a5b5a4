"""The audit as SARIF 2.1.0 (an OASIS standard), each result pointing at the line of the baseline that asks for it.

Drift is `fail` with its level; what unknown is `open`, the standard's word for "not enough was known to
decide"; what was accepted is suppressed, with the reason. What is in question is a logical location, `STORE/BUCKET`.
"""

from __future__ import annotations

import hashlib
import re
from typing import Any

import msgspec

from rusty_lantern import __version__
from rusty_lantern.reports.escape import safe
from rusty_lantern.reports.results.audit import AuditResult, FindingResult
from rusty_lantern.reports.results.of_survey import unread_words

LEVELS = {"critical": "error", "high": "error", "medium": "warning", "low": "note"}
RANKS = {"critical": 100.0, "high": 75.0, "medium": 50.0, "low": 25.0}


def write(result: AuditResult) -> str:
    """A log with one run."""
    kinds = (("drift", result.drift), ("unknown", result.unknown), ("waived", result.waived))
    findings = [(status, one) for status, kept in kinds for one in kept]
    facts = list(dict.fromkeys(one.fact for _, one in findings))
    missing = [f"store {store} {unread_words(why)}" for store, why in result.unread_stores.items()]
    missing += [f"the survey is too old: {result.too_old}"] * bool(result.too_old)
    limited = [f"the survey was limited to {', '.join(result.only)}"] * bool(result.only)
    limited += [f"estate.yaml limits {store} to {', '.join(names)}" for store, names in result.only_of.items()]
    notes = [
        {"level": level, "message": _text(words)}
        for level, each in (("error", missing), ("warning", limited))
        for words in each
    ]
    run: dict[str, Any] = {
        "tool": {
            "driver": {
                "name": "rusty-lantern",
                "version": __version__,
                "rules": [{"id": fact, "shortDescription": {"text": _meaning(fact)}} for fact in facts],
            }
        },
        "invocations": [{"executionSuccessful": not missing, "toolExecutionNotifications": notes}],
        "automationDetails": {"id": f"{safe(result.baseline)}/{result.survey}"},
        "columnKind": "unicodeCodePoints",
        "results": [_result(status, one, facts.index(one.fact)) for status, one in findings],
    }
    log = {"$schema": "https://json.schemastore.org/sarif-2.1.0.json", "version": "2.1.0", "runs": [run]}
    return msgspec.json.format(msgspec.json.encode(log), indent=1).decode() + "\n"


def _meaning(fact: str) -> str:
    from rusty_lantern.core.facts.registry import lookup

    return _plain(lookup(fact).meaning)


def _result(status: str, finding: FindingResult, rule: int) -> dict[str, Any]:
    where = f"{finding.store}/{finding.name}"
    words = f"{where}: {finding.fact} is {finding.observed}, required: {finding.required}"
    made: dict[str, Any] = {
        "ruleId": finding.fact,
        "ruleIndex": rule,
        "kind": "open" if status == "unknown" else "fail",
        "level": "none" if status == "unknown" else LEVELS[finding.severity],
        "rank": RANKS[finding.severity],
        "message": _text(f"{words} ({finding.reason})" if finding.reason else words),
        "locations": [_location(finding, where)],
        "partialFingerprints": {"requirement/v1": _fingerprint(finding)},
        "properties": {"severity": finding.severity, "sheet": finding.sheet, "subject": finding.subject},
    }
    if status == "waived":
        made["suppressions"] = [{"kind": "external", "status": "accepted", "justification": _plain(finding.reason)}]
    return made


def _location(finding: FindingResult, where: str) -> dict[str, Any]:
    kind = "namespace" if finding.subject == "bucket" else "object"
    location: dict[str, Any] = {"logicalLocations": [{"fullyQualifiedName": _plain(where), "kind": kind}]}
    place = re.fullmatch(r"(.+):(\d+):(\d+)", finding.line)
    if place:
        region = {"startLine": int(place[2]), "startColumn": int(place[3])}
        location["physicalLocation"] = {"artifactLocation": {"uri": _uri(place[1])}, "region": region}
    return location


def _uri(path: str) -> str:
    from urllib.parse import quote

    return quote(path)


def _fingerprint(finding: FindingResult) -> str:
    whole = "\0".join((finding.store, finding.subject, finding.name, finding.fact))
    return hashlib.sha256(whole.encode("utf-8", "surrogatepass")).hexdigest()[:32]


def _text(words: str) -> dict[str, str]:
    """A message: braces and brackets would be placeholders and links in it."""
    escaped = re.sub(r"([\[\]\\])", r"\\\1", _plain(words))
    return {"text": escaped.replace("{", "{{").replace("}", "}}")}


def _plain(words: str) -> str:
    return safe(words)
