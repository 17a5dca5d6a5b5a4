"""What a person can do about a drift, in words: what the fact's own entry says, with what was seen filled in.

Every sentence says something that can be done by whoever reads it; `tests/test_remedies.py` has the demo's read.
"""

from __future__ import annotations

from functools import lru_cache

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
    wanted = requirement.comparison.words if requirement.comparison else ""
    return _advice(requirement.fact, wanted, value, seen.note, observed_words(finding))


@lru_cache(maxsize=1024)
def _advice(fact: str, wanted: str, value: str, note: str, observed: str) -> str:
    """The same for whatever drifts alike: often hundreds of buckets do."""
    entry = lookup(fact)
    rows = (("", entry.advice),) if isinstance(entry.advice, str) else entry.advice
    said = next((words for seen, words in rows if not seen or seen in (value, note)), "")
    said = said or _OF_KIND.get(entry.subject, "see to it that {fact} is {wanted}")
    return (
        said.format(
            fact=fact,
            last=_last(fact),
            wanted={"present": "any value", "absent": "none"}.get(wanted, wanted),
            observed=observed,
            note=note,
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
