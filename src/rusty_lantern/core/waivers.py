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

import json
import re
from collections.abc import Iterable
from datetime import datetime, timedelta
from fnmatch import fnmatchcase
from typing import Literal

import msgspec

from rusty_lantern.core.baseline.judge import Judgement, show_fact
from rusty_lantern.core.errors import Collector, Place
from rusty_lantern.core.facts import UnknownFact, lookup
from rusty_lantern.core.marked import Marked, Reader, read_marked
from rusty_lantern.core.scales import NotOnScale, Parts, Scale, Value, read_moment, show_moment

SOON = timedelta(days=30)
"""A waiver that ends within this is told of."""
ABSENT = "absent"
UNKNOWN = "unknown"

Standing = Literal["in force", "ends soon", "ended", "not yet", "too long", "unused"]


class Waiver(msgspec.Struct, frozen=True):
    """One accepted drift. `observed` is what was accepted, in words; empty: whatever it is."""

    of: str
    fact: str
    observed: str
    because: str
    by: str
    since: datetime
    until: datetime
    place: Place

    def speaks_of(self, judgement: Judgement) -> bool:
        """Whether it is about this requirement on this subject."""
        return self.fact == judgement.requirement.fact and fnmatchcase(f"{judgement.store}/{judgement.name}", self.of)


class Waived(msgspec.Struct, frozen=True):
    """How one waiver stands."""

    waiver: Waiver
    standing: Standing
    covers: int
    """How many drifts it covers."""


_FIELDS = ("of", "fact", "observed", "because", "by", "since", "until")


def read_waivers(document: str, file: str) -> list[Waiver]:
    """Read a waivers file. Raises `BadInput` with everything that is wrong with it."""
    root = read_marked(document, file)
    complaints = Collector()
    reader = Reader(complaints)
    top = reader.fields(root, ("waivers",), "the waivers file")
    node = top.get("waivers")
    if node is not None and node.items is None and node.text != "":
        complaints.add(f"waivers must be a list, and is {node.kind}", node.place)
    found = [_waiver(reader, item) for item in (node.items or () if node else ())]
    complaints.settle()
    return [waiver for waiver in found if waiver is not None]


def _waiver(reader: Reader, node: Marked) -> Waiver | None:
    before = len(reader.complaints.complaints)
    fields = reader.fields(node, _FIELDS, "a waiver")
    for name in _FIELDS:
        if node.fields is not None and name not in fields and name != "observed":
            reader.complaints.add(f'a waiver needs "{name}"', node.place, "accepted drift has a reason, a role, an end")
    text = {name: reader.text(fields.get(name), name) for name in _FIELDS}
    moments = {}
    for name in ("since", "until"):
        try:
            moments[name] = read_moment(text[name]) if text[name] else None
        except NotOnScale as error:
            reader.complaints.add(f"{name}: {error}", fields[name].place)
    try:
        scale = lookup(text["fact"]).scale if text["fact"] else None
        if scale is not None and text["observed"] not in ("", UNKNOWN) and lookup(text["fact"]).subject != "object":
            _read(scale, text["observed"])
    except UnknownFact as error:
        reader.complaints.add(f'unknown fact "{text["fact"]}"', fields["fact"].place, error.hint)
    except NotOnScale as error:
        remedy = "what the audit shows as observed; or unknown, to accept that it is not known"
        reader.complaints.add(f"observed: {error}", fields["observed"].place, remedy)
    since, until = moments.get("since"), moments.get("until")
    if since and until and until <= since:
        reader.complaints.add("it ends before it begins", fields["until"].place)
    if len(reader.complaints.complaints) > before or since is None or until is None:
        return None
    return Waiver(text["of"], text["fact"], text["observed"], text["because"], text["by"], since, until, node.place)


def _read(scale: Scale, words: str) -> Value | None:
    return None if words == ABSENT else scale.read(words)


def observed_now(judgement: Judgement) -> str:
    """What a waiver of this drift records as accepted: the value in words, or how many versions drifted."""
    if judgement.status == "unknown":
        return UNKNOWN
    if judgement.tally is not None:
        return str(judgement.tally.drifted)
    return show_fact(judgement.requirement.fact, judgement.observed).removesuffix(" (stated)")


def written(judgement: Judgement, because: str, by: str, since: datetime, until: datetime) -> str:
    """A waiver of this drift, as an entry of the waivers file; every text is quoted, whatever stands in it."""
    fields = {"of": f"{judgement.store}/{escaped(judgement.name)}", "fact": judgement.requirement.fact}
    if judgement.status == "unknown" or not grows(judgement.requirement.fact):
        fields["observed"] = observed_now(judgement)
    fields |= {"because": because, "by": by, "since": show_moment(since), "until": show_moment(until)}
    lines = [f"{name}: {quoted(value)}" for name, value in fields.items()]
    return "  - " + "\n    ".join(lines) + "\n"


_PLAIN = re.compile(r"[^ -~\u00a0-\u2027\u202a-\ud7ff\ue000-\ufefe\uff00-\ufffd\U00010000-\U0010ffff]")
"""What YAML takes for a line break or does not take at all."""


def quoted(text: str) -> str:
    """A text as a quoted scalar, the same in JSON and YAML."""
    return _PLAIN.sub(lambda found: f"\\u{ord(found[0]):04x}", json.dumps(text, ensure_ascii=False))


def escaped(name: str) -> str:
    """A name as a pattern that fits nothing else."""
    return re.sub(r"([*?\[])", r"[\1]", name)


def apply(
    judgements: Iterable[Judgement], waivers: list[Waiver], moment: datetime, longest: int = 0
) -> tuple[list[Judgement], list[Waived]]:
    """Judgements with what is waived marked so, and how each waiver stands.

    `longest`: seconds that a waiver may last; 0: as long as it says.
    """
    if not waivers:
        return list(judgements), []
    uses = dict.fromkeys(range(len(waivers)), 0)
    standings = [_standing(waiver, moment, longest) for waiver in waivers]
    found = []
    for judgement in judgements:
        if judgement.status not in ("drifted", "unknown"):
            found.append(judgement)
            continue
        mine = [number for number, waiver in enumerate(waivers) if waiver.speaks_of(judgement)]
        if judgement.status == "unknown":
            mine = [number for number in mine if waivers[number].observed == UNKNOWN]
        why_not = [_void(waivers[number], standings[number], judgement) for number in mine]
        good = next((number for number, why in zip(mine, why_not, strict=True) if not why), None)
        if good is not None:
            uses[good] += 1
            waiver = waivers[good]
            reason = f"until {show_moment(waiver.until)}, by {waiver.by}: {waiver.because}"
            found.append(msgspec.structs.replace(judgement, status="waived", reason=reason))
        elif why_not:
            why = "; ".join(part for part in (judgement.reason, f"a waiver of it is void: {why_not[0]}") if part)
            found.append(msgspec.structs.replace(judgement, reason=why))
        else:
            found.append(judgement)
    stands = [
        Waived(waiver, "unused" if standing in ("in force", "ends soon") and not uses[n] else standing, uses[n])
        for n, (waiver, standing) in enumerate(zip(waivers, standings, strict=True))
    ]
    return found, stands


def _standing(waiver: Waiver, moment: datetime, longest: int) -> Standing:
    if waiver.until <= moment:
        return "ended"
    if waiver.since > moment:
        return "not yet"
    if longest and waiver.until - waiver.since > timedelta(seconds=longest):
        return "too long"
    return "ends soon" if waiver.until - moment <= SOON else "in force"


def _void(waiver: Waiver, standing: Standing, judgement: Judgement) -> str:
    """Why a waiver does not cover a drift; empty where it does."""
    if standing == "ended":
        return f"it ended on {show_moment(waiver.until)}"
    if standing == "not yet":
        return f"it begins on {show_moment(waiver.since)}"
    if standing == "too long":
        return "it lasts longer than the baseline allows"
    if waiver.observed == UNKNOWN or judgement.status == "unknown":
        seen = observed_now(judgement)
        return "" if seen == UNKNOWN else f"it covers what is unknown, and this is {seen}"
    if waiver.observed and is_worse(judgement, waiver.observed):
        return f"it is worse than what was accepted ({waiver.observed})"
    return ""


def is_worse(judgement: Judgement, accepted: str) -> bool:
    """Whether a drift is worse than what was accepted, in words.

    On an ordered scale, further from what is required; of a set of words, any that was not accepted; of anything else,
    whatever is not the same.
    """
    if judgement.tally is not None:
        return not accepted.isdigit() or judgement.tally.drifted > int(accepted)
    scale = lookup(judgement.requirement.fact).scale
    then, now = _read(scale, accepted), judgement.observed.value
    if then == now:
        return False
    if then is None or now is None:
        return True
    if isinstance(scale, Parts):
        return not set(str(now).split()) <= set(str(then).split())
    comparison = judgement.requirement.comparison
    if not scale.ordered or comparison is None or comparison.how not in _DIRECTED:
        return True
    higher = _higher_is_worse(judgement, scale, then)
    return (scale.rank(now) > scale.rank(then)) is higher


_DIRECTED = ("is", "at least", "at most", "between")
"""Comparisons from which it can be told which way is worse."""
_GROWING = ("age", "idle", "oldest")
"""Ends of the names of facts that grow by themselves: what is accepted of them is not held to a value."""


def grows(fact: str) -> bool:
    """Whether a fact grows by itself as time goes by.

    >>> grows("credential.age"), grows("lock.keep")
    (True, False)
    """
    return fact.endswith(_GROWING)


def _higher_is_worse(judgement: Judgement, scale: Scale, then: Value) -> bool:
    """Which way leads away from what is required, as seen from what was accepted."""
    comparison = judgement.requirement.comparison
    values = [value for value in (comparison.values if comparison else ()) if value is not None]
    if not values or comparison is None or comparison.how == "at most":
        return True
    if comparison.how == "at least":
        return False
    return scale.rank(then) > max(scale.rank(value) for value in values)
