"""Terminal views of credentials, encryption keys, links and mirrors."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Console

from rusty_lantern.core.baseline.sheets import SEVERITIES
from rusty_lantern.core.scales import DAY, show_bytes, show_moment
from rusty_lantern.reports.holder_results import (
    CredentialRow,
    CredentialsResult,
    EncryptionResult,
    IdentityRow,
    Judged,
    KeyRow,
    LinkRow,
    LinksResult,
    MirrorRow,
    MirrorsResult,
    Other,
    ProtectionRow,
)
from rusty_lantern.reports.terminal import STYLES, Cell, Grid, join, line, many, next_step

VERB_COUNT = 7


def _head(screen: Console, title: str, survey: str, as_of: object, *more: str) -> None:
    line(screen, (title, "bold"))
    line(screen, (join([f"survey {survey}", f"as of {as_of}", *more]), "dim"))
    screen.print()


def _days(seconds: int | None) -> str:
    if seconds is None:
        return "unknown"
    return f"{seconds // DAY:,} d" if seconds >= DAY else "today"


def _worst(judged: Judged) -> int:
    """Where a row stands in the order of what is worst; what held comes last."""
    if judged.drifted:
        return min(SEVERITIES.index(severity) for severity in judged.drifted.values())
    return len(SEVERITIES) + (not judged.unknown)


def _remarks(judged: Judged) -> Cell:
    """The facts that drifted, without their family's name, in the colour of the worst."""
    names = [name.partition(".")[2] for name in judged.drifted]
    doubts = [f"{name.partition('.')[2]}?" for name in judged.unknown]
    waived = [f"{name.partition('.')[2]} (waived)" for name in judged.waived]
    style = STYLES[SEVERITIES[_worst(judged)]] if names else STYLES["unknown" if doubts else "waived"]
    return ", ".join([*names, *doubts, *waived]), style


def _can(verbs: str | None, least: str) -> Cell:
    if verbs is None:
        return f"{least} and more?".strip() if least else "cannot be told", STYLES["unknown"]
    if len(verbs.split()) == VERB_COUNT:
        return "everything"
    return verbs or ("nothing", "dim")


def _unread(screen: Console, unread: dict[str, str]) -> None:
    if not unread:
        return
    screen.print()
    line(screen, ("could not be told", STYLES["unknown"]))
    for store, reason in unread.items():
        line(screen, (store, "bold"), f"  {reason}", indent=2)


def credentials_view(screen: Console, result: CredentialsResult) -> None:
    """Who holds which key: worst first; then who signs in with a password; then key material that lies about."""
    stores = sorted({row.store for row in result.credentials})
    _head(screen, "Who holds which key", result.survey, show_moment(result.as_of), *stores)
    rows = sorted(result.credentials, key=lambda r: (_worst(r.judged), r.store, r.owner, r.key))
    if rows:
        grid = Grid("store", "owner", "what", "key", "age", "idle", "can", "drifted", shrink=(6, 7, 1, 2),
                    right=(4, 5), drop=(2, 6))  # fmt: skip
        for row in rows:
            grid.add(*_credential(row))
        grid.show(screen)
        if grid.dropped:
            line(screen, (f"left out at this width: {', '.join(grid.dropped)} (--json has it all)", "dim"))
    _people(screen, result.identities)
    _lying_about(screen, result)
    _unread(screen, result.unread)
    screen.print()
    live = sum(row.state == "live" for row in rows)
    owners = len({(row.store, row.owner) for row in rows})
    drifted = sum(bool(row.judged.drifted) for row in rows)
    counts = [many(len(rows), "credential"), f"{live:,} live", many(owners, "owner"), f"{drifted:,} not as required"]
    line(screen, (join(counts), "bold"))
    next_step(screen, "lantern access --who NAME", "what one of them may do, bucket by bucket")


def _credential(row: CredentialRow) -> list[Cell]:
    kind = row.owner_kind or ("no such identity" if row.owner_state == "missing" else "unknown")
    if row.owner_state == "disabled":
        kind = f"{kind}, disabled"
    idle: Cell = ("never used", STYLES["medium"]) if row.used == "never" else _days(row.idle)
    can, remarks = _can(row.can, row.can_at_least), _remarks(row.judged)
    if row.state == "disabled":
        can, remarks = ("nothing", "dim"), ("disabled, so not judged", "dim")
    elif row.state != "live":
        can = ("whether it is live is unknown", STYLES["unknown"])
    return [
        row.store,
        (row.owner or "nobody", "bold"),
        kind,
        row.key,
        _days(row.age),
        idle,
        can,
        remarks,
    ]


def _people(screen: Console, identities: Sequence[IdentityRow]) -> None:
    people = [row for row in identities if row.password != "off" or row.judged.drifted or row.judged.unknown]
    if not people:
        return
    screen.print()
    line(screen, ("Who signs in with a password, or is not as required", "bold"))
    grid = Grid("store", "identity", "what", "second factor", "signed in", "live keys", "can", "not needed", "drifted",
                shrink=(6, 7, 8, 1), right=(4, 5), drop=(5, 6))  # fmt: skip
    for row in sorted(people, key=lambda r: (_worst(r.judged), r.store, r.name)):
        signed_in = "" if row.password != "on" else _days(row.password_idle)
        factor: Cell = row.second_factor or "not offered"
        grid.add(
            row.store, (row.name, "bold"), row.kind or "unknown",
            "" if row.password == "off" else factor, signed_in,
            "unknown" if row.live_keys is None else str(row.live_keys), _can(row.can, row.can_at_least),
            (row.beyond or "", STYLES["high"] if row.beyond else ""), _remarks(row.judged),
        )  # fmt: skip
    grid.show(screen)
    if grid.dropped:
        line(screen, (f"left out at this width: {', '.join(grid.dropped)} (--json has it all)", "dim"))


def _lying_about(screen: Console, result: CredentialsResult) -> None:
    if result.lying_about is None:
        return
    screen.print()
    if not result.lying_about:
        line(screen, ("No key material was found in the files.", STYLES["held"]))
        return
    line(screen, ("Key material that lies in files", STYLES["critical"]))
    grid = Grid("file and line", "what", "key", "whose", "state", shrink=(0, 1))
    for leak in result.lying_about:
        whose = f"{leak.store}: {leak.owner}" if leak.store else ("of no store surveyed" if leak.key else "")
        grid.add((f"{leak.file}:{leak.line}", "bold"), leak.what, leak.key, whose, leak.state)
    grid.show(screen)


def encryption_view(screen: Console, result: EncryptionResult) -> None:
    """The keys, worst first, with what hangs on each; then what protects the buckets, those alike together."""
    _head(screen, "What protects data at rest", result.survey, show_moment(result.as_of))
    if result.keys:
        grid = Grid("key", "state", "place", "guarded by", "rotated every", "in use for", "store may use", "buckets",
                    "drifted", shrink=(0, 7, 8), right=(5, 7), drop=(3, 4, 5, 2), floors={8: 10})  # fmt: skip
        keys = sorted(result.keys, key=lambda r: (_worst(r.judged), -len(r.buckets), r.store, r.name))
        for row in keys:
            grid.add(*_key(row))
        grid.show(screen)
        if grid.dropped:
            line(screen, (f"left out at this width: {', '.join(grid.dropped)} (--json has it all)", "dim"))
        screen.print()
        for row in keys:
            if row.buckets:
                words = "would be unreadable without it"
                told = f"{', '.join(row.buckets[:8])}{', …' if len(row.buckets) > 8 else ''}"
                line(screen, (row.name, "bold"), f"  {told} {words}", indent=2, hang=4)
                if row.destruction:
                    line(screen, (f"it is going to be destroyed on {row.destruction}", STYLES["critical"]), indent=4)
        screen.print()
    _protection(screen, result.buckets)
    _others(screen, result.buckets)
    _unread(screen, result.unread)
    bare = sum(row.by == "none" for row in result.buckets)
    screen.print()
    counts = [many(len(result.buckets), "bucket"), f"{bare:,} without encryption", many(len(result.keys), "key")]
    line(screen, (join(counts), "bold"))
    next_step(screen, "lantern audit", "hold it against the baseline")


def _key(row: KeyRow) -> list[Cell]:
    state = row.state or "unknown"
    style = "" if state == "enabled" else STYLES["critical"] if row.buckets else STYLES["medium"]
    usable: Cell = "unknown" if row.store_may_use is None else "yes" if row.store_may_use == "on" else (
        "no", STYLES["high"])  # fmt: skip
    rotation = "unknown" if "rotation" in row.unknown else "never" if row.rotation is None else _days(row.rotation)
    return [
        (row.name, "bold"), (state, style), row.place or "unknown", row.protection or "unknown", rotation,
        _days(row.age), usable, f"{len(row.buckets):,}", _remarks(row.judged),
    ]  # fmt: skip


def _protection(screen: Console, rows: Sequence[ProtectionRow]) -> None:
    alike: dict[tuple[str, str, str], list[str]] = {}
    several = len({row.store for row in rows}) > 1
    for row in rows:
        by = row.by or "unknown"
        notes = []
        if row.stated:
            notes.append("stated, not observed")
        if row.key_place == "elsewhere":
            notes.append("key elsewhere")
        if row.usable == "off":
            notes.append("store may not use it")
        if row.key_state not in (None, "enabled"):
            notes.append(f"key {row.key_state}")
        if row.key and row.key_state is None:
            notes.append("key not known")
        if row.by is None:
            notes.append(row.unknown.get("at-rest", ""))
        name = f"{row.store}/{row.bucket}" if several else row.bucket
        alike.setdefault((by, row.key or "", "; ".join(notes)), []).append(name)
    order = ("none", "unknown", "provider-key", "customer-key", "managed-key")
    grid = Grid("protected by", "key", "buckets", "of it", "which", shrink=(4, 1, 3), right=(2,))
    for (by, key, notes_), names in sorted(alike.items(), key=lambda item: (order.index(item[0][0]), item[0])):
        style = STYLES["medium"] if by == "none" else STYLES["unknown"] if by == "unknown" else ""
        bad = notes_ and by != "unknown" and notes_ not in ("stated, not observed", "key not known")
        shown = names if len(names) <= 4 else [*names[:3], f"and {len(names) - 3:,} more"]
        told = (notes_, STYLES["high"] if bad else "dim")
        grid.add((by, style), key, f"{len(names):,}", told, (", ".join(shown), "dim"))
    grid.show(screen)


def _others(screen: Console, rows: Sequence[ProtectionRow]) -> None:
    found = [row for row in rows if row.others]
    if not found:
        return
    screen.print()
    line(screen, ("Objects that are not under their bucket's default of today", "bold"))
    for row in found:
        told = [f"{one.versions:,} {_under(one)} ({show_bytes(one.bytes)})" for one in row.others]
        line(screen, (f"{row.store}/{row.bucket}", "bold"), f"  {'; '.join(told)}", indent=2, hang=4)


def _under(one: Other) -> str:
    return "without encryption" if one.by == "none" else f"under {one.key or one.by}"


def links_view(screen: Console, result: LinksResult) -> None:
    """The links, those that open most first; then what is over."""
    read = f"{show_bytes(result.read_bytes)} of text" if result.read_bytes else ""
    _head(screen, "Links that are out", result.survey, show_moment(result.as_of), read)
    order = ("valid", "unknown", "dead", "expired", "revoked")
    rows = sorted(result.links, key=lambda r: (order.index(r.standing), _worst(r.judged), r.store, r.bucket, r.key))
    if rows:
        told = ("opens", "may", "stands", "issued", "ends", "signed by", "drifted")
        mined = any(row.found for row in rows)
        grid = Grid(*told, *(["found"] if mined else []), shrink=(6, 5, 7, 0) if mined else (6, 5, 0), drop=(3, 5),
                    keep=22, floors={5: 18, 6: 24, 7: 12})  # fmt: skip
        for row in rows:
            grid.add(*_link(row), *([(row.found, "dim")] if mined else []))
        grid.show(screen)
        if grid.dropped:
            line(screen, (f"left out at this width: {', '.join(grid.dropped)} (--json has it all)", "dim"))
    beside = [row for row in rows if row.standing == "valid" and (row.beside_the_door or row.against_baseline)]
    if beside:
        screen.print()
    for row in beside:
        line(screen, (_opens(row), "bold"), f": {_past_the_door(row)}", indent=2, hang=4)
    hosts = sorted({row.host for row in rows if row.host and row.store})
    if hosts:
        words = "not an address in estate.yaml; told by the credential that signed it: "
        line(screen, (words + ", ".join(hosts), "dim"), indent=2, hang=4)
    probed = [row for row in rows if row.probe]
    for row in probed:
        line(screen, (_opens(row), "bold"), f"  tried: {row.probe}", indent=2)
    _unread(screen, result.unread)
    screen.print()
    valid = sum(row.standing == "valid" for row in rows)
    writing = sum(row.standing == "valid" and not {"write", "delete"}.isdisjoint(row.verbs) for row in rows)
    endless = sum(row.standing == "valid" and row.never_ends for row in rows)
    counts = [many(len(rows), "link"), f"{valid:,} valid", f"{writing:,} may write", f"{endless:,} never end"]
    line(screen, (join(counts), "bold"))
    next_step(screen, "lantern audit", "hold links that stores know of against the baseline")


def _past_the_door(row: LinkRow) -> str:
    """What a link gives that the bucket's rules, or the baseline, give nobody."""
    parts = []
    if row.beside_the_door:
        parts.append(f"{' and '.join(row.beside_the_door)} for whoever has the link, by the bucket's rules for nobody")
    if row.against_baseline:
        places = ", ".join(dict.fromkeys(place.rpartition(":")[0] for place in row.against_baseline.values()))
        closed = [verb for verb in row.verbs if verb in row.against_baseline]
        parts.append(f"the baseline wants {' and '.join(closed)} closed ({places})")
    return "; ".join(parts)


def _opens(row: LinkRow) -> str:
    where = f"{row.store or 'elsewhere'}/{row.bucket}"
    return f"{where}/{row.key}" + ("…" if row.scope == "prefix" else "") if row.key else f"{where} (all of it)"


def _link(row: LinkRow) -> list[Cell]:
    stands: Cell = (row.standing, "dim")
    if row.standing == "valid":
        stands = ("valid", STYLES["open"] if row.judged.drifted else "")
    if row.standing == "unknown":
        stands = ("unknown", STYLES["unknown"])
    ends: Cell = ("never", STYLES["high"]) if row.never_ends else (row.expires or "not said")[:10]
    state = "" if row.signer_state == "live" else f" {row.signer_state}"
    signer = row.signer + state if row.signer else "nobody named"
    verbs = " ".join(row.verbs) + ("?" if row.presumed else "")
    return [(_opens(row), "bold"), verbs, stands, (row.issued or "not said")[:10], ends, signer,
            _remarks(row.judged)]  # fmt: skip


MIRROR_STYLES = {"same": STYLES["held"], "catching-up": "", "unknown": STYLES["unknown"]}


def mirrors_view(screen: Console, result: MirrorsResult) -> None:
    """Each mirrored bucket, with what did not travel."""
    _head(screen, "What the copies lack", result.survey, show_moment(result.as_of))
    grid = Grid("mirror", "bucket", "content", "settings", "in words", shrink=(4,))
    for row in result.mirrors:
        differs = f"{len(row.differences)} differ" if row.differences else "unknown" if row.unknown else "same"
        style = STYLES["high"] if row.differences else STYLES["unknown"] if row.unknown else STYLES["held"]
        content = (row.content, MIRROR_STYLES.get(row.content, STYLES["high"]))
        grid.add(f"{row.source} → {row.target}", (row.bucket, "bold"), content, (differs, style), (row.words, "dim"))
    grid.show(screen)
    for row in result.mirrors:
        _mirror(screen, row)
    bad = sum(
        bool(row.differences) or row.content in ("missing", "lacking", "behind", "more") for row in result.mirrors
    )
    screen.print()
    line(screen, (join([many(len(result.mirrors), "mirrored bucket"), f"{bad:,} not as the original"]), "bold"))
    worst = next((row for row in result.mirrors if row.differences), None)
    if worst is not None:
        next_step(screen, f"lantern show {worst.target}/{worst.bucket}", "every setting of the copy")


def _mirror(screen: Console, row: MirrorRow) -> None:
    if not row.differences and not row.unknown:
        return
    screen.print()
    line(screen, (f"{row.bucket}", "bold"), f"  {row.source} → {row.target}")
    if row.differences:
        grid = Grid("fact", row.source, row.target, shrink=(1, 2))
        for found in row.differences:
            grid.add(found.fact, found.here, (found.there, STYLES["high"]))
        grid.show(screen, indent=2)
    for name, why in row.unknown.items():
        line(screen, (name, STYLES["unknown"]), f"  {why}", indent=2)
