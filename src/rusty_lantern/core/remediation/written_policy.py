"""A policy's statements as they are written, while they are edited."""

from __future__ import annotations

import json
from typing import Any

from rusty_lantern.core.audit.bucket_subject import BucketSubject


def statements_of(view: BucketSubject) -> list[dict[str, Any]]:
    """The statements of the policy as they are written."""
    try:
        document = json.loads(view.bucket.policy.value or "{}")
        written = document.get("Statement", [])
    except (ValueError, AttributeError, RecursionError):
        return []
    statements = written if isinstance(written, list) else [written]
    return statements if all(isinstance(statement, dict) for statement in statements) else []


PLACEHOLDER = {"Effect": "Deny", "Principal": "*", "Action": "*", "Resource": "arn:aws:s3:::-"}
"""Holds the place of a statement that was taken out; no request ever meets it. Left out of what is shown."""


def as_applied(policy: str) -> str:
    """The policy without what only held a place; empty where nothing is left, and it is to be deleted."""
    document = json.loads(policy)
    kept = [statement for statement in document["Statement"] if statement != PLACEHOLDER]
    return json.dumps(document | {"Statement": kept}, indent=1, ensure_ascii=False) if kept else ""
