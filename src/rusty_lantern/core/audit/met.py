"""What is ok in an audit: most of it, so it is counted, and a finding is made only where somebody asks for it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Iterable, Iterator, Mapping

import msgspec

from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.audit.choice import Choice
from rusty_lantern.core.baseline.evaluation import Finding, Key
from rusty_lantern.core.baseline.loader import Requirement


class Column(msgspec.Struct, frozen=True):
    """One requirement, and the buckets of one store that meet it, by name."""

    requirement: Requirement
    store: str
    names: list[str]


class Met(msgspec.Struct, frozen=True):
    """What is ok: of buckets by requirement, of everything else one by one."""

    columns: list[Column] = msgspec.field(default_factory=list)
    others: list[Finding] = msgspec.field(default_factory=list)
    """Findings on other subjects, and on objects."""
    buckets: Mapping[tuple[str, str], BucketSubject] = msgspec.field(default_factory=dict)
    """The buckets that the columns name, by store and name."""

    def __len__(self) -> int:
        return sum(len(column.names) for column in self.columns) + len(self.others)

    def by_store(self) -> Counter[str]:
        """How many are ok in each store."""
        counts = Counter(finding.store for finding in self.others)
        for column in self.columns:
            counts[column.store] += len(column.names)
        return counts

    def by_requirement(self) -> Iterator[tuple[Requirement, int]]:
        """Requirements with how many are ok; one may come several times."""
        yield from ((column.requirement, len(column.names)) for column in self.columns)
        yield from ((finding.requirement, 1) for finding in self.others)

    def findings(self, keys: Collection[Key] | None = None) -> Iterator[Finding]:
        """The findings; `keys`: of these alone."""
        facts = None if keys is None else {fact for *_, fact in keys}
        for column in self.columns:
            store, fact = column.store, column.requirement.fact
            if facts is not None and fact not in facts:
                continue
            for name in column.names:
                if keys is None or (store, "bucket", name, fact) in keys:
                    observed = self.buckets[store, name].fact(fact)
                    yield Finding(store, name, column.requirement, observed, "ok")
        yield from (finding for finding in self.others if keys is None or finding.key in keys)

    def subjects(self) -> set[tuple[str, str, str]]:
        """Of what there is something ok: store, kind and name."""
        named = {(column.store, "bucket", name) for column in self.columns for name in column.names}
        return named | {finding.key[:3] for finding in self.others}

    def chosen(self, choice: Choice) -> Met:
        """The part that is about requirements that are chosen."""
        columns = [column for column in self.columns if choice.has_requirement(column.requirement)]
        return Met(columns, [one for one in self.others if choice.has_requirement(one.requirement)], self.buckets)

    def of(self, buckets: Iterable[tuple[str, str]]) -> Met:
        """The part that is about these buckets, by store and name."""
        wanted = set(buckets)
        columns = [
            Column(one.requirement, one.store, [name for name in one.names if (one.store, name) in wanted])
            for one in self.columns
        ]
        others = [one for one in self.others if one.kind == "bucket" and (one.store, one.name) in wanted]
        return Met([column for column in columns if column.names], others, self.buckets)
