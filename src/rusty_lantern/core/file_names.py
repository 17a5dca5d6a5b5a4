"""File names from names that a store chose: they lead nowhere else, and are never too long for a file system."""

from __future__ import annotations

import hashlib
from urllib.parse import quote

LONGEST = 150
"""Characters; file systems take 255 bytes, and endings follow."""


def file_name(name: str) -> str:
    """A name as part of a file's name, each its own. A long one is cut, and a hash keeps it unique.

    >>> file_name("../etc"), len(file_name("x" * 900)), file_name("x" * 900) == file_name("x" * 901)
    ('%2E%2E%2Fetc', 118, False)
    """
    quoted = quote(name, safe="").replace(".", "%2E")
    if len(quoted) <= LONGEST:
        return quoted
    digest = hashlib.sha256(name.encode("utf-8", "surrogatepass")).hexdigest()[:16]
    return f"{quoted[:100]}%~{digest}"
