"""XML answers, hardened: no entities, no network, bounded; names without their namespaces."""

from __future__ import annotations

import re
from collections.abc import Iterator

from lxml import etree

from rusty_lantern.stores.http.errors import RequestFailed

Element = etree._Element


CONTROL_REFERENCE = re.compile(rb"&#(?:x0*([0-9a-fA-F]{1,2})|0*([0-9]{1,2}));")
STAND_IN = 0x10FF00
"""Added to a control character that XML cannot carry: some stores write such names as references all the same."""
RESTORED = {STAND_IN + code: code for code in range(32)}


def parse(body: bytes) -> Element:
    """The root element; names in it that carry control characters are put right by `restored`.

    Raises `RequestFailed`.
    """
    try:
        return _parsed(body)
    except RequestFailed:
        if not CONTROL_REFERENCE.search(body):
            raise
    return _parsed(CONTROL_REFERENCE.sub(_stand_in, body))


def is_document(body: bytes, *roots: str) -> bool:
    """Whether this is a document with one of these roots, and not a page of something in front."""
    try:
        return name(parse(body)) in roots
    except RequestFailed:
        return False


def _stand_in(reference: re.Match[bytes]) -> bytes:
    code = int(reference[1], 16) if reference[1] else int(reference[2])
    return b"&#x%X;" % (STAND_IN + code) if code < 32 and code not in (9, 10, 13) else reference[0]


def restored(written: str) -> str:
    """Text with its control characters."""
    return written.translate(RESTORED)


_PARSER = etree.XMLParser(
    resolve_entities=False, no_network=True, load_dtd=False, huge_tree=False, remove_comments=True, remove_pis=True
)
"""One for all answers: making it takes longer than reading a short one."""


def _parsed(body: bytes) -> Element:
    try:
        root = etree.fromstring(body, _PARSER)
    except (etree.XMLSyntaxError, ValueError) as error:
        what = "a web page" if body.lstrip()[:15].lower().startswith((b"<!doctype html", b"<html")) else "not XML"
        detail = "" if what == "a web page" else f" ({str(error)[:80]})"
        raise RequestFailed("failed", f"the answer is {what}{detail}", "unreadable answer") from None
    if root is None:
        raise RequestFailed("failed", "the answer is empty", "unreadable answer")
    if root.getroottree().docinfo.internalDTD is not None:
        raise RequestFailed("failed", "the answer declares a document type, which no store needs", "unreadable answer")
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


def switch(element: Element, *path: str) -> bool:
    """A boolean at the end of a path, as XML Schema writes it (part 2, 3.3.2), in letters of any case; off where there
    is none. Raises `RequestFailed` for any other word, which may mean either."""
    return is_on(text(element, *path), path[-1])


def is_on(written: str, what: str) -> bool:
    """Whether a word means *on*; an empty one means *off*. Raises `RequestFailed` for one that means neither."""
    if written.lower() in ("true", "1"):
        return True
    if written.lower() in ("false", "0", ""):
        return False
    raise RequestFailed("failed", f'{what} is "{written[:40]}", neither true nor false', "unreadable answer")
