"""Text that comes from a store, made safe to show on a terminal: nothing in it can move, colour or hide anything."""

from __future__ import annotations

import unicodedata

from rich.console import Console

_HIDING = ("Cc", "Cf", "Cs", "Co", "Cn", "Zl", "Zp")
"""Unicode categories of control, format, surrogate, private and line-separating characters."""


def safe(text: str) -> str:
    r"""The text with every control or format character written as an escape.

    >>> safe("red\x1b[31m")
    'red\\x1b[31m'
    """
    if text.isascii() and text.isprintable():
        return text
    return "".join(_escaped(c) if unicodedata.category(c) in _HIDING else c for c in text)


def _escaped(char: str) -> str:
    return char.encode("unicode_escape").decode("ascii")


def shorten(text: str, width: int) -> str:
    """At most `width` characters: the middle is left out, since both ends say most.

    >>> shorten("backups-nightly-north-shore", 15)
    'backups…h-shore'
    """
    if len(text) <= width:
        return text
    tail = (width - 1) // 2
    return text[: width - 1 - tail] + "…" + text[len(text) - tail :]


def cell(text: str) -> str:
    """A text that no spreadsheet takes for a formula.

    >>> cell("=1+1"), cell("-3"), cell("plain")
    ("'=1+1", '-3', 'plain')
    """
    text = safe(text)
    if text[:1] in ("=", "+", "-", "@", "\t") and not text.lstrip("+-").replace(".", "", 1).isdigit():
        return "'" + text
    return text


def markdown(text: str) -> str:
    r"""A text that stays text in Markdown, tables included.

    >>> markdown("a|b <b> *c*")
    'a\\|b &lt;b&gt; \\*c\\*'
    """
    text = safe(text).replace("&", "&amp;").replace("<", "&lt;").replace(">", "&gt;")
    return "".join("\\" + char if char in "\\`*_{}[]()#!|~" else char for char in text)


def plain_marks(screen: Console, text: str) -> str:
    """The text with our own few marks in ASCII where the output cannot carry them."""
    if screen.encoding.lower().replace("-", "").startswith("utf"):
        return text
    for mark, plain in (("…", "~"), ("·", "-"), ("→", "->"), ("≥", ">="), ("≤", "<="), ("✓", "ok")):
        text = text.replace(mark, plain)
    return text.encode(screen.encoding, "backslashreplace").decode(screen.encoding)
