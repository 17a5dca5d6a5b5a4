"""The register, filled: importing this module enters every fact, in the order of the reference page."""

from rusty_lantern.core.facts import bucket as bucket_facts
from rusty_lantern.core.facts import bucket_protection as network_facts
from rusty_lantern.core.facts import bucket_settings as setting_facts
from rusty_lantern.core.facts import identities as holder_facts
from rusty_lantern.core.facts import objects as object_facts
from rusty_lantern.core.facts import replicas as mirror_facts
from rusty_lantern.core.facts import store as store_facts
from rusty_lantern.core.facts.registry import REGISTER

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
