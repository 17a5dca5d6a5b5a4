"""The terminal view of which stores answer, and how."""

from __future__ import annotations

from rich.console import Console

from rusty_lantern.core.model.capabilities import FIELD_WORDS, STORE_FIELD_WORDS
from rusty_lantern.core.model.dossier import Software
from rusty_lantern.core.value_types import show_names
from rusty_lantern.reports.terminal.buckets import TRANSPORTS
from rusty_lantern.reports.terminal.layout import STYLES, line, next_step, styled
from rusty_lantern.reports.terminal.table import Table
from rusty_lantern.stores.reachability import StoreReached


def reach_view(screen: Console, results: list[StoreReached]) -> None:
    """Per store: does it answer, over what, with which clock, and what may be asked."""
    for number, reached in enumerate(results):
        if number:
            screen.print()
        line(screen, (reached.store, "bold"), f"  {reached.address}")
        for heading, words, style in (*_reach_rows(reached), *_other_rows(reached)):
            line(screen, (f"{heading:<12}", "dim"), (words, style), indent=2)
        _lines_to_add(screen, reached)
        if reached.questions:
            grid = Table("setting", "allowed", "denied for", shrink=(0, 2), floors={0: 16, 2: 16}, sparse=(2,))
            for question, allowed in reached.questions.items():
                grid.add(FIELD_WORDS[question], styled(allowed), (_refused(reached, question), "dim"))
            screen.print()
            grid.show(screen, indent=2)
    screen.print()
    blind = _blind(results)
    untried = _untried(results)
    if blind:
        line(screen, ("An audit will not be able to see:", STYLES["unknown"]))
        for words in blind:
            line(screen, words, indent=2, hang=2)
    elif not untried:
        line(screen, ("An audit can see everything that it asks for.", STYLES["ok"]))
    if untried:
        line(screen, ("Not tried, so an audit may see less:", STYLES["unknown"]))
        for words in untried:
            line(screen, words, indent=2, hang=2)
    if any(reached.credential == "accepted" for reached in results):
        next_step(screen, "lantern survey", "read every bucket's settings and save them")


def _lines_to_add(screen: Console, reached: StoreReached) -> None:
    """What to write into the estate file, so that doors and regions that were found are read too."""
    for door in reached.doors:
        if door.found:
            shown = "" if door.name == "filer" else ", credential: {environment: NAME}"
            entry = f"{door.name}: {{at: {door.at}{shown}}}"
            _to_add(screen, "To read that door too", "doors", entry)
    if reached.other_regions:
        entries = (f"{name}: {at or 'https://ITS-ADDRESS'}" for name, at in reached.other_regions.items())
        _to_add(screen, "To read the buckets of other regions too", "regions", *entries)


def _to_add(screen: Console, why: str, key: str, *entries: str) -> None:
    screen.print()
    line(screen, f"{why}, add to this store in estate.yaml:", indent=2)
    line(screen, f"{key}:", indent=4)
    for entry in entries:
        line(screen, entry, indent=6)


def _reach_rows(reached: StoreReached) -> list[tuple[str, str, str]]:
    answers = "yes" if reached.answers else f"no: {reached.note}"
    rows = [("answers", answers, STYLES["yes" if reached.answers else "failed"])]
    if reached.certificate is not None:
        shown = reached.certificate
        words = f"{shown.verdict}, {shown.begins:%Y-%m-%d} to {shown.ends:%Y-%m-%d}, for {show_names(shown.names, 4)}"
        rows.append(("certificate", words, "" if shown.verdict == "trusted" else STYLES["high"]))
    if not reached.answers:
        return rows
    tls = reached.transport == "tls"
    rows.append(("transport", *TRANSPORTS[reached.transport]))
    if tls or not reached.plain_http:
        words = "answered as well{}: anyone on the way could read along"
        rows += _trait("plain http", reached.plain_http, reached.plain_http_note, words)
    words = "those of the first generation are accepted as well{}"
    rows += _trait("signatures", reached.legacy_signatures, reached.legacy_signatures_note, words)
    if reached.transport != "file":
        rows.append(("clock", *_clock(reached.clock_ahead_seconds)))
    if reached.software is not None:
        rows.append(("software", *_software(reached.software)))
    accepted = reached.credential == "accepted"
    credential = reached.credential if accepted else f"{reached.credential}: {reached.note}"
    rows.append(("credential", credential, STYLES["yes" if accepted else "failed"]))
    if reached.buckets is not None:
        tried = (
            f"{reached.buckets:,}, of which {reached.sampled} were tried"
            if reached.buckets > reached.sampled
            else f"{reached.buckets:,}"
        )
        rows.append(("buckets", tried, ""))
    return rows


def _trait(name: str, value: bool | None, note: str, words: str) -> list[tuple[str, str, str]]:
    """The row of something that a store should not do; none where it does not. `words`: with `{}` for where it does."""
    if value:
        return [(name, words.format(f", {note}" if note else ""), STYLES["medium"])]
    return [(name, f"unknown: {note}", STYLES["unknown"])] if value is None and note else []


def _other_rows(reached: StoreReached) -> list[tuple[str, str, str]]:
    """The store's other addresses and doors."""
    rows = []
    for node in reached.nodes:
        words, style = (f"no: {node.note}", STYLES["failed"]) if not node.answers else ("answers", STYLES["yes"])
        if node.answers and node.same_certificate is False:
            words, style = "answers, with another certificate", STYLES["medium"]
        ahead = node.clock_ahead_seconds
        if node.answers and ahead is not None and abs(ahead) > 5:
            words, style = f"{words}, its clock is {_clock(ahead)[0]}", STYLES["medium"]
        where = f"{node.region}  {node.at}" if node.region else node.at
        rows.append(("region" if node.region else "node", f"{where}  {words}", style))
    for door in reached.doors:
        state = "can be tried" if door.readable is None else "readable" if door.readable else "not read"
        words = f"{door.at}  {state}" + (f": {door.note}" if door.note else "")
        style = STYLES["critical"] if door.lets_in else STYLES["failed"] if door.readable is False else STYLES["yes"]
        people = door.name == "identities"
        rows.append(("identities", words, style) if people else ("door", f"{door.name}  {words}", style))
    return rows


def _software(software: Software) -> tuple[str, str]:
    """What answers, and how it reads policies."""
    reading = "the common reading" if software.dialect in ("", "common") else f"dialect {software.dialect}"
    if not software.name and not software.dialect:
        return f"not recognized; policies are read by {reading}", STYLES["medium"]
    what = " ".join(part for part in (software.name or "not recognized", software.release) if part)
    words = what if software.dialect == "common" else f"{what}; policies are read by {reading}"
    words += f" ({software.note})" if software.note else ""
    return words, "" if software.dialect else STYLES["medium"]


def _clock(ahead: int | None) -> tuple[str, str]:
    if ahead is None:
        return "the store does not say", "dim"
    if abs(ahead) <= 5:
        return "agrees", ""
    way = "ahead of" if ahead > 0 else "behind"
    words = f"{abs(ahead):,} s {way} ours"
    if abs(ahead) > 300:
        return f"{words}: signatures may be refused, retention dates are off", STYLES["high"]
    return words, ""


def _blind(results: list[StoreReached]) -> list[str]:
    """What an audit cannot see; stores that lack the same share a line."""
    stores: dict[str, list[str]] = {}
    for reached in results:
        for what in _blind_in(reached):
            stores.setdefault(what, []).append(reached.store)
    return [f"{', '.join(names)}: {what}" for what, names in stores.items()]


def _blind_in(reached: StoreReached) -> list[str]:
    reasons = []
    if reached.credential != "accepted":
        return [f"anything ({reached.note or 'the credential is not accepted'})"]
    for door in reached.doors:
        if door.readable is False:
            what = "who it lets in by name" if door.name == "identities" else f"what its {door.name} door opens"
            reasons.append(f"{what} ({door.note})")
    why: dict[str, list[str]] = {}
    for question, allowed in reached.questions.items():
        if allowed in ("no", "failed"):
            where = _refused(reached, question)
            why.setdefault(f" of {where}" * bool(where), []).append(FIELD_WORDS[question])
    for question, allowed in reached.questions.items():
        if allowed == "not offered":
            why.setdefault(" (not offered by the store)", []).append(FIELD_WORDS[question])
    for name, note in reached.unread.items():
        why.setdefault(f" ({note})", []).append(STORE_FIELD_WORDS.get(name) or FIELD_WORDS[name])
    return [*reasons, *(f"{', '.join(what)}{note}" for note, what in why.items())]


MOST_NAMED = 8
"""So many buckets are named; --json has all."""


def _refused(reached: StoreReached, question: str) -> str:
    """The buckets that refused a question."""
    refused = reached.refused.get(question, [])
    if len(refused) == reached.sampled and len(refused) > 1:
        return f"all {len(refused)} buckets" + " that were tried" * (reached.sampled < (reached.buckets or 0))
    return show_names(refused, MOST_NAMED)


def _untried(results: list[StoreReached]) -> list[str]:
    """Stores of which not every bucket was tried."""
    untried = []
    for reached in results:
        if reached.buckets == 0:
            untried.append(f"{reached.store}: it lists no bucket to try")
        elif reached.buckets is not None and reached.buckets > reached.sampled:
            untried.append(f"{reached.store}: {reached.buckets - reached.sampled:,} of {reached.buckets:,} buckets")
    return untried
