"""The audit as a JUnit report: a suite for each store, a case for each requirement that did not simply hold.

A suite's first case represents everything that is ok there, so that the report of a large estate stays small.
"""

from __future__ import annotations

from lxml import etree

from rusty_lantern.reports.escape import safe
from rusty_lantern.reports.results.audit import AuditResult, FindingResult


def write(result: AuditResult) -> str:
    """JUnit XML. Drift is a failure, what unknown an error, what was accepted a skipped case."""
    root = etree.Element("testsuites", name=safe(result.baseline))
    everything = [("drift", j) for j in result.drift] + [("unknown", j) for j in result.unknown]
    everything += [("waived", j) for j in result.waived]
    for store in sorted({*result.ok, *result.unread_stores, *(j.store for _, j in everything)}):
        mine = [(status, j) for status, j in everything if j.store == store]
        _suite(root, result, store, mine)
    text: bytes = etree.tostring(root, xml_declaration=True, encoding="UTF-8", pretty_print=True)
    return text.decode()


def _suite(root: etree._Element, result: AuditResult, store: str, mine: list[tuple[str, FindingResult]]) -> None:
    unread = result.unread_stores.get(store) or (f"the survey is too old: {result.too_old}" if result.too_old else "")
    count = {status: sum(s == status for s, _ in mine) for status in ("drift", "unknown", "waived")}
    suite = etree.SubElement(
        root,
        "testsuite",
        name=safe(store),
        tests=str(len(mine) + 1),
        failures=str(count["drift"]),
        errors=str(count["unknown"] + bool(unread)),
        skipped=str(count["waived"]),
        time="0",
        timestamp=f"{result.taken:%Y-%m-%dT%H:%M:%S}",
    )
    first = etree.SubElement(
        suite, "testcase", classname=safe(store), name=f"{result.ok.get(store, 0)} requirements ok", time="0"
    )
    if unread:
        etree.SubElement(first, "error", type="unread", message=safe(unread))
    for status, finding in mine:
        case = etree.SubElement(
            suite,
            "testcase",
            classname=safe(f"{store}.{finding.name}"),
            name=safe(f"{finding.fact} {finding.required}"),
            time="0",
        )
        tag, kind = {"drift": ("failure", finding.severity), "unknown": ("error", "unknown")}.get(
            status, ("skipped", "")
        )
        outcome = etree.SubElement(case, tag, message=safe(_message(status, finding)))
        if kind:
            outcome.set("type", kind)
            outcome.text = safe(f"{finding.line}, {finding.sheet}. {finding.remedy}".strip())


def _message(status: str, finding: FindingResult) -> str:
    if status == "drift":
        return f"{finding.observed}, required: {finding.required}"
    return finding.reason or finding.note or status
