"""What a reply says to a question about a setting: a value, that nothing is configured, or why nothing can be said."""

from __future__ import annotations

import re
from datetime import datetime
from typing import Any

from rusty_lantern.core.answer import SECRET_SEEN, Answer, Evidence, State
from rusty_lantern.core.errors import defect
from rusty_lantern.intake.secret_patterns import REMOVED
from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.http.refusal import error_code, refusal
from rusty_lantern.stores.http.regions import redirection
from rusty_lantern.stores.http.reply import Reply
from rusty_lantern.stores.http.xml import name, parse
from rusty_lantern.stores.s3.settings import Question

_LISTINGS = ("ListBucketResult", "ListVersionsResult", "ListAllMyBucketsResult")
_NOT_OFFERED = ("NotImplemented", "MethodNotAllowed")
_GRANTING = ("acl", "owner", "policy", "public_status")
"""What lets somebody in. Only `NotImplemented` says that the store has no such thing: a policy is answered 405 to
whoever is not of the bucket's own account, and a proxy that drops the question gets a listing."""


DROPPED = ": the store, or something in front of it, drops the question"


def read_answer(question: Question, reply: Reply, sent: str, when: datetime) -> Answer[Any]:
    """What a reply says to a question. Never raises: an unusable reply is an answer with that state."""
    evidence = Evidence(sent, str(reply.status), when)
    try:
        if reply.status == 200:
            return _answered(question, reply.body, evidence)
        code, message = error_code(reply.body)
    except RequestFailed as error:
        return Answer(error.state, None, error.note, evidence)
    except Exception as error:  # what a store sends may break what reads it, but never more than this answer
        return Answer("failed", None, defect(error), evidence)
    return _refused(question, reply, code, message, Evidence(sent, f"{reply.status} {code}".strip(), when))


def _answered(question: Question, body: bytes, evidence: Evidence) -> Answer[Any]:
    if question.field == "policy" and body.lstrip()[:1] == b"{":
        return Answer("known", body.decode("utf-8", "replace"), _secret_note(body), evidence)
    root = parse(body)
    root_name = name(root)
    if root_name in _LISTINGS:
        granting = question.field in _GRANTING
        note = f"answered with a listing{DROPPED if granting else ''}"
        return Answer("failed" if granting else "unsupported", None, note, evidence)
    if not question.answered_by(root):
        return Answer("failed", None, f'answered with an unexpected "{root_name[:60]}"', evidence)
    value = question.decode(root)
    return Answer("known" if value is not None else "absent", value, _secret_note(body), evidence)


def _secret_note(body: bytes) -> str:
    """A note that the answer held a secret, where it did."""
    return SECRET_SEEN if REMOVED.encode() in body else ""


def _refused(question: Question, reply: Reply, code: str, message: str, evidence: Evidence) -> Answer[Any]:
    status = reply.status
    if status in (401, 403):
        return Answer("denied", None, refusal(code), evidence)
    if 300 <= status < 400:
        return Answer("failed", None, redirection(reply), evidence)
    if code == "NoSuchBucket":
        return Answer("failed", None, "the bucket is gone", evidence)
    state, note = _lacking(question, status, code)
    if state == "failed":
        note = f"answered {status} {code or message}".strip()
    return Answer(state, None, note, evidence)


def _lacking(question: Question, status: int, code: str) -> tuple[State, str]:
    """What a refusal says of a setting: that it is not configured, not offered, not shown, or nothing."""
    if status == 404 and question.none and question.none.lower() in code.lower() and _MISSING.search(code):
        return "absent", ""
    if question.field in _GRANTING:
        if code == "MethodNotAllowed":
            return "denied", "MethodNotAllowed: it is shown to the bucket's own account alone, or not offered"
        return ("unsupported" if code == "NotImplemented" else "failed"), ""
    return ("unsupported" if code in _NOT_OFFERED else "failed"), ""  # a bare 405 or 501 may be a proxy's


_MISSING = re.compile(r"(?i)no.?such|not.?found|not.?exist")
