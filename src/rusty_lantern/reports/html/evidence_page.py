"""The page of an evidence folder: no script, nothing fetched, every text stays text."""

from __future__ import annotations

from jinja2 import Environment, FunctionLoader, StrictUndefined

from rusty_lantern.core.value_types import show_moment
from rusty_lantern.reports.html.page import plain_text, template
from rusty_lantern.reports.results.evidence import EvidenceResult


def evidence_page(result: EvidenceResult) -> str:
    """The page. The same result gives the same text."""
    environment = Environment(
        loader=FunctionLoader(template), autoescape=True, undefined=StrictUndefined, trim_blocks=True,
        lstrip_blocks=True, finalize=plain_text,
    )  # fmt: skip
    return environment.get_template("evidence.html.j2").render(e=result, moment=show_moment)


def check_script() -> bytes:
    """The script that checks a folder, for whoever has Python alone."""
    return template("check.py.txt").encode()
