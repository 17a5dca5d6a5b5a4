"""Access-policy documents of the S3-style JSON language → statements. Strict: what is not understood is said.

A fault does not throw the document away. It names its place (a JSON pointer) and the part of a statement that it
spoils; the deciders then treat exactly that part as *could be anything*. Only when the document as a whole cannot
be read (`Policy.unreadable`) could it say anything at all.
"""

from __future__ import annotations

import json
from functools import lru_cache
from typing import Literal

import msgspec

from rusty_lantern.core.access.policy.key_names import is_misspelled, key_name
from rusty_lantern.core.access.policy.language_words import OPERATORS
from rusty_lantern.core.errors import nearest

MAX_BYTES = 1 << 20
MAX_DEPTH = 32

Json = str | int | float | bool | None | list["Json"] | dict[str, "Json"]


class Fault(msgspec.Struct, frozen=True):
    """Something in a policy that was not understood: where (JSON pointer, or the title of a rule that is no policy's;
    empty for no place) and what."""

    place: str
    what: str

    def __str__(self) -> str:
        return f"{self.what} (at {self.place})" if self.place.startswith("/") else self.what


Quantifier = Literal["", "forallvalues", "foranyvalue"]


class Condition(msgspec.Struct, frozen=True):
    """One operator applied to one key. `operator` is lower-case and without IfExists and quantifier."""

    operator: str
    key: str
    values: tuple[str, ...]
    place: str
    if_exists: bool = False
    quantifier: Quantifier = ""
    misspelled: bool = False
    """Whether its key is written in other letters than published (`aws:SourceIP`)."""
    stars_end_early: bool = False
    """Whether a star in its values ends where the character that follows it first comes: see `Statement`."""


class Principals(msgspec.Struct, frozen=True):
    """To whom a statement applies. With `negated`, to everyone else."""

    everyone: bool = False
    accounts: tuple[str, ...] = ()
    """Account numbers, resource names of users and roles, and such."""
    canonical: tuple[str, ...] = ()
    federated: tuple[str, ...] = ()
    services: tuple[str, ...] = ()
    vague: tuple[str, ...] = ()
    """Names with a wildcard inside, which has no agreed meaning: they may take in whoever fits, and never everybody."""
    negated: bool = False
    vague_kinds: tuple[str, ...] = ()
    """The kind of principal that each vague name is written under; empty: all under `AWS`."""

    @property
    def vague_by_kind(self) -> tuple[tuple[str, str], ...]:
        """Vague names, each with its kind."""
        return tuple(zip(self.vague, self.vague_kinds or ("AWS",) * len(self.vague), strict=True))


class Statement(msgspec.Struct, frozen=True):
    """One statement, as far as it was understood. `faults` are those that bear on this statement alone."""

    place: str
    effect: Literal["Allow", "Deny", ""]
    sid: str = ""
    principals: Principals | None = None
    actions: tuple[str, ...] = ()
    actions_negated: bool = False
    resources: tuple[str, ...] = ()
    resources_negated: bool = False
    conditions: tuple[Condition, ...] = ()
    faults: tuple[Fault, ...] = ()
    variables: bool = True
    """Whether `${…}` is a variable here; in the first version of the language it is plain text."""
    stars_end_early: bool = False
    """Whether a star in its resources ends where the character that follows it first comes, as some software reads it:
    `*.jpg` fits `a.jpg`, and not `a.b.jpg`. A question mark that follows is a character of the text there."""
    door: str = ""
    """The other door of the store whose ACLs it was read from; empty for the bucket's own policy. No public-access
    guard keeps it from counting."""
    by_post: str = ""
    """The header of the POST that does what it allows, at a door that does not ask the policy: no Deny of the policy
    refuses it."""
    through: str = ""
    """The other container by which it is done, with the name of an object there: the store does the same here then."""
    at_every_door: bool = False
    """Whether no door lets by what it refuses: it is no policy's."""
    by_service: bool = False
    """Whether it says what a service of the provider does: no public-access guard keeps services out."""
    within: Statement | None = None
    """A statement that caps this one: it applies only where the cap applies too (a permission boundary)."""

    @property
    def every_condition(self) -> tuple[Condition, ...]:
        """Its conditions and those of what caps it."""
        return self.conditions + (self.within.every_condition if self.within else ())

    @property
    def title(self) -> str:
        """How a message names the statement: by number, or by its place, if it has no name."""
        return _title(self.place, self.sid)


@lru_cache(maxsize=4_096)
def _title(place: str, sid: str) -> str:
    if not place.startswith("/"):
        return place
    number = int(place.rpartition("/")[2] or 0) + 1 if place[-1:].isdigit() else 1
    return f'statement {number} "{sid}"' if sid else f"statement {number}"


class Policy(msgspec.Struct, frozen=True):
    """A parsed document."""

    statements: tuple[Statement, ...] = ()
    unreadable: Fault | None = None
    """Set when no statement could be made out."""
    attached: bool = False
    """Whether it is attached to an identity."""

    @property
    def faults(self) -> tuple[Fault, ...]:
        """Everything that was not understood, in document order."""
        whole = (self.unreadable,) if self.unreadable else ()
        return whole + tuple(fault for statement in self.statements for fault in statement.faults)


class _Doubled(dict[str, Json]):
    """A JSON object in which a key was repeated."""

    key: str = ""


def _object(pairs: list[tuple[str, Json]]) -> dict[str, Json]:
    made = dict(pairs)
    if len(made) == len(pairs):
        return made
    doubled = _Doubled(made)
    keys = [key for key, _ in pairs]
    doubled.key = next(key for key in keys if keys.count(key) > 1)
    return doubled


_DECODER = json.JSONDecoder(object_pairs_hook=_object)


def parse_policy(text: str, *, attached: bool = False) -> Policy:
    """Read a policy document. Never raises: what cannot be read is a fault.

    `attached`: it is attached to an identity, so it names no principal and applies to whoever has it.
    """
    if len(text) > MAX_BYTES:
        return Policy(unreadable=Fault("", f"the policy is longer than {MAX_BYTES:,} characters"))
    try:
        document = _DECODER.decode(text)
    except json.JSONDecodeError as error:
        return Policy(unreadable=Fault("", f"not JSON: {error.msg} at line {error.lineno}, column {error.colno}"))
    except (RecursionError, ValueError) as error:
        return Policy(unreadable=Fault("", f"not JSON that can be read: {type(error).__name__}"))
    if not isinstance(document, dict):
        return Policy(unreadable=Fault("", "a policy is a JSON object"))
    if isinstance(document, _Doubled):
        return Policy(unreadable=Fault(f"/{document.key}", f'"{document.key}" appears twice'))
    return _policy(document, attached)


_TOP = ("Version", "Id", "Statement")
_VERSIONS = ("2012-10-17", "2008-10-17")


def _policy(document: dict[str, Json], attached: bool) -> Policy:
    for key in document:
        if key not in _TOP:
            return Policy(unreadable=Fault(f"/{key}", _unknown("element", key, _TOP)))
    version = document.get("Version", "2008-10-17")
    if version not in _VERSIONS:
        return Policy(unreadable=Fault("/Version", f"unknown language version {version!r}"))
    written = document.get("Statement")
    if isinstance(written, dict):
        return Policy((_Reader("/Statement", version == _VERSIONS[0], attached).statement(written),), None, attached)
    if not isinstance(written, list):
        return Policy(unreadable=Fault("/Statement", "a policy needs a list of statements"))
    return Policy(
        tuple(
            _Reader(f"/Statement/{i}", version == _VERSIONS[0], attached).statement(s) for i, s in enumerate(written)
        ),
        None,
        attached,
    )


def _unknown(kind: str, word: str, known: tuple[str, ...]) -> str:
    hint = nearest(word, known)
    return f'unknown {kind} "{word[:60]}"' + (f"; {hint}" if hint else "")


_ELEMENTS = [
    "Sid", "Effect", "Principal", "NotPrincipal", "Action", "NotAction", "Resource", "NotResource", "Condition",
]  # fmt: skip


class _Reader:
    """Reads one statement and gathers its faults."""

    def __init__(self, place: str, variables: bool, attached: bool) -> None:
        self.place = place
        self.variables = variables
        self.attached = attached
        self.faults: list[Fault] = []

    def fault(self, where: str, what: str) -> None:
        self.faults.append(Fault(self.place + where, what))

    def statement(self, written: Json) -> Statement:
        if not isinstance(written, dict):
            return Statement(self.place, "", faults=(Fault(self.place, "a statement is a JSON object"),))
        if isinstance(written, _Doubled):
            self.fault(f"/{written.key}", f'"{written.key}" appears twice')
            written = {key: value for key, value in written.items() if key != written.key}
        for key in written:
            if key not in _ELEMENTS:
                self.fault(f"/{key}", _unknown("element", key, tuple(_ELEMENTS)))
        effect = written.get("Effect")
        if effect not in ("Allow", "Deny"):
            self.fault("/Effect", f"Effect is {effect!r}, and must be Allow or Deny to the letter")
        sid = written.get("Sid", "")
        actions, actions_negated = self.one_of(written, "Action", "NotAction")
        resources, resources_negated = self.one_of(written, "Resource", "NotResource")
        return Statement(
            self.place,
            effect if effect in ("Allow", "Deny") else "",  # type: ignore[arg-type]
            sid if isinstance(sid, str) else "",
            self.whose(written),
            actions,
            actions_negated,
            resources,
            resources_negated,
            self.conditions(written.get("Condition", {})),
            tuple(self.faults),
            self.variables,
        )

    def one_of(self, written: dict[str, Json], plain: str, negated: str) -> tuple[tuple[str, ...], bool]:
        if (plain in written) == (negated in written):
            self.fault("", f"a statement needs {plain} or {negated}, and not both")
            return (), False
        name = plain if plain in written else negated
        return self.texts(written[name], f"/{name}"), name == negated

    def texts(self, written: Json, where: str) -> tuple[str, ...]:
        values = written if isinstance(written, list) else [written]
        if not values or not all(isinstance(value, str) for value in values):
            self.fault(where, "must be a text or a list of texts")
            return ()
        return tuple(str(value) for value in values)

    def whose(self, written: dict[str, Json]) -> Principals | None:
        """To whom the statement applies: whoever it is attached to, or the principals that it names."""
        if not self.attached:
            return self.principals(written)
        if "Principal" in written or "NotPrincipal" in written:
            self.fault("", "a statement that is attached to an identity names no principal")
        return Principals(everyone=True)

    def principals(self, written: dict[str, Json]) -> Principals | None:
        if ("Principal" in written) == ("NotPrincipal" in written):
            self.fault("", "a bucket's statement needs Principal or NotPrincipal, and not both")
            return None
        name = "Principal" if "Principal" in written else "NotPrincipal"
        value, negated = written[name], name == "NotPrincipal"
        if value == "*":
            return Principals(everyone=True, negated=negated)
        if not isinstance(value, dict) or not value or isinstance(value, _Doubled):
            self.fault(f"/{name}", 'must be "*" or an object of AWS, CanonicalUser, Federated, Service')
            return None
        kinds: dict[str, tuple[str, ...]] = {}
        for kind, who in value.items():
            if kind not in ("AWS", "CanonicalUser", "Federated", "Service"):
                self.fault(f"/{name}/{kind}", f'unknown kind of principal "{kind[:60]}"')
                return None
            kinds[kind] = self.texts(who, f"/{name}/{kind}")
        vague = [(who, kind) for kind in kinds for who in kinds[kind] if _wild(who) and (kind, who) != ("AWS", "*")]
        named = {kind: tuple(who for who in kinds[kind] if not _wild(who)) for kind in kinds}
        return Principals(
            "*" in kinds.get("AWS", ()),
            named.get("AWS", ()),
            named.get("CanonicalUser", ()),
            named.get("Federated", ()),
            named.get("Service", ()),
            tuple(who for who, _ in vague),
            negated,
            tuple(kind for _, kind in vague),
        )

    def conditions(self, written: Json) -> tuple[Condition, ...]:
        if not isinstance(written, dict) or isinstance(written, _Doubled):
            self.fault("/Condition", "must be an object of operators, each once")
            return ()
        read: list[Condition] = []
        for operator, keys in written.items():
            where = f"/Condition/{operator}"
            if not isinstance(keys, dict) or isinstance(keys, _Doubled) or not keys:
                self.fault(where, "must be an object of condition keys, each once")
                continue
            for key, values in keys.items():
                condition = self.condition(operator, key, values, where)
                if condition:
                    read.append(condition)
        return tuple(read)

    def condition(self, operator: str, key: str, written: Json, where: str) -> Condition | None:
        name = operator.lower()
        quantifier: Quantifier = ""
        for prefix in ("forallvalues", "foranyvalue"):
            if name.startswith(prefix + ":"):
                name, quantifier = name.removeprefix(prefix + ":"), prefix
        if_exists = name.endswith("ifexists") and name != "nullifexists"
        name = name.removesuffix("ifexists") if if_exists else name
        if name not in OPERATORS:
            self.fault(where, _unknown("operator", operator, tuple(OPERATORS.values())))
            return None
        values = written if isinstance(written, list) else [written]
        if not all(isinstance(value, str | int | float | bool) for value in values):
            self.fault(f"{where}/{key}", "must be a text or a list of texts")
            return None
        texts = tuple(str(value).lower() if isinstance(value, bool) else str(value) for value in values)
        place = f"{self.place}{where}/{key}"
        return Condition(name, key_name(key), texts, place, if_exists, quantifier, is_misspelled(key))


def _wild(name: str) -> bool:
    return "*" in name or "?" in name
