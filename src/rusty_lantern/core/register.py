"""The register, filled: importing this module enters every fact, in the order of the reference page."""

from rusty_lantern.core import (
    bucket_facts,
    holder_facts,
    mirror_facts,
    network_facts,
    object_facts,
    setting_facts,
    store_facts,
)
from rusty_lantern.core.facts import REGISTER

__all__ = [
    "REGISTER",
    "bucket_facts",
    "holder_facts",
    "mirror_facts",
    "network_facts",
    "object_facts",
    "setting_facts",
    "store_facts",
]
