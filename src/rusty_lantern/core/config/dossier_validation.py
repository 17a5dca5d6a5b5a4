"""Checking a dossier that somebody else made: secrets, shape, references, contradictions, each with its place.

A place is a JSON pointer. A *fatal* fault makes the whole document unfit to judge by; the others are reported by
`lantern dossier check` and leave what they touch unknown.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator
from operator import attrgetter
from typing import Any

import msgspec
from msgspec import inspect

from rusty_lantern.core.answer import Answer
from rusty_lantern.core.errors import BadInput, Damaged, Place, Problem, nearest
from rusty_lantern.core.model.acl import NOBODY
from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.core.model.dossier import DOSSIER_VERSION, Dossier, decode, undisturbed, version_of
from rusty_lantern.core.model.network import Network, network_fact

NEWLINE = b"\n"
MOST = 20
"""Faults that are reported of one document at once."""


class Fault(msgspec.Struct, frozen=True):
    """Something wrong with a dossier: where (a JSON pointer), what, and what to do."""

    pointer: str
    what: str
    hint: str = ""
    fatal: bool = True


def load_untrusted(document: bytes, file: str) -> Dossier:
    """Read a dossier that somebody else made. Raises `BadInput` or `Damaged` if it cannot be judged by."""
    with undisturbed():
        _refuse(secrets(document), file)
        dossier = decode(document, file)
        if b'"dossier"' not in document:
            raise BadInput(Problem("a dossier names its version", Place(file), f'"dossier": {DOSSIER_VERSION}'))
        _refuse([fault for fault in contradictions(dossier) if fault.fatal], file)
    return dossier


def _refuse(faults: list[Fault], file: str) -> None:
    if faults:
        raise BadInput(*(Problem(f"{f.what} (at {f.pointer})", Place(file), f.hint) for f in faults[:MOST]))


def check(document: bytes, file: str) -> tuple[list[Fault], Dossier | None]:
    """Everything wrong with a document, and the dossier if it can be read at all. Raises `BadInput` for a newer one."""
    faults = secrets(document)
    try:
        raw = msgspec.json.decode(document)
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError) as error:
        return [*faults, Fault("/", f"not JSON: {error}")], None
    faults += list(_shape(raw, Dossier, ""))
    try:
        dossier = decode(document, file)
    except BadInput as error:
        return [Fault("/dossier", error.complaints[0].what, error.complaints[0].remedy or "")], None
    except Damaged:
        return faults or [Fault("/", "not a dossier")], None
    if not version_of(document):
        faults.append(Fault("/dossier", "a dossier names its version", f'"dossier": {DOSSIER_VERSION}'))
    return faults + list(contradictions(dossier)), dossier


_TELLING = (b"secret", b"passw", b"private", b"session")
_NAMED = re.compile(rb"secret|passw|private[_-]?key|session[_-]?token")
_FIELD = re.compile(rb'"([^"\\]{0,60})"\s*:\s*"[^"]')
_FORM = re.compile(rb'"([A-Za-z0-9+/]{40})"')
_OTHER_FORMS = (b"-----begin ", b"signature=")


def secrets(document: bytes) -> list[Fault]:
    """Where a document holds something that looks like a secret. The secret itself is not repeated."""
    lowered = document.lower()
    places: dict[int, str] = {}
    for word in _TELLING:
        at = lowered.find(word)
        while at >= 0:
            start = lowered.rfind(b'"', max(0, at - 60), at)
            field = _FIELD.match(document, start) if start >= 0 else None
            if field is not None and _NAMED.search(field[1].lower()):
                places[start] = "the name of this field is that of a secret"
            at = lowered.find(word, at + 1)
    for form in _OTHER_FORMS:
        at = lowered.find(form)
        if at >= 0:
            places[at] = "a private key" if form.startswith(b"-") else "the signature of a share link"
    for match in _FORM.finditer(document):
        text = match[1]
        if all(re.search(kind, text) for kind in (b"[a-z]", b"[A-Z]", b"[0-9]")) and re.search(b"[+/]", text):
            places[match.start()] = "this text has the form of a secret key"
    remedy = "a dossier never holds secrets: leave it out, and have the credential changed if others could read this"
    return [Fault(_where(document, at), f"a secret? {what}", remedy) for at, what in sorted(places.items())[:MOST]]


def _where(document: bytes, at: int) -> str:
    before = document.rfind(b"\n", 0, at)
    return f"line {document.count(NEWLINE, 0, at) + 1}, column {at - before}"


def _shape(raw: Any, kind: Any, pointer: str) -> Iterator[Fault]:
    """Faults of form: unknown fields with the nearest right spelling, and values of the wrong type."""
    shape = inspect.type_info(kind)
    unknown = list(_unknown(raw, shape, pointer))
    yield from unknown
    if not isinstance(raw, dict):
        yield Fault(pointer or "/", "a dossier is a JSON object")
        return
    entries = raw.get("buckets") if isinstance(raw.get("buckets"), list) else []
    for number, bucket in enumerate(entries or []):
        yield from _typed(bucket, Bucket, f"/buckets/{number}")
    yield from _typed({**raw, "buckets": []} if isinstance(entries, list) else raw, Dossier, "")


def _typed(raw: Any, kind: Any, pointer: str) -> Iterator[Fault]:
    try:
        msgspec.convert(raw, kind, strict=True, builtin_types=())
    except msgspec.ValidationError as error:
        what, _, path = str(error).partition(" - at ")
        inner = re.sub(r"\[(\w+)\]|\.", lambda m: f"/{m[1]}" if m[1] else "/", path.strip("`").removeprefix("$"))
        place = inner.replace("//", "/")
        words, hint = what[:1].lower() + what[1:], ""
        wrong = re.fullmatch(r"Invalid enum value '(.*)'", what, re.DOTALL)
        if wrong is not None:
            known = [str(value) for value in _words_at(inspect.type_info(kind), place.split("/")[1:])]
            words = f'"{wrong[1][:60]}" is not one of the words allowed here'
            hint = nearest(wrong[1][:60], known) or f"one of {', '.join(known)}"
        yield Fault(f"{pointer}{place}" or "/", words, hint)


def _words_at(shape: inspect.Type, steps: list[str]) -> Iterator[Any]:
    """The words allowed in a place of a document, by its type."""
    if isinstance(shape, inspect.UnionType):
        for one in shape.types:
            yield from _words_at(one, steps)
    elif isinstance(shape, inspect.LiteralType) and not steps:
        yield from shape.values
    elif isinstance(shape, inspect.StructType) and steps:
        for field in shape.fields:
            if field.encode_name == steps[0]:
                yield from _words_at(field.type, steps[1:])
    elif isinstance(shape, inspect.ListType) and steps:
        yield from _words_at(shape.item_type, steps[1:])
    elif isinstance(shape, inspect.DictType) and steps:
        yield from _words_at(shape.value_type, steps[1:])


def _unknown(raw: Any, shape: inspect.Type, pointer: str) -> Iterator[Fault]:
    for one in shape.types if isinstance(shape, inspect.UnionType) else (shape,):
        if isinstance(one, inspect.StructType) and isinstance(raw, dict):
            fields = {field.encode_name: field.type for field in one.fields}
            for name, value in raw.items():
                if name in fields:
                    yield from _unknown(value, fields[name], f"{pointer}/{name}")
                else:
                    hint = nearest(name, fields) or f"known here: {', '.join(list(fields)[:12])}"
                    yield Fault(f"{pointer}/{_escaped(name)}", f'unknown "{name[:60]}"', hint, fatal=False)
        elif isinstance(one, inspect.ListType) and isinstance(raw, list):
            for number, value in enumerate(raw):
                yield from _unknown(value, one.item_type, f"{pointer}/{number}")


def _escaped(name: str) -> str:
    return name.replace("~", "~0").replace("/", "~1")


def contradictions(dossier: Dossier) -> list[Fault]:
    """Where a dossier contradicts itself, or refers to something that is not in it."""
    faults = [*_twice(dossier), *_lists(dossier), *_groups(dossier), *_references(dossier)]
    for number, bucket in enumerate(dossier.buckets):
        faults += _in_bucket(bucket, f"/buckets/{number}")
    if dossier.every_bucket is not None:
        faults += _in_bucket(dossier.every_bucket, "/every_bucket")
    return faults


def _twice(dossier: Dossier) -> Iterator[Fault]:
    sections: list[tuple[str, list[str]]] = [
        ("/buckets", [bucket.name for bucket in dossier.buckets]),
        ("/identities/value", [identity.name for identity in dossier.identities.value or ()]),
        ("/groups/value", [group.name for group in dossier.groups.value or ()]),
        ("/credentials/value", [credential.id for credential in dossier.credentials.value or ()]),
        ("/encryption_keys/value", [key.id for key in dossier.encryption_keys.value or ()]),
    ]
    for pointer, names in sections:
        for name, times in Counter(names).items():
            if times > 1:
                last = len(names) - 1 - names[::-1].index(name)
                yield Fault(f"{pointer}/{last}", f'"{name}" appears {times} times', "which one counts?")


def _lists(dossier: Dossier) -> Iterator[Fault]:
    listed = dossier.listing.value
    if listed is not None and listed < len(dossier.buckets):
        yield Fault("/listing/value", f"{listed:,} buckets are listed, but {len(dossier.buckets):,} are here")
    if dossier.dossier > DOSSIER_VERSION:
        yield Fault("/dossier", f"version {dossier.dossier} is newer than {DOSSIER_VERSION}")
    for name in ("identities", "groups", "credentials", "encryption_keys", "links", "network", "listing"):
        yield from _stateless(getattr(dossier, name), f"/{name}")


def _stateless(answer: Answer[Any], pointer: str) -> Iterator[Fault]:
    if answer.state == "known" and answer.value is None:
        yield Fault(pointer, "has the state known, but no value", 'say {"state": "absent"}, or leave it out')
    elif answer.state not in ("known", "stated") and answer.value is not None:
        yield Fault(
            pointer, f"has the state {answer.state}, but a value too", "either say known, or leave the value out"
        )


def _groups(dossier: Dossier) -> Iterator[Fault]:
    groups = {group.name: group for group in dossier.groups.value or ()}
    identities = {identity.name for identity in dossier.identities.value or ()}
    for number, group in enumerate(dossier.groups.value or ()):
        pointer = f"/groups/value/{number}"
        for inner in group.groups:
            if inner not in groups:
                yield Fault(f"{pointer}/groups", f'no group "{inner}" is here', nearest(inner, groups), fatal=False)
        if dossier.identities.settled:
            for member in group.members:
                if member not in identities:
                    hint = nearest(member, identities)
                    yield Fault(f"{pointer}/members", f'no identity "{member}" is here', hint, fatal=False)
        seen, left = set[str](), list(group.groups)
        while left:
            inner = left.pop()
            if inner == group.name:
                yield Fault(f"{pointer}/groups", f'the group "{group.name}" is in itself, in a loop')
                break
            if inner not in seen and inner in groups:
                seen.add(inner)
                left.extend(groups[inner].groups)


def _references(dossier: Dossier) -> Iterator[Fault]:
    buckets = {bucket.name for bucket in dossier.buckets}
    identities = {name for identity in dossier.identities.value or () for name in (identity.name, identity.resource)}
    keys = {name for key in dossier.encryption_keys.value or () for name in (key.id, *key.names)}
    for number, credential in enumerate(dossier.credentials.value or ()):
        if credential.owner and dossier.identities.settled and credential.owner not in identities:
            what = f'its owner "{credential.owner}" is no identity that is here'
            yield Fault(f"/credentials/value/{number}/owner", what, nearest(credential.owner, identities), fatal=False)
    for number, link in enumerate(dossier.links.value or ()):
        pointer = f"/links/value/{number}"
        if link.bucket and link.bucket not in buckets and dossier.listing.settled:
            hint = nearest(link.bucket, buckets)
            yield Fault(f"{pointer}/bucket", f'no bucket "{link.bucket}" is here', hint, fatal=False)
        if link.issued.value and link.expires.value and link.expires.value < link.issued.value:
            yield Fault(f"{pointer}/expires", "it ends before it was issued")
    for number, bucket in enumerate(dossier.buckets):
        named = bucket.encryption.value.key if bucket.encryption.value else ""
        if named and dossier.encryption_keys.settled and not {named, named.rpartition("/")[2]} & keys:
            pointer = f"/buckets/{number}/encryption/value/key"
            yield Fault(pointer, f'no encryption key "{named}" is here', nearest(named, keys), fatal=False)


_FIELDS = Bucket.__struct_fields__[1:]
_ANSWERS = attrgetter(*_FIELDS)
_VALUED = ("known", "stated")


def _in_bucket(bucket: Bucket, pointer: str) -> Iterator[Fault]:
    for name, answer in zip(_FIELDS, _ANSWERS(bucket), strict=True):
        if (answer.value is None) == (answer.state in _VALUED):
            yield from _stateless(answer, f"{pointer}/{name}")
    lock, versioning = bucket.lock.value, bucket.versioning.value
    if lock is not None and not lock.enabled and (lock.mode or lock.retention):
        yield Fault(f"{pointer}/lock/value", "the lock is off, and has a default retention all the same")
    if lock is not None and bool(lock.mode) != bool(lock.retention):
        yield Fault(f"{pointer}/lock/value", "a default retention needs both a mode and a period")
    if lock is not None and lock.enabled and not lock.whole and versioning and versioning.state == "never":
        yield Fault(f"{pointer}/lock/value", "object lock is on, and versioning, which it needs, is not")
    for number, right in enumerate(bucket.rights.value or ()):
        if (right.to in ("named", "group")) != bool(right.identity):
            yield Fault(f"{pointer}/rights/value/{number}", f'a right to "{right.to}" does not go with its identity')
    for number, grant in enumerate(bucket.acl.value or ()):
        if grant.to == "named" and grant.identity in ("", NOBODY):
            nobody = f'"{NOBODY}" is whoever sends no credentials: write "to": "unsigned"'
            words = nobody if grant.identity else "an ACL grant to a named identity has no identity"
            yield Fault(f"{pointer}/acl/value/{number}", words)
    yield from _network(bucket.network, f"{pointer}/network/value")
    if bucket.bounds.value and 0 < bucket.bounds.value.longest < bucket.bounds.value.shortest:
        yield Fault(f"{pointer}/bounds/value", "the longest retention is shorter than the shortest")


def _network(answer: Answer[Network], pointer: str) -> Iterator[Fault]:
    if answer.value is None:
        return
    if answer.value.default == "allow" and (answer.value.networks or answer.value.endpoints):
        what = "everybody is allowed by default, so the networks named here change nothing"
        yield Fault(pointer, what, "default: deny, if they are meant to restrict access", fatal=False)
    if network_fact(answer).value is None:
        yield Fault(f"{pointer}/networks", network_fact(answer).note)
