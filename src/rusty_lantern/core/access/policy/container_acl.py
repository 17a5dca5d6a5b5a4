"""Container ACLs and account ACLs of the open Swift protocol → statements, as three kinds of server read them.

The same header means different things: with the server's own users (`tempauth`), with users of an identity service
(`keystone`), and at the Swift door of an S3-compatible gateway (`gateway`). Each reading was measured on such a server:
`docs/doors.md` has the table, `tests/test_swift_decisions.py` and `tests/test_gateway_doors.py` hold it against
them.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from itertools import product
from typing import Literal
from urllib.parse import unquote

import msgspec

from rusty_lantern.core.access.policy.acl_permissions import CONTAINER_READ_AT_GATEWAY, CONTAINER_WRITE_AT_GATEWAY
from rusty_lantern.core.access.policy.actions import ACTIONS
from rusty_lantern.core.access.policy.condition_keys import REFERER_HOST
from rusty_lantern.core.access.policy.document import Condition, Fault, Principals, Statement
from rusty_lantern.core.access.policy.referer_entries import NO_REFERER, host_clauses, host_condition
from rusty_lantern.core.model.acl import NOBODY
from rusty_lantern.core.model.bucket import AccountAcl, ContainerAcl
from rusty_lantern.core.model.dossier import AclReading

DOOR = "swift"
EVERYBODY = Principals(everyone=True)
SIGNED = Condition("stringnotequals", "aws:principaltype", ("Anonymous",), "")

_LIST = ("s3:ListBucket", "s3:ListBucketVersions")
_LISTS_AT_GATEWAY = ("s3:ListBucket",)
_READ = ("s3:GetObject",)
_WRITE = ("s3:PutObject", "s3:DeleteObject")
_SEE = ("s3:GetBucketAcl",)
"""What shows the container's ACL: its HEAD, to those who may see it there."""
_SET = ("s3:PutBucketAcl",)
"""What a POST on the container does at a gateway's Swift door: it sets the ACL, and makes the caller the owner."""
SETS_ACL, SETS_END, BULK_DELETE = "X-Container-Read", "X-Delete-At", "bulk-delete"
"""What a POST at a gateway's Swift door says, which asks no policy: a header on a container; a header on an object,
which is deleted then; or on no container at all, the names of what is deleted. Measured on release 16.2."""

Side = Literal["read", "write"]


class Entries(msgspec.Struct, frozen=True):
    """A container ACL, taken apart: hosts of the Referer header in order, whether it grants listing, and names."""

    hosts: tuple[str, ...] = ()
    """Each as written after `.r:`: `*`, a host, `.` and a domain; with `-` in front, those are left out again."""
    listings: bool = False
    names: tuple[str, ...] = ()


def parse_container_acl(text: str) -> Entries:
    """The entries of one header. Names are percent-decoded, as the servers do.

    >>> parse_container_acl(".r:*,.r:-bad.example,.rlistings,deck%3Aadmin")
    Entries(hosts=('*', '-bad.example'), listings=True, names=('deck:admin',))
    """
    hosts, names, listings = [], [], False
    for written in text.split(","):
        entry = written.strip()
        if entry.startswith(".r:"):
            hosts.append(entry.removeprefix(".r:").strip())
        elif entry == ".rlistings":
            listings = True
        elif entry:
            names.append(unquote(entry))
    return Entries(tuple(hosts), listings, tuple(dict.fromkeys(names)))


class GatewayGuards(msgspec.Struct, frozen=True):
    """Which public-access guards are on, as far as they count for container ACLs at a gateway; None: not known."""

    ignore_acls: bool | None
    refuse_new_acls: bool | None


def statements_of(
    acl: ContainerAcl, account: AccountAcl | None, reading: AclReading, guards: GatewayGuards
) -> tuple[Statement, ...]:
    """What a container's ACLs and its account's allow, as statements that no policy document has.

    A reading that is not known gives the statements of all; those that not all have are in doubt.
    """
    if reading:
        return _together(_read(acl, account, reading, guards))
    every = [tuple(_read(acl, account, one, guards)) for one in READINGS]
    common = set(every[0]).intersection(*every[1:])
    read = dict.fromkeys(statement for statements in every for statement in statements)
    return tuple(s if s in common else _in_doubt(s, "which kind of server reads this ACL is not known") for s in read)


def _read(
    acl: ContainerAcl, account: AccountAcl | None, reading: AclReading, guards: GatewayGuards
) -> Iterator[Statement]:
    listing = (SIGNED,) if acl.index_alone else ()  # measured on releases 2.30 and 2.38
    yield from _of_header(parse_container_acl(acl.read), "read", reading, guards, listing)
    yield from _of_header(parse_container_acl(acl.write), "write", reading, guards)
    yield from _of_versions_kept(acl, reading, guards)
    yield from _of_copies(acl, reading, guards)
    yield from _of_account(account, reading) if account is not None else ()
    yield from _no_uploads(guards.refuse_new_acls) if reading == "gateway" else ()


_MOVED = (*_WRITE, *_READ)
VERSIONS_KEPT = ("arn:aws:s3:::*/????*/?*",)
"""How versions of another container's objects are called: the length of the name in three digits, the name, a
slash, and the moment. Source: the middleware `versioned_writes`."""


def _of_versions_kept(acl: ContainerAcl, reading: AclReading, guards: GatewayGuards) -> Iterator[Statement]:
    """What ACLs of containers allow whose earlier versions are kept in this one: the store moves them as its own, and
    asks no ACL of this one (measured on release 2.30)."""
    for source in acl.versions_of:
        if reading == "gateway":
            moved = allow(f"writing to {source.name}, whose earlier versions are kept here", EVERYBODY, _MOVED, ())
            moved = msgspec.structs.replace(moved, resources=VERSIONS_KEPT, through=source.name)
            yield _in_doubt(moved, "who may write there by policies and S3 ACLs is not worked out here")
            continue
        kept = f"of {source.name}, whose earlier versions are kept here"
        writers = [
            msgspec.structs.replace(one, place=f"{one.place} {kept}", resources=VERSIONS_KEPT, through=source.name)
            for one in _of_header(parse_container_acl(source.write), "write", reading, guards)
        ]
        actions = _WRITE if source.takes_back else _WRITE[:1]
        yield from (msgspec.structs.replace(writer, actions=actions) for writer in writers)
        if source.takes_back:  # what was taken back can be read there
            readers = _of_header(parse_container_acl(source.read), "read", reading, guards)
            caps = _names_as_one(one for one in readers if "s3:GetObject" in one.actions)
            for writer, cap in product(_names_as_one(writers), caps):
                yield msgspec.structs.replace(
                    writer, place=f"the read and write ACLs {kept}", actions=_READ, within=cap
                )
    if acl.versions_unread:
        signed = () if reading == "gateway" else (SIGNED,)
        perhaps = allow("another container's write ACL", EVERYBODY, _WRITE, signed)
        why = f"its earlier versions may be kept here: {acl.versions_unread}"
        yield _in_doubt(msgspec.structs.replace(perhaps, resources=VERSIONS_KEPT), why)


def _of_copies(acl: ContainerAcl, reading: AclReading, guards: GatewayGuards) -> Iterator[Statement]:
    """What ACLs of containers may allow that are synchronized to this one (measured on release 2.30)."""
    for source in acl.copies_of:
        for one in _of_header(parse_container_acl(source.write), "write", reading, guards):
            yield _in_doubt(msgspec.structs.replace(one, place=f"{one.place} of {source.way}"), NOT_SHOWN)
    if acl.copies_unread:
        perhaps = allow("another container's write ACL", EVERYBODY, _WRITE, (SIGNED,))
        yield _in_doubt(perhaps, f"it may be synchronized to this one: {acl.copies_unread}")


NOT_SHOWN = "whether that is in this store, and whether both have the same key, is not shown"


def _names_as_one(statements: Iterable[Statement]) -> list[Statement]:
    """Statements that differ in the name alone that they let in, as one: an ACL has few of other kinds."""
    names_of: dict[tuple[Statement, Principals], tuple[str, ...]] = {}
    for one in statements:
        who = one.principals or Principals()
        alike = msgspec.structs.replace(one, place="", principals=None), msgspec.structs.replace(who, canonical=())
        names_of[alike] = names_of.get(alike, ()) + who.canonical
    together = ((one, msgspec.structs.replace(who, canonical=names)) for (one, who), names in names_of.items())
    return [msgspec.structs.replace(one, principals=who) for one, who in together]


def _together(statements: Iterable[Statement]) -> tuple[Statement, ...]:
    """Statements that differ in their actions alone, as one."""
    actions_of: dict[Statement, tuple[str, ...]] = {}
    for statement in statements:
        bare = msgspec.structs.replace(statement, actions=())
        actions_of[bare] = actions_of.get(bare, ()) + statement.actions
    return tuple(msgspec.structs.replace(bare, actions=actions) for bare, actions in actions_of.items())


READINGS: tuple[AclReading, ...] = ("tempauth", "keystone", "gateway")


def _in_doubt(statement: Statement, why: str) -> Statement:
    return msgspec.structs.replace(statement, faults=(*statement.faults, Fault(statement.place, why)))


def _no_uploads(stands: bool | None) -> Iterator[Statement]:
    """The gateway's guard on new public ACLs refuses every upload (measured on release 16.2, at both doors)."""
    if stands is not False:
        words = "the gateway's guard on new public ACLs"
        refused = Statement(
            words, "Deny", principals=EVERYBODY, actions=("s3:PutObject",), resources=("*",), variables=False, door=DOOR
        )
        yield refused if stands else _in_doubt(refused, "whether it stands could not be read")


def _of_header(
    entries: Entries, side: Side, reading: AclReading, guards: GatewayGuards, listed_by: tuple[Condition, ...] = ()
) -> Iterator[Statement]:
    lists = _LISTS_AT_GATEWAY if reading == "gateway" else _LIST
    for words, conditions in host_clauses(entries.hosts, reading) if side == "read" else ():
        title = f"container read ACL {words}"
        yield allow(title, EVERYBODY, _READ, conditions)
        if entries.listings or reading == "gateway":
            listing = allow(title, EVERYBODY, lists, (*conditions, *listed_by))
            guarded = reading == "gateway" and words.startswith(".r:*")  # hosts are no public ACL there
            yield from _unless(listing, guards.ignore_acls if guarded else False)
        if reading == "gateway":
            on_bucket, on_object = _at_s3_door(title, EVERYBODY, CONTAINER_READ_AT_GATEWAY, conditions)
            yield on_object
            yield from _unless(on_bucket, guards.ignore_acls if words.startswith(".r:*") else False)
    for name in entries.names:
        if reading == "keystone" and ":" not in name:
            yield from _of_role(name, entries, side)
            continue
        words = f'container {side} ACL "{name}"'
        named = _WRITE if side == "write" else (*_READ, *lists)
        if side == "read" and reading == "gateway":
            named = (*named, *_SEE)  # any reader of the container is shown its ACL there
        named_there = _who(name, reading)
        if named_there is None:
            continue
        who, conditions = named_there
        yield allow(words, who, named, conditions)
        if reading == "gateway":
            yield from _at_s3_door(words, who, _OF_SIDE_AT_GATEWAY[side], conditions) if "*" not in name else ()
            yield from by_post(words, who, conditions, SETS_ACL, SETS_END) if side == "write" else ()


_OF_SIDE_AT_GATEWAY = {"read": CONTAINER_READ_AT_GATEWAY, "write": CONTAINER_WRITE_AT_GATEWAY}


def _at_s3_door(
    words: str, who: Principals, actions: tuple[str, ...], conditions: tuple[Condition, ...]
) -> tuple[Statement, Statement]:
    """What a container ACL allows at a gateway's S3 door: of the bucket, and of objects."""
    on_bucket = tuple(action for action in actions if ACTIONS[action].target == "bucket")
    on_object = tuple(action for action in actions if action not in on_bucket)
    bucket, objects = (
        msgspec.structs.replace(allow(f"{words}, at the S3 door", who, named, conditions), door="s3")
        for named in (on_bucket, on_object)
    )
    return bucket, objects


def by_post(words: str, who: Principals, conditions: tuple[Condition, ...], *headers: str) -> Iterator[Statement]:
    """What whoever may write to a bucket may do at a gateway's Swift door by a POST: no policy is asked."""
    for header in headers:
        actions = _SET if header == SETS_ACL else ("s3:DeleteObject",)
        title = f"{words}, by a POST of {header} at the Swift door"
        yield msgspec.structs.replace(allow(title, who, actions, conditions), by_post=header)


def _of_role(role: str, entries: Entries, side: Side) -> Iterator[Statement]:
    """What a name without a colon grants where an identity service has the users: to those who hold the role of that
    name in the account's own project.

    Listing is asked of the Referer first: a request that `.r:` entries let in to objects alone is refused the listing,
    and roles are not looked at (measured on release 2.38).
    """
    words, who = f'container {side} ACL "{role}"', Principals(canonical=(role.lower(),))
    yield allow(words, who, _WRITE if side == "write" else _READ, ())
    if side == "write":
        return
    positive = [entry for entry in entries.hosts if entry and not entry.startswith("-")]
    if entries.listings or not positive:
        yield allow(words, who, _LIST, ())
        return
    without = [
        condition
        for entry in positive
        if entry != "*"
        for condition in host_condition(entry, "keystone", negated=True) or ()
    ]
    some_left_out = len(positive) < len(entries.hosts)
    if "*" not in positive or some_left_out:
        listing = allow(words, who, _LIST, () if some_left_out else tuple(without))
        why = "which requests its Referer entries keep from listing is not worked out"
        yield _in_doubt(listing, why) if some_left_out else listing


def _unless(listing: Statement, stands: bool | None) -> Iterator[Statement]:
    """A listing that everybody gets at a gateway, unless the guard that ignores public ACLs is on: then only requests
    that have a Referer get it, whichever it is (measured on release 16.2)."""
    if stands is False:
        yield listing
        return
    yield msgspec.structs.replace(listing, conditions=(*listing.conditions, _ANY_REFERER))
    if stands is None:
        yield _in_doubt(listing, "whether public ACLs are ignored could not be read")


_ANY_REFERER = Condition("stringnotequals", REFERER_HOST, (NO_REFERER,), "")


UNSIGNED = Condition("stringequals", "aws:principaltype", ("Anonymous",), "")
"""An empty name is the one that requests without a token go by, as `anonymous` is at a gateway; a caller with
credentials gains nothing by either."""


def whom(name: str) -> tuple[Principals, tuple[Condition, ...]]:
    """Whom a user's name in an ACL means at a gateway, and under which condition."""
    return (EVERYBODY, (UNSIGNED,)) if name == NOBODY else (Principals(canonical=(name,)), ())


def _who(name: str, reading: AclReading) -> tuple[Principals, tuple[Condition, ...]] | None:
    """Whom a name in an ACL lets in, and under which condition; None where it lets in nobody."""
    if reading == "gateway" and name == NOBODY:
        return whom(name)
    if reading == "keystone" and name == "*:*":
        return EVERYBODY, (SIGNED,)
    if (reading == "tempauth" and "*" in name) or (reading == "gateway" and not name.strip("*:")):
        return None  # a gateway may take tokens of a Keystone, whose users it lets in by `PROJECT:*` and `*:USER`
    if reading != "keystone" and name.startswith("."):
        return None
    return Principals(canonical=(name,)), ()


def _of_account(acl: AccountAcl, reading: AclReading) -> Iterator[Statement]:
    """What the account's ACL allows in every container. With an identity service it counts for nothing."""
    if reading == "keystone":
        return
    see_all = ("s3:*",)
    gateway = reading == "gateway"
    reads = (*_READ, *(_LISTS_AT_GATEWAY if gateway else _LIST))
    write = (*reads, *_WRITE, "s3:PutBucketTagging", "s3:PutBucketVersioning", "s3:PutBucketCORS")
    posts = {"read-write": (SETS_ACL, SETS_END), "admin": (SETS_ACL,)} if gateway else {}
    levels: Iterable[tuple[str, list[str], tuple[str, ...]]] = (
        ("read-only", acl.read_only, reads),
        ("read-write", acl.read_write, (*reads, *_WRITE) if gateway else write),
        ("admin", acl.admin, (*_LISTS_AT_GATEWAY, *_WRITE) if gateway else see_all),
    )
    for level, names, actions in levels:
        for name in names:
            words = f'account ACL {level} "{name}"'
            if gateway and name == ".r:*":
                yield allow(f"account ACL {level} {name}", EVERYBODY, actions, ())
                yield from by_post(f"account ACL {level} {name}", EVERYBODY, (), *posts.get(level, ()))
            elif name == "":
                yield from (allow(words, EVERYBODY, actions, (UNSIGNED,)),) if not gateway else ()
            else:
                named = _who(name, reading)
                if named is not None:
                    yield allow(words, named[0], actions, named[1])
                    yield from by_post(words, *named, *posts.get(level, ()))


def allow(words: str, who: Principals, actions: tuple[str, ...], conditions: tuple[Condition, ...]) -> Statement:
    """What is allowed at the Swift door, in the whole container."""
    return Statement(
        words, "Allow", principals=who, actions=actions, resources=("*",), conditions=conditions, variables=False,
        door=DOOR,
    )  # fmt: skip
