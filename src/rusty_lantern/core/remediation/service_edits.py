"""Edits of a policy that bind the services that it lets in to the accounts that they are to act for."""

from __future__ import annotations

import json
from collections.abc import Sequence

import msgspec

from rusty_lantern.core.access.policy.document import parse_policy
from rusty_lantern.core.access.rules.provider_services import unbound_services
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.remediation.written_policy import statements_of

ACCOUNT_KEY = "aws:SourceAccount"


def unbound_statements(view: BucketSubject) -> dict[int, str]:
    """The numbers of the policy's statements, from 0, that let in services for whichever account they act, with the
    title of each."""
    text = view.bucket.policy.value
    policy = parse_policy(text) if text is not None else None
    if policy is None or policy.unreadable or len(policy.statements) != len(statements_of(view)):
        return {}
    return {number: said.title for number, said in enumerate(policy.statements) if unbound_services(said)}


def with_bound_services(view: BucketSubject, number: int, accounts: Sequence[str]) -> BucketSubject:
    """The bucket with a statement whose services act for these accounts alone."""
    document = json.loads(view.bucket.policy.value or "{}")
    statements = statements_of(view)
    mine = statements[number]
    equal = mine.get("Condition", {}).get("StringEquals", {}) | {ACCOUNT_KEY: list(accounts)}
    bound = mine | {"Condition": mine.get("Condition", {}) | {"StringEquals": equal}}
    document["Statement"] = [*statements[:number], bound, *statements[number + 1 :]]
    text = json.dumps(document, indent=1, ensure_ascii=False)
    bucket = msgspec.structs.replace(view.bucket, policy=Answer("known", text))
    return msgspec.structs.replace(view, bucket=bucket)
