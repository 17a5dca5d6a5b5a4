"""The estate file: which stores a team answers for, how each is read, and whom the team trusts.

Credentials are named here, never written: a profile, environment variables, a file. A secret in the file is
refused and not repeated in the message.
"""

from __future__ import annotations

import ipaddress
import re
from fnmatch import fnmatchcase
from typing import Literal, get_args
from urllib.parse import urlsplit

import msgspec

from rusty_lantern.core.errors import Collector, Place, nearest
from rusty_lantern.core.marked import Marked, Reader, read_marked
from rusty_lantern.core.sampling import size_to_detect
from rusty_lantern.core.scales import NotOnScale, read_moment


class Credential(msgspec.Struct, frozen=True):
    """Where a credential is found. `kind`: `profile`, `environment`, `file` or `chain` (the provider's own)."""

    kind: str
    name: str = ""
    profile: str = ""
    place: Place | None = None


class Pace(msgspec.Struct, frozen=True):
    """How fast a store may be asked: at once, and per second."""

    at_once: int = 16
    per_second: int = 200


Looked = Literal["none", "listed", "sample", "all"]
LOOKED: tuple[Looked, ...] = get_args(Looked)


class Sample(msgspec.Struct, frozen=True):
    """How many versions of a bucket are looked at where a sample is: `versions`, or as many as find drift of at least
    the share `detect` with `confidence`. The same `seed` draws the same sample."""

    versions: int = 0
    detect: float = 0.01
    confidence: float = 0.95
    seed: int = 1

    @property
    def size(self) -> int:
        """How many versions that is."""
        return self.versions or size_to_detect(self.detect, self.confidence)


class Inventory(msgspec.Struct, frozen=True):
    """Files that the provider made of each bucket's objects: where they lie, and which of their columns is which.

    `files` is a pattern below the workspace with `{bucket}` in it. `columns`: ours → theirs, by heading, or by number
    from 1 where the files have no headings.
    """

    files: str
    columns: tuple[tuple[str, str], ...]
    headed: bool = True
    encoded: bool = False
    """Whether keys are URL-encoded."""


INVENTORY_COLUMNS = (
    "key", "version", "current", "marker", "size", "etag", "written", "tier", "content-type", "cache-control",
    "encryption", "encryption-key", "mode", "until", "hold", "replication", "checksum",
)  # fmt: skip


class Stated(msgspec.Struct, frozen=True):
    """What a store's owner says of a fact that cannot be read, why, and until when (ISO 8601)."""

    fact: str
    value: str
    because: str
    until: str
    place: Place


class Store(msgspec.Struct, frozen=True):
    """One entry under `stores:`."""

    name: str
    place: Place
    reads: str
    at: str
    credential: Credential
    pace: Pace = Pace()
    addressing: str = "path"
    signing_place: str = "us-east-1"
    ca: str = ""
    plain_http: bool = False
    timeout: int = 30
    only: tuple[str, ...] = ()
    counts: str = "listing"
    """How buckets are counted: by `listing` them, or by the store's own `counters`."""
    stated: tuple[Stated, ...] = ()
    objects: tuple[tuple[str, Looked], ...] = ()
    """Bucket pattern → how far its objects are looked at; the first that fits counts."""
    sample: Sample = Sample()
    inventory: Inventory | None = None

    def looks_at(self, bucket: str) -> Looked:
        """How far a bucket's objects are looked at."""
        return next((looked for pattern, looked in self.objects if fnmatchcase(bucket, pattern)), "none")


class Estate(msgspec.Struct, frozen=True):
    """All the stores a team answers for."""

    name: str
    stores: tuple[Store, ...]
    trusted_accounts: frozenset[str] = frozenset()
    trusted_networks: tuple[str, ...] = ()


_TOP = ("estate", "trusted", "stores")
_STORE = (
    "reads", "at", "credential", "pace", "addressing", "signing-place", "ca", "plain-http", "timeout", "only",
    "counts", "objects", "sample", "inventory",
    "stated",
)  # fmt: skip
_CREDENTIAL = ("profile", "environment", "file")
_STATED = ("fact", "is", "because", "until")
_SECRET_NAMES = re.compile(r"(?i)(secret|password|passwd|private|session|access)[-_]?(key|token|access)?")
_SECRET_FORM = re.compile(r"^[A-Za-z0-9/+=]{32,}$")


def read_estate(document: str, file: str) -> Estate:
    """Read an estate file. Raises `BadInput` with everything that is wrong with it."""
    root = read_marked(document, file)
    complaints = Collector()
    _refuse_secrets(root, complaints)
    complaints.settle()
    reader = Reader(complaints)
    top = reader.fields(root, _TOP, "the estate")
    stores = [_store(reader, name, entry) for name, entry in reader.entries(top.get("stores"), "stores")]
    if root.fields is not None and not stores:
        complaints.add("the estate names no store", top["stores"].place if "stores" in top else root.place)
    accounts, nets = _trusted(reader, top.get("trusted"))
    complaints.settle()
    return Estate(reader.text(top.get("estate"), "estate", "estate"), tuple(stores), accounts, nets)


def _trusted(reader: Reader, node: Marked | None) -> tuple[frozenset[str], tuple[str, ...]]:
    if node is None:
        return frozenset(), ()
    fields = reader.fields(node, ("accounts", "networks"), "trusted")
    accounts = frozenset(item.text or "" for item in reader.texts(fields.get("accounts"), "accounts"))
    nets = []
    for item in reader.texts(fields.get("networks"), "networks"):
        try:
            nets.append(str(ipaddress.ip_network(item.text or "")))
        except ValueError as error:
            reader.complaints.add(f"not a network: {error}", item.place, "write it as 198.51.100.0/24")
    return accounts, tuple(nets)


def _store(reader: Reader, name: Marked, entry: Marked) -> Store:
    assert name.text is not None
    complaints = reader.complaints
    if not re.fullmatch(r"[a-z0-9][a-z0-9-]{0,40}", name.text):
        complaints.add(f'"{name.text}" cannot name a store', name.place, "use lower-case letters, digits and hyphens")
    fields = reader.fields(entry, _STORE, f"store {name.text}")
    at = reader.text(fields.get("at"), "at")
    plain_http = reader.choice(fields.get("plain-http"), "plain-http", ("refused", "allowed"), "refused") == "allowed"
    _check_address(complaints, at, fields.get("at") or entry, name.text, plain_http=plain_http)
    pace = reader.fields(fields["pace"], ("at-once", "per-second"), "pace") if "pace" in fields else {}
    return Store(
        name.text,
        name.place,
        reader.choice(fields.get("reads"), "reads", ("s3",), "s3"),
        at.rstrip("/"),
        _credential(reader, fields.get("credential"), entry.place),
        Pace(
            reader.whole(pace.get("at-once"), "at-once", 16),
            reader.whole(pace.get("per-second"), "per-second", 200),
        ),
        reader.choice(fields.get("addressing"), "addressing", ("path", "virtual"), "path"),
        reader.text(fields.get("signing-place"), "signing-place", "us-east-1"),
        reader.text(fields.get("ca"), "ca"),
        plain_http,
        reader.whole(fields.get("timeout"), "timeout", 30),
        tuple(item.text or "" for item in reader.texts(fields.get("only"), "only")),
        reader.choice(fields.get("counts"), "counts", ("listing", "counters"), "listing"),
        _stated(reader, fields.get("stated")),
        _objects(reader, fields.get("objects")),
        _sample(reader, fields.get("sample")),
        _inventory(reader, fields.get("inventory")),
    )


def _inventory(reader: Reader, node: Marked | None) -> Inventory | None:
    if node is None:
        return None
    fields = reader.fields(node, ("files", "columns", "headings", "keys"), "inventory")
    files = reader.text(fields.get("files"), "files")
    if "{bucket}" not in files or files.startswith("/") or ".." in files:
        remedy = "files: inventory/{bucket}*.csv.gz"
        reader.complaints.add("files must be a pattern below the workspace with {bucket} in it", node.place, remedy)
    headed = reader.choice(fields.get("headings"), "headings", ("present", "absent"), "present") == "present"
    encoded = reader.choice(fields.get("keys"), "keys", ("plain", "url-encoded"), "plain") == "url-encoded"
    columns = []
    for name, column in reader.entries(fields.get("columns"), "columns"):
        if name.text not in INVENTORY_COLUMNS:
            hint = nearest(name.text or "", INVENTORY_COLUMNS) or ", ".join(INVENTORY_COLUMNS)
            reader.complaints.add(f'an inventory has no "{name.text}" that is known here', name.place, hint)
        elif not headed and not re.fullmatch("[1-9][0-9]{0,2}", column.text or ""):
            reader.complaints.add("without headings, a column is named by its number from 1", column.place)
        columns.append(((name.text or "").replace("-", "_"), column.text or ""))
    if "key" not in dict(columns):
        reader.complaints.add("an inventory needs the column of keys", node.place, "columns: {key: Key, size: Size}")
    return Inventory(files, tuple(columns), headed, encoded)


def _objects(reader: Reader, node: Marked | None) -> tuple[tuple[str, Looked], ...]:
    if node is None:
        return ()
    if node.text is not None:
        return (("*", _looked(reader, node)),)
    return tuple((key.text or "", _looked(reader, value)) for key, value in reader.entries(node, "objects"))


def _looked(reader: Reader, node: Marked) -> Looked:
    found = reader.choice(node, "objects", LOOKED, "none")
    return next(looked for looked in LOOKED if looked == found)


def _sample(reader: Reader, node: Marked | None) -> Sample:
    if node is None:
        return Sample()
    fields = reader.fields(node, ("versions", "detect", "confidence", "seed"), "sample")
    shares = {name: _share(reader, fields[name], name) for name in ("detect", "confidence") if name in fields}
    numbers = {name: reader.whole(fields[name], name, 1) for name in ("versions", "seed") if name in fields}
    return Sample(**numbers, **shares)  # type: ignore[arg-type]


def _share(reader: Reader, node: Marked, name: str) -> float:
    match = re.fullmatch(r"([0-9]{1,2}(?:\.[0-9]{1,4})?)\s*%", node.text or "")
    if match is None or float(match[1]) == 0:
        reader.complaints.add(f"{name} must be a share of versions", node.place, f"write it as {name}: 1 %")
        return 0.5
    return float(match[1]) / 100


def _check_address(complaints: Collector, at: str, node: Marked, store: str, *, plain_http: bool) -> None:
    try:
        parts = urlsplit(at)
        port = parts.port
    except ValueError:
        parts, port = urlsplit(""), None
    if parts.scheme not in ("http", "https") or not parts.hostname or port == 0:
        complaints.add(f"store {store} needs an address", node.place, "at: https://objects.example")
    elif parts.username or parts.password:
        complaints.add("an address must not carry a user name or a password", node.place, "name a credential instead")
    elif parts.query or parts.fragment:
        complaints.add("an address ends before any ? or #", node.place)
    elif parts.scheme == "http" and not plain_http:
        complaints.add(
            "plain http lets everyone on the way read along",
            node.place,
            "use https, or say `plain-http: allowed`",
        )


def _credential(reader: Reader, node: Marked | None, place: Place) -> Credential:
    if node is None:
        reader.complaints.add("a store needs a credential", place, "credential: {profile: NAME}")
        return Credential("chain")
    if node.text is not None:
        if node.text == "chain":
            return Credential("chain", place=node.place)
        reader.complaints.add(
            f'a credential cannot be "{node.text[:20]}"', node.place,
            "one of {profile: NAME}, {environment: PREFIX}, {file: PATH}, or chain",
        )  # fmt: skip
        return Credential("chain")
    fields = reader.fields(node, _CREDENTIAL, "credential")
    for kind in ("file", "environment", "profile"):
        if kind in fields:
            name = reader.text(fields[kind], kind)
            profile = reader.text(fields.get("profile"), "profile") if kind == "file" else ""
            return Credential(kind, name, profile, node.place)
    return Credential("chain", place=node.place)


def _stated(reader: Reader, node: Marked | None) -> tuple[Stated, ...]:
    if node is None:
        return ()
    if node.items is None:
        reader.complaints.add(f"stated must be a list, and is {node.kind}", node.place)
        return ()
    found = []
    for item in node.items:
        fields = reader.fields(item, _STATED, "a stated fact")
        for name in _STATED:
            if item.fields is not None and name not in fields:
                reader.complaints.add(f'a stated fact needs "{name}"', item.place)
        until = reader.text(fields.get("until"), "until")
        try:
            if until:
                read_moment(until)
        except NotOnScale as error:
            reader.complaints.add(str(error), fields["until"].place)
        found.append(
            Stated(
                reader.text(fields.get("fact"), "fact"),
                reader.text(fields.get("is"), "is"),
                reader.text(fields.get("because"), "because"),
                until,
                item.place,
            )
        )
    return tuple(found)


def _refuse_secrets(node: Marked, complaints: Collector) -> None:
    remedy = "put it in a profile, an environment variable or a file of its own, and name that here"
    for key, value in node.fields or ():
        if value.text and _SECRET_NAMES.fullmatch(key.text or ""):
            complaints.add("this looks like a secret, and secrets do not belong in the estate file", key.place, remedy)
        elif value.text and _SECRET_FORM.fullmatch(value.text) and re.search("[0-9]", value.text):
            complaints.add(
                "this looks like a secret, and secrets do not belong in the estate file", value.place, remedy
            )
        _refuse_secrets(value, complaints)
    for item in node.items or ():
        _refuse_secrets(item, complaints)
