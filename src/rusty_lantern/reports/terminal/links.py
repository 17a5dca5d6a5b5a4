"""The terminal view of share links."""

from __future__ import annotations

from rich.console import Console

from rusty_lantern.core.model.subjects import LINK_STATUSES, OVER
from rusty_lantern.core.value_types import show_bytes
from rusty_lantern.reports.results.links import LinkRow, LinksResult
from rusty_lantern.reports.terminal.heading import heading
from rusty_lantern.reports.terminal.identities import known, remark_words, unread_lines, worst_of
from rusty_lantern.reports.terminal.layout import STYLES, Cell, join, left_out, line, next_step
from rusty_lantern.reports.terminal.table import Table


def links_view(screen: Console, result: LinksResult) -> None:
    """The links, the worst first; then those that no longer work."""
    read = f"{show_bytes(result.read_bytes)} of text" if result.read_bytes else ""
    heading(screen, "Share links", result, read)
    rows = sorted(
        result.links,
        key=lambda r: (LINK_STATUSES.index(r.status), worst_of(r.against_baseline), r.store, r.bucket, r.key),
    )
    if rows:
        _table(screen, rows)
    beside = [row for row in rows if row.status == "valid" and (row.grants_beyond_bucket or row.closed_by_baseline)]
    if beside:
        screen.print()
    for row in beside:
        line(screen, (_opens(row), "bold"), f": {_beyond_the_rules(row)}", indent=2, hang=4)
    ways = {row.ended_by: None for row in rows if row.ended_by and row.status not in OVER}
    if ways:
        screen.print()
    for way in ways:
        line(screen, ("to end  ", "dim"), way, indent=2, hang=8)
    hosts = sorted({row.host for row in rows if row.host and row.store})
    if hosts:
        words = "not an address in estate.yaml; its store is known by the access key that signed it: "
        line(screen, (words + ", ".join(hosts), "dim"), indent=2, hang=4)
    for row in rows:
        if row.probe:
            line(screen, (_opens(row), "bold"), f"  tested: {row.probe}", indent=2)
    unread_lines(screen, result, result.unread)
    screen.print()
    line(screen, (join(_counts(rows, result.unread)), "bold"))
    next_step(screen, "lantern audit", "check all links against the baseline")


def _table(screen: Console, rows: list[LinkRow]) -> None:
    """The links, one a row; where some were found in files, by which file each is known."""
    headings = ("target", "allows", "status", "issued", "expires", "signed by", "drift")
    mined = any(row.found for row in rows)
    floors = {1: max([8, *(len(verb) for row in rows for verb in row.verbs)]), 6: 16}
    grid = Table(*headings, *(["found"] if mined else []), shrink=(1, 5, 6, 7), lead=0, floors=floors)
    for row in rows:
        grid.add(*_link(row), *([(row.found, "dim")] if mined else []))
    grid.show(screen)
    left_out(screen, grid.dropped)


def _counts(rows: list[LinkRow], unread: dict[str, str]) -> list[str]:
    """How many links there are, work, allow changes, and never expire."""
    valid = sum(row.status == "valid" for row in rows)
    looking = {"list", "read", "read-settings"}
    changing = sum(row.status == "valid" and not looking.issuperset(row.verbs) for row in rows)
    unsaid = sum(row.status == "valid" and row.presumed for row in rows)
    endless = sum(row.status == "valid" and row.never_ends for row in rows)
    return [
        known(len(rows), "link", unread),
        f"{valid:,} valid",
        f"{changing:,} allow changes" + (f", {unsaid:,} more may" if unsaid else ""),
        f"{endless:,} never expire",
    ]


def _beyond_the_rules(row: LinkRow) -> str:
    """What a link gives that the bucket's rules, or the baseline, give nobody."""
    parts = []
    if row.grants_beyond_bucket:
        verbs = " and ".join(row.grants_beyond_bucket)
        can = f"most likely {verbs} (its address does not say what it was signed for)" if row.presumed else verbs
        parts.append(f"whoever has the link can {can}; the bucket's own rules allow nobody")
    if row.closed_by_baseline:
        places = ", ".join(dict.fromkeys(place.rpartition(":")[0] for place in row.closed_by_baseline.values()))
        closed = [verb for verb in row.verbs if verb in row.closed_by_baseline]
        parts.append(f"the baseline requires {' and '.join(closed)} closed ({places})")
    return "; ".join(parts)


def _opens(row: LinkRow) -> str:
    where = f"{row.store or 'elsewhere'}/{row.bucket}" if row.bucket else row.store or "elsewhere"
    return f"{where}/{row.key}" + ("…" if row.scope == "prefix" else "") if row.key else f"{where} (all of it)"


SIGNERS = {"ad-hoc": "account key", "stored-policy": "account key", "account": "account key", "identity": "identity"}
"""Form of a link → who signed it, in a protocol whose links do not name that."""


def _link(row: LinkRow) -> list[Cell]:
    stands: Cell = (row.status, "dim")
    if row.status == "valid":
        stands = ("valid", STYLES["open"] if row.against_baseline.drift else "")
    if row.status == "unknown":
        stands = ("unknown", STYLES["unknown"])
    ends: Cell = (
        ("never", "dim" if row.status in OVER else STYLES["high"])
        if row.never_ends
        else (row.expires or "unknown")[:10]
    )
    states = {"active": "", "absent": "", "unknown": " (state unknown)"}
    state = states.get(row.signer_state, f" {row.signer_state}")
    signer = row.signer + state if row.signer else f"{SIGNERS.get(row.form, 'unknown key')}{state}"
    if row.policy:
        signer = f"policy {row.policy}"
    verbs = " ".join(row.verbs) + ("?" if row.presumed else "")
    return [(_opens(row), "bold"), verbs, stands, (row.issued or "unknown")[:10], ends, signer,
            remark_words(row.against_baseline)]  # fmt: skip
