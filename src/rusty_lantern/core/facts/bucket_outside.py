"""Facts of what a bucket sends into other accounts: news of its changes, and copies of what is stored in it.

Neither is a way in, and no rule of the bucket shows it: whoever may set it up takes everything out.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any

from rusty_lantern.core.answer import Answer, Fact, lost
from rusty_lantern.core.facts.bucket_replication import REPLICATION_ACTIONS
from rusty_lantern.core.facts.registry import BucketView, fact
from rusty_lantern.core.value_types import SWITCH

_NUMBER = re.compile("[0-9]{12}")


@fact(
    "notifications.outside",
    SWITCH,
    "whether something in another account, one that is not trusted, is notified of changes in the bucket",
    advice="take the outside target out, or trust its account in the estate file ({note})",
    causes="PutBucketNotification PutBucketNotificationConfiguration",
    safe="off",
    grave=True,
)
def notifications_outside(subject: BucketView, _: str) -> Fact:
    """Off where there are no notifications at all. A gateway's topics have no account, and where a topic or an event
    bus sends what it gets, no bucket shows."""
    targets = subject.bucket.notifications
    return _outside(subject, targets, [(name, _account_of(name)) for name in targets.value or ()])


@fact(
    "replication.outside",
    SWITCH,
    "whether the store itself copies what is stored into another account, one that is not trusted",
    area="access",
    advice="take the rule out of the bucket, or trust the account in the estate file ({note})",
    causes=REPLICATION_ACTIONS,
    safe="off",
    grave=True,
)
def replication_outside(subject: BucketView, _: str) -> Fact:
    """Off where nothing is copied. A target that shows no account is the store's own where the store lists it, and
    else anybody's; one that is named by its address is in an account of that name, here or in another store."""
    rules = subject.bucket.replication
    others = [rule for rule in rules.value or () if rule.account or subject.neighbour(rule.target) is None]
    own = subject.own_accounts - subject.trusted_accounts
    return _outside(
        subject,
        rules,
        [(one.target, "" if "/" in one.target and one.account in own else one.account) for one in others],
    )


def _account_of(resource: str) -> str:
    """The account number that a resource name has in its fifth part; empty: none. Gateways have other things there."""
    parts = resource.split(":")
    return parts[4] if len(parts) > 5 and _NUMBER.fullmatch(parts[4]) else ""


def _outside(subject: BucketView, setting: Answer[Any], accounts: Sequence[tuple[str, str]]) -> Fact:
    """Whether something is sent into an account that is neither the bucket's nor trusted. `accounts`: what it is sent
    and its account; empty: not shown."""
    if not setting.settled:
        return lost(setting)
    inner = subject.own_accounts | subject.trusted_accounts
    doubt: Fact | None = None
    for target, account in accounts:
        if not account:
            doubt = Answer("failed", None, f"in whose account it ends is not shown: {target}", setting.evidence)
        elif account in inner:
            continue
        elif any(bool(_NUMBER.fullmatch(own)) == bool(_NUMBER.fullmatch(account)) for own in subject.own_accounts):
            return Answer("known", "on", f"to {target} of the account {account}", setting.evidence)
        elif subject.dossier.account.unread:
            doubt = lost(subject.dossier.account)
        else:
            doubt = Answer("failed", None, "the store's account number is not known", setting.evidence)
    return doubt or Answer("known", "off", setting.note, setting.evidence)
