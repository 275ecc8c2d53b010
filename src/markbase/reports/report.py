"""A report as one self-contained HTML file, the same bytes every time."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cache

from jinja2 import Environment, PackageLoader, select_autoescape
from markupsafe import Markup

from markbase.reports.parts import Part
from markbase.show.html import marked, style, to_html


def report_html(
    title: str, subtitle: str, parts: Sequence[Part], version: str, beside: bool = True, together: Sequence[str] = ()
) -> str:
    """Return a report as a whole HTML document: what its analyses answer comes first; style and figures inside, every label escaped.

    `beside` says whether the same tables and figures stand in files beside the page; `together` is what the analyses do not say
    together that each says by itself.
    """
    shown = [
        {
            "heading": part.heading,
            "question": part.question,
            "paragraphs": part.paragraphs,
            "answers": part.answers,
            "lead": part.lead,
            "pointed_at": part.pointed_at,
            "body": Markup(to_html(part.pages, part.versions, styled=False, folds=True, links=True))
            if part.pages
            else "",
        }
        for part in parts
    ]
    return (
        _environment()
        .get_template("report.html")
        .render(
            title=title,
            subtitle=subtitle,
            parts=shown,
            version=version,
            beside=beside,
            together=together,
            page_style=Markup(style()),
        )
    )


@cache
def _environment() -> Environment:
    environment = Environment(
        loader=PackageLoader("markbase.reports", "templates"),
        autoescape=select_autoescape(default=True),
        trim_blocks=True,
        lstrip_blocks=True,
    )
    environment.filters["marked"] = marked
    environment.filters["inner"] = Markup
    return environment
