"""What a person can do about a drift, in words: what the fact's own entry says, with what was seen filled in.

Every sentence says something that can be done by whoever reads it; `tests/test_remedies.py` has the demo's read.
"""

from __future__ import annotations

from rusty_lantern.core.baseline.evaluation import Finding
from rusty_lantern.core.baseline.finding_words import observed_words
from rusty_lantern.core.facts.registry import lookup

_OF_KIND = {
    "credential": "replace the access key by one whose {last} is {wanted}",
    "identity": "ask whoever is responsible: its {last} has to be {wanted}",
    "encryption-key": "ask whoever is responsible for the key: its {last} has to be {wanted}",
    "link": "revoke the link, if need be by disabling the access key that signed it; share a shorter one",
}
"""What is said of facts whose entry says nothing."""


def advice(finding: Finding) -> str:
    """What puts a drift right, in words alone."""
    requirement, seen = finding.requirement, finding.observed
    value = "" if seen.value is None else str(seen.value)
    entry = lookup(requirement.fact)
    rows = (("", entry.advice),) if isinstance(entry.advice, str) else entry.advice
    said = next((words for seen_, words in rows if not seen_ or seen_ in (value, seen.note)), "")
    said = said or _OF_KIND.get(entry.subject, "see to it that {fact} is {wanted}")
    wanted = requirement.comparison.words if requirement.comparison else ""
    return (
        said.format(
            fact=requirement.fact,
            last=_last(requirement.fact),
            wanted={"present": "any value", "absent": "none"}.get(wanted, wanted),
            observed=observed_words(finding),
            note=seen.note,
        )
        .replace(" ()", "")
        .rstrip(": ")
    )  # where there was no note


def _last(fact: str) -> str:
    """What a fact's name says beyond its area.

    >>> _last("objects.metadata.station"), _last("tags.cost centre"), _last("credential.owner-state")
    ('station', 'cost centre', 'owner state')
    """
    area, _, rest = fact.partition(".")
    if area == "objects" and rest.startswith(("metadata.", "tags.")):
        return rest.partition(".")[2]
    return rest if area == "tags" else rest.replace("-", " ")
