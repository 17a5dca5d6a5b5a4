"""Counts as OpenMetrics text, for a scraper's file collector: how much drifted and how much unknown.

Names and label values are few by construction: no bucket has a series of its own.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable

from rusty_lantern.core.baseline.loader import SEVERITIES
from rusty_lantern.reports.escape import safe
from rusty_lantern.reports.results.audit import AuditResult, FindingResult


def write(result: AuditResult) -> str:
    """The text format 1.0, with its end mark."""
    others = (j.store for j in (*result.drift, *result.unknown, *result.waived))
    stores = sorted({*result.ok, *result.unread_stores, *others})
    lines = _gauge(
        "lantern_requirements",
        "Requirements by status.",
        (({"status": s}, n) for s, n in result.counts.items()),
    )
    for name, words, kept in (
        ("lantern_drift", "Requirements that drift.", result.drift),
        ("lantern_unknown", "Requirements that are unknown.", result.unknown),
        ("lantern_waived", "Drift that is waived.", result.waived),
    ):
        counted = _counted(kept)
        labels = [{"store": store, "severity": severity} for store in stores for severity in SEVERITIES]
        lines += _gauge(name, words, ((one, counted[one["store"], one["severity"]]) for one in labels))
    lines += _gauge(
        "lantern_store_unread",
        "Whether a store's buckets could not be listed.",
        (({"store": s}, int(s in result.unread_stores)) for s in stores),
    )
    lines += _gauge("lantern_buckets", "Buckets that were audited.", [({}, result.buckets)])
    lines += _gauge(
        "lantern_survey_timestamp_seconds", "When the survey was taken.", [({}, int(result.taken.timestamp()))]
    )
    ends = Counter(waiver.status for waiver in result.waivers)
    lines += _gauge("lantern_waivers", "Waivers by status.", (({"status": s}, n) for s, n in sorted(ends.items())))
    return "\n".join([*lines, "# EOF"]) + "\n"


def _counted(kept: list[FindingResult]) -> Counter[tuple[str, str]]:
    return Counter((finding.store, finding.severity) for finding in kept)


def _gauge(name: str, words: str, samples: Iterable[tuple[dict[str, str], int]]) -> list[str]:
    lines = [f"# TYPE {name} gauge"]
    if name.endswith("_seconds"):
        lines.append(f"# UNIT {name} seconds")
    lines.append(f"# HELP {name} {words}")
    for labels, value in samples:
        inside = ",".join(f'{label}="{_escaped(text)}"' for label, text in labels.items())
        lines.append(f"{name}{{{inside}}} {value}" if inside else f"{name} {value}")
    return lines


def _escaped(text: str) -> str:
    return safe(text).replace("\\", "\\\\").replace('"', '\\"')
