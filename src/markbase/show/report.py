"""A report: pages and figures in one self-contained HTML file, the same bytes every time."""

from __future__ import annotations

import base64
from collections.abc import Sequence
from dataclasses import dataclass, field

from markupsafe import Markup

from markbase.show.html import environment, to_html
from markbase.show.page import Page


@dataclass(frozen=True)
class ReportFigure:
    """A figure of a report."""

    name: str
    """Its file name without an ending."""
    caption: str
    """What it shows."""
    svg: bytes
    """It, as SVG."""


@dataclass(frozen=True)
class Part:
    """One part of a report."""

    heading: str
    """Its heading."""
    pages: tuple[Page, ...] = ()
    """What stands in it."""
    question: str = ""
    """The question it answers."""
    paragraphs: tuple[str, ...] = ()
    """Text before the pages; names between backquotes."""
    figures: tuple[ReportFigure, ...] = field(default=())
    """Figures after the pages."""


def report_html(title: str, subtitle: str, parts: Sequence[Part], version: str) -> str:
    """Return a report as HTML.

    Parameters
    ----------
    title, subtitle : str
        What it is, and of what.
    parts : sequence of Part
        Its parts, in order.
    version : str
        The version of this program.

    Returns
    -------
    str
        A whole document: style and figures inside, no script, every label escaped.
    """
    shown = [
        {
            "heading": part.heading,
            "question": part.question,
            "paragraphs": part.paragraphs,
            "bodies": [Markup(to_html(page, styled=False)) for page in part.pages],
            "figures": [{"caption": f.caption, "data": base64.b64encode(f.svg).decode()} for f in part.figures],
        }
        for part in parts
    ]
    return (
        environment().get_template("report.html").render(title=title, subtitle=subtitle, parts=shown, version=version)
    )
