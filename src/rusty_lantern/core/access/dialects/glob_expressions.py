"""Patterns with stars and question marks as regular expressions."""

from __future__ import annotations

import re
from functools import lru_cache


def fits_pattern(pattern: str, text: str, *, early: bool = False) -> bool:
    """Whether a text fits a pattern with stars and question marks; `early`: stars end early."""
    return _expression(pattern, early).fullmatch(text) is not None


@lru_cache(maxsize=1024)
def _expression(pattern: str, early: bool) -> re.Pattern[str]:
    if not early:
        return re.compile("".join(_ONE.get(c, re.escape(c)) for c in re.sub(r"\*+", "*", pattern)), re.DOTALL)
    body, parts = pattern.rstrip("*"), []
    for stars, following, char in re.findall(r"(\*+)(.)|(.)", body, re.DOTALL):
        if not stars:
            parts.append(_ONE.get(char, re.escape(char)))
            continue
        stop = re.escape(following)
        of_several = r"[^*]*\*" if len(stars) > 1 else ""  # the first one ends at a star
        parts.append(f"{of_several}[^{stop}]*{stop}")
    return re.compile("".join(parts) + (".*" if body != pattern else ""), re.DOTALL)


_ONE = {"*": ".*", "?": "."}
