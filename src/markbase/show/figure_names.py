"""Names in figures: folded where a line has no room for them, so that neither they nor what is drawn is cut."""

from __future__ import annotations

import functools
import itertools
import math
import textwrap
from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_LETTER = 0.54
"""How wide a letter is, in parts of its size, on average."""
_BOLD = 1.2
"""How much wider it is where letters are bold."""
_LONGEST = 34
"""Letters a line of a name beside an axis, or in a legend."""
_MOST_LINES = 3
_LINE_INCHES = 0.17


def folded(text: str, width: int = _LONGEST, lines: int = _MOST_LINES) -> str:
    """Return a text in lines of so many letters; what goes on beyond some lines ends in an ellipsis."""
    if all(len(line) <= width for line in text.split("\n")):
        return text
    parts = textwrap.wrap(text, max(width, 12), break_on_hyphens=False)
    if len(parts) > lines:
        parts = [*parts[: lines - 1], f"{parts[lines - 1][: max(width, 12) - 1].rstrip()}…"]
    return "\n".join(parts)


def in_legend(name: str) -> str:
    """Return a name as a legend shows it: one that begins with an underscore would be left out."""
    return f" {name}" if name.startswith("_") else name


def level_names(levels: Iterable[Any], bases: Iterable[bool], rows: Iterable[float]) -> list[str]:
    """Return levels with their rows (over imputations the mean), and which of them is the base."""
    told = zip(levels, bases, rows, strict=True)
    return [f"{folded(str(v), lines=2)}{' (base)' if base else ''}, n = {round(n):,}" for v, base, n in told]


def fold_names(ax: Axes, width: int = _LONGEST) -> None:
    """Fold the names of ticks, and make a figure of our own higher where their lines would touch."""
    from matplotlib.ticker import FuncFormatter

    for axis in (ax.get_xaxis(), ax.get_yaxis()):
        if not isinstance(axis.get_major_formatter(), FuncFormatter):
            continue  # numbers
        told = [label.get_text() for label in axis.get_ticklabels()]
        names = [folded(text, width) for text in told]
        if not any("\n" in name for name in names):
            continue
        axis.set_ticks(axis.get_ticklocs(), labels=names)
        figure: Any = ax.figure
        if "_repr_png_" not in figure.__dict__:
            continue  # no figure of ours
        high, lean = figure.get_figheight(), math.radians(axis.get_ticklabels()[0].get_rotation())
        if axis is ax.get_yaxis():
            most = max(name.count("\n") + 1 for name in names)
            more = max(0.0, len(names) * (_LINE_INCHES * most + 0.1) - (high - 1.5))
        else:
            more = max(map(_longest, names)) * _LETTER * 9 / 72 * math.sin(lean)
        figure.set_figheight(high + more)


def fold_words(ax: Axes, title: str, size: float = 10) -> str:
    """Fold what is written along axes whose ticks have their names, and return their title, of letters of a size, folded."""
    wide, high = _room(ax)
    for label, space in ((ax.xaxis.label, wide), (ax.yaxis.label, high)):
        label.set_text(folded(label.get_text(), int(space / (_LETTER * float(label.get_fontsize())))))
    return folded(title, int(wide / (_LETTER * size)), 2 * _MOST_LINES)


def _room(ax: Axes) -> tuple[float, float]:
    """Return how many points there are across axes, the names of their ticks left out, and down."""
    figure: Any = ax.figure
    width, height = 72 * figure.get_size_inches()
    place = ax.get_subplotspec()
    if place is None:
        own = ax.get_position()
        return width * own.width, height * own.height
    grid = place.get_gridspec()
    names = max((_longest(t.get_text()) * _weight(t) for t in ax.get_yaxis().get_ticklabels()), default=0.0)
    across = width * len(place.colspan) / grid.ncols - (40 if ax.get_ylabel() else 16) - names * _LETTER * 9
    return across, 0.72 * height * len(place.rowspan) / grid.nrows


def _told(axis: Any) -> list[str]:
    return [label.get_text() for label in axis.get_ticklabels()]


def _weight(text: Any) -> float:
    return _BOLD if text.get_fontweight() == "bold" else 1.0


def _longest(text: str) -> int:
    return max(map(len, text.split("\n")))


def name_points(ax: Axes, names: Sequence[str], points: Any, size: float = 7, **how: Any) -> None:
    """Name points, shape (names, 2), each beside it where its name touches no other, no point that has one, and no edge.

    Where there is room only further off, a line leads from the name to its point. Limits of the axes are to be set before.
    """
    ax.get_xlim(), ax.get_ylim()  # what is drawn has its place from now on
    scale = 72 / ax.figure.dpi
    at = ax.transData.transform(np.asarray(points, dtype=np.float64).reshape(-1, 2)) * scale
    left, low, right, high = np.asarray(ax.get_window_extent().extents) * scale
    taken = [(x - 3, y - 3, x + 3, y + 3) for x, y in at]
    tall = 1.1 * size
    for name, (x, y), point in zip(names, at, points, strict=True):
        wide = _LETTER * size * len(name)
        sides = [
            (right_of, above, steps)
            for steps in range(len(taken) + 1)
            for right_of, above in itertools.product((True, False), repeat=2)
        ]
        for right_of, above, steps in sides:
            a = x + (4 if right_of else -4 - wide)
            b = y + (3 + steps * tall if above else -3 - tall - steps * tall)
            box = (a, b, a + wide, b + tall)
            inside = left <= a and a + wide <= right and low <= b and b + tall <= high
            if inside and not any(map(functools.partial(_touch, box), taken)):
                break
        else:
            a, b, box, steps = x + 4, y + 3, (x + 4, y + 3, x + 4 + wide, y + 3 + tall), 0
        taken.append(box)
        ax.annotate(
            name,
            point,
            xytext=(a - x, b - y),
            textcoords="offset points",
            fontsize=size,
            arrowprops={"arrowstyle": "-", "linewidth": 0.5, "shrinkA": 0, "shrinkB": 2} if steps else None,
            **how,
        )


def _touch(one: tuple[float, ...], other: tuple[float, ...]) -> bool:
    """Return whether two rectangles of left, low, right and high share a place."""
    return one[0] < other[2] and other[0] < one[2] and one[1] < other[3] and other[1] < one[3]


def legend_below(ax: Axes, most: int = 3, **more: Any) -> None:
    """Put a legend below axes whose words are folded already, clear of these, in as many columns as there is room for."""
    from matplotlib.transforms import ScaledTranslation

    handles, told = ax.get_legend_handles_labels()
    labels = [folded(text) for text in told]
    size = more.setdefault("fontsize", 9)
    line = (2.8 + more.get("handlelength", 2)) * size
    figure: Any = ax.figure

    def width(columns: int) -> float:
        least, more_rows = divmod(len(labels), columns)
        ends = list(itertools.accumulate(least + (k < more_rows) for k in range(columns)))
        parts = [labels[a:b] for a, b in itertools.pairwise([0, *ends])]
        return math.fsum(max(map(_longest, part)) * _LETTER * size + line for part in parts)

    columns = next((n for n in range(min(most, len(labels)), 1, -1) if width(n) <= _room(ax)[0]), 1)
    ticks = 1 + max((text.count("\n") for text in _told(ax.get_xaxis())), default=0)
    words = 1 + ax.get_xlabel().count("\n") if ax.get_xlabel() else 0
    down = 8 + 11 * ticks + 1.25 * float(ax.xaxis.label.get_fontsize()) * words
    below = ax.transAxes + ScaledTranslation(0, -down / 72, figure.dpi_scale_trans)
    ax.legend(
        handles,
        labels,
        frameon=False,
        loc="upper left",
        bbox_to_anchor=(0, 0),
        bbox_transform=below,
        ncols=columns,
        **more,
    )
