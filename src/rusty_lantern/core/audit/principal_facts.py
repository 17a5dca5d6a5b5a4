"""The facts `principals.VERB`: everybody who may use a verb on a bucket, by name.

The public, as `anyone` and `any-account`; the store's own identities, by their own permissions and the bucket's rules
together; and whoever else the rules name. A group or a role of the store, and its account as a whole, are told as the
identities that they stand for.
"""

from __future__ import annotations

from collections.abc import Iterator

from rusty_lantern.core.access.effective_permissions import EffectivePermissions
from rusty_lantern.core.access.policy.condition_keys import AUDIENCES
from rusty_lantern.core.access.policy.principals import Principal
from rusty_lantern.core.access.solver.principal_reach import Reach
from rusty_lantern.core.answer import Answer, Fact, Partly
from rusty_lantern.core.audit.named_access import NamedView
from rusty_lantern.core.model.identity import Verb
from rusty_lantern.core.value_types import NAMES


def principals_fact(view: NamedView, verb: Verb) -> Fact:
    """Who may use a verb; partly known where it is not known of somebody, or not everybody is known."""
    found = list(_reaching(view, verb))
    sure = {name for name, reach in found if reach.level in ("restricted", "open")}
    asked = view.bucket.policy.evidence
    why = next((_why(name, reach) for name, reach in found if reach.level == "unknown" and name not in sure), "")
    why = why or next(iter(view.rules.doubted.values()), "") or _unlisted(view)
    if why:
        return Partly("failed", None, why, asked, certain=NAMES.join(sure))
    return Answer("known", NAMES.join(sure), "", asked)


def _reaching(view: NamedView, verb: Verb) -> Iterator[tuple[str, Reach]]:
    """Everybody who may use it, or perhaps may, and how far it goes."""
    for audience in AUDIENCES:
        verdict = view.verdicts[audience, verb]
        yield audience, Reach(verdict.level, doubts=verdict.doubts)
    name = view.bucket.name
    across = view.across or EffectivePermissions({name: view}, view.index)
    for holder, reached in across.on_bucket(name):
        if verb in reached:
            yield holder.name, reached[verb]
    for who in view.named:
        if not _told_as_own(view, who):
            yield who.label, view.granted(who)[verb]


def _told_as_own(view: NamedView, who: Principal) -> bool:
    """Whether the store's own identities tell of whom the rules name: it is one of them, or stands for some."""
    people = view.index.dossier.identities.value
    if not people:
        return False
    if view.holder(who.name) is not None or who.label in {view.account, view.bucket.owner.value}:
        return True
    in_groups = who.kind == "group" and who.name in view.index.groups
    return in_groups or who.label in view.index.aliases


def _why(name: str, reach: Reach) -> str:
    said = reach.doubts[0] if reach.doubts else "its permissions are not understood"
    return said if name in AUDIENCES else f"{name}: {said}"


def _unlisted(view: NamedView) -> str:
    """Why the store may have identities that are not known; empty where all are."""
    listed = view.index.dossier.identities
    why = listed.reason if listed.unread else next(iter(view.index.unlisted.values()), "")
    return why and f"who else may use it by permissions of their own is not known: {why}"
