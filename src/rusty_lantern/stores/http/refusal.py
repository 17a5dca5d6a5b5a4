"""What an answer that is no answer says: its code in words, and what it means for the question."""

from __future__ import annotations

from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.http.regions import redirection
from rusty_lantern.stores.http.reply import Reply
from rusty_lantern.stores.http.xml import child, name, parse

NO_LISTING = "200, with something that is no listing"
"""The answer of whatever is in front of a store: nobody was let in by that, and nobody kept out."""


def error_code(body: bytes) -> tuple[str, str]:
    """Code and message of an error document; empty where there is none to be read."""
    if not body.strip():
        return "", ""
    try:
        root = parse(body)
    except RequestFailed:
        return "", "without a readable reason"
    within = child(root, "Error") if name(root) == "ErrorResponse" else None
    root = root if within is None else within
    parts = {name(part): (part.text or "").strip() for part in reversed(root)}
    return parts.get("Code", "")[:80], parts.get("Message", "")[:200]


_REFUSALS = {
    "InvalidAccessKeyId": "the store does not know this access key",
    "SignatureDoesNotMatch": "the signature is refused: the secret is wrong",
    "RequestTimeTooSkewed": "the clocks differ too much for a signature to be accepted",
    "ExpiredToken": "the credential has expired",
    "InvalidToken": "the session token is not accepted",
}


def refusal(code: str) -> str:
    """A refusal in words."""
    return _REFUSALS.get(code, code or "without a reason")


def read_status(reply: Reply) -> None:
    """Nothing for an answer of 200. Raises `RequestFailed` for any other."""
    if reply.status != 200:
        raise refusal_of(reply)


def refusal_of(reply: Reply) -> RequestFailed:
    """The error for an answer that is none, to raise."""
    code, message = error_code(reply.body)
    if reply.status in (401, 403):
        return RequestFailed("denied", refusal(code), f"{reply.status} {code}".strip())
    if 300 <= reply.status < 400:
        return RequestFailed("failed", redirection(reply), str(reply.status))
    return RequestFailed(
        "failed", f"answered {reply.status} {code or message}".strip(), f"{reply.status} {code}".strip()
    )
