"""What would put a drift right: in words, and for stores of the common protocol the exact document to apply.

Where a bucket is too open, the document is computed: the statements and grants that let the public in are fenced or
taken out, one after the other, until what is required holds; then everything is decided again, before against after, to
show what that closes, and that it closes nothing else. Nothing here is ever applied.
"""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from rusty_lantern.core.audit.bucket_subject import BucketView
from rusty_lantern.core.baseline.evaluation import Judgement
from rusty_lantern.core.remediation.policy_edits import _EXPOSURES, _of_all_doors
from rusty_lantern.core.remediation.remedy import Remedy
from rusty_lantern.core.remediation.setting_documents import _of_setting


def remedies(view: BucketView | None, drifted: Sequence[Judgement]) -> list[Remedy]:
    """Remedies for the drift of one subject; `view` where it is a bucket. What is too open is closed by one remedy."""
    doors = [j for j in drifted if j.requirement.fact in _EXPOSURES and view is not None]
    found = _of_all_doors(view, [j.requirement for j in doors]) if view is not None else []
    found += [_of_setting(view, j) for j in drifted if j not in doors]
    return [_in_their_words(remedy, drifted) for remedy in found]


def _in_their_words(remedy: Remedy, drifted: Sequence[Judgement]) -> Remedy:
    """The team's own words go before ours."""
    own = [j.requirement.remedy for j in drifted if j.requirement.fact in remedy.facts and j.requirement.remedy]
    return msgspec.structs.replace(remedy, words="; ".join([*dict.fromkeys(own), remedy.words])) if own else remedy


# --- doors


# --- settings
