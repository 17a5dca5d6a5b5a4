"""Terminal views of credentials, encryption keys, links and mirrors."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from rich.console import Console

from rusty_lantern.core.baseline.loader import SEVERITIES
from rusty_lantern.core.value_types import DAY
from rusty_lantern.reports.results.identities import AgainstBaseline, CredentialRow, CredentialsResult, IdentityRow
from rusty_lantern.reports.results.of_survey import OfSurvey
from rusty_lantern.reports.terminal.heading import heading
from rusty_lantern.reports.terminal.layout import STYLES, Cell, join, line, many, next_step, verbs_in_short
from rusty_lantern.reports.terminal.table import Table


def in_days(seconds: int | None) -> str:
    """A period in days, as a table shows it."""
    if seconds is None:
        return "unknown"
    return f"{seconds // DAY:,} d" if seconds >= DAY else "today"


def worst_of(judged: AgainstBaseline) -> int:
    """The rank of a row, the worst first; what held comes last."""
    if judged.drift:
        return min(SEVERITIES.index(severity) for severity in judged.drift.values())
    return len(SEVERITIES) + (not judged.unknown)


def remark_words(judged: AgainstBaseline) -> Cell:
    """The facts that drift, without their family's name, after the word for the worst severity."""
    names = [name.partition(".")[2] for name in judged.drift]
    doubts = [f"{name.partition('.')[2]}?" for name in judged.unknown]
    waived = [f"{name.partition('.')[2]} (waived)" for name in judged.waived]
    style = STYLES[SEVERITIES[worst_of(judged)]] if names else STYLES["unknown" if doubts else "waived"]
    worst = f"{SEVERITIES[worst_of(judged)]}: " if names else ""
    return worst + ", ".join([*names, *doubts, *waived]), style


def _can(verbs: str | None, least: str) -> Cell:
    if verbs is None:
        return f"{least} and more?".strip() if least else "unknown", STYLES["unknown"]
    return verbs_in_short(verbs.split()) or ("nothing", "dim")


def _excess(row: IdentityRow) -> Cell:
    """What it does not need; nothing where nobody said what it needs."""
    if row.excess_permissions is None and "excess-permissions" in row.unknown:
        return (
            (f"{row.excess_at_least} and more?", STYLES["high"])
            if row.excess_at_least
            else ("unknown", STYLES["unknown"])
        )
    return verbs_in_short((row.excess_permissions or "").split()), STYLES["high"]


def known(number: int, noun: str, unread: Mapping[str, str]) -> str:
    """How many of something stores list, where those of `unread` may have more."""
    if not unread:
        return many(number, noun)
    return f"at least {many(number, noun)}" if number else f"no {noun} known"


def unread_lines(screen: Console, result: OfSurvey, unread: dict[str, str]) -> None:
    """A line for each store of which something was not read, but for those that the heading names."""
    unread = {store: why for store, why in unread.items() if result.unread_stores.get(store) != why}
    if not unread:
        return
    screen.print()
    line(screen, ("Not determined", STYLES["unknown"]))
    for store, reason in unread.items():
        line(screen, (store, "bold"), f"  {reason}", indent=2)


def credentials_view(screen: Console, result: CredentialsResult) -> None:
    """Who holds which key: worst first; then who signs in with a password; then key material in files."""
    stores = sorted({row.store for row in result.credentials})
    heading(screen, "Access keys and identities", result, *stores)
    rows = sorted(result.credentials, key=lambda r: (worst_of(r.against_baseline), r.store, r.owner, r.key))
    if rows:
        grid = Table("owner", "kind", "credential", "age", "idle", "permissions", "drift", shrink=(1, 5, 6),
                    right=(3, 4), lead=0, floors={1: 8, 5: 12, 6: 16})  # fmt: skip
        for row in rows:
            grid.add(*_credential(row))
        grid.show(screen)
    _people(screen, result.identities)
    _found_in_files(screen, result)
    unread_lines(screen, result, result.unread)
    screen.print()
    active = sum(row.state == "active" for row in rows)
    owners = len({(row.store, row.owner) for row in rows})
    drifted = sum(bool(row.against_baseline.drift) for row in rows)
    counts = [
        known(len(rows), "credential", result.unread),
        f"{active:,} active",
        many(owners, "owner"),
        f"{drifted:,} with drift",
    ]
    line(screen, (join(counts), "bold"))
    next_step(screen, "lantern access --who NAME", "what one identity can do, bucket by bucket")


def _credential(row: CredentialRow) -> list[Cell]:
    kind = row.owner_kind or ("no such identity" if row.owner_state == "missing" else "unknown")
    if row.owner_state == "disabled":
        kind = f"{kind}, disabled"
    idle: Cell = ("never used", STYLES["medium"]) if row.used == "never" else in_days(row.idle)
    can, remarks = _can(row.can, row.can_at_least), remark_words(row.against_baseline)
    if row.state == "disabled":
        can, remarks = ("nothing", "dim"), ("disabled", "dim")
    elif row.state != "active":
        can = ("state unknown", STYLES["unknown"])
    return [
        (f"{row.store}/{row.owner or 'nobody'}", "bold"),
        kind,
        _credential_name(row),
        in_days(row.age),
        idle,
        can,
        remarks,
    ]


def _credential_name(row: CredentialRow) -> str:
    """Its masked id, with what its owner calls it, or whom it was given to."""
    if row.kind == "trust":
        return f"trust for {row.used_by}"
    return f"{row.key} {row.name}".strip()


def _people(screen: Console, identities: Sequence[IdentityRow]) -> None:
    people = [
        row for row in identities if row.password != "off" or row.against_baseline.drift or row.against_baseline.unknown
    ]
    if not people:
        return
    screen.print()
    line(screen, ("Identities with a password, or with drift", "bold"))
    grid = Table("identity", "kind", "MFA", "signed in", "active keys", "permissions", "excess", "drift",
                shrink=(1, 5, 6, 7), right=(3, 4), lead=0, floors={1: 8, 5: 11, 6: 10, 7: 14})  # fmt: skip
    for row in sorted(people, key=lambda r: (worst_of(r.against_baseline), r.store, r.name)):
        signed_in = "" if row.password != "on" else in_days(row.password_idle)
        factor: Cell = row.mfa or "not offered"
        kind = f"{row.kind or 'unknown'}, disabled" if row.state == "disabled" else row.kind or "unknown"
        grid.add(
            (f"{row.store}/{row.name}", "bold"), kind,
            "" if row.password == "off" else factor, signed_in,
            "unknown" if row.active_keys is None else str(row.active_keys), _can(row.can, row.can_at_least),
            _excess(row),
            remark_words(row.against_baseline),
        )  # fmt: skip
    grid.show(screen)


def _found_in_files(screen: Console, result: CredentialsResult) -> None:
    if result.found_in_files is None:
        return
    screen.print()
    passed_over = result.files_passed_over or {}
    if not result.found_in_files:
        words = f"No secrets were found in {many(result.files_looked_into or 0, 'file')}."
        line(screen, (words, STYLES["ok"] if result.files_looked_into and not passed_over else ""))
        _passed_over(screen, passed_over)
        return
    line(screen, ("Secrets found in files", STYLES["critical"]))
    grid = Table("file and line", "what", "access key", "owner", "state", shrink=(1,), lead=0)
    for leak in result.found_in_files:
        nobody = "unknown" if result.unread else "in no surveyed store"
        whose = f"{leak.store}: {leak.owner}" if leak.store else nobody if leak.key else ""
        grid.add((f"{leak.file}:{leak.line}", "bold"), leak.what, leak.key, whose, leak.state)
    grid.show(screen)
    _passed_over(screen, passed_over)


def _passed_over(screen: Console, passed_over: Mapping[str, int]) -> None:
    """What was not looked into."""
    if passed_over:
        words = ", ".join(f"{why}: {number:,}" for why, number in passed_over.items())
        line(screen, (f"Not looked into: {words}", STYLES["unknown"]))
