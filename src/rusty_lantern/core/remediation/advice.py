"""What a person can do about a drift, in words: what the fact's own entry says, with what was seen filled in.

Every sentence says something that can be done by whoever reads it; `tests/test_remedies.py` has the demo's read.
"""

from __future__ import annotations

from rusty_lantern.core.baseline.evaluation import Finding, observed_words
from rusty_lantern.core.facts.registry import lookup

_OF_KIND = {
    "credential": "replace the key by one whose {last} is {wanted}",
    "identity": "ask whoever answers for it: its {last} is to be {wanted}",
    "encryption-key": "ask whoever answers for the key: its {last} is to be {wanted}",
    "link": "withdraw the link, if need be by disabling the key that signed it; give out a shorter one",
}
"""What is said of facts whose entry says nothing."""


def advice(judgement: Finding) -> str:
    """What puts a drift right, in words alone."""
    requirement, seen = judgement.requirement, judgement.observed
    value = "" if seen.value is None else str(seen.value)
    entry = lookup(requirement.fact)
    rows = (("", entry.advice),) if isinstance(entry.advice, str) else entry.advice
    said = next((words for seen_, words in rows if not seen_ or seen_ in (value, seen.note)), "")
    said = said or _OF_KIND.get(entry.subject, "see to it that {fact} is {wanted}")
    wanted = requirement.comparison.words if requirement.comparison else ""
    return said.format(
        fact=requirement.fact,
        last=_last(requirement.fact),
        wanted={"present": "any value", "absent": "none"}.get(wanted, wanted),
        observed=observed_words(judgement),
        note=seen.note,
    ).replace(" ()", "")


def _last(fact: str) -> str:
    """What a fact's name says beyond its area.

    >>> _last("objects.metadata.station"), _last("tags.cost centre"), _last("credential.owner-state")
    ('station', 'cost centre', 'owner state')
    """
    area, _, rest = fact.partition(".")
    if area == "objects" and rest.startswith(("metadata.", "tags.")):
        return rest.partition(".")[2]
    return rest if area == "tags" else rest.replace("-", " ")
