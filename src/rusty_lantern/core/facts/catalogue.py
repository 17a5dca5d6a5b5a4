"""The register, filled: importing this module enters every fact, in the order of the reference page."""

from rusty_lantern.core.facts import (  # isort: skip
    bucket_access,
    bucket_acls,
    bucket_versions_and_locks,
    bucket_inventory,
    bucket_protection,
    bucket_service,
    bucket_settings,
    bucket_web,
    bucket_contents,
    bucket_usage,
    identities,
    credentials,
    objects,
    replicas,
    encryption_keys,
    links,
    store,
)
from rusty_lantern.core.facts.registry import REGISTER

__all__ = [
    "REGISTER",
    "bucket_access",
    "bucket_acls",
    "bucket_contents",
    "bucket_inventory",
    "bucket_protection",
    "bucket_service",
    "bucket_settings",
    "bucket_usage",
    "bucket_versions_and_locks",
    "bucket_web",
    "credentials",
    "encryption_keys",
    "identities",
    "links",
    "objects",
    "replicas",
    "store",
]
