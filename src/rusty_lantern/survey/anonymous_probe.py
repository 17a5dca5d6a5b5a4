"""The anonymous test: the request most likely to be let in by each bucket's own rules, sent without credentials.

What an answer means is for the core to say; how a request is sent, for the store's reader.
"""

from __future__ import annotations

import asyncio
from collections.abc import Sequence

import msgspec

from rusty_lantern.core.access.evaluator.evaluate import decide
from rusty_lantern.core.access.evaluator.request import Request
from rusty_lantern.core.access.policy.condition_keys import POINT_KEYS
from rusty_lantern.core.access.probe_check import forged_request, with_concluded_guards
from rusty_lantern.core.access.solver.exposure import request_for
from rusty_lantern.core.answer import Answer, Evidence
from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.audit.store_subject import views
from rusty_lantern.core.config.estate import Estate
from rusty_lantern.core.errors import LanternError, defect
from rusty_lantern.core.model.bucket import Bucket, ProbeAnswer
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.core.model.identity import Verb
from rusty_lantern.stores.door_probe import DoorProbe
from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.http.time_budget import USUAL, Patience, patient
from rusty_lantern.stores.reader import StoreReader

ACTIONS: dict[Verb, tuple[str, ...]] = {
    "list": ("s3:ListBucket", "s3:ListBucketVersions", "s3:ListBucketMultipartUploads"),
    "read": ("s3:GetObject",),
}
"""What is tried of each verb: the first that the rules let in."""
AT_ONCE = 4
PATIENCE = 15
"""Seconds that one bucket's answers may be late."""


async def probe_store(
    reader: StoreReader, dossier: Dossier, estate: Estate, doors: Sequence[DoorProbe] = ()
) -> Dossier:
    """The dossier with what every bucket answered, at each door. A few buckets are tried at the same time."""
    left = iter(views([dossier], estate, dossier.taken))
    tried: list[Bucket] = []

    async def worker() -> None:
        for view in left:
            tried.append(await probe_bucket(reader, view, doors))

    async with asyncio.TaskGroup() as group:
        for _ in range(AT_ONCE):
            group.create_task(worker())
    buckets = sorted(tried, key=lambda bucket: bucket.name)
    return with_concluded_guards(msgspec.structs.replace(dossier, buckets=buckets))


async def probe_bucket(reader: StoreReader, view: BucketSubject, doors: Sequence[DoorProbe] = ()) -> Bucket:
    """A bucket with what it answered; whatever goes wrong with it, the others are tried."""
    patience, limit = (view.entry.patience.bucket, view.entry.timeout) if view.entry else (PATIENCE, 2 * USUAL)
    try:
        with patient(Patience(min(PATIENCE, patience), limit)):
            answers = await _ask(reader, view, doors)
    except LanternError:
        raise
    except Exception as error:
        return msgspec.structs.replace(view.bucket, anonymous_test=Answer("failed", None, defect(error)))
    evidence = Evidence("; ".join(k.asked for k in answers), "; ".join(k.answer for k in answers), view.dossier.taken)
    return msgspec.structs.replace(view.bucket, anonymous_test=Answer("known", answers, "", evidence))


def _likeliest(view: BucketSubject, actions: Sequence[str], keys: Sequence[str]) -> tuple[Request, bool]:
    """The request to try, as it is sent to this store, and whether the rules surely let it in."""
    likely = request_for(view.rules, view.surroundings, "anyone", actions, keys)
    by_tls = "false" if view.entry is not None and view.entry.at.startswith("http:") else "true"
    context = {**likely.request.context, "aws:securetransport": (by_tls,)}
    context = {key: values for key, values in context.items() if not key.startswith(POINT_KEYS)}  # no point is asked
    request = msgspec.structs.replace(likely.request, context=context)
    return request, likely.from_anywhere and decide(view.rules, request).allowed is True


async def _ask(reader: StoreReader, view: BucketSubject, doors: Sequence[DoorProbe]) -> list[ProbeAnswer]:
    """Try to list a bucket and to read an object of it; the credential finds a key that exists."""
    name = view.bucket.name
    keys: list[str] = []
    answers = []
    try:
        keys = await reader.some_keys(name)
    except RequestFailed as error:
        why = f"not sent: which objects there are is not known ({error.note or error.answer})"
        answers.append(ProbeAnswer("read", f"GET /{name}/…", why, None))
    for verb, actions in ACTIONS.items():
        if keys or verb == "list":
            request, allowed = _likeliest(view, actions, keys)
            mine = [await reader.ask_anonymously(name, verb, request)]
            if mine[0].let_in is False and (forged := forged_request(view.rules, request)) is not None:
                mine.append(await reader.ask_anonymously(name, verb, forged))
            mine += [await door.ask(name, verb, request) for door in doors if verb in door.verbs]
            answers += [msgspec.structs.replace(answer, allowed=allowed) for answer in mine]
    return answers
