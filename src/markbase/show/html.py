"""Pages as HTML fragments, for a notebook: no script, every label escaped, the same bytes each time."""

from __future__ import annotations

import re
from functools import cache
from typing import Any

from jinja2 import Environment, PackageLoader, select_autoescape
from markupsafe import Markup, escape

from markbase.show.page import Facts, Formula, Page, Sentences, Strip, Table

_WIDTH, _HEIGHT = 180, 14
_LETTER = 6.5  # about the width of a letter of the heading of drawings, in pixels


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
    environment.globals.update(strip=_strip, strip_head=_strip_head, block_kind=_block_kind)
    return environment


def _block_kind(block: Table | Facts | Sentences | Formula) -> str:
    return type(block).__name__.lower()


def _marked(text: str) -> Markup:
    """Set names between backquotes apart; everything is escaped."""
    pieces = re.split(r"`([^`]*)`", text)
    return Markup("").join(
        Markup("<b>{}</b>").format(piece) if place % 2 else escape(piece) for place, piece in enumerate(pieces)
    )


def _strip_head(block: Table) -> dict[str, Any]:
    """Place the words left and right of the mark of the drawings, if all have it in one place; words with no room are left out."""
    drawn = [row.strip for row in block.rows if row.strip]
    before, mark, after = (words.strip() for words in block.strip_head.partition("┊"))
    places = {_strip(strip)["zero"] for strip in drawn}
    if not mark or len(places) != 1:
        return {"alone": block.strip_head}
    zero = places.pop()
    return {
        **_strip(drawn[0]),
        "before": before if len(before) * _LETTER < zero else "",
        "after": after if len(after) * _LETTER < _WIDTH - zero else "",
        "bar": bool(drawn[0].mark),
    }


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
