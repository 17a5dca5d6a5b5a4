"""Buckets whose rules are alike but for the bucket's own name are decided once.

Buckets of one store that are set up alike have one key before any rule is made. Of others, the rules are rewritten for
a bucket called `OWN` and decided, and the result is rewritten for each bucket by its own name. Only where that is
exact: every resource names the bucket itself, another bucket without any glob, or all of them; nothing was left unread
or not understood.

A resource name is read from its beginning, `arn:aws:s3:::BUCKET/KEY`: a key may hold colons, slashes and a whole
resource name of its own.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterable
from functools import cached_property

import msgspec

from rusty_lantern.core.access.policy.actions import VERBS
from rusty_lantern.core.access.policy.condition_keys import AUDIENCES, Audience
from rusty_lantern.core.access.policy.document import Statement
from rusty_lantern.core.access.policy.names import partition_free
from rusty_lantern.core.access.policy.values import NotUnderstood
from rusty_lantern.core.access.rules.bucket_rules import EvaluationContext, Rules
from rusty_lantern.core.access.rules.rule_inputs import OWN, BucketInputs, fingerprint
from rusty_lantern.core.access.rules.rule_inputs import as_own as inputs_as_own
from rusty_lantern.core.access.solver.audience_view import Level
from rusty_lantern.core.access.solver.exposure import Exposures, Verdict, exposures
from rusty_lantern.core.access.solver.mandatory_conditions import MandatoryConditions
from rusty_lantern.core.access.solver.verdict_words import WordedVerdict, worded_verdicts
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.errors import defect
from rusty_lantern.core.model.identity import Verb
from rusty_lantern.core.value_types import Value

NAMES = "arn:aws:s3:::"
"""What the resource names of buckets and objects begin with, once the partition is put aside."""
_GLOBS = frozenset("*?$")


RulesFrom = Callable[[BucketInputs], Rules]


class DecidedRules:
    """What is decided of rules, worked out when asked, and once. Whatever goes wrong with them is unknown, and of the
    buckets alone that have them. `broken`: why there are no rules; `verdicts`: where they are known already."""

    def __init__(
        self, rules: Rules, around: EvaluationContext, broken: str = "", verdicts: Exposures | None = None
    ) -> None:
        self.rules = rules
        self.around = around
        self.broken = broken
        self.given = verdicts
        self._demands: dict[str, Answer[Value]] = {}

    @cached_property
    def _verdicts(self) -> Exposures:
        if self.given is not None:
            return self.given
        try:
            return _nothing_known(self.broken) if self.broken else exposures(self.rules, self.around)
        except Exception as error:
            return _nothing_known(defect(error))

    @cached_property
    def worded(self) -> dict[str, WordedVerdict]:
        """The verdicts in words, by the names of `verdict_words`."""
        return worded_verdicts(self._verdicts)

    @cached_property
    def levels(self) -> dict[Level, frozenset[Verb]]:
        """Level → the verbs that one of the public audiences has such a verdict for."""
        verbs_at: dict[Level, set[Verb]] = {}
        for (_, verb), verdict in self._verdicts.items():
            verbs_at.setdefault(verdict.level, set()).add(verb)
        return {level: frozenset(verbs) for level, verbs in verbs_at.items()}

    @cached_property
    def all_closed(self) -> bool:
        """Whether every verdict is closed."""
        return self.levels.keys() == {"closed"}

    @cached_property
    def _names_the_bucket(self) -> bool:
        return any(verdict.witness is not None for verdict in self._verdicts.values())

    def exposures(self, bucket: str) -> Exposures:
        """The verdicts, of the bucket of this name."""
        if bucket == self.rules.bucket or not self._names_the_bucket:
            return self._verdicts
        return {one: _called(verdict, bucket) for one, verdict in self._verdicts.items()}

    def refuted(self, verbs: Iterable[Verb], forged: Iterable[Verb]) -> Exposures:
        """What takes the place of verdicts of a bucket whose store let requests without credentials do this: whatever
        its rules say, it is not closed. `forged`: by requests that said in a header that they came from another
        address; then no address restricts."""
        levels = {verb: self._verdicts["anyone", verb].level for verb in VERBS}
        instead: dict[tuple[Audience, Verb], Verdict] = {}
        instead |= {("anyone", verb): _FORGED for verb in forged if levels[verb] in ("closed", "restricted")}
        return instead | {("anyone", verb): _REFUTED for verb in verbs if levels[verb] == "closed"}

    def but(self, refuted: Exposures) -> DecidedRules:
        """The same with these verdicts, where its own are no wider."""
        refuted = {one: verdict for one, verdict in refuted.items() if self._verdicts[one].level != "open"}
        if not refuted:
            return self
        return DecidedRules(self.rules, self.around, self.broken, {**self._verdicts, **refuted})

    def demanded(self, name: str) -> Answer[Value]:
        """What the policy demands of everybody."""
        if self.broken:
            return Answer("failed", None, self.broken)
        if name not in self._demands:
            self._demands[name] = MandatoryConditions(self.rules, self.around).answer(name)
        return self._demands[name]


class VerdictCache:
    """What was decided already, by the shape of the rules, and by what they are made from."""

    def __init__(self) -> None:
        self._known: dict[Hashable, DecidedRules] = {}
        self._alike: dict[Hashable, DecidedRules | None] = {}

    def of_inputs(self, inputs: BucketInputs, around: EvaluationContext, rules_from: RulesFrom) -> DecidedRules:
        """What is decided of the bucket of these inputs. `rules_from` is the same for all buckets that are asked for,
        but for the bucket."""
        own = inputs_as_own(inputs)
        if own is None:
            return self.of(rules_from(inputs), around)
        key = (fingerprint(own), around)
        known = self._alike.get(key)
        if known is not None:
            return known
        rules = rules_from(inputs)
        decided = self.of(rules, around)
        if key not in self._alike:
            # Where the own name in the policy's text is more than a bucket's name in resources, a bucket of another
            # name has other rules, and nothing is shared.
            exact = as_own(rules) == msgspec.structs.replace(rules_from(own), members={})
            self._alike[key] = decided if exact else None
        return decided

    def of(self, rules: Rules, around: EvaluationContext) -> DecidedRules:
        """What is decided of a bucket's rules: one object for all buckets that have them but for their own name."""
        own = as_own(rules)
        key = _key(own, around) if own is not None else None
        if own is None or key is None:
            return DecidedRules(rules, around)
        known = self._known.get(key)
        if known is None:
            known = self._known[key] = DecidedRules(own, around)
        return known


_REFUTED = Verdict("unknown", doubts=("the store allows what its rules deny",), least="restricted")
_FORGED = Verdict("unknown", doubts=("the store believes what a request says of its address",), least="restricted")


def _nothing_known(why: str) -> Exposures:
    unknown = Verdict("unknown", doubts=(why,))
    return {(audience, verb): unknown for audience in AUDIENCES for verb in VERBS}


def _called(verdict: Verdict, name: str) -> Verdict:
    """The same verdict of a bucket of this name."""
    seen = verdict.witness
    return verdict if seen is None else msgspec.structs.replace(verdict, witness=seen.on(name))


def _key(rules: Rules, around: EvaluationContext) -> Hashable | None:
    key = (
        rules.policy.statements, rules.acl, rules.ignore_acls, rules.restrict_policies, rules.disable_grants,
        rules.rights, rules.object_acls, rules.object_doubt, rules.fixed, rules.takes_copies_alone,
        around,
    )  # fmt: skip
    try:
        hash(key)
    except TypeError:  # rights hold lists
        return None
    return key


def as_own(rules: Rules) -> Rules | None:
    """The rules of a bucket as those of one called `OWN`; None where that would not be exact."""
    if rules.policy.faults or rules.doubts or any(right.to == "group" for right in rules.rights):
        return None
    statements = owned(rules.policy.statements, rules.bucket)
    if statements is None:
        return None
    policy = msgspec.structs.replace(rules.policy, statements=statements)
    return msgspec.structs.replace(rules, bucket=OWN, policy=policy, members={})


def owned(statements: Iterable[Statement], bucket: str) -> tuple[Statement, ...] | None:
    """Statements with the bucket's own name read as `OWN`; None where a pattern may reach it and others too."""
    if bucket == OWN or not _GLOBS.isdisjoint(bucket):
        return None
    renamed = [_owned(statement, bucket) for statement in statements]
    return None if None in renamed else tuple(statement for statement in renamed if statement is not None)


def _owned(statement: Statement, bucket: str) -> Statement | None:
    resources = tuple(_owned_name(resource, bucket) for resource in statement.resources)
    cap = _owned(statement.within, bucket) if statement.within else None
    if None in resources or (statement.within and cap is None):
        return None
    return msgspec.structs.replace(statement, resources=resources, within=cap)


def _owned_name(resource: str, bucket: str) -> str | None:
    if resource == "*":
        return resource
    try:
        name = partition_free(resource)
    except NotUnderstood:
        return None
    if not name.startswith(NAMES):
        return None
    written, slash, key = name.removeprefix(NAMES).partition("/")
    if written == bucket:
        return f"{NAMES}{OWN}{slash}{key}"
    if written == "*":
        return name
    return None if written == OWN or not _GLOBS.isdisjoint(written) else name
