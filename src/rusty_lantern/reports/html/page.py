"""The report as one HTML page: nothing is fetched, no script is needed to read it, and every text stays text."""

from __future__ import annotations

import base64
import hashlib
from collections.abc import Sequence
from importlib.resources import files
from typing import Any

import msgspec
from jinja2 import Environment, FunctionLoader, StrictUndefined
from markupsafe import Markup

from rusty_lantern.core.value_types import show_moment
from rusty_lantern.reports.escape import safe
from rusty_lantern.reports.results.audit import FindingResult
from rusty_lantern.reports.results.of_survey import unread_words
from rusty_lantern.reports.results.overview import in_days_from
from rusty_lantern.reports.results.report import ReportResult

PAGE = 200
"""Rows of a table; more are folded beneath it."""


class Picture(msgspec.Struct, frozen=True):
    """A figure as SVG text, and what it shows in words."""

    svg: str
    words: str


def page(result: ReportResult, pictures: Sequence[Picture] = ()) -> str:
    """The page. The same result gives the same text."""
    environment = Environment(
        loader=FunctionLoader(template), autoescape=True, undefined=StrictUndefined, trim_blocks=True,
        lstrip_blocks=True, finalize=plain_text,
    )  # fmt: skip
    script = template("report.js")
    digest = base64.b64encode(hashlib.sha256(script.encode()).digest()).decode()
    table = environment.from_string(_DRIFT_TABLE)
    return environment.get_template("report.html.j2").render(
        r=result,
        unread_words=unread_words,
        style=Markup(template("report.css")),  # noqa: S704  (our own file)
        script=Markup(script),  # noqa: S704  (our own file)
        script_hash=f"sha256-{digest}",
        pictures=[{"svg": Markup(_inline(p, n)), "words": p.words} for n, p in enumerate(pictures)],  # noqa: S704
        requirements=result.requirements,
        moment=show_moment,
        where=where,
        page=PAGE,
        o=result.audit.overview,
        in_days=in_days_from,
        sampled=_sampled(result),
        drift_table=lambda rows: Markup(table.render(rows=rows, where=where, ranks=RANKS)),  # noqa: S704
    )


_DRIFT_TABLE = """\
<table>
<thead><tr><th scope="col">severity</th><th scope="col">subject</th><th scope="col">fact</th>\
<th scope="col">required</th><th scope="col">observed</th><th scope="col">since</th><th scope="col">why</th></tr>\
</thead>
<tbody>{% for d in rows %}<tr><td class="{{ d.severity }}" data-rank="{{ ranks[d.severity] }}">{{ d.severity }}</td>\
<th scope="row">{{ where(d) }}</th><td>{{ d.fact }}</td><td>{{ d.required }}</td><td><strong>{{ d.observed }}</strong>\
{% if d.note %}<br>{{ d.note }}{% endif %}</td><td>{{ d.since.strftime('%Y-%m-%d') if d.since else '' }}\
{{ ' or before' if d.since_or_before else '' }}</td><td>{{ d.reason or d.because }}</td></tr>
{% endfor %}</tbody>
</table>"""


def template(name: str) -> str:
    """A file that pages are made of."""
    return (files("rusty_lantern.reports") / "templates" / name).read_text(encoding="utf-8")


def plain_text(value: Any) -> Any:
    """Text without control characters; what is markup already stays as it is."""
    return safe(value) if isinstance(value, str) and not isinstance(value, Markup) else value


def _inline(picture: Picture, number: int) -> str:
    """An SVG document as an element of the page, its ids its own, with its words for who cannot see it."""
    svg = picture.svg[picture.svg.index("<svg") :]
    own = f"p{number}-"
    for mark in ('id="', 'href="#', "url(#"):
        svg = svg.replace(mark, mark + own)
    label = Markup.escape(safe(picture.words))
    return svg.replace("<svg ", f'<svg role="img" aria-label="{label}" ', 1)


def where(finding: FindingResult) -> str:
    """How a subject is named in a table."""
    return f"{finding.store}/{finding.name}" if finding.subject == "bucket" else f"{finding.store}: {finding.name}"


RANKS = {"critical": 0, "high": 1, "medium": 2, "low": 3}


def _sampled(result: ReportResult) -> str:
    """What is said of samples, where there were any."""
    counted = [one.objects for one in (*result.audit.drift, *result.audit.unknown) if one.objects is not None]
    sampled = [one for one in counted if one.sampled]
    if not sampled:
        return ""
    confidence = sorted({f"{one.confidence:.0%}".replace("%", " %") for one in sampled if one.confidence})
    at = ", ".join(confidence)
    return (
        f"Where only a sample of a bucket's versions was inspected, shares are exact binomial bounds at {at}; a sample "
        "alone never counts as ok, unless the requirement says how much drift it accepts."
    )
