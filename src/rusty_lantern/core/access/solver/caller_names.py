"""A caller's account, sort and user name, all follow from one thing: the resource name that its requests carry.

`aws:PrincipalAccount`, `aws:PrincipalType` and `aws:username` cannot differ from `aws:PrincipalArn`: a user's name is
the last part of it, only users have one, and a session has its role's name. So for signed requests a condition on any
of them is a set of resource names, and no region ever holds a caller who cannot be.

Outsiders name their users and roles as they please, and do not choose their account's number: they open accounts and
get some. A set of names is theirs if it fits enough account numbers (`RESTRICTION_ACCOUNTS`).
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from functools import lru_cache

from rusty_lantern.core.access.policy.condition_keys import (
    ACCOUNT,
    OUTSIDER_ACCOUNT,
    OUTSIDER_NAME,
    RESTRICTION_ACCOUNTS,
    SORT,
    USER,
)
from rusty_lantern.core.access.solver.sets import Budget
from rusty_lantern.core.access.solver.sets.automata import NO_TEXTS, TextSet, just
from rusty_lantern.core.access.solver.sets.matching import globs, matching
from rusty_lantern.core.access.solver.sets.patterns import ANY_PART, RUN, RUN_PART, Pattern, plain, stopping

FOLLOWS_FROM_NAME = frozenset({ACCOUNT, SORT, USER})
"""Keys whose values follow from the caller's resource name."""

_DIGITS = frozenset("0123456789")
_NUMBER: Pattern = (_DIGITS,) * 12
_SORTS: dict[str, tuple[str, Pattern]] = {
    "Account": ("iam", plain("root")),
    "User": ("iam", (*plain("user/"), ANY_PART, RUN_PART)),
    "AssumedRole": ("iam", (*plain("role/"), ANY_PART, RUN_PART)),
    "FederatedUser": ("sts", (*plain("federated-user/"), ANY_PART, RUN_PART)),
}
"""What `aws:PrincipalType` says → the service and the last part of the caller's resource name."""


def names_of(accounts: Iterable[Pattern], sorts: Iterable[str] = tuple(_SORTS)) -> tuple[Pattern, ...]:
    """The resource names of callers of these sorts in these accounts."""
    return tuple(
        (*plain("arn:"), RUN_PART, *plain(f":{service}::"), *account, *plain(":"), *last)
        for account in accounts
        for service, last in (_SORTS[sort] for sort in sorts)
    )


_ANY_ACCOUNT: Pattern = (RUN_PART,)


@lru_cache(maxsize=1024)
def names_where(key: str, patterns: tuple[Pattern, ...]) -> TextSet:
    """The resource names of callers whose attribute `key` matches one of the patterns. Raises `OverBudget`."""
    work = Budget(_ENOUGH)
    if key == ACCOUNT:
        return matching(names_of(stopping(pattern, ":") for pattern in patterns), work)
    if key == SORT:
        words = matching(patterns, work)
        return matching(names_of([_ANY_ACCOUNT], [sort for sort in _SORTS if words.holds(sort)]), work)
    start = (*plain("arn:"), RUN_PART, *plain(":iam::"), RUN_PART, *plain(":user/"))
    paths: tuple[Pattern, ...] = ((), (RUN_PART, *plain("/")))
    return matching(tuple((*start, *path, *stopping(p, ":/")) for p in patterns for path in paths), work)


@lru_cache(maxsize=8)
def names_without(key: str) -> TextSet:
    """The resource names of callers that do not carry `key`: only users have a user name, all have the others."""
    if key != USER:
        return NO_TEXTS
    return matching(names_of([_ANY_ACCOUNT], [sort for sort in _SORTS if sort != "User"]), Budget(_ENOUGH))


@lru_cache(maxsize=256)
def all_callers(named: frozenset[str], inside: frozenset[str]) -> TextSet:
    """The resource names that outsiders could have: all but those in accounts of the team.

    Accounts have numbers of twelve digits; those of some stores have other names, of which only the ones that rules
    name (`named`) count.
    """
    work = Budget(_ENOUGH)
    accounts: list[Pattern] = [_NUMBER, *(plain(name) for name in sorted(named))]
    everyone = matching(names_of(accounts), work)
    team = matching(names_of(plain(account) for account in sorted(inside)), work)
    return everyone if team.empty else everyone.minus(team, work)


ORGANISATION, BELOW_IT = "aws:principalorgid", "aws:principalorgpaths"
"""Keys that say to which organisation a caller belongs, and where in it."""


@lru_cache(maxsize=64)
def values_of_trusted(key: str, trusted: frozenset[str]) -> TextSet:
    """The values of one of these keys that members of organisations of the team's have."""
    end: Pattern = () if key == ORGANISATION else (*plain("/"), RUN)
    return matching(tuple((*plain(name), *end) for name in sorted(trusted)), Budget(_ENOUGH))


_ENOUGH = 60_000
"""Steps for a few hundred accounts."""

_IN_NAME = re.compile(r"arn:[^:]*:(?:iam|sts)::([^:*?$]*):")


def accounts_in(values: Iterable[str], *, of_accounts: bool) -> list[str]:
    """Accounts with names other than numbers in the values of a condition on names, or `of_accounts`."""
    if of_accounts:
        named = [value for value in values if not set("*?$:") & set(value)]
    else:
        named = [match[1] for value in values if (match := _IN_NAME.match(value))]
    return [name for name in named if not re.fullmatch(r"\d{12}", name)]


def outsiders(texts: TextSet, work: Budget, *, given: bool = False) -> TextSet:
    """Of a set of resource names, those that an outsider can have: of one account that represents enough of them.
    `given`: who asks does not name themselves, so that one name stands for all."""
    key = ("outsiders", id(texts), given)
    if key not in work.memo:
        fitting = _fitting_account(texts, work)
        own = ([_given_name(fitting)] if given else _names_in(fitting)) if fitting else None
        work.memo[key] = (globs(own, work) if own else NO_TEXTS, texts)
    made: TextSet = work.memo[key][0]
    return made


def _names_in(account: str) -> list[str]:
    return [f"arn:aws:{s}::{account}:{last}" for s, last in (
        ("iam", "root"), ("iam", "user/?*"), ("iam", "role/?*"), ("sts", "federated-user/?*"),
    )]  # fmt: skip


def _given_name(account: str) -> str:
    """The resource name of a user whom nobody has in mind."""
    return OUTSIDER_NAME.replace(OUTSIDER_ACCOUNT, account)


def _fitting_account(texts: TextSet, work: Budget) -> str:
    """An account number that fits, if so many others do that an outsider can come by one."""
    for service in ("iam", "sts"):
        start = texts.state_after(f"arn:aws:{service}::")
        lasts = tuple(last for of, last in _SORTS.values() if of == service)
        counts = _Counts(texts, matching(tuple((*plain(":"), *last) for last in lasts), work), work)
        if counts.of(start, 12) >= RESTRICTION_ACCOUNTS:
            return counts.pick(start)
    return ""


class _Counts:
    """How many account numbers lead on from a state of an automaton to a whole name."""

    def __init__(self, texts: TextSet, ends: TextSet, work: Budget) -> None:
        self.texts = texts
        self.ends = ends
        self.work = work
        self.known: dict[tuple[int, int], int] = {}

    def of(self, state: int, digits: int) -> int:
        """The count of numbers with this many digits still to come."""
        known = self.known.get((state, digits))
        if known is None:
            self.work.spend(4)
            if self.texts.stays(state):
                known = 10**digits if self.texts.accept[state] else 0
            elif digits:
                known = sum(self.of(self.texts.step(state, digit), digits - 1) for digit in "0123456789")
            else:
                known = int(not self.texts.behind(state).meet(self.ends, self.work).empty)
            self.known[state, digits] = known
        return known

    def pick(self, state: int) -> str:
        """A number that fits, the usual one where it does."""
        picked = ""
        for place, usual in enumerate(OUTSIDER_ACCOUNT):
            order = sorted("0123456789", key=lambda d, u=usual: d != u)  # type: ignore[misc]
            digit = next(d for d in order if self.of(self.texts.step(state, d), 11 - place))
            picked, state = picked + digit, self.texts.step(state, digit)
        return picked


def usual_name(texts: TextSet) -> str:
    """A resource name out of a set, as usual as may be. Raises nothing: a set that has no usual one gives its own."""
    if texts.holds(OUTSIDER_NAME):
        return OUTSIDER_NAME
    for start in ("arn:aws:iam::", "arn:aws:sts::"):
        rest = texts.after(start).pick()
        if rest is not None:
            return start + rest
    return texts.pick() or ""


_ACCOUNTS = ("000000000000", OUTSIDER_ACCOUNT)
"""Accounts that have nothing in common."""


MOST_LISTED = 3
"""Accounts, or other values of a condition, that words list; of more, the first stands for all."""


def listed(names: Sequence[str], *, all_of_them: bool) -> str:
    """Names in words.

    >>> listed(["a"], all_of_them=True), listed(["a", "b", "c"], all_of_them=True), listed(["a"], all_of_them=False)
    ('"a"', '"a", "b" or "c"', '"a" and others')
    """
    quoted = [f'"{name}"' for name in names]
    if not all_of_them:
        return f"{quoted[0]} and others"
    return " or ".join([*([", ".join(quoted[:-1])] if quoted[1:] else []), quoted[-1]])


def whose(texts: TextSet, work: Budget) -> str:
    """In words, whose a set of resource names is: whole accounts', single identities', or whoever has one of some
    names. Raises `OverBudget`."""
    accounts: list[str] = []
    left = texts
    while not left.empty and len(accounts) < MOST_LISTED:
        account, last = _parted(usual_name(left))
        everybody = (f"arn:aws:iam::{account}:{one}" for one in ("root", "user/a", "user/z/z", "role/a"))
        if not all(map(left.holds, everybody)):
            break
        accounts.append(account)
        left = left.minus(matching(names_of([plain(account)]), work), work)
    if accounts:
        return f"account {listed(accounts, all_of_them=left.empty)}"
    name = usual_name(texts)
    account, last = _parted(name)
    if last.startswith("user/") and all(texts.holds(f"arn:aws:iam::{one}:{last}") for one in _ACCOUNTS):
        return f'users of certain names, such as "{last.removeprefix("user/")}"'
    return f"the identity {listed([name], all_of_them=texts.minus(just(name), work).empty)}"


def _parted(name: str) -> tuple[str, str]:
    account, _, last = name.split(":", 4)[-1].partition(":")
    return account, last


def signer(name: str) -> str:
    """In words, who signs a request of any account's, by a resource name; that is told where a name is asked of them.

    >>> signer("arn:aws:iam::909090909090:user/tide/reader")
    'any authenticated account, such as 909090909090, as its user "tide/reader"'
    >>> signer("arn:aws:iam:::user/warden")
    'anybody with credentials who is of no account, as its user "warden"'
    """
    account, _, last = name.split(":", 4)[-1].partition(":")
    words = (
        f"any authenticated account, such as {account}" if account else "anybody with credentials who is of no account"
    )
    kind, named, rest = last.partition("/")
    if not last or name == OUTSIDER_NAME or (last == "root" and not account):
        return words
    return f'{words}, as its {kind} "{rest}"' if named else f"{words}, as its {last}"
