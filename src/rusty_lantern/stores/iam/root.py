"""The root of an account, as an identity service shows it: in the account summary alone."""

from __future__ import annotations

from typing import Any

from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.identity import Credential, Identity, Password
from rusty_lantern.stores.iam.answers import AS_ROOT, ROOT, read_summary
from rusty_lantern.stores.iam.query_client import QueryClient


async def read_root(asker: QueryClient) -> tuple[list[Identity], list[Credential]]:
    """The account's root, as the account summary shows it. Where the summary was not read, there is a root of which
    nothing is known, and it may have a key."""
    summary = await asker.answer("GetAccountSummary", read_summary)
    if summary.state == "unsupported":
        return [], []
    counts = summary.value or {}
    keys, none = counts.get("AccountAccessKeysPresent", ""), Answer[Any]("absent")
    if not (keys.isascii() and keys.isdigit()):
        note = summary.note if summary.unread else "the account summary does not show the root's keys"
        lost: Answer[Any] = Answer(summary.state if summary.unread else "failed", None, note, summary.evidence)
        root = Identity(
            name=ROOT, kind="root", state=lost, mfa=lost, groups=none, policies=none, password=lost,
            administers=AS_ROOT,
        )  # fmt: skip
        key = Credential(
            id="root-key-unread", owner=ROOT, state=lost, created=lost, last_used=lost, expires=none, used_for=lost
        )
        return [root], [key]
    factor: Answer[bool] = Answer("known", counts.get("AccountMFAEnabled") == "1", "", summary.evidence)
    untold: Answer[Any] = Answer("unsupported", None, "the service says only that there is one", summary.evidence)
    root = Identity(
        name=ROOT, kind="root", state=Answer("known", "enabled"), mfa=factor, groups=none, policies=none,
        password=Answer("known", Password(untold, untold)), administers=AS_ROOT,
    )  # fmt: skip
    mine = [
        Credential(id=f"root-key-{n + 1}", owner=ROOT, state=Answer("known", "active"), created=untold,
        last_used=untold,
                   expires=Answer("absent"), used_for=untold)
        for n in range(min(int(keys), 10))
    ]  # fmt: skip
    return [root], mine
