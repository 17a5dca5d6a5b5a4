"""Whether a gateway takes sessions of roles.

Its roles are listed by POST alone, which is never sent here. They let in whoever their trust policy names, by
permissions of their own and whatever a bucket's policy allows; and they count for nothing while the setting
`rgw s3 auth use sts` is off, as it comes. Then a session token is passed over; else one that nobody issued is refused.
Measured on release 16.2.
"""

from __future__ import annotations

from datetime import datetime

from rusty_lantern.core.answer import Answer, Evidence
from rusty_lantern.core.model.identity import Identity
from rusty_lantern.core.model.unlisted import any_of
from rusty_lantern.stores.http.client import Client
from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.http.refusal import refusal_of
from rusty_lantern.stores.http.tls_check import apart

MADE_UP = "b2Ygbm8gc2Vzc2lvbg=="
REFUSALS = (400, 401, 403)
"""Answers to a token that was looked at."""
QUESTION = "GET / with a session token that nobody issued"
NOT_SHOWN = "the gateway takes sessions of roles, and shows its roles to no question that only reads"


async def takes_sessions(client: Client, moment: datetime) -> Answer[bool]:
    """Whether a gateway looks at the session token of a request that is valid without one."""
    try:
        plain = await client.ask()
        if plain.status != 200:
            raise refusal_of(plain)
        reply = await client.ask(headers={"x-amz-security-token": MADE_UP}, memory=apart(client.memory, "token"))
        if reply.status not in (200, *REFUSALS):
            raise refusal_of(reply)
    except RequestFailed as error:
        note = f"whether the gateway takes sessions of roles is not known: {error.note}"
        return Answer(error.state, None, note, Evidence(QUESTION, error.answer, moment))
    return Answer("known", reply.status in REFUSALS, "", Evidence(QUESTION, str(reply.status), moment))


def roles_behind(sessions: Answer[bool]) -> list[Identity]:
    """The roles that a gateway may have, as one of which nothing is known; none where it takes no sessions."""
    if sessions.value is False:
        return []
    return [any_of("role", Answer("failed", None, NOT_SHOWN, sessions.evidence) if sessions.value else sessions)]
