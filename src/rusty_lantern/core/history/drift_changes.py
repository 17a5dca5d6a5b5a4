"""Two audits → which requirements have another status than before."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterable, Iterator, Mapping
from datetime import datetime
from itertools import chain, groupby
from operator import attrgetter, itemgetter
from typing import Literal

import msgspec

from rusty_lantern.core.answer import Answer, Partly
from rusty_lantern.core.audit.audit import Audit
from rusty_lantern.core.audit.coverage import TESTED, Missing
from rusty_lantern.core.audit.waivers import is_worse, observed_now
from rusty_lantern.core.baseline.evaluation import Finding, Key
from rusty_lantern.core.baseline.finding_words import AT_LEAST, observed_words
from rusty_lantern.core.facts.registry import lookup
from rusty_lantern.core.history.drift_history import Area, AuditSummary
from rusty_lantern.core.model.dossier import undisturbed

Turn = Literal["new", "worse", "resolved", "waived", "now known", "no longer known", "new, unknown"]
"""`new, unknown`: the subject was not there before, or this was not required of it; whether it drifts is not known."""


class DriftChange(msgspec.Struct, frozen=True):
    """A requirement that has another status than before."""

    turn: Turn
    finding: Finding
    """As it is now; for drift that closed, as it was."""
    before: str
    after: str


@undisturbed()
def drift_changes(before: Audit, after: Audit) -> list[DriftChange]:
    """The requirements that have another status than before, on subjects that both surveys judged or one has drift
    of."""
    return [change for _, change in sorted(_turned(before, after), key=itemgetter(0))]


def _turned(before: Audit, after: Audit) -> Iterator[tuple[Key, DriftChange]]:
    old, new = map(_by_area, _otherwise(before.findings, after.findings))
    # What is ok is looked up only where the other side has another status.
    for audit, mine, others in ((before, old, new), (after, new, old)):
        sought = {
            (store, kind, name, fact)
            for (store, kind, fact), findings in others.items()
            for name in findings.keys() - mine.get((store, kind, fact), {}).keys()
        }
        for area, findings in _by_area(audit.met.findings(sought)).items():
            mine.setdefault(area, {}).update(findings)
    for area in old.keys() | new.keys():
        then, there = old.get(area, {}), new.get(area, {})
        pairs: list[tuple[str, Finding | None, Finding | None]]
        pairs = [(name, then.get(name), now) for name, now in there.items()]
        pairs += [(name, then[name], None) for name in then.keys() - there.keys()]
        for name, was, now in pairs:
            if was is not None and now is not None and was.status == now.status and _stands_as_before(was, now):
                continue
            accepted = observed_now(was) if was and was.status == "drift" else ""
            statuses = [
                one.status if one is not None else _ABSENT[audit.coverage.missing(area[0], area[1], name, area[2])]
                for one, audit in ((was, before), (now, after))
            ]
            if statuses[1] != "drift" and after.coverage.still_let_in(area[0], name, accepted):
                statuses[1] = "unknown"
            turn = _turn(statuses[0], statuses[1], now, accepted)
            shown = now if now is not None and turn != "resolved" else was
            if turn is not None and shown is not None:
                yield shown.key, DriftChange(turn, shown, _seen(was, area[2]), _seen(now, area[2]))


def _otherwise(before: Iterable[Finding], after: Iterable[Finding]) -> tuple[list[Finding], list[Finding]]:
    """The findings of either side that may have another status on the other: most subjects have the same ones."""
    then, old, new = _by_subject(before), list[Finding](), list[Finding]()
    for subject, findings in _by_subject(after).items():
        had = then.pop(subject, [])
        if [one.requirement.fact for one in had] != [one.requirement.fact for one in findings]:
            old += had
            new += findings
            continue
        for was, now in zip(had, findings, strict=True):
            if was.status != now.status or not _stands_as_before(was, now):
                old.append(was)
                new.append(now)
    return [*old, *chain.from_iterable(then.values())], new


_SUBJECT = attrgetter("store", "kind", "name")


def _by_subject(findings: Iterable[Finding]) -> dict[tuple[str, str, str], list[Finding]]:
    by_subject: dict[tuple[str, str, str], list[Finding]] = {}
    for subject, run in groupby(findings, _SUBJECT):
        by_subject.setdefault(subject, []).extend(run)
    return by_subject


def _stands_as_before(was: Finding, now: Finding) -> bool:
    """Whether a requirement of the same status is certainly unchanged: most do, and need no words."""
    if now.status != "drift":
        return True
    then, seen = was.observed, now.observed
    return was.tally == now.tally and then.settled and (then.state, then.value) == (seen.state, seen.value)


class DriftTurns(msgspec.Struct, frozen=True):
    """How drift turned since an earlier survey."""

    since: datetime
    """When that was taken."""
    counts: Counter[Turn]


def drift_turns(before: AuditSummary, after: Audit) -> DriftTurns:
    """How many drifts opened, got worse or closed since another survey, of which only the summary is kept.

    The numbers are those of `drift_changes`. What is unknown now and was neither drift nor waived is not counted: a
    summary does not hold what was ok, nor whether it was there.
    """
    old, new = before.by_area(), _by_area(after.findings)
    counts: Counter[Turn | None] = Counter()
    ok = _ok_though_unlisted(old, new, after)
    for area in old.keys() | new.keys():
        store, kind, fact = area
        then, there = old.get(area, {}), new.get(area, {})
        for name in then.keys() | there.keys():
            was, now = then.get(name), there.get(name)
            if was is not None and now is not None and was.status == now.status == "unknown":
                continue
            earlier = was.status if was else _ABSENT[before.coverage.missing(store, kind, name, fact)]
            later = now.status if now else _ABSENT[after.coverage.missing(store, kind, name, fact)]
            if (store, kind, name, fact) in ok:
                later = "ok"
            if later != "drift" and was is not None and after.coverage.still_let_in(store, name, was.observed):
                later = "unknown"
            if was is not None or later != "unknown":
                counts[_turn(earlier, later, now, was.observed if was else "")] += 1
    return DriftTurns(before.taken, Counter({turn: number for turn, number in counts.items() if turn is not None}))


def _ok_though_unlisted(
    old: Mapping[Area, Mapping[str, object]], new: Mapping[Area, Mapping[str, object]], after: Audit
) -> set[Key]:
    """What was not ok before and is now, on subjects that are known one by one where no list could be read."""
    unlisted: set[Key] = set()
    for area, then in old.items():
        store, kind, fact = area
        left = then.keys() - new.get(area, {}).keys()
        unlisted |= {(store, kind, name, fact) for name in left - after.coverage.not_there(store, kind, left, fact)}
    return {finding.key for finding in after.met.findings(unlisted)} if unlisted else unlisted


def _by_area(findings: Iterable[Finding]) -> dict[Area, dict[str, Finding]]:
    by_area: defaultdict[Area, dict[str, Finding]] = defaultdict(dict)
    for finding in findings:
        by_area[finding.store, finding.kind, finding.requirement.fact][finding.name] = finding
    return dict(by_area)


def _seen(finding: Finding | None, fact: str) -> str:
    if finding is None:
        return "not tested" if fact in TESTED else ""
    return finding.status if finding.status == "unknown" else observed_words(finding)


_ABSENT: dict[Missing, str] = {"not there": "gone", "not read": "unknown", "not asked": "not asked"}
"""The status of a requirement on a subject that is not in a survey."""


_TURNS: dict[tuple[str, str], Turn] = {
    ("ok", "drift"): "new",
    ("gone", "drift"): "new",
    ("waived", "drift"): "new",
    ("unknown", "drift"): "now known",
    ("drift", "waived"): "waived",
    ("drift", "unknown"): "no longer known",
    ("drift", "ok"): "resolved",
    ("drift", "gone"): "resolved",
    ("ok", "unknown"): "no longer known",
    ("waived", "unknown"): "no longer known",
    ("gone", "unknown"): "new, unknown",
}
"""Status before, and after → how a requirement turned. Drift that drifts still may be worse."""


def _turn(before: str, after: str, now: Finding | None, accepted: str) -> Turn | None:
    """How a requirement turned. `before`, `after`: its statuses; `accepted`: what was seen then, in words."""
    if before == after == "drift":
        return "worse" if now is not None and _worse(now, accepted) else None
    return _TURNS.get((before, after))


def _worse(now: Finding, accepted: str) -> bool:
    """Whether it is worse for certain: of what is known in part, that part is compared."""
    if lookup(now.requirement.fact).grows or accepted.startswith(AT_LEAST):
        return False
    if isinstance(now.observed, Partly):
        now = msgspec.structs.replace(now, observed=Answer("known", now.observed.certain))
    return is_worse(now, accepted)
