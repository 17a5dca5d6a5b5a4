"""Two audits → which requirements stand otherwise than before."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator
from operator import itemgetter
from typing import Literal

import msgspec

from rusty_lantern.core.audit.audit import Audit
from rusty_lantern.core.audit.waivers import is_worse, observed_now
from rusty_lantern.core.baseline.evaluation import Finding, Key
from rusty_lantern.core.facts.registry import lookup
from rusty_lantern.core.history.drift_history import Area, Standing
from rusty_lantern.core.model.dossier import undisturbed

Turn = Literal["new", "worse", "resolved", "waived", "now known", "no longer known"]


class DriftChange(msgspec.Struct, frozen=True):
    """A requirement that stands otherwise than before."""

    turn: Turn
    finding: Finding
    """As it is now; for drift that closed, as it was."""
    before: str
    after: str


@undisturbed()
def drift_changes(before: Audit, after: Audit) -> list[DriftChange]:
    """The requirements that stand otherwise than before, on subjects that both surveys judged or one has drift of."""
    return [change for _, change in sorted(_turned(before, after), key=itemgetter(0))]


def _turned(before: Audit, after: Audit) -> Iterator[tuple[Key, DriftChange]]:
    old, new = _by_area(before.findings), _by_area(after.findings)
    # What is ok is looked up only where it stands otherwise on the other side.
    for audit, mine, others in ((before, old, new), (after, new, old)):
        sought = {
            (store, kind, name, fact)
            for (store, kind, fact), found in others.items()
            for name in found.keys() - mine.get((store, kind, fact), {}).keys()
        }
        for area, found in _by_area(audit.met.findings(sought)).items():
            mine.setdefault(area, {}).update(found)
    for area in old.keys() | new.keys():
        then, there = old.get(area, {}), new.get(area, {})
        for name in [*there, *(then.keys() - there.keys())]:
            was, now = then.get(name), there.get(name)
            if was is not None and now is not None and _stands_as_before(was, now):
                continue
            accepted = observed_now(was) if was and was.status == "drift" else ""
            turn = _turn(was.status if was else None, now, accepted)
            shown = now if now is not None and turn != "resolved" else was
            if turn is not None and shown is not None:
                yield shown.key, DriftChange(turn, shown, _seen(was), _seen(now))


def _stands_as_before(was: Finding, now: Finding) -> bool:
    """Whether a requirement stands as before without a doubt: most do, and need no words."""
    if was.status != now.status or was.status != "drift":
        return was.status == now.status
    then, seen = was.observed, now.observed
    return was.tally == now.tally and then.settled and (then.state, then.value) == (seen.state, seen.value)


def turns_since(before: Standing, after: Audit) -> Counter[Turn]:
    """How many drifts opened, got worse or closed since another survey, of which only the standing is kept.

    The numbers are those of `drift_changes`. What held before and is unknown now is not counted: a standing does not
    tell what held.
    """
    old, new = before.by_area(), _by_area(after.findings)
    found: Counter[Turn | None] = Counter()
    for area in old.keys() | new.keys():
        then, there = old.get(area, {}), new.get(area, {})
        for name in then.keys() | there.keys():
            was, now = then.get(name), there.get(name)
            if was is None or now is None or not was.status == now.status == "unknown":
                found[_turn(was.status if was else None, now, was.observed if was else "")] += 1
    return Counter({turn: number for turn, number in found.items() if turn is not None})


def _by_area(findings: Iterable[Finding]) -> dict[Area, dict[str, Finding]]:
    found: dict[Area, dict[str, Finding]] = {}
    for finding in findings:
        area = finding.store, finding.kind, finding.requirement.fact
        if area in found:
            found[area][finding.name] = finding
        else:
            found[area] = {finding.name: finding}
    return found


def _seen(finding: Finding | None) -> str:
    if finding is None:
        return ""
    return finding.status if finding.status == "unknown" else observed_now(finding)


def _turn(before: str | None, now: Finding | None, accepted: str) -> Turn | None:
    """How a requirement turned. `before`: its status then; `accepted`: what was seen then, in words."""
    after = now.status if now else None
    if after == "drift":
        if before in ("ok", None):
            return "new"
        if before == "unknown":
            return "now known"
        return "worse" if before == "drift" and now and _worse(now, accepted) else "new" if before == "waived" else None
    if before == "drift":
        turns: dict[str | None, Turn] = {"waived": "waived", "unknown": "no longer known"}
        return turns.get(after, "resolved")
    if before == "ok" and after == "unknown":
        return "no longer known"
    return None


def _worse(now: Finding, accepted: str) -> bool:
    return not lookup(now.requirement.fact).grows and is_worse(now, accepted)
