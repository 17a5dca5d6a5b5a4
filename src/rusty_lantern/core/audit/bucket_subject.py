"""One bucket of a survey with everything that follows from it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from functools import cached_property
from typing import Any, ClassVar, Protocol

import msgspec

from rusty_lantern.core.access.effective_permissions import EffectivePermissions
from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.access.policy.document import Policy, parse_policy
from rusty_lantern.core.access.policy.principals import Principal
from rusty_lantern.core.access.rules.bucket_rules import EvaluationContext, Rules, rules_from
from rusty_lantern.core.access.rules.named_identities import as_named, named_in
from rusty_lantern.core.access.rules.other_doors import unread_door
from rusty_lantern.core.access.rules.rule_inputs import BucketInputs, StoreInputs, bucket_inputs, store_inputs
from rusty_lantern.core.access.solver.audience_view import BUDGET, Level
from rusty_lantern.core.access.solver.exposure import Exposures
from rusty_lantern.core.access.solver.principal_reach import Reach, reach_of
from rusty_lantern.core.access.solver.sets import Budget
from rusty_lantern.core.access.solver.verdict_cache import DecidedRules, VerdictCache
from rusty_lantern.core.access.way_around_locks import way_around_locks
from rusty_lantern.core.answer import Answer, Fact, fact_of
from rusty_lantern.core.audit.declared_facts import or_stated
from rusty_lantern.core.audit.exposure_facts import ExposureFacts, as_tested, probed_fact
from rusty_lantern.core.audit.named_access import access_fact
from rusty_lantern.core.audit.principal_facts import principals_facts
from rusty_lantern.core.config.estate import StoreConfig
from rusty_lantern.core.errors import defect
from rusty_lantern.core.facts.catalogue import REGISTER
from rusty_lantern.core.facts.registry import UnknownFact, derivation, derive
from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.core.model.bucket_contents import Table, Versions
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.core.model.identity import Identity, Verb
from rusty_lantern.core.model.store_index import StoreIndex


class StoreContext(Protocol):
    """The store that a bucket is in, as far as the bucket's facts need it."""

    @property
    def dossier(self) -> Dossier:
        """What was read of the store."""

    @property
    def inputs(self) -> StoreInputs:
        """What the rules of all its buckets are made from."""

    @property
    def index(self) -> StoreIndex:
        """Who there is in the store, and which keys."""

    @property
    def shapes(self) -> VerdictCache:
        """What was decided already of buckets with rules alike."""

    @property
    def across(self) -> EffectivePermissions:
        """What the store's identities can do across its buckets."""

    @property
    def perhaps_copied(self) -> Mapping[str, Answer[Any]]:
        """The buckets that the public may write to, and of which nobody read what they are copied into; why."""

    @property
    def buckets(self) -> Mapping[str, BucketSubject]:
        """The buckets of the store by name."""


class BucketSubject(msgspec.Struct, frozen=True, dict=True):
    """One bucket of a survey with everything that follows from it, worked out when asked."""

    bucket: Bucket
    dossier: Dossier
    moment: datetime
    entry: StoreConfig | None = None
    """What the estate file says of the store."""
    trusted_accounts: frozenset[str] = frozenset()
    neighbours: Mapping[str, BucketSubject] = msgspec.field(default_factory=dict)
    """The buckets of the same store, by name."""
    context: StoreContext | None = None
    """The store's identities and keys; a bucket by itself has none. A proposed one has the context of that
    which is there, and is not in it."""
    trusted_networks: tuple[str, ...] = ()
    supposed: Rules | None = None
    """Rules to decide by in place of its own."""
    kind: ClassVar[str] = "bucket"
    unseen: ClassVar[bool] = False

    @property
    def store(self) -> str:
        """The name of its store."""
        return self.dossier.store

    @property
    def name(self) -> str:
        """The bucket's name."""
        return self.bucket.name

    @property
    def label(self) -> str:
        """The bucket's name."""
        return self.bucket.name

    @property
    def title(self) -> str:
        """`STORE/BUCKET`."""
        return f"{self.dossier.store}/{self.bucket.name}"

    @property
    def locked(self) -> bool:
        """Whether versions in it can be locked."""
        return self.bucket.lock.value is not None and self.bucket.lock.value.enabled

    @property
    def locks_hold(self) -> bool | None:
        """Whether what is locked cannot be deleted all the same; None: not known."""
        declared = self.fact("lock.way-around")
        around: Fact = declared if declared.state == "stated" else fact_of(way_around_locks(self.dossier))
        return around.value is None if around.settled else None

    @property
    def tags(self) -> Answer[dict[str, str]]:
        """The bucket's tags."""
        return self.bucket.tags

    @property
    def table(self) -> Answer[Table]:
        """The version table of its objects."""
        return self.bucket.table

    @property
    def left_out(self) -> str:
        """Why its version table may lack old versions; empty where it has all."""
        return self.bucket.left_out

    @property
    def old_versions(self) -> Answer[Versions]:
        """What was answered of its old versions."""
        return self.bucket.versions

    @cached_property
    def written_policy(self) -> Policy | None:
        """The policy document, parsed as the language is published; None where there is none, or it was not read."""
        text = self.bucket.policy.value
        return None if text is None else parse_policy(text)

    @cached_property
    def inputs(self) -> BucketInputs:
        """What its rules are made from."""
        return bucket_inputs(self.bucket)

    @cached_property
    def rules(self) -> Rules:
        """Policy, grants and guards as rules."""
        return self.supposed or self._rules_from(self.inputs)

    @property
    def around(self) -> StoreInputs:
        """What its rules are made from, as far as its store has it in common for all its buckets."""
        context = self.context
        if context is not None and self.dossier is context.dossier:
            return context.inputs
        return store_inputs(self.dossier)

    def _rules_from(self, inputs: BucketInputs) -> Rules:
        """The rules of a bucket of this store that has these inputs."""
        rules = rules_from(inputs, self.around, self.index.members)
        if not rules.object_doubt or self.entry is None:
            return rules
        doubt: Fact = Answer("failed", None, rules.object_doubt)
        stated = or_stated("object-acls.public", doubt, self.entry, self.moment)
        return msgspec.structs.replace(rules, object_doubt="") if stated.value == "none" else rules

    @cached_property
    def surroundings(self) -> EvaluationContext:
        """The moment and the owner that decisions depend on."""
        account = self.dossier.account
        unread = f"the account that the bucket is in was not read ({account.reason})" if account.unread else ""
        unread = "" if self.dossier.account_number else unread
        return EvaluationContext(self.moment, self.account, self.trusted_accounts, self.trusted_networks, unread)

    @property
    def account(self) -> str:
        """The account that the bucket is in: its number, where that is known."""
        return self.dossier.account_number or self.dossier.account.value or ""

    @property
    def index(self) -> StoreIndex:
        """Who there is in the store, and which keys."""
        if self.context is not None:
            return self.context.index
        return StoreIndex(self.dossier, self.moment)

    @property
    def own_accounts(self) -> frozenset[str]:
        """The account that the bucket is in, by every name that it has."""
        return frozenset((self.account, self.dossier.account.value or "", self.bucket.owner.value or "")) - {""}

    @cached_property
    def verdicts(self) -> Exposures:
        """The exposure for each audience and verb."""
        return self.decided.exposures(self.bucket.name)

    @cached_property
    def exposures(self) -> Mapping[str, Fact]:
        """The verdicts as facts, and the widest of several."""
        return ExposureFacts(self.decided.worded, self.bucket, self.let_in)

    @cached_property
    def let_in(self) -> frozenset[str]:
        """The verbs that the store let a request without credentials do."""
        return frozenset(answer.verb for answer in self.bucket.anonymous_test.value or () if answer.let_in)

    @property
    def levels(self) -> dict[Level, frozenset[Verb]]:
        """Level → the verbs that one of the public audiences has such a verdict for."""
        return self.decided.levels

    @cached_property
    def decided(self) -> DecidedRules:
        """What is decided of the rules, and of what the store let in all the same."""
        if not self.let_in:
            return self.by_rules
        there = self if self.context is None else self.context.buckets.get(self.bucket.name, self)
        return as_tested(self.by_rules, there.by_rules, self.bucket.anonymous_test)

    @cached_property
    def by_rules(self) -> DecidedRules:
        """What is decided of the rules alone, together with other buckets of the store that have rules alike."""
        context, around = self.context, self.surroundings
        try:
            if context is None or self.supposed is not None or self.dossier is not context.dossier:
                return VerdictCache().of(self.rules, around)
            if context.inputs.unsigned_user.value:  # what it may do depends on the bucket's name
                return context.shapes.of(self.rules, around)
            return context.shapes.of_inputs(self.inputs, around, self._rules_from)
        except Exception as error:
            return DecidedRules(Rules(self.bucket.name), around, defect(error))

    def demanded(self, name: str) -> Fact:
        """What the policy demands of every upload, by name."""
        fact = self.decided.demanded(name)
        software = self.dossier.software
        if fact.value not in (None, "off") and unread_door(software) and self.dossier.dialect is None:
            fact = Answer("failed", None, f"how its software reads the policy is not known ({software.reason})")
        return msgspec.structs.replace(fact, evidence=self.bucket.policy.evidence)

    def neighbour(self, name: str) -> BucketSubject | None:
        """Another bucket of the same store; None if it was not read."""
        return self.neighbours.get(name)

    @property
    def perhaps_copied(self) -> Mapping[str, Answer[Any]]:
        """The buckets of the store that the public may write to, and that may be copied into this one; why."""
        return {} if self.context is None else self.context.perhaps_copied

    @cached_property
    def named(self) -> dict[Principal, dict[Verb, Reach] | None]:
        """The identities that the rules name, with what each is granted once that was asked for."""
        return dict.fromkeys(named_in(self.rules))

    def identity_named(self, name: str) -> Identity | None:
        """The store's own identity that goes by a name; None where it has none, or none is known."""
        known = self.index.identities_by_name
        return known.get(name) or known.get(self.rules.principal(name).label)

    def granted(self, identity: Principal) -> dict[Verb, Reach]:
        """What the rules grant an identity that they name."""
        reaches = self.named.get(identity)
        if reaches is None:
            try:
                reaches = self._granted(identity)
            except Exception as error:
                reaches = {verb: Reach("unknown", doubts=(defect(error),)) for verb in VERBS}
            self.named[identity] = reaches
        return reaches

    @property
    def across(self) -> EffectivePermissions | None:
        """What identities can do across the store's buckets; None for a bucket that is only supposed."""
        context = self.context
        known = context is not None and context.buckets.get(self.bucket.name) is self
        return context.across if context is not None and known else None

    def _granted(self, identity: Principal) -> dict[Verb, Reach]:
        if self.across is not None:
            return self.across.granted(identity, self.bucket.name)
        rules = as_named(self.rules, identity, self.surroundings.account)
        return reach_of(identity, rules, self.surroundings, Budget(BUDGET))

    def access(self, name: str) -> Fact:
        """What a named identity can do (or `outside`: every named one that is not trusted)."""
        return access_fact(self, name)

    @cached_property
    def principals(self) -> Mapping[str, Fact]:
        """Everybody who may use each verb here, by name."""
        return principals_facts(self)

    @property
    def probed(self) -> Fact:
        """How the anonymous test compared with the verdicts."""
        return probed_fact(self.bucket.anonymous_test, self.by_rules.exposures(self.bucket.name))

    def fact(self, name: str) -> Fact:
        """A fact by name; where it could not be read and the store's owner states it, what is stated."""
        try:
            derived = derive(name, self)
        except UnknownFact:
            raise
        except Exception as error:
            return Answer("failed", None, defect(error))
        return derived if self.entry is None else or_stated(name, derived, self.entry, self.moment)

    @staticmethod
    def facts_of_each(views: Sequence[BucketSubject], name: str) -> list[Fact]:
        """The fact of a name of each of these buckets, which are of one store."""
        derive_one, last = derivation(name)
        try:
            facts = [derive_one(view, last) for view in views]
        except Exception:  # whatever goes wrong with one bucket is unknown of it alone
            return [view.fact(name) for view in views]
        entry = views[0].entry if views else None
        if entry is None or not entry.stated:
            return facts
        return [or_stated(name, fact, entry, view.moment) for view, fact in zip(views, facts, strict=True)]

    def facts(self) -> dict[str, Fact]:
        """Every fact of the register, with the bucket's own tags for `tags.*`."""
        names = [name for name, entry in REGISTER.items() if entry.subject == "bucket" and not name.endswith(".*")]
        tags = self.bucket.tags.value or {}
        return {name: self.fact(name) for name in [*names, "access.outside", *(f"tags.{tag}" for tag in sorted(tags))]}
