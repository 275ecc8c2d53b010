"""Pages as HTML fragments, for notebooks and reports: no script, every label escaped, the same bytes each time."""

from __future__ import annotations

import csv
import hashlib
import io
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cache
from typing import Any
from urllib.parse import quote

from jinja2 import Environment, PackageLoader, select_autoescape
from markupsafe import Markup, escape

from markbase.show.page import Block, Page, Picture, Strip, Table, kept_together
from markbase.show.versions import OWN, LaidBlock, laid

_WIDTH, _HEIGHT = 180, 14
_LETTER = 6.5  # about the width of a letter of the heading of drawings, in pixels


@dataclass(frozen=True)
class Version:
    """A page told from another base."""

    group: str
    """The group whose base is another."""
    level: str
    """That base."""
    pages: tuple[Page, ...]
    """What is then told."""


@dataclass(frozen=True)
class Versions:
    """The bases from which a page can be told."""

    own: str
    """The bases that were chosen, in words."""
    others: tuple[Version, ...]
    """The pages from every other base, one at a time."""
    same: str = ""
    """What is the same from all of them, in words."""


def to_html(
    pages: Page | Sequence[Page],
    versions: Versions | None = None,
    *,
    styled: bool = True,
    folds: bool = False,
    links: bool = False,
) -> str:
    """Return pages as an HTML fragment that says the same as the text.

    `versions` are the same told from other bases, between which the reader chooses; `folds` lets sections for a specialist
    be opened by a click, `links` gives each table one that saves it.
    """
    own = (pages,) if isinstance(pages, Page) else tuple(pages)
    others = {f"b{place}": version for place, version in enumerate(versions.others if versions else (), 1)}
    shown = [
        {"page": page, "sections": laid(page, {key: v.pages[place] for key, v in others.items()})}
        for place, page in enumerate(own)
    ]
    bases = _bases(versions, others) | {"name": _name_of(own)} if versions and others else None
    return (
        environment()
        .get_template("page.html")
        .render(pages=shown, bases=bases, styled=styled, folds=folds, links=links)
    )


_LONG_NUMBER = re.compile(r"\d+\.\d{6,}(e[+-]?\d+)?")
"""A number as it is kept, not as it is shown."""


@cache
def style() -> str:
    """Return the style of pages, for a document that holds several."""
    text, _, _ = environment().loader.get_source(environment(), "page.css")  # type: ignore[union-attr]
    return text


def _bases(versions: Versions, others: Mapping[str, Version]) -> dict[str, Any]:
    """Return what the reader chooses from: the bases as they are, then one line a group."""
    lines: list[dict[str, Any]] = [{"label": "", "choices": [{"key": OWN, "label": f"{versions.own} (as fitted)"}]}]
    for key, version in others.items():
        if lines[-1]["label"] != f"{version.group} from":
            lines.append({"label": f"{version.group} from", "choices": []})
        lines[-1]["choices"].append({"key": key, "label": version.level})
    return {
        "legend": "Base: against which levels the groups are told",
        "lines": lines,
        "keys": [OWN, *others],
        "same": versions.same,
    }


def _name_of(pages: Sequence[Page]) -> str:
    """Return a name that these pages alone have, the same each time and on each machine: it does not hang on the last digits of what is drawn."""
    told = _LONG_NUMBER.sub(lambda found: f"{float(found[0]):.6g}", repr(pages))
    return f"b{hashlib.sha256(told.encode()).hexdigest()[:10]}"


@cache
def environment() -> Environment:
    """Return the environment of the templates: everything is escaped."""
    environment = Environment(
        loader=PackageLoader("markbase.show", "templates"),
        autoescape=select_autoescape(default=True),
        trim_blocks=True,
        lstrip_blocks=True,
    )
    environment.filters["marked"] = marked
    environment.filters["unbroken"] = lambda text: kept_together(text, "\u00a0")
    environment.globals.update(
        strip=_strip, strip_head=_strip_head, block_kind=_block_kind, exactly=_exactly, csv_link=_csv_link, svg=_svg
    )
    return environment


def _block_kind(block: Block) -> str:
    return type(block).__name__.lower()


def _exactly(cell: str) -> str:
    """Return a number of a cell with all its digits."""
    return " to ".join(repr(value) for value in getattr(cell, "values", ())).replace("-", "−")


def _csv_link(block: LaidBlock) -> str:
    """Return the table of a block, as it is from its own bases, as a link to a CSV file with every digit."""
    assert isinstance(block.like, Table)
    rows = [e.what.cells for e in block.entries if not e.versions or OWN in e.versions.split()]
    parts = [max((len(getattr(row[k], "values", ())) for row in rows), default=1) for k in range(len(block.like.heads))]
    stream = io.StringIO()
    out = csv.writer(stream, lineterminator="\n")
    heads = zip(block.like.heads, parts, strict=True)
    out.writerow([f"{head}{ending}" for head, n in heads for ending in (("",) if n < 2 else (" from", " to"))])
    for row in rows:
        out.writerow([text for cell, n in zip(row, parts, strict=True) for text in _apart(cell, max(n, 1))])
    return "data:text/csv;charset=utf-8," + quote(stream.getvalue(), safe=" ,;:=()")


def _apart(cell: str, parts: int) -> Sequence[str]:
    values = getattr(cell, "values", ())
    if len(values) == parts:
        return [repr(v) for v in values]
    return [cell.strip(), *[""] * (parts - 1)]


def _svg(picture: Picture) -> Markup:
    """Return a picture, which is drawn by this program and holds nothing that needs escaping."""
    return Markup(picture.svg)


def marked(text: str) -> Markup:
    """Return text as HTML: names between backquotes set apart, everything escaped, and no line broken within a statistic."""
    pieces = re.split(r"`([^`]*)`", kept_together(text, "\u00a0"))
    return Markup("").join(
        Markup("<b>{}</b>").format(piece) if place % 2 else escape(piece) for place, piece in enumerate(pieces)
    )


def _strip_head(laid: LaidBlock) -> dict[str, Any]:
    """Place the words left and right of the mark of the drawings, if all have it in one place; words with no room are left out."""
    block, drawn = laid.like, [entry.what.strip for entry in laid.entries if entry.what.strip]
    assert isinstance(block, Table)
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
        return round(round((value - strip.left) / (strip.right - strip.left) * (_WIDTH - 12) + 6, 9), 1)

    places = {
        "low": at(strip.low),
        "middle": at(strip.middle),
        "high": at(strip.high),
        "zero": at(strip.mark),
        "start": at(strip.left),
    }
    return places | {"width": _WIDTH, "height": _HEIGHT, "half": _HEIGHT / 2}
