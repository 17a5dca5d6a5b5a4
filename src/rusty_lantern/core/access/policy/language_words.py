"""The words of the policy language besides its actions and keys: condition operators, policy variables."""

from __future__ import annotations

import re

_NAMES = (
    "StringEquals", "StringNotEquals", "StringEqualsIgnoreCase", "StringNotEqualsIgnoreCase", "StringLike",
    "StringNotLike", "NumericEquals", "NumericNotEquals", "NumericLessThan", "NumericLessThanEquals",
    "NumericGreaterThan", "NumericGreaterThanEquals", "DateEquals", "DateNotEquals", "DateLessThan",
    "DateLessThanEquals", "DateGreaterThan", "DateGreaterThanEquals", "Bool", "BinaryEquals", "IpAddress",
    "NotIpAddress", "ArnEquals", "ArnNotEquals", "ArnLike", "ArnNotLike", "Null",
)  # fmt: skip
OPERATORS: dict[str, str] = {name.lower(): name for name in _NAMES}
"""Operator names as they are written, by their lower-case form."""

VARIABLE = re.compile(r"\$\{([^}]*)\}")
LITERAL_VARIABLES = {"*": "*", "?": "?", "$": "$"}
"""`${*}` and its like stand for the character itself, never for a wildcard or another variable."""
