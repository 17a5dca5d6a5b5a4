"""Terminal views of credentials, encryption keys, links and mirrors."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Console

from rusty_lantern.core.baseline.loader import SEVERITIES
from rusty_lantern.core.value_types import DAY, show_moment
from rusty_lantern.reports.results.identities import CredentialRow, CredentialsResult, IdentityRow, Judged
from rusty_lantern.reports.terminal.layout import STYLES, Cell, join, line, many, next_step
from rusty_lantern.reports.terminal.table import Grid

VERB_COUNT = 7


def heading(screen: Console, title: str, survey: str, as_of: object, *more: str) -> None:
    """The title of a view, and what it speaks of."""
    line(screen, (title, "bold"))
    line(screen, (join([f"survey {survey}", f"as of {as_of}", *more]), "dim"))
    screen.print()


def in_days(seconds: int | None) -> str:
    """A period in days, as a table shows it."""
    if seconds is None:
        return "unknown"
    return f"{seconds // DAY:,} d" if seconds >= DAY else "today"


def worst_of(judged: Judged) -> int:
    """Where a row stands in the order of what is worst; what held comes last."""
    if judged.drifted:
        return min(SEVERITIES.index(severity) for severity in judged.drifted.values())
    return len(SEVERITIES) + (not judged.unknown)


def remark_words(judged: Judged) -> Cell:
    """The facts that drifted, without their family's name, in the colour of the worst."""
    names = [name.partition(".")[2] for name in judged.drifted]
    doubts = [f"{name.partition('.')[2]}?" for name in judged.unknown]
    waived = [f"{name.partition('.')[2]} (waived)" for name in judged.waived]
    style = STYLES[SEVERITIES[worst_of(judged)]] if names else STYLES["unknown" if doubts else "waived"]
    return ", ".join([*names, *doubts, *waived]), style


def _can(verbs: str | None, least: str) -> Cell:
    if verbs is None:
        return f"{least} and more?".strip() if least else "cannot be told", STYLES["unknown"]
    if len(verbs.split()) == VERB_COUNT:
        return "everything"
    return verbs or ("nothing", "dim")


def unread_lines(screen: Console, unread: dict[str, str]) -> None:
    """A line for each store of which something was not read."""
    if not unread:
        return
    screen.print()
    line(screen, ("could not be told", STYLES["unknown"]))
    for store, reason in unread.items():
        line(screen, (store, "bold"), f"  {reason}", indent=2)


def credentials_view(screen: Console, result: CredentialsResult) -> None:
    """Who holds which key: worst first; then who signs in with a password; then key material that lies about."""
    stores = sorted({row.store for row in result.credentials})
    heading(screen, "Who holds which key", result.survey, show_moment(result.as_of), *stores)
    rows = sorted(result.credentials, key=lambda r: (worst_of(r.judged), r.store, r.owner, r.key))
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
    unread_lines(screen, result.unread)
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
    idle: Cell = ("never used", STYLES["medium"]) if row.used == "never" else in_days(row.idle)
    can, remarks = _can(row.can, row.can_at_least), remark_words(row.judged)
    if row.state == "disabled":
        can, remarks = ("nothing", "dim"), ("disabled, so not judged", "dim")
    elif row.state != "live":
        can = ("whether it is live is unknown", STYLES["unknown"])
    return [
        row.store,
        (row.owner or "nobody", "bold"),
        kind,
        row.key,
        in_days(row.age),
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
    for row in sorted(people, key=lambda r: (worst_of(r.judged), r.store, r.name)):
        signed_in = "" if row.password != "on" else in_days(row.password_idle)
        factor: Cell = row.second_factor or "not offered"
        grid.add(
            row.store, (row.name, "bold"), row.kind or "unknown",
            "" if row.password == "off" else factor, signed_in,
            "unknown" if row.live_keys is None else str(row.live_keys), _can(row.can, row.can_at_least),
            (row.beyond or "", STYLES["high"] if row.beyond else ""), remark_words(row.judged),
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
