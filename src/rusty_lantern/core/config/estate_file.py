"""estate.yaml: reading the file, with every mistake reported by its place."""

from __future__ import annotations

import ipaddress
import re
from typing import get_args
from urllib.parse import urlsplit

from rusty_lantern.core.config.credential_entries import (
    check_address,
    read_credential,
    read_service,
    read_signing,
)
from rusty_lantern.core.config.estate import (
    REGION,
    Attestation,
    DoorEntry,
    Estate,
    Mirror,
    Pace,
    Patience,
    StoreConfig,
)
from rusty_lantern.core.config.export_entry import EXPORT, read_beside, read_export
from rusty_lantern.core.config.object_scan import (
    read_inventory,
    read_objects,
    read_sample,
)
from rusty_lantern.core.config.secrets import refuse_secrets
from rusty_lantern.core.errors import ProblemList, nearest
from rusty_lantern.core.model.capabilities import PROTOCOLS
from rusty_lantern.core.model.identity import Verb
from rusty_lantern.core.value_types import InvalidValue, read_moment
from rusty_lantern.core.yaml_source import FieldReader, Node, read_nodes

_TOP = ("estate", "trusted", "stores", "mirrors", "sign")


_STORE = (
    "reads", "at", "credential", "pace", "addressing", "signing-place", "ca", "plain-http", "timeout", "only",
    "regions", "proxy",
    "counts", "objects", "sample", "inventory", "identities", "doors", "beside", "patience", "may",
    "stated", "dialect", *EXPORT,
)  # fmt: skip


VERBS: tuple[Verb, ...] = get_args(Verb)


_STATED = ("fact", "is", "because", "until")


def read_estate(document: str, file: str) -> Estate:
    """Read an estate file. Raises `BadInput` with everything that is wrong with it."""
    root = read_nodes(document, file)
    complaints = ProblemList()
    refuse_secrets(root, complaints)
    complaints.settle()
    reader = FieldReader(complaints)
    top = reader.fields(root, _TOP, "the estate")
    stores = [_store(reader, name, entry) for name, entry in reader.entries(top.get("stores"), "stores")]
    if root.fields is not None and not stores:
        complaints.add("the estate names no store", top["stores"].place if "stores" in top else root.place)
    accounts, nets = _trusted(reader, top.get("trusted"))
    mirrors = _mirrors(reader, top.get("mirrors"), [store.name for store in stores])
    sign = read_signing(reader, top["sign"]) if "sign" in top else None
    complaints.settle()
    return Estate(reader.text(top.get("estate"), "estate", "estate"), tuple(stores), accounts, nets, mirrors, sign)


def _mirrors(reader: FieldReader, node: Node | None, stores: list[str]) -> tuple[Mirror, ...]:
    if node is None:
        return ()
    if node.items is None:
        reader.complaints.add(f"mirrors must be a list, and is {node.kind}", node.place)
        return ()
    mirrors = []
    for item in node.items:
        fields = reader.fields(item, ("from", "to", "buckets", "lag"), "a mirror")
        ends = []
        for name in ("from", "to"):
            store = reader.text(fields.get(name), name)
            if item.fields is not None and store not in stores:
                hint = nearest(store, stores) or f"stores: {', '.join(stores)}"
                reader.complaints.add(f'the mirror\'s "{name}" names no store', (fields.get(name) or item).place, hint)
            ends.append(store)
        buckets = tuple(each.text or "" for each in reader.texts(fields.get("buckets"), "buckets"))
        lag = reader.seconds(fields.get("lag"), "lag", "30 minutes")
        mirrors.append(Mirror(ends[0], ends[1], buckets or ("*",), lag, item.place))
    return tuple(mirrors)


def _trusted(reader: FieldReader, node: Node | None) -> tuple[frozenset[str], tuple[str, ...]]:
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


def _store(reader: FieldReader, name: Node, entry: Node) -> StoreConfig:
    assert name.text is not None
    complaints = reader.complaints
    if not re.fullmatch(r"[a-z0-9][a-z0-9-]{0,40}", name.text):
        complaints.add(f'"{name.text}" cannot name a store', name.place, "use lower-case letters, digits and hyphens")
    fields = reader.fields(entry, _STORE, f"store {name.text}")
    nodes, at = _addresses(reader, fields.get("at"))
    home = reader.text(fields.get("signing-place"), "signing-place", "us-east-1")
    pattern, at = (at, at.replace(REGION, home)) if REGION in at else ("", at)
    capabilities = PROTOCOLS[reader.choice(fields.get("reads"), "reads", tuple(PROTOCOLS), "s3")]
    plain_http = reader.choice(fields.get("plain-http"), "plain-http", ("refused", "allowed"), "refused") == "allowed"
    exported = capabilities.address == "documents"
    if exported:
        at = ", ".join(item.text or "" for item in reader.texts(fields.get("from"), "from"))
    elif capabilities.address == "url" or "://" in at:
        check_address(complaints, at, fields.get("at") or entry, name.text, plain_http=plain_http)
    elif not at:
        complaints.add(f"store {name.text} needs an address or a file", entry.place, "at: attic.json")
    for node in nodes:
        check_address(complaints, node, fields["at"], name.text, plain_http=plain_http)
    pace = reader.fields(fields["pace"], ("at-once", "per-second"), "pace") if "pace" in fields else {}
    return StoreConfig(
        name.text,
        name.place,
        capabilities.protocol,
        at.rstrip("/"),
        read_credential(
            reader,
            fields.get("credential"),
            entry.place,
            needed=capabilities.needs_credential,
            sort=capabilities.credential,
            plain_http=plain_http,
        ),
        Pace(
            reader.whole(pace.get("at-once"), "at-once", 16),
            reader.whole(pace.get("per-second"), "per-second", 200),
        ),
        reader.choice(fields.get("addressing"), "addressing", ("path", "virtual"), "path"),
        home,
        reader.text(fields.get("ca"), "ca"),
        plain_http,
        reader.whole(fields.get("timeout"), "timeout", 30),
        tuple(item.text or "" for item in reader.texts(fields.get("only"), "only")),
        reader.choice(fields.get("counts"), "counts", ("listing", "counters"), "listing"),
        _stated(reader, fields.get("stated")),
        read_objects(reader, fields.get("objects")),
        read_sample(reader, fields.get("sample")),
        read_inventory(reader, fields.get("inventory")),
        tuple(node.rstrip("/") for node in nodes),
        _regions(reader, fields.get("regions"), name.text, plain_http=plain_http),
        pattern.rstrip("/"),
        _proxy(reader, fields.get("proxy"), name.text),
        _doors(reader, fields.get("doors"), name.text, plain_http=plain_http),
        read_service(reader, fields.get("identities"), name.text, plain_http=plain_http),
        read_beside(reader, fields.get("beside"), name.text),
        read_export(reader, fields, entry.place, f"store {name.text}") if exported else None,
        _patience(reader, fields.get("patience")),
        _dialect(reader, fields.get("dialect")),
        _may(reader, fields.get("may")),
    )


def _dialect(reader: FieldReader, node: Node | None) -> str:
    name = reader.text(node, "dialect")
    if node is not None and not re.fullmatch(r"[a-z0-9][a-z0-9.-]{0,40}", name):
        reader.complaints.add(f'"{name[:40]}" cannot name a dialect', node.place, "use lower-case letters and digits")
    return name


def _addresses(reader: FieldReader, node: Node | None) -> tuple[tuple[str, ...], str]:
    """One address, or several: the nodes, and last what is in front of them."""
    if node is None or node.items is None:
        return (), reader.text(node, "at")
    addresses = [item.text or "" for item in reader.texts(node, "at")]
    return tuple(addresses[:-1]), addresses[-1] if addresses else ""


def _proxy(reader: FieldReader, node: Node | None, store: str) -> str:
    at = reader.text(node, "proxy")
    if node is not None:  # what goes through it is sealed where the store's own address is of https
        check_address(reader.complaints, at, node, f"{store}'s proxy", plain_http=True)
        if "://" in at and urlsplit(at).path.strip("/"):
            reader.complaints.add("a proxy's address has no path", node.place, "proxy: http://proxy.example:3128")
    return at.rstrip("/")


def _regions(reader: FieldReader, node: Node | None, store: str, *, plain_http: bool) -> tuple[tuple[str, str], ...]:
    """The store's other regions, and the address of each: `{south: https://south.harbour.example}`."""
    regions = []
    for name, entry in reader.entries(node, "regions"):
        at = reader.text(entry, "an address")
        if not re.fullmatch(r"[a-z0-9][a-z0-9-]{0,62}", name.text or ""):
            reader.complaints.add(
                f'"{(name.text or "")[:40]}" cannot name a region', name.place, "as the store names it"
            )
        check_address(reader.complaints, at, entry, f"{store}'s region {name.text}", plain_http=plain_http)
        regions.append((name.text or "", at.rstrip("/")))
    return tuple(regions)


def _patience(reader: FieldReader, node: Node | None) -> Patience:
    """How long answers may be late: `{bucket: 30 seconds, store: 5 minutes}`."""
    fields = reader.fields(node, ("bucket", "store"), "patience") if node is not None else {}
    usual = Patience()
    return Patience(
        reader.seconds(fields.get("bucket"), "patience", "1 minute", usual.bucket),
        reader.seconds(fields.get("store"), "patience", "1 minute", usual.store),
    )


DOORS = ("swift", "admin", "account", "web", "filer")
UNSIGNED_DOORS = ("web", "filer")
"""What further protocols a store can have, and which of them are asked without credentials."""


def _doors(reader: FieldReader, node: Node | None, store: str, *, plain_http: bool) -> tuple[DoorEntry, ...]:
    doors = []
    for name, entry in reader.entries(node, "doors"):
        kind = reader.choice(name, "a door", DOORS, "")
        if not kind:
            continue
        numbered = kind == "account"
        fields = reader.fields(entry, ("at", "credential", "account"), f"door {kind}")
        at = reader.text(fields.get("at"), "at")
        whose = f"{store}'s door {kind}"
        asked_at = at.replace(REGION, "region") if numbered else at
        check_address(reader.complaints, asked_at, fields.get("at") or entry, whose, plain_http=plain_http)
        account = reader.text(fields.get("account"), "account")
        if numbered and not re.fullmatch("[0-9]{12}", account):
            wanted = 'account: "400100200300", in quotes'
            place = (fields.get("account") or entry).place
            reader.complaints.add("the door account needs the number of the account, of twelve digits", place, wanted)
        if "account" in fields and not numbered:
            reader.complaints.add(f"the door {kind} is not asked about an account", fields["account"].place)
        if kind in UNSIGNED_DOORS and "credential" in fields:
            reader.complaints.add(f"the door {kind} is asked without credentials", fields["credential"].place)
        credential = read_credential(
            reader, fields.get("credential"), entry.place, needed=kind not in UNSIGNED_DOORS, whose=f"the door {kind}",
            sort="swift" if kind == "swift" else "access-key", plain_http=plain_http,
        )  # fmt: skip
        doors.append(DoorEntry(kind, at.rstrip("/"), credential, entry.place, account))
    return tuple(doors)


def _may(reader: FieldReader, node: Node | None) -> tuple[tuple[str, tuple[Verb, ...]], ...]:
    permissions = []
    for pattern, verbs in reader.entries(node, "may"):
        written = [reader.choice(item, "a verb", VERBS, "read") for item in reader.texts(verbs, "may")]
        permissions.append((pattern.text or "", tuple(verb for verb in VERBS if verb in written)))
    return tuple(permissions)


def _stated(reader: FieldReader, node: Node | None) -> tuple[Attestation, ...]:
    if node is None:
        return ()
    if node.items is None:
        reader.complaints.add(f"stated must be a list, and is {node.kind}", node.place)
        return ()
    statements = []
    for item in node.items:
        fields = reader.fields(item, _STATED, "a declared fact")
        for name in _STATED:
            if item.fields is not None and name not in fields:
                reader.complaints.add(f'a declared fact needs "{name}"', item.place)
        until = reader.text(fields.get("until"), "until")
        try:
            if until:
                read_moment(until)
        except InvalidValue as error:
            reader.complaints.add(str(error), fields["until"].place)
        statements.append(
            Attestation(
                reader.text(fields.get("fact"), "fact"),
                reader.text(fields.get("is"), "is"),
                reader.text(fields.get("because"), "because"),
                until,
                item.place,
            )
        )
    return tuple(statements)
