"""Resource names of the policy language."""

from __future__ import annotations

from rusty_lantern.core.access.policy.values import NotUnderstood


def partition_free(resource: str) -> str:
    """A resource name with the partition that this tool writes. Raises `NotUnderstood` if it is no such name."""
    if not resource.startswith(("arn:", "*", "?")):
        raise NotUnderstood(f'"{resource[:60]}" is not a resource name')
    head, colon, tail = resource.partition(":s3:::")
    return f"arn:aws:s3:::{tail}" if colon and head.startswith("arn:aws") else resource
