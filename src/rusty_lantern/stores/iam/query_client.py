"""Questions to an identity service of the widely implemented query protocol.

Only actions that read are ever named (`READING`), and they are put as GET, so that nothing can be changed from here.
What the service does not offer is learnt once and not asked again.
"""

from __future__ import annotations

from collections.abc import AsyncIterator
from datetime import datetime
from typing import Any, TypeVar

from rusty_lantern.core.answer import Answer, Evidence
from rusty_lantern.stores.http.client import Client
from rusty_lantern.stores.http.errors import RequestFailed
from rusty_lantern.stores.http.refusal import error_code, refusal
from rusty_lantern.stores.http.xml import Element, child, children, name, parse, switch, text

VERSION = "2010-05-08"
READING = frozenset({
    "GetAccountAuthorizationDetails", "GetAccountSummary", "ListUsers", "GetUser", "ListGroupsForUser",
    "ListUserPolicies", "GetUserPolicy", "ListAttachedUserPolicies", "ListGroupPolicies", "GetGroupPolicy",
    "ListAttachedGroupPolicies", "ListRoles", "GetRole", "ListRolePolicies", "GetRolePolicy",
    "ListAttachedRolePolicies", "GetPolicy", "GetPolicyVersion", "ListAccessKeys", "GetAccessKeyLastUsed",
    "GetLoginProfile", "ListMFADevices",
})  # fmt: skip
MAX_PAGES = 2_000

T = TypeVar("T")
U = TypeVar("U")


BUCKETS = "ListAllMyBucketsResult"
"""What a store answers that has no identity service, and looks at no `Action` (measured on a gateway)."""


class Missing(Exception):
    """The service knows no such thing."""


class QueryClient:
    """Puts questions to one identity service."""

    def __init__(self, client: Client, moment: datetime, most: int | None = None) -> None:
        self.client = client
        self.moment = moment
        self.most = most
        """How many entries represent a list, whose first page alone is asked for then; None: all of it is."""
        self.lacking: dict[str, RequestFailed] = {}
        self.texts: dict[str, str] = {}
        """Managed documents that were asked for already, by resource name: many identities have the same."""

    async def ask(self, action: str, **about: str) -> Element:
        """The result of one action. Raises `RequestFailed`, or `Missing` where there is no such entity."""
        assert action in READING
        if action in self.lacking:
            raise self.lacking[action]
        query = (("Action", action), ("Version", VERSION), *about.items())
        reply = await self.client.ask(query=query)
        if reply.status == 200:
            root = parse(reply.body)
            result = child(root, f"{action}Result")
            if result is not None:
                return result
            answer = f'answered with a "{name(root)[:60]}"'
            if name(root) == BUCKETS:
                raise self._lacks(action, answer)
            raise RequestFailed("failed", answer, "200")
        code, message = error_code(_error_part(reply.body))
        if reply.status == 404 and code == "NoSuchEntity":
            raise Missing
        if reply.status in (401, 403):
            raise RequestFailed("denied", refusal(code), f"{reply.status} {code}".strip())
        if "Action" in code or code in ("NotImplemented", "MethodNotAllowed"):  # the service's own word alone
            raise self._lacks(action, f"answered {reply.status} {code}".strip())
        raise RequestFailed("failed", f"answered {reply.status} {code or message}".strip(), str(reply.status))

    def _lacks(self, action: str, answer: str) -> RequestFailed:
        self.lacking[action] = RequestFailed("unsupported", "", answer)
        return self.lacking[action]

    async def pages(self, action: str, **about: str) -> AsyncIterator[Element]:
        """The results of an action, page by page. Raises `RequestFailed` for a list that never ends."""
        seen = {""}
        marker: dict[str, str] = {}
        for _ in range(MAX_PAGES):
            result = await self.ask(action, **about, **marker)
            yield result
            following = text(result, "Marker")
            if self.most is not None or not switch(result, "IsTruncated"):
                return
            if following in seen:
                break
            seen.add(following)
            marker = {"Marker": following}
        raise RequestFailed("failed", f"{action} never ends: a page came twice, or too many came", "endless list")

    async def answer(self, action: str, read: Any, **about: str) -> Answer[Any]:
        """What `read` makes of an action's result; absent where there is no such entity."""
        question = f"GET {action}" + "".join(f" {value}" for value in about.values())
        try:
            return Answer("known", read(await self.ask(action, **about)), "", Evidence(question, "200", self.moment))
        except Missing:
            return Answer("absent", None, "", Evidence(question, "404", self.moment))
        except RequestFailed as error:
            return Answer(error.state, None, error.note, Evidence(question, error.answer, self.moment))


def _error_part(body: bytes) -> bytes:
    """The inner error of an answer in the query protocol's wrapping."""
    start, end = body.find(b"<Error>"), body.rfind(b"</Error>")
    return body[start : end + len(b"</Error>")] if 0 <= start < end else body


def members(element: Element, wanted: str) -> list[Element]:
    """The entries of a list in an answer."""
    listed = child(element, wanted)
    return list(children(listed, "member")) if listed is not None else []
