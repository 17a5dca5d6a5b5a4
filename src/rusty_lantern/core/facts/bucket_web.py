"""Facts of what a bucket shows to browsers: as a web site, and to the pages of others."""

from __future__ import annotations

import msgspec

from rusty_lantern.core.answer import Fact, fact_of
from rusty_lantern.core.facts.bucket_settings import part_of, switched_on
from rusty_lantern.core.facts.registry import BucketView, fact
from rusty_lantern.core.value_types import SWITCH, TEXT, Levels


@fact(
    "website",
    SWITCH,
    "whether the bucket is served as a web site",
    advice="stop serving the bucket as a web site, or put what is public into a separate bucket",
    causes="PutBucketWebsite DeleteBucketWebsite",
    habit=False,
)
def website(subject: BucketView, _: str) -> Fact:
    """A web site bypasses nothing by itself, but is a second address."""
    return switched_on(subject.bucket.website)


@fact(
    "website.redirects-to",
    TEXT,
    "the hosts that the web site sends visitors to, all of them or by its rules, joined by commas",
    advice="stop serving the bucket as a web site, or put what is public into a separate bucket",
    causes="PutBucketWebsite DeleteBucketWebsite",
    habit=False,
)
def redirects_to(subject: BucketView, _: str) -> Fact:
    """Absent where it sends them nowhere."""
    return part_of(subject.bucket.website, lambda site: site.redirects_to)


@fact(
    "cross-origin",
    Levels(("none", "listed", "any"), ordered=True),
    "which web pages may use the bucket from a visitor's browser: none, listed ones, or any",
    advice="name the web pages that may use the bucket",
    causes="PutBucketCors PutBucketCORS DeleteBucketCors",
    safe="none",
)
def cross_origin(subject: BucketView, _: str) -> Fact:
    """The widest of its rules."""
    rules, wildcards = subject.bucket.cross_origin, subject.dossier.protocol not in _EXACT
    origins = [origin for rule in rules.value or () for origin in rule.origins]
    widest = next((one for one in origins if any_page_has(one, wildcards=wildcards)), None)
    answer = rules.map(lambda _: "any" if widest is not None else "listed").default("none")
    return fact_of(msgspec.structs.replace(answer, note=_why_any(widest)) if widest not in (None, "*") else answer)


_EXACT = ("swift",)
"""Protocols in which a `*` inside an origin is an ordinary character."""


def any_page_has(origin: str, *, wildcards: bool = True) -> bool:
    """Whether an attacker can have a page whose origin fits a rule's.

    Every page can have the origin `null`, from a frame that is sandboxed (HTML, "opaque origin"). What a wildcard
    matches can end in any name, unless a whole domain of two labels or more follows it.

    >>> any_page_has("https://*"), any_page_has("https://*.saltmarsh.example"), any_page_has("*saltmarsh.example")
    (True, False, True)
    """
    if origin in ("*", "null") or not wildcards:
        return origin in ("*", "null")
    _, _, rest = origin.rpartition("://")
    _, star, after = rest.partition(":")[0].rpartition("*")
    return bool(star) and len([label for label in after.split(".")[1:] if label]) < _OF_ONES_OWN


_OF_ONES_OWN = 2
"""Labels of a domain that somebody owns, at the least."""


def _why_any(origin: str) -> str:
    if origin == "null":
        return "the origin null is that of any page, in a sandboxed frame"
    return f"anybody can have a page of an origin that fits {origin[:60]}"
