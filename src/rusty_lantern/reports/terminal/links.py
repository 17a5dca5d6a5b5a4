""""""

from __future__ import annotations

from rich.console import Console

from rusty_lantern.core.value_types import show_bytes, show_moment
from rusty_lantern.reports.results.links import LinkRow, LinksResult
from rusty_lantern.reports.terminal.identities import heading, remark_words, unread_lines, worst_of
from rusty_lantern.reports.terminal.layout import STYLES, Cell, join, line, many, next_step
from rusty_lantern.reports.terminal.table import Grid


def links_view(screen: Console, result: LinksResult) -> None:
    """The links, those that open most first; then what is over."""
    read = f"{show_bytes(result.read_bytes)} of text" if result.read_bytes else ""
    heading(screen, "Links that are out", result.survey, show_moment(result.as_of), read)
    order = ("valid", "unknown", "dead", "expired", "revoked")
    rows = sorted(result.links, key=lambda r: (order.index(r.standing), worst_of(r.judged), r.store, r.bucket, r.key))
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
    unread_lines(screen, result.unread)
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
            remark_words(row.judged)]  # fmt: skip
