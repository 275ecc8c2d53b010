"""Figures as elements of a page: small, named for those who do not see them, the same bytes each time."""

from __future__ import annotations

import functools
import hashlib
import itertools
import re
from collections.abc import Mapping, Sequence

from markupsafe import escape

from markbase.show.page import Picture

_MANY = 60
"""From how many marks on a cloud is drawn by few paths: as elements of their own they would be most of a page."""
_LAYERS = 5
"""How many paths a cloud is made of: where marks of several lie over one another it is darker."""
_NAME = re.compile(r'( id="|href="#|url\(#)([a-z]+)([0-9a-f]{8,})')
_SHAPE = re.compile(r'<path id="(m\w+)" d="([^"]*)"')
_MARKS = re.compile(
    r'<g(?P<clip>[^>]*)>(?P<uses>(?:\s*<use xlink:href="#m\w+" x="[^"]*" y="[^"]*" style="[^"]*"/>)+)\s*</g>'
)
_USE = re.compile(r'href="#(m\w+)" x="([^"]*)" y="([^"]*)" style="([^"]*)"')


def inline(svg: bytes, name: str, caption: str) -> Picture:
    """Return a figure as an element of a page: text is text, lines are lines; a cloud of marks is a few paths.

    Its inner names are made from `name`, which no other figure of the page has; `caption` is also what is read out in its place.
    """
    drawn = svg.decode()
    drawn = re.sub(r"<metadata>.*?</metadata>", "", drawn[drawn.index("<svg") :], flags=re.DOTALL)
    drawn = re.sub(r"<!--.*?-->", "", drawn, flags=re.DOTALL)
    drawn = re.sub(r' id="(?:\w+_)+\d+"', "", drawn)  # names of groups of elements, which every figure has
    drawn = _MARKS.sub(functools.partial(_cloud, dict(_SHAPE.findall(drawn))), drawn)
    drawn = re.sub(r"<[^>]*>", functools.partial(_small, name), drawn)  # elements alone: text is what is read
    drawn = re.sub(r"\s*\n\s*", "\n", drawn)
    label = f'role="img" font-family="sans-serif" aria-label="{escape(caption)}"'
    return Picture(drawn.replace("<svg ", f"<svg {label} ", 1), caption)


def _small(figure: str, found: re.Match[str]) -> str:
    """Return an element in fewer letters, its inner names those of a figure."""
    element = _NAME.sub(lambda name: f"{name[1]}{name[2]}{_own(figure, name[3])}", found[0])
    element = re.sub(r"(?<=\d\.\d\d)\d+", "", element)  # a hundredth of a point is enough
    element = re.sub(r'(?<= d=")[MLz\d.\s-]+(?=")', _tight, element)
    element = re.sub(r"font-family: 'DejaVu Sans'[^;\"]*;? ?", "", element)
    return re.sub(r' transform="rotate\(-?0 [^)]*\)"', "", element)


def _own(name: str, inner: str) -> str:
    """Return an inner name that no other figure of a page has."""
    return hashlib.sha256(f"{name} {inner}".encode()).hexdigest()[:10]


def _tight(found: re.Match[str]) -> str:
    """Return a path of straight lines in as few letters as say the same to a tenth of a point."""
    written, last = "", ""
    for step, x, y in re.findall(r"([ML]) (\S+) (\S+)|z", found[0]):
        if not step:
            written += "z"
        else:
            apart = " " if step == last and not x.startswith("-") else ""
            written += (apart if step == last else step) + f"{_tenth(x)} {_tenth(y)}".replace(" -", "-")
        last = step
    return written


def _tenth(number: str) -> str:
    return f"{round(float(number), 1) + 0.0:g}"


def _cloud(shapes: Mapping[str, str], found: re.Match[str]) -> str:
    """Return many marks of one shape and colour as a few paths."""
    uses = _USE.findall(found["uses"])
    kinds = {(name, style) for name, _, _, style in uses}
    if len(uses) < _MANY or len(kinds) > 1:
        return found[0]
    name, written = kinds.pop()
    style = dict(pair.split(": ") for pair in written.split("; "))
    corners = [(float(x), float(y)) for x, y in re.findall(r"[ML] (\S+) (\S+)", shapes[name])]
    if "C" in shapes[name]:  # round: a line of no length with round ends
        kind, stamp, (left, top) = "stroke", "z", (0.0, 0.0)
        drawn = f'fill="none" stroke-linecap="round" stroke-width="{_tenths(2 * corners[0][1])}"'
    else:
        steps = itertools.pairwise(corners)
        kind, stamp, (left, top) = "fill", "".join(_step(c - a, d - b) for (a, b), (c, d) in steps) + "z", corners[0]
        drawn = ""
    drawn += f' {kind}="{style["fill"]}" {kind}-opacity="{style.get("fill-opacity", "1")}"'
    places = sorted((_tenths(float(x) + left), _tenths(float(y) + top)) for _, x, y, _ in uses)
    layers = (_path(places[layer::_LAYERS], stamp) for layer in range(_LAYERS))
    return (
        f'<g{found["clip"]}><g transform="scale(.1)">'
        + "".join(f'<path d="{d}" {drawn}/>' for d in layers)
        + "</g></g>"
    )


def _path(places: Sequence[tuple[int, int]], stamp: str) -> str:
    """Return a stamp at every place, each from the one before."""
    steps = itertools.pairwise([(0, 0), *places])
    return "".join(f"m{c - a}{'' if d < b else ' '}{d - b}{stamp}" for (a, b), (c, d) in steps)


def _step(x: float, y: float) -> str:
    across, down = _tenths(x), _tenths(y)
    return f"h{across}" if not down else f"v{down}" if not across else f"l{across} {down}"


def _tenths(length: float) -> int:
    return round(10 * length)
