"""How messages name a credential and a link, so that no two of a store have one name.

Drift, waivers and changes go by name, from survey to survey. The oldest of those that would have one name keeps
it, and the others have a few digits of their own after it: a new one never takes the name of one that is known.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from datetime import UTC, datetime
from typing import TypeVar

from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.core.model.identity import Credential, fingerprint, masked
from rusty_lantern.core.model.resources import Link

T = TypeVar("T", bound=Credential | Link)
LATEST = datetime.max.replace(tzinfo=UTC)


def names_of(dossier: Dossier) -> Mapping[int, str]:
    """The identity of each credential and link of a dossier, by its `id` → its name."""
    credentials = _distinct_names(dossier.credentials.value or (), name_of_credential, lambda one: one.created, _own_id)
    return credentials | _distinct_names(dossier.links.value or (), name_of_link, lambda one: one.issued, _own_terms)


def name_of_credential(credential: Credential) -> str:
    """Its owner, and its id masked."""
    return f"{credential.owner or 'nobody'} {masked(credential.id)}"


def _own_id(credential: Credential) -> str:
    return credential.id


def name_of_link(link: Link) -> str:
    """What it opens."""
    return f"{link.bucket}/{link.key}"


def _own_terms(link: Link) -> str:
    """All that a link is made of, but for what becomes of it."""
    terms = (link.scope, link.form, link.credential, link.policy, *link.verbs, *link.networks)
    return "\n".join(map(str, (*terms, link.issued.value, link.starts, link.expires.value)))


def _distinct_names(
    entries: Iterable[T], name: Callable[[T], str], made: Callable[[T], Answer[datetime]], own: Callable[[T], str]
) -> dict[int, str]:
    alike: dict[str, list[T]] = {}
    for entry in entries:
        alike.setdefault(name(entry), []).append(entry)
    titles: dict[int, str] = {}
    for title, mine in alike.items():
        first, *others = sorted(mine, key=lambda one: (made(one).value or LATEST, own(one)))
        titles[id(first)] = title
        titles |= {id(one): title if own(one) == own(first) else f"{title} ({fingerprint(own(one))})" for one in others}
    return titles
