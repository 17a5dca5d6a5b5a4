"""What would put a drift right: in words, and for stores of the common protocol the exact document to apply.

Where a bucket is too open, the document is computed: the statements and grants that let the public in are restricted or
taken out, one after the other, until what is required holds; then everything is decided again, before against after, to
show what that closes, and that it closes nothing else. Nothing here is ever applied.
"""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.baseline.evaluation import Finding
from rusty_lantern.core.facts.registry import lookup
from rusty_lantern.core.remediation.exposure_requirements import EXPOSURE_FACTS
from rusty_lantern.core.remediation.policy_edits import access_remedies
from rusty_lantern.core.remediation.remedy import Remedy
from rusty_lantern.core.remediation.setting_documents import setting_remedies


def remedies(view: BucketSubject | None, drifted: Sequence[Finding]) -> list[Remedy]:
    """Remedies for the drift of one subject; `view` where it is a bucket. What is too open is closed by one remedy."""
    doors = [j for j in drifted if j.requirement.fact in EXPOSURE_FACTS and view is not None]
    proposed = access_remedies(view, [j.requirement for j in doors]) if view is not None else []
    proposed += setting_remedies(view, [j for j in drifted if j not in doors])
    kept = view.bucket.container_acl.value if view is not None else None
    sources = ", ".join(sorted(one.name for one in kept.versions_of)) if kept else ""
    return [_in_their_words(_with_sources(remedy, sources), drifted) for remedy in proposed]


def _with_sources(remedy: Remedy, sources: str) -> Remedy:
    """What is done to the containers whose earlier versions one keeps (`sources`) opens it too: its own rules are not
    all that there is to change."""
    if not sources or not any(lookup(fact).area == "access" for fact in remedy.facts):
        return remedy
    words = f"{remedy.words}; or in {sources}, whose earlier versions are kept here: who may write there may write here"
    return msgspec.structs.replace(remedy, words=words)


def _in_their_words(remedy: Remedy, drifted: Sequence[Finding]) -> Remedy:
    """The team's own words go before ours."""
    own = [j.requirement.remedy for j in drifted if j.requirement.fact in remedy.facts and j.requirement.remedy]
    return msgspec.structs.replace(remedy, words="; ".join([*dict.fromkeys(own), remedy.words])) if own else remedy
