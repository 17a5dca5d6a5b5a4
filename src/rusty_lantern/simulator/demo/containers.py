"""How the demo's stores with containers describe one."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.core.model.capabilities import Capabilities


def container(name: str, protocol: Capabilities, values: Mapping[str, Any]) -> Bucket:
    """A container with these settings (None: not set). Fields that are not given are as the protocol has them."""
    fields = {field: Answer("absent") if value is None else Answer("known", value) for field, value in values.items()}
    return Bucket(name=name, **(protocol.of_bucket() | fields))
