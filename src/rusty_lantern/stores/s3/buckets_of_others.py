"""Buckets that the list of a credential's own does not have, and that it may be allowed to read all the same.

A list of buckets has those of the user who asks. On a gateway, the administration door lists those of all users, and a
user whom their policies, or its own permissions, let in can read them too. A bucket in a tenant is asked for as
`TENANT:NAME` from outside; its own users may do so as well, and without that, two tenants' buckets of one name would be
taken for one.
"""

from __future__ import annotations

import asyncio
from datetime import datetime

from rusty_lantern.core.answer import Answer
from rusty_lantern.stores.http.client import Client
from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.reader import Visit
from rusty_lantern.stores.s3.bucket_list import Listed

FIRST = "acl"
"""What is asked of each first. Where that is refused, the rest is not asked."""
AT_ONCE = 64


def own_buckets(listed: Listed, visit: Visit) -> dict[str, Answer[datetime]]:
    """The user's own buckets; with the tenant before the name where buckets of other tenants are listed too."""
    tenant, dollar, _ = listed.owner.partition("$")
    with_tenants = dollar and any(door.name == "admin" for door in visit.store.doors)
    return {f"{tenant}:{name}" if with_tenants else name: created for name, created in listed.created.items()}


def others_buckets(listed: Listed, visit: Visit) -> list[str]:
    """The buckets of others that the store's administration door lists. To a user in a tenant, a name without one
    means a bucket in that tenant, so those in none are not asked of it."""
    own = own_buckets(listed, visit)
    in_tenant = "$" in listed.owner
    return [name for name in visit.listed_elsewhere if name not in own and (":" in name or not in_tenant)]


async def answering(client: Client, buckets: list[str]) -> list[str]:
    """Those of the buckets about which the store answers this credential."""
    gate = asyncio.Semaphore(AT_ONCE)

    async def answers(bucket: str) -> bool:
        async with gate:
            try:
                return (await client.ask(bucket, ((FIRST, ""),))).status == 200
            except RequestFailed:
                return False

    answered_each = await asyncio.gather(*map(answers, buckets))
    return [bucket for bucket, answered in zip(buckets, answered_each, strict=True) if answered]
