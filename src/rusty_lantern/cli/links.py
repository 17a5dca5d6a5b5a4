"""`lantern links`: share links that are out, and what they open."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from rusty_lantern.cli import interrupt
from rusty_lantern.cli.options import AsOfOption, JsonOption, SurveyOption, WorkspaceOption
from rusty_lantern.cli.output import emit, note
from rusty_lantern.cli.session import FailOnOption, end_listing, opened

if TYPE_CHECKING:
    from collections.abc import Container

    from rusty_lantern.cli.session import OpenedSurvey
    from rusty_lantern.core.audit.store_subject import StoreSubject
    from rusty_lantern.core.model.resources import Link
    from rusty_lantern.reports.results.links import LinkRow


def register(app: typer.Typer) -> None:
    """Enter the command."""
    app.command("links", short_help="List share links, and what they allow.")(links)


def links(
    files: Annotated[
        list[Path] | None, typer.Argument(help="Text to search for links; - is the standard input.", metavar="FILE…")
    ] = None,
    probe: Annotated[
        bool, typer.Option("--probe", help="Also test each link that is valid and allows reading: one byte, once.")
    ] = False,
    fail_on: FailOnOption = None,
    workspace_folder: WorkspaceOption = None,
    survey: SurveyOption = None,
    as_of: AsOfOption = None,
    json: JsonOption = False,
) -> None:
    """List the links that stores know of, and those found in any text: mail, wikis, tickets.

    Use it on what people wrote down. A link is never followed unless --probe says so, and its signature is never shown.
    Example: lantern links wiki.txt
    """
    from rusty_lantern.reports.results.facts import encode
    from rusty_lantern.reports.results.identities import unread_sections
    from rusty_lantern.reports.results.links import LinksResult, link_row
    from rusty_lantern.reports.terminal.layout import console
    from rusty_lantern.reports.terminal.links import links_view

    session = opened(workspace_folder, survey, as_of)
    judge = session.judge()
    rows = [link_row(c.any_link(link), judge) for c in session.stores for link in c.index.dossier.links.value or ()]
    read, more = _from_text(files or [], session, probe) if files else (0, [])
    result = LinksResult(
        **session.about(named=bool(files)),
        links=[*rows, *more],
        read_bytes=read,
        unread={} if files else unread_sections(session.stores, "links"),
    )
    if json:
        emit(encode(result))
    else:
        links_view(console(), result)
    end_listing(
        fail_on,
        (severity for row in result.links for severity in row.against_baseline.drift.values()),
        result.unread_stores,
    )


def _from_text(files: list[Path], session: OpenedSurvey, probe: bool) -> tuple[int, list[LinkRow]]:
    """Links in text, each once: the first place where it was found, and in how many more."""
    from urllib.parse import urlsplit

    import msgspec

    from rusty_lantern.core.model.capabilities import PROTOCOLS
    from rusty_lantern.intake.link_scan import find_links
    from rusty_lantern.intake.presigned_url import OPENS, as_link, is_at
    from rusty_lantern.reports.results.links import link_row

    judge = session.judge()
    by_store = {store_subject.index.dossier.store: store_subject for store_subject in session.stores}
    entries = [store for store in session.place.estate().stores if PROTOCOLS[store.reads].probes]
    stores = [(store.name, door.at) for store in entries for door in store.doors if door.name == "swift"]
    stores += [(store.name, at) for store in entries for at in store.addresses]
    nowhere = session.stores[0] if session.stores else None
    signers = _signers(session.stores)
    mined = find_links(files)
    links: list[tuple[Link, StoreSubject | None, str]] = []
    working: list[tuple[int, str]] = []
    for signed, address, where in mined.links:
        store, link = as_link(signed, stores, where, signers)
        ours = by_store.get(store)
        if ours is None and nowhere is None:
            continue
        subject = (ours or session.stores[0]).any_link(link)
        if subject.view.status in ("valid", "unknown") and "read" in subject.view.verbs and link.scope == "object":
            working.append((len(links), address))
        elsewhere = "" if any(is_at(signed.host, urlsplit(at).netloc) for _, at in stores) else signed.host
        links.append((link, ours, elsewhere))
    tried = {
        number: words for (number, _), words in zip(working, _probe(session, working) if probe else [], strict=False)
    }
    rows = []
    for number, (link, ours, elsewhere) in enumerate(links):
        probed = tried.get(number, "")
        # a signature that the server took for a read is for nothing else
        tested = msgspec.structs.replace(link, presumed=link.presumed and probed != OPENS)
        subject = (ours or session.stores[0]).any_link(tested)
        rows.append(link_row(subject, judge, host=elsewhere, ours=ours is not None, probe=probed))
    return mined.bytes, rows


def _signers(store_subjects: list[StoreSubject]) -> dict[str, tuple[str, Container[str]]]:
    """Credential → the one store that knows it, and that store's buckets."""
    known: dict[str, list[StoreSubject]] = {}
    for store_subject in store_subjects:
        for credential in store_subject.index.credentials:
            known.setdefault(credential, []).append(store_subject)
    return {key: (one[0].index.dossier.store, one[0].buckets) for key, one in known.items() if len(one) == 1}


def _probe(session: OpenedSurvey, working: list[tuple[int, str]]) -> list[str]:
    """Try each link that is valid and allows reading: what came of it, in their order."""
    from rusty_lantern.core.model.capabilities import PROTOCOLS
    from rusty_lantern.stores.s3.presigned_check import follow

    stores = [store for store in session.place.estate().stores if PROTOCOLS[store.reads].probes]
    note(f"trying {len(working)} links, one byte of each")
    return interrupt.run(follow(stores, session.place.folder, [address for _, address in working]))
