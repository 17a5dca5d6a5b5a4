"""What is odd about a baseline that can be read.

Sheets that are off or apply to nothing, requirements that never count, that have ended, that no surveyed store can
show, and facts that nobody requires anything of.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import datetime

import msgspec

from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.access.policy.condition_keys import AUDIENCES
from rusty_lantern.core.access.policy.principals import read_principal
from rusty_lantern.core.baseline.evaluation import required_of
from rusty_lantern.core.baseline.loader import Baseline, Requirement, in_force
from rusty_lantern.core.baseline.selectors import Subject
from rusty_lantern.core.errors import Place
from rusty_lantern.core.facts.catalogue import REGISTER
from rusty_lantern.core.facts.registry import family
from rusty_lantern.core.value_types import show_moment


class LintWarning(msgspec.Struct, frozen=True):
    """Something odd: where, what, and whether it is likely a mistake."""

    place: Place
    what: str
    likely_mistake: bool = True


def check(baseline: Baseline, subjects: Sequence[Subject], moment: datetime) -> list[LintWarning]:
    """Everything odd about a baseline, held against what was surveyed (nothing: only the baseline itself)."""
    remarks = [
        LintWarning(s.place, f'sheet "{s.name}" is switched off: {s.off}', likely_mistake=False)
        for s in baseline.sheets
        if s.off
    ]
    remarks += [remark for sheet in baseline.sheets for r in sheet.require if (remark := _in_time(r, moment))]
    if subjects:
        remarks += _against(in_force(baseline, moment), subjects)
    return sorted(remarks, key=lambda remark: (remark.place.file, remark.place.line, remark.what))


def unasked(baseline: Baseline) -> list[str]:
    """The facts of the register that no sheet requires anything of."""
    required = {r.fact for sheet in baseline.sheets for r in sheet.require}
    families = {family(fact) + ".*" for fact in required}
    return [name for name in REGISTER if name not in required and name not in families]


def conflicts(required: Sequence[Requirement]) -> list[tuple[Requirement, Requirement]]:
    """Pairs of requirements in force on one subject that cannot both hold."""
    by = {r.fact: r for r in required if r.comparison is not None}
    return [(by[a], by[b]) for a, b, fit in _TOGETHER if a in by and b in by and not fit(by[a], by[b])]


def _accepted(requirement: Requirement, levels: Sequence[str]) -> list[int]:
    """The places of the levels that satisfy a requirement."""
    comparison = requirement.comparison
    return [n for n, level in enumerate(levels) if comparison is not None and comparison.accepts(level)]


def _wider(whole: Requirement, part: Requirement) -> bool:
    """Whether some level of all of the public goes with some level of a part of it: the whole is at least as wide."""
    levels = ("closed", "restricted", "open")
    return any(w >= p for w in _accepted(whole, levels) for p in _accepted(part, levels))


def _locked(lock: Requirement, versioning: Requirement) -> bool:
    """A lock needs versioning."""
    return bool(_accepted(lock, ("off",))) or bool(_accepted(versioning, ("on",)))


_TOGETHER: list[tuple[str, str, Callable[[Requirement, Requirement], bool]]] = [
    *((f"exposure.{verb}", f"exposure.{audience}.{verb}", _wider) for audience in AUDIENCES for verb in VERBS),
    ("lock.enabled", "versioning", _locked),
]
"""Two facts that hang together, and whether requirements of both can hold at once."""


def _in_time(requirement: Requirement, moment: datetime) -> LintWarning | None:
    if requirement.ends is not None and requirement.ends <= moment:
        return LintWarning(requirement.place, f"{requirement.fact}: not required since {show_moment(requirement.ends)}")
    if requirement.begins is not None and requirement.begins > moment:
        what = f"{requirement.fact}: required from {show_moment(requirement.begins)} on"
        return LintWarning(requirement.place, what, likely_mistake=False)
    return None


class _InForce:
    """Where a requirement is in force, and what the subjects there show of its fact."""

    def __init__(self) -> None:
        self.stores: set[str] = set()
        self.shown = False
        """Whether a subject's store can show it."""
        self.valued = False
        """Whether it has a value somewhere."""

    def note(self, requirement: Requirement, subject: Subject) -> None:
        """Take in one more subject that it is in force on."""
        self.stores.add(subject.store)
        if requirement.fact.startswith("objects."):
            self.shown = True
            return
        fact = subject.fact(requirement.fact)
        self.shown |= fact.state != "unsupported"
        self.valued |= bool(fact.value)


def _against(baseline: Baseline, subjects: Sequence[Subject]) -> list[LintWarning]:
    seen: dict[Place, _InForce] = {}
    clashes: dict[Place, LintWarning] = {}
    for subject in subjects:
        force = required_of(baseline, subject)
        for one, other in conflicts([r.requirement for r in force if r.sure]):
            where = f"{subject.store}/{subject.label}"
            what = f"{other.fact}: cannot hold together with {one.fact} ({one.place}), as on {where}"
            clashes.setdefault(other.place, LintWarning(other.place, what))
        for required in force:
            seen.setdefault(required.requirement.place, _InForce()).note(required.requirement, subject)
    remarks = list(clashes.values())
    for sheet in [sheet for sheet in baseline.sheets if sheet.require]:
        if any(sheet.applies_to(subject) for subject in subjects):
            faults = ((r.place, _never_met(r, seen.get(r.place), subjects)) for r in sheet.require)
            remarks += [LintWarning(place, fault) for place, fault in faults if fault]
        else:
            remarks.append(LintWarning(sheet.place, f'sheet "{sheet.name}" applies to nothing that was surveyed'))
    return remarks


def _never_met(requirement: Requirement, seen: _InForce | None, subjects: Sequence[Subject]) -> str:
    """Why a requirement can decide nothing, in words; empty where it can."""
    fact = requirement.fact
    if seen is None:
        overridden = requirement.comparison is not None
        return f"{fact}: never in force; later sheets override it on everything that it applies to" * overridden
    if not seen.shown:
        return f"{fact}: no surveyed store can show it, so it is always unknown"
    there = [one for one in subjects if one.kind == "identity" and one.store in seen.stores]
    return f"{fact}: no identity there has that name" if not seen.valued and _of_nobody(fact, there) else ""


def _of_nobody(fact: str, people: Sequence[Subject]) -> bool:
    """Whether `access.NAME` means one of a store's own by a name that none of them has, where all are known."""
    name = fact.removeprefix("access.")
    if name in (fact, "outside", "through-roles") or read_principal(name).kind != "canonical":
        return False
    return not any(one.unseen or one.name in (name, "any role", "any user") for one in people)
