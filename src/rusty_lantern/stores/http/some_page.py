"""Whether a store lets in the pages of every origin, by a setting of its own that no bucket's settings show."""

from __future__ import annotations

from collections.abc import Mapping

SOME_PAGE = "https://some-page.invalid"
"""An origin that nobody names (RFC 2606), with which a bucket is asked about (`Origin`, Fetch standard)."""
GRANTS = "access-control-allow-origin"
EVERY_METHOD = ["GET", "PUT", "POST", "DELETE"]


def lets_in_any_page(headers: Mapping[str, str]) -> bool:
    """Whether an answer to a request with that origin lets its pages use it."""
    return headers.get(GRANTS, "") in ("*", SOME_PAGE)
