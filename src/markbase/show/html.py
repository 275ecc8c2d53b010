"""Pages as HTML fragments, for a notebook: no script, every label escaped, the same bytes each time."""

from __future__ import annotations

import re
from functools import cache

from jinja2 import Environment, PackageLoader, select_autoescape
from markupsafe import Markup, escape

from markbase.show.page import Facts, Formula, Page, Sentences, Strip, Table

_WIDTH, _HEIGHT = 180, 14


def to_html(page: Page, *, styled: bool = True) -> str:
    """Return a page as an HTML fragment.

    Parameters
    ----------
    page : Page
        The page.
    styled : bool
        Whether its style goes with it.

    Returns
    -------
    str
        A ``<div>`` with its own style, which says the same as the text.
    """
    return environment().get_template("page.html").render(page=page, styled=styled)


@cache
def environment() -> Environment:
    """Return the environment of the templates: everything is escaped."""
    environment = Environment(
        loader=PackageLoader("markbase.show", "templates"),
        autoescape=select_autoescape(default=True),
        trim_blocks=True,
        lstrip_blocks=True,
    )
    environment.filters["marked"] = _marked
    environment.globals.update(strip=_strip, block_kind=_block_kind)
    return environment


def _block_kind(block: Table | Facts | Sentences | Formula) -> str:
    return type(block).__name__.lower()


def _marked(text: str) -> Markup:
    """Set names between backquotes apart; everything is escaped."""
    pieces = re.split(r"`([^`]*)`", text)
    return Markup("").join(
        Markup("<b>{}</b>").format(piece) if place % 2 else escape(piece) for place, piece in enumerate(pieces)
    )


def _strip(strip: Strip) -> dict[str, float]:
    def at(value: float) -> float:
        return round((value - strip.left) / (strip.right - strip.left) * (_WIDTH - 12) + 6, 2)

    places = {
        "low": at(strip.low),
        "middle": at(strip.middle),
        "high": at(strip.high),
        "zero": at(strip.mark),
        "start": at(strip.left),
    }
    return places | {"width": _WIDTH, "height": _HEIGHT, "half": _HEIGHT / 2}
