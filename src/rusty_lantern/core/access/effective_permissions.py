"""What each identity can do across all buckets of a store, by its own permissions and the buckets' rules together.

Theory of operation. Thousands of identities times thousands of buckets are too many pairs to decide one by one, and
nearly all of them are alike. Identities with the same attached documents, named by the same rules, are one *profile*.
For a profile, buckets are alike if their rules are the same but for the bucket's own name (one *template*) and the
profile's resource patterns leave the same rests of themselves behind once the bucket's name is read. Rules with a
pattern that may reach several buckets are a template of their own. Names in a template are *veiled* for a profile:
only what part a name plays for it matters (its own, its group's, its account's, somebody else's). Only one bucket of
each kind is decided, exactly, by `reach_of`; past the budget the answer is `unknown`, never a guess.

Left out are buckets that neither side names: what is open to the public is no permission of anybody's. Buckets whose
rules could not be read may name anybody, and are never left out.

Whoever may assume a role can do what the role can: what facts say of an identity is its own and its roles' together.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterable, Mapping
from functools import cached_property
from itertools import chain
from typing import Protocol

from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.access.policy.principals import Principal
from rusty_lantern.core.access.reaching import PermissionGroup, ReachByBucket, grouped, merged, perhaps, perhaps_all
from rusty_lantern.core.access.resource_rests import NOTHING, Rest, Rests
from rusty_lantern.core.access.rule_templates import (
    DELEGATING,
    Template,
    asks_who,
    encoded,
    keyless,
    may_name_anybody,
    nameless,
    names_in,
    parts_of,
    refuses,
    veiled,
)
from rusty_lantern.core.access.rules.bucket_rules import EvaluationContext, Rules
from rusty_lantern.core.access.rules.identity_policies import (
    IdentityPolicies,
    combined_rules,
    for_insiders,
    identity_policies_of,
    own_account,
    principal_of,
    without_public,
)
from rusty_lantern.core.access.rules.named_identities import as_named
from rusty_lantern.core.access.solver.audience_view import BUDGET
from rusty_lantern.core.access.solver.principal_reach import Reach, reach_of
from rusty_lantern.core.access.solver.sets import Budget
from rusty_lantern.core.answer import Answer, Partly
from rusty_lantern.core.errors import defect
from rusty_lantern.core.model.assumed_roles import ABOUT_ROLES, AssumedRole, AssumedRoles
from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.core.model.identity import Identity, Verb
from rusty_lantern.core.model.store_index import NOT_WHOLE, StoreIndex
from rusty_lantern.core.value_types import Value

MOST_DECISIONS = 4_000
"""Kinds of pairs that are decided for one store; about 20 s at the worst, a fraction of one on a usual estate."""


class BucketContext(Protocol):
    """A bucket as the rules see it."""

    @property
    def bucket(self) -> Bucket:
        """What was read of it."""

    @property
    def rules(self) -> Rules:
        """Its rules."""

    @property
    def surroundings(self) -> EvaluationContext:
        """What decisions depend on besides."""


class EffectivePermissions:
    """The buckets of one store, ready to be asked about its identities."""

    def __init__(self, seen: Mapping[str, BucketContext], index: StoreIndex) -> None:
        self.seen = seen
        self.index = index
        self.names = sorted(seen)
        self.account = next((one.surroundings.account for one in seen.values()), "")
        self._templates: dict[str, Template] = {}
        self._by_key: dict[bytes, Template] = {}
        self._naming: dict[str, list[str]] | None = None
        self._decided: dict[object, dict[str, Reach]] = {}
        self._profiles: dict[object, list[PermissionGroup]] = {}
        self._found: dict[int, list[PermissionGroup]] = {}
        self.roles = AssumedRoles(index)
        self._with_roles: dict[Hashable, list[PermissionGroup]] = {}
        self._by_bucket: dict[int, Mapping[str, Mapping[str, Reach]]] = {}
        self._alive: list[IdentityPolicies | Identity] = []
        """Keeps identities and statements in memory, since they are compared by identity (`is`), not by value: a key
        and what it represents may share a name."""
        self._rests = Rests(self.names)
        self._granted: dict[object, dict[Verb, Reach]] = {}
        self._veiled: dict[object, bytes] = {}
        self._personal = False

    def of(self, identity: Identity) -> list[PermissionGroup]:
        """What an identity can do itself, bucket by bucket, those that are alike together; closed ones are left out."""
        if id(identity) not in self._found:
            self._found[id(identity)] = self._of(identity)
            self._alive.append(identity)
        return self._found[id(identity)]

    def with_roles(self, identity: Identity) -> list[PermissionGroup]:
        """What an identity can do, itself and by the roles that it may assume; a bucket may be in several groups. Of
        those that are alike it is one list."""
        own, (roles, unread) = self.of(identity), self.roles.of(identity)
        if not roles and not unread:
            return own
        theirs = self._lent(tuple((id(self.of(role)), doubt) for role, doubt in roles), roles, unread)
        return self._with_roles.setdefault((id(own), id(theirs)), own + theirs)

    def _lent(self, key: Hashable, roles: Iterable[AssumedRole], unread: str) -> list[PermissionGroup]:
        """What roles lend together; `key`: what that follows from, besides what was not read."""
        if (key, unread) not in self._with_roles:
            each = (perhaps(group, doubt) for role, doubt in roles for group in self.of(role))
            others = [perhaps_all(self.names, unread)] if unread else []
            self._with_roles[key, unread] = grouped(merged(chain(each, others)))
        return self._with_roles[key, unread]

    def by_bucket(self, identity: Identity) -> Mapping[str, Mapping[str, Reach]]:
        """What an identity can do, itself and by roles, by bucket; closed ones are left out."""
        groups = self.with_roles(identity)
        if id(groups) not in self._by_bucket:
            self._by_bucket[id(groups)] = merged(groups)
        return self._by_bucket[id(groups)]

    @cached_property
    def reaching(self) -> ReachByBucket:
        """The same, by bucket."""
        return ReachByBucket(self.index.dossier.identities.value or (), self.with_roles)

    def _of(self, identity: Identity) -> list[PermissionGroup]:
        policies = identity_policies_of(self.index, identity)
        profile = self.profile(identity, policies)
        if profile not in self._profiles:
            self._profiles[profile] = self._permitted(identity, policies)
        return self._profiles[profile]

    def profile(self, identity: Identity, policies: IdentityPolicies) -> Hashable:
        """What distinguishes an identity with such policies from others: of the same profile, all can do the
        same."""
        named = self._named()  # first: it finds out whether rules name single callers
        mine = frozenset((name, part) for name, part in self._parts(identity).items() if name in named)
        who = _number_of_its_own(identity, policies) or (id(identity) if self._personal else 0)
        self._alive.append(policies)
        return (policies.doubt, policies.account, policies.acl_level, tuple(map(id, policies.statements)), mine, who)

    def _parts(self, identity: Identity) -> Mapping[str, str]:
        return parts_of(identity, self.index.memberships.get(identity.name, []), self.account)

    def verbs(self, identity: Identity) -> Answer[Value]:
        """The verbs that an identity has on at least one bucket; partly known where some hang on what is not known."""
        permissions = self.with_roles(identity)
        levels = {verb: {p.reach[verb].level for p in permissions if verb in p.reach} for verb in VERBS}
        open_ones = [verb for verb in VERBS if levels[verb] & {"open", "restricted"}]
        doubtful = [verb for verb in VERBS if "unknown" in levels[verb] and verb not in open_ones]
        if doubtful:
            doubts = (
                doubt if doubt.startswith(ABOUT_ROLES) else f"{p.buckets[0]}: {doubt}"
                for p in permissions
                for verb in doubtful
                if verb in p.reach
                for doubt in p.reach[verb].doubts
            )
            why = next(doubts, "its permissions are not understood")
            return Partly("failed", None, why, certain=" ".join(open_ones))
        if not self.index.whole and len(open_ones) < len(VERBS):
            return Partly("failed", None, NOT_WHOLE, certain=" ".join(open_ones))
        return Answer("known", " ".join(open_ones))

    def least(self, identity: Identity) -> str:
        """The verbs that an identity certainly has on at least one bucket."""
        reached = (one for group in self.with_roles(identity) for one in group.reach.items())
        certain = {verb for verb, reach in reached if reach.level in ("open", "restricted")}
        return " ".join(verb for verb in VERBS if verb in certain)

    def on(self, identity: Identity, bucket: str) -> dict[str, Reach]:
        """What an identity can do itself on one bucket, by both sides together, but for what everybody can."""
        return self._decide(identity, identity_policies_of(self.index, identity), bucket)

    def _permitted(self, identity: Identity, policies: IdentityPolicies) -> list[PermissionGroup]:
        parts, named, own = self._parts(identity), self._named(), _number_of_its_own(identity, policies)
        rests, wanted = self._rests.of(policies.statements)
        speaking = (name for name, part in parts.items() if part not in DELEGATING)
        wanted |= {bucket for name in speaking for bucket in named.get(name, ())}
        wanted |= self.doubtful
        if policies.doubt:
            wanted = set(self.names)
        in_tenant = self._by_tenant.get(policies.account or "", ())
        rests |= {name: (name, *map(id, policies.statements)) for name in in_tenant}
        wanted.update(in_tenant)
        capped = self._rests.of(policies.cap or ())[0]  # who is capped has a mark of their own
        refused = refuses(policies.statements)

        def mark(template: Template) -> object:
            who = own or (id(identity) if template.personal else 0)
            return self._veil(template, parts, refused), who

        alike = self._kinds(sorted(wanted), mark, rests, capped)
        by_reach: dict[object, list[str]] = {}
        reaches: dict[object, dict[str, Reach]] = {}
        for kind, buckets in alike.items():
            reach = self._once(identity, policies, buckets[0], kind)
            if reach:
                shown = tuple((verb, one.level, one.restriction) for verb, one in reach.items())
                by_reach.setdefault(shown, []).extend(buckets)
                reaches[shown] = reach
        return [PermissionGroup(reaches[shown], tuple(sorted(buckets))) for shown, buckets in by_reach.items()]

    def _kinds(
        self,
        buckets: Iterable[str],
        mark: Callable[[Template], object],
        rests: Mapping[str, Rest],
        capped: Mapping[str, Rest],
    ) -> dict[object, list[str]]:
        """Kind → its buckets: those whose templates have one mark, and that leave the same of the patterns.

        Most share a template and what is left with others, as the same objects: those are put together first.
        """
        same: dict[tuple[int, int, int], list[str]] = {}
        for bucket in buckets:
            left, cap = rests.get(bucket, NOTHING), capped.get(bucket, NOTHING)
            same.setdefault((id(self._templates[bucket]), id(left), id(cap)), []).append(bucket)
        marks: dict[int, object] = {}
        kinds: dict[object, list[str]] = {}
        for (number, _, _), together in same.items():
            bucket = together[0]
            if number not in marks:
                marks[number] = mark(self._templates[bucket])
            kind = (marks[number], rests.get(bucket, NOTHING), capped.get(bucket, NOTHING))
            kinds.setdefault(kind, []).extend(together)
        return kinds

    @cached_property
    def _by_tenant(self) -> Mapping[str, list[str]]:
        """Tenant → the buckets whose names begin with it; own permissions name them without."""
        by_tenant: dict[str, list[str]] = {}
        for name in self.names:
            tenant, colon, _ = name.partition(":")
            if colon and self.seen[name].rules.tenant is not None:
                by_tenant.setdefault(tenant, []).append(name)
        return by_tenant

    @cached_property
    def doubtful(self) -> frozenset[str]:
        """Buckets that may grant somebody something without naming them: rules that were not read or not understood,
        or that let in whom their conditions leave."""
        return frozenset(
            bucket
            for bucket, seen in self.seen.items()
            if seen.rules.doubts
            or (seen.rules.named_on_objects and seen.rules.ids_are_names)
            or for_insiders(seen.rules)
            or seen.rules.policy.unreadable
            or any(may_name_anybody(s) for s in seen.rules.policy.statements)
        )

    def _once(self, identity: Identity, policies: IdentityPolicies, bucket: str, kind: object) -> dict[str, Reach]:
        key = (kind, policies.doubt, policies.account, policies.acl_level)
        if key not in self._decided:
            if len(self._decided) >= MOST_DECISIONS:
                why = ("too many kinds of permissions and rules to decide within the work allowed",)
                return {verb: Reach("unknown", doubts=why) for verb in VERBS}
            self._decided[key] = self._decide(identity, policies, bucket)
        return self._decided[key]

    def _decide(self, identity: Identity, policies: IdentityPolicies, bucket: str) -> dict[str, Reach]:
        try:
            return self._decided_on(identity, policies, bucket)
        except Exception as error:  # whatever goes wrong is unknown of this pair alone
            return {verb: Reach("unknown", doubts=(defect(error),)) for verb in VERBS}

    def _decided_on(self, identity: Identity, policies: IdentityPolicies, bucket: str) -> dict[str, Reach]:
        seen = self.seen[bucket]
        account = own_account(seen.rules, seen.surroundings, identity)
        rules = combined_rules(without_public(seen.rules), policies, account)
        reached = reach_of(principal_of(identity), rules, seen.surroundings, Budget(BUDGET), insider=True)
        return {verb: one for verb, one in reached.items() if one.level != "closed"}

    def _veil(self, template: Template, parts: Mapping[str, str], refused: bool) -> bytes:
        """A template's key for one for whom names play these parts: all other names are the same to them. `refused`:
        whether their own permissions refuse them anything."""
        mine = tuple(sorted((name, parts[name]) for name in template.names & parts.keys()))
        key = (template.key, mine, refused)
        if key not in self._veiled:
            rules = veiled(template.rules, dict(mine))
            spares = not refused and not refuses(rules.policy.statements)
            self._veiled[key] = encoded(keyless(rules) if spares else rules)
        return self._veiled[key]

    def _named(self) -> dict[str, list[str]]:
        """Name → the buckets whose rules name it."""
        if self._naming is None:
            self._naming = {}
            for bucket in self.names:
                for name in self._template(bucket).names:
                    self._naming.setdefault(name, []).append(bucket)
        return self._naming

    def _template(self, bucket: str) -> Template:
        if bucket not in self._templates:
            rules = nameless(self.seen[bucket].rules)
            key = encoded(rules)
            if key not in self._by_key:
                self._by_key[key] = Template(rules, key, names_in(rules), asks_who(rules.policy.statements))
                self._personal = self._personal or self._by_key[key].personal
            self._templates[bucket] = self._by_key[key]
        return self._templates[bucket]

    def granted(self, identity: Principal, bucket: str) -> dict[Verb, Reach]:
        """What a bucket's rules and its objects' own ACLs grant an identity that they name; one of each template is
        decided."""
        key = (self._template(bucket).key, identity)
        if key not in self._granted:
            seen = self.seen[bucket]
            rules = as_named(seen.rules, identity, seen.surroundings.account)
            self._granted[key] = reach_of(identity, rules, seen.surroundings, Budget(BUDGET))
        return self._granted[key]


def _number_of_its_own(identity: Identity, policies: IdentityPolicies) -> int:
    """A number of its own for an identity whose own policies depend on who it is; 0 for others."""
    return id(identity) if policies.cap is not None or asks_who(policies.statements) else 0
