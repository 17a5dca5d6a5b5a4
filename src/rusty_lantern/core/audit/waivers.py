"""Waivers: drift that was accepted in writing, by a role, until a date (`waivers.yaml`).

    waivers:
      - of: harbour/press-kit            # STORE/NAME, globs allowed
        fact: exposure.list
        observed: open                   # what was accepted; anything worse is not
        because: the press office lists it until the new site is up
        by: head of outreach
        since: 2026-11-02
        until: 2027-03-31

A waiver covers drift; what is unknown it covers only where it says `observed: unknown`, and then nothing else. It is
void once it has ended, once the drift is worse than what was accepted, and where it lasts longer than the baseline
allows.
"""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime, timedelta
from typing import Literal

import msgspec

from rusty_lantern.core.audit.waiver_file import UNKNOWN, Waiver, read_observed
from rusty_lantern.core.baseline.evaluation import Finding
from rusty_lantern.core.baseline.finding_words import show_fact
from rusty_lantern.core.facts.registry import lookup
from rusty_lantern.core.value_sets import NameSet, WordSet
from rusty_lantern.core.value_types import Scale, Value, show_moment
from rusty_lantern.core.yaml_source import escaped, quoted

SOON = timedelta(days=30)
"""A waiver that ends within this is reported."""

WaiverStatus = Literal["in force", "ends soon", "ended", "not yet", "too long", "unused"]


class WaiverState(msgspec.Struct, frozen=True):
    """The state of one waiver."""

    waiver: Waiver
    status: WaiverStatus
    covers: int
    """How many drifts it covers."""


def observed_now(finding: Finding) -> str:
    """What a waiver of this drift records as accepted: the value in words, or how many versions drifted."""
    if finding.status == "unknown":
        return UNKNOWN
    if finding.tally is not None:
        return str(finding.tally.failed)
    return show_fact(finding.requirement.fact, finding.observed).removesuffix(" (declared)")


def written(finding: Finding, because: str, by: str, since: datetime, until: datetime) -> str:
    """A waiver of this drift, as an entry of the waivers file; every text is quoted, whatever it holds."""
    fields = {"of": f"{finding.store}/{escaped(finding.name)}", "fact": finding.requirement.fact}
    if finding.status == "unknown" or not lookup(finding.requirement.fact).grows:
        fields["observed"] = observed_now(finding)
    fields |= {"because": because, "by": by, "since": show_moment(since), "until": show_moment(until)}
    lines = [f"{name}: {quoted(value)}" for name, value in fields.items()]
    return "  - " + "\n    ".join(lines) + "\n"


def apply(
    findings: Iterable[Finding], waivers: list[Waiver], moment: datetime, longest: int = 0
) -> tuple[list[Finding], list[WaiverState]]:
    """Findings, the waived ones marked, and the state of each waiver.

    `longest`: seconds that a waiver may last; 0: as long as it says.
    """
    if not waivers:
        return list(findings), []
    uses = dict.fromkeys(range(len(waivers)), 0)
    statuses = [_status(waiver, moment, longest) for waiver in waivers]
    by_fact: dict[str, list[int]] = {}
    for number, waiver in enumerate(waivers):
        by_fact.setdefault(waiver.fact, []).append(number)
    judged = []
    for finding in findings:
        if finding.status not in ("drift", "unknown"):
            judged.append(finding)
            continue
        mine = [n for n in by_fact.get(finding.requirement.fact, ()) if waivers[n].applies_to(finding)]
        if finding.status == "unknown":
            mine = [number for number in mine if waivers[number].observed == UNKNOWN]
        why_not = [_void(waivers[number], statuses[number], finding) for number in mine]
        good = next((number for number, why in zip(mine, why_not, strict=True) if not why), None)
        if good is not None:
            uses[good] += 1
            waiver = waivers[good]
            reason = f"until {show_moment(waiver.until)}, by {waiver.by}: {waiver.because}"
            judged.append(msgspec.structs.replace(finding, status="waived", reason=reason))
        elif why_not:
            why = "; ".join(part for part in (finding.reason, f"a waiver of it is void: {why_not[0]}") if part)
            judged.append(msgspec.structs.replace(finding, reason=why))
        else:
            judged.append(finding)
    stands = [
        WaiverState(waiver, "unused" if status in ("in force", "ends soon") and not uses[n] else status, uses[n])
        for n, (waiver, status) in enumerate(zip(waivers, statuses, strict=True))
    ]
    return judged, stands


def _status(waiver: Waiver, moment: datetime, longest: int) -> WaiverStatus:
    if waiver.until <= moment:
        return "ended"
    if waiver.since > moment:
        return "not yet"
    if longest and waiver.until - waiver.since > timedelta(seconds=longest):
        return "too long"
    return "ends soon" if waiver.until - moment <= SOON else "in force"


def _void(waiver: Waiver, status: WaiverStatus, finding: Finding) -> str:
    """Why a waiver does not cover a drift; empty where it does."""
    if status == "ended":
        return f"it ended on {show_moment(waiver.until)}"
    if status == "not yet":
        return f"it begins on {show_moment(waiver.since)}"
    if status == "too long":
        return "it lasts longer than the baseline allows"
    if waiver.observed == UNKNOWN or finding.status == "unknown":
        seen = observed_now(finding)
        return "" if seen == UNKNOWN else f"it covers what is unknown, and this is {seen}"
    if waiver.observed and is_worse(finding, waiver.observed):
        return f"it is worse than what was waived ({waiver.observed})"
    return ""


def is_worse(finding: Finding, accepted: str) -> bool:
    """Whether a drift is worse than what was accepted, in words.

    On an ordered scale, further from what is required; of a set, any of its members that neither was accepted nor is as
    required; of anything else, whatever is not the same.
    """
    if finding.tally is not None:
        return not accepted.isdigit() or finding.tally.failed > int(accepted)
    scale = lookup(finding.requirement.fact).scale
    then, now = read_observed(scale, accepted), finding.observed.value
    if then == now:
        return False
    if then is None or now is None:
        return True
    comparison = finding.requirement.comparison
    if isinstance(scale, WordSet | NameSet):
        more = scale.members(now) - scale.members(then)
        by_member = comparison if comparison is not None and comparison.goes_by_member else None
        return any(by_member is None or not by_member.accepts_member(member) for member in more)
    if not scale.ordered or comparison is None or comparison.how not in _DIRECTED:
        return True
    higher = _higher_is_worse(finding, scale, then)
    return (scale.rank(now) > scale.rank(then)) is higher


_DIRECTED = ("is", "at least", "at most", "between")
"""Comparisons that say which way is worse."""


def _higher_is_worse(finding: Finding, scale: Scale, then: Value) -> bool:
    """Which way leads away from what is required, as seen from what was accepted."""
    comparison = finding.requirement.comparison
    values = [value for value in (comparison.values if comparison else ()) if value is not None]
    if not values or comparison is None or comparison.how == "at most":
        return True
    if comparison.how == "at least":
        return False
    return scale.rank(then) > max(scale.rank(value) for value in values)
