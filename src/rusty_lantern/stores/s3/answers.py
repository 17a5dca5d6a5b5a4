"""XML answers, hardened: no entities, no network, bounded; names without their namespaces."""

from __future__ import annotations

from collections.abc import Iterator

from lxml import etree

from rusty_lantern.stores.errors import Unanswered

Element = etree._Element


def parse(body: bytes) -> Element:
    """The root element. Raises `Unanswered`."""
    parser = etree.XMLParser(
        resolve_entities=False,
        no_network=True,
        load_dtd=False,
        huge_tree=False,
        remove_comments=True,
        remove_pis=True,
    )
    try:
        root = etree.fromstring(body, parser)
    except (etree.XMLSyntaxError, ValueError) as error:
        found = "a web page" if body.lstrip()[:15].lower().startswith((b"<!doctype html", b"<html")) else "not XML"
        detail = "" if found == "a web page" else f" ({str(error)[:80]})"
        raise Unanswered("failed", f"the answer is {found}{detail}", "unreadable answer") from None
    if root is None:
        raise Unanswered("failed", "the answer is empty", "unreadable answer")
    if etree.ElementTree(root).docinfo.internalDTD is not None:
        raise Unanswered("failed", "the answer declares a document type, which no store needs", "unreadable answer")
    return root


def name(element: Element) -> str:
    """An element's name without its namespace."""
    tag = element.tag
    return tag.rpartition("}")[2] if isinstance(tag, str) else ""


def children(element: Element, wanted: str) -> Iterator[Element]:
    """Direct children of that name, whatever their namespace."""
    return (child for child in element if name(child) == wanted)


def child(element: Element, wanted: str) -> Element | None:
    """The first direct child of that name."""
    return next(children(element, wanted), None)


def text(element: Element, *path: str) -> str:
    """The text at the end of a path of child names; empty where there is none."""
    here: Element | None = element
    for step in path:
        here = child(here, step) if here is not None else None
    return (here.text or "").strip() if here is not None else ""


def raw_text(element: Element, wanted: str) -> str:
    """A child's text with its spaces, for names and tags that may begin or end with one."""
    here = child(element, wanted)
    return (here.text or "") if here is not None else ""
