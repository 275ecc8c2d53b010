"""Figures of a screening: correlations, variance inflation, pairs of columns."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

import numpy as np

from markbase.core.errors import MarkbaseError
from markbase.core.formatting import short, without_zero
from markbase.core.rows.row_functions import sample_of
from markbase.core.screening.screen import Screen
from markbase.core.study.study import Study
from markbase.show.figure_names import fold_names, fold_words, folded
from markbase.show.figures import AMBER, INK, PALE, TEAL, sheet_of_one, styled

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

_MOST_POINTS = 2000
_MOST_COLUMNS = 10
_MOST_WRITTEN, _MOST_NAMES = 30, 120
"""Columns whose correlations are written into their cells, and that are all named beside them."""
_MOST_BARS = 40
"""Terms of very many that are drawn."""
_MOST_DISCS, _CELL = 150, 62.0
"""Places of rows that are drawn as discs, and about how many points the values have in a cell of the grid."""
_DISC, _SEEN = 40.0, 0.6
"""The square of the diameter, in points, of the largest disc, and of the smallest that is seen."""


@styled
def draw_correlations(screen: Screen, ax: Axes | None = None) -> Axes:
    """Draw the correlations as a table of tints: direction by tint, size by depth, and, of up to 30 columns, every number in its cell.

    Parameters
    ----------
    screen : Screen
        The screening.
    ax : matplotlib.axes.Axes, optional
        Where to draw; by default on a figure of its own (``ax.figure``).

    Returns
    -------
    matplotlib.axes.Axes
        The axes drawn on.

    Examples
    --------
    >>> import markbase as mb
    >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
    >>> screened = mb.screen(study, ["age", "travel_km", "travel_min"])
    >>> len(mb.draw_correlations(screened).get_xticks())
    2
    """
    from matplotlib.colors import LinearSegmentedColormap

    names = list(screen.correlations.columns)
    values = screen.correlations.to_numpy()
    written = len(names) <= _MOST_WRITTEN
    cell = 1.0 if written else _MOST_WRITTEN / len(names)  # of more columns a figure of the same size
    if ax is None:
        _, ax = sheet_of_one(2.2 + 0.62 * cell * len(names), 1.6 + 0.5 * cell * len(names))
    tints = LinearSegmentedColormap.from_list("markbase", [AMBER, "#ffffff", TEAL])
    lower = np.tril(np.ones_like(values, dtype=bool), -1)
    ax.imshow(np.where(lower, values, np.nan), cmap=tints, vmin=-1, vmax=1, aspect="auto")
    for a, b in np.argwhere(lower) if written else ():
        r = values[a, b]
        outcome = screen.outcome is not None and b == 0
        flagged = abs(r) >= screen.limits.r and not outcome
        dark = abs(r) > 0.65
        weight = "bold" if flagged else "normal"
        text = f"{'▲' if flagged else ''}{without_zero(r, 2)}"
        ax.text(b, a, text, ha="center", va="center", fontsize=8, color="white" if dark else INK, weight=weight)
    step, size = math.ceil(len(names) / _MOST_NAMES), 8 if written else max(8 * cell**0.5, 4.5)
    ax.set_xticks(
        range(0, len(names) - 1, step),
        names[:-1:step],
        rotation=40 if written else 90,
        ha="right" if written else "center",
        fontsize=size,
    )
    ax.set_yticks(range(1, len(names), step), names[1::step], fontsize=size)
    fold_names(ax)
    ax.set_xlim(-0.5, len(names) - 1.5)
    ax.set_ylim(len(names) - 0.5, 0.5)
    for side in ax.spines.values():
        side.set_visible(False)
    ax.tick_params(length=0)
    weighted = f", {screen.weighting.short.replace('`', '')}" if screen.weighting else ""
    mark = f"▲ from |r| = {short(screen.limits.r)} among predictors" if written else "the table has the numbers"
    title = f"Correlations, {screen.sample.used:,} rows{weighted} ({mark})"
    ax.set_title(fold_words(ax, title, 9), fontsize=9, y=1, loc="left")
    return ax


@styled
def draw_vif(screen: Screen, ax: Axes | None = None) -> Axes:
    """Draw how many times each term's standard error is inflated, of more than 80 terms the 40 largest, with the limits in use as lines.

    Parameters
    ----------
    screen : Screen
        The screening.
    ax : matplotlib.axes.Axes, optional
        Where to draw; by default on a figure of its own (``ax.figure``).

    Returns
    -------
    matplotlib.axes.Axes
        The axes drawn on.

    Examples
    --------
    >>> import markbase as mb
    >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
    >>> mb.draw_vif(mb.screen(study, ["age", "travel_km", "travel_min"])).get_xlabel()
    'standard error, times what it would be with nothing in common (limits are rules of thumb)'
    """
    from markbase.core.screening.limits import VIF_IN_USE

    table, every = screen.terms, len(screen.terms)
    if every > 2 * _MOST_BARS:
        table = table.sort_values("comparable", ascending=False, kind="stable").head(_MOST_BARS)
    table = table.iloc[::-1]
    if ax is None:
        _, ax = sheet_of_one(7.2, 1.6 + 0.32 * len(table))
    values = table["comparable"].to_numpy(dtype=np.float64)
    finite = values[np.isfinite(values)]
    reach = max([*finite, math.sqrt(max(*VIF_IN_USE, screen.limits.vif))]) * 1.12
    shown = np.where(np.isfinite(values), values, reach)
    limit = math.sqrt(screen.limits.vif)
    over = shown >= limit
    y = np.arange(len(table))
    ax.barh(y, shown - 1, left=1, height=0.62, color=[AMBER if o else TEAL for o in over], hatch=None)
    for k, value in enumerate(values):
        text = f"{'▲ ' if over[k] else ''}{'infinite' if math.isinf(value) else f'{value:.2f}'}"
        ax.text(
            min(shown[k], reach * 0.985) + 0.015 * reach,
            k,
            text,
            va="center",
            fontsize=8,
            color=INK,
            ha="left",
            clip_on=False,
            bbox={"facecolor": "white", "edgecolor": "none", "pad": 0.6},
        )
    for vif in sorted({*VIF_IN_USE, screen.limits.vif}):
        chosen = vif == screen.limits.vif
        ax.axvline(
            math.sqrt(vif), color=INK, linewidth=1.4 if chosen else 0.7, linestyle="-" if chosen else ":", zorder=0
        )
        ax.text(
            math.sqrt(vif),
            len(table) - 0.35,
            f"√{short(vif)}",
            ha="center",
            va="bottom",
            fontsize=8,
            color=INK,
            weight="bold" if chosen else "normal",
        )
    ax.set_yticks(y, table["term"], fontsize=8)
    fold_names(ax)
    ax.set_xlim(1, reach * 1.1)
    ax.set_ylim(-0.6, len(table) - 0.4)
    ax.set_xlabel(
        "standard error, times what it would be with nothing in common (limits are rules of thumb)", fontsize=8
    )
    ax.tick_params(labelsize=8)
    for side in ("top", "right"):
        ax.spines[side].set_visible(False)
    what = "Variance inflation of each term" + (
        f", the {len(table)} largest of {every:,}" if len(table) < every else ""
    )
    ax.set_title(fold_words(ax, what, 9), fontsize=9, loc="left", pad=18)
    return ax


def _bins(values: Any) -> Any:
    """Return one bin a value for few whole numbers, which would leave gaps in a comb otherwise; else 24."""
    low, high = values.min(), values.max()
    if high - low <= 40 and np.array_equal(values, np.round(values)):
        return np.arange(low - 0.5, high + 1.5)
    return 24


def _points(ax: Axes, x: Any, y: Any) -> None:
    """Draw rows as points; where many rows have the same two values a disc for them all, its area how many they are."""
    places, rows = np.unique(np.column_stack([x, y]), axis=0, return_counts=True)
    if len(places) <= _MOST_DISCS and 3 * len(places) <= len(x):
        apart = _CELL / (max(len(np.unique(values)) for values in places.T) - 1 or 1)
        largest = min(_DISC, (0.9 * apart) ** 2)  # neighbours do not touch
        ax.scatter(
            places[:, 0], places[:, 1], s=np.maximum(largest * rows / rows.max(), _SEEN), color=INK, linewidths=0
        )
    else:
        ax.plot(x, y, ".", color=INK, markersize=1.6, alpha=0.35)
    ax.margins(0.12)  # the same above one another, since the axis is told below the last alone


@styled
def draw_pairs(study: Study, screen: Screen) -> Figure:
    """Draw every pair of numeric columns: points below the diagonal, spreads on it, correlations above.

    Parameters
    ----------
    study : Study
        The data the screening was made of.
    screen : Screen
        The screening; its outcome, if a numeric column, stands first.

    Returns
    -------
    matplotlib.figure.Figure
        A figure of its own. Of more than 2,000 rows, 2,000 spread evenly are drawn as points, and where columns
        have few values as discs whose area is how many rows have both; of more than 10 numeric columns, the first 10.

    Raises
    ------
    MarkbaseError
        If there are fewer than two numeric columns.

    Examples
    --------
    >>> import markbase as mb
    >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
    >>> screened = mb.screen(study, ["age", "travel_km", "travel_min"])
    >>> len(mb.draw_pairs(study, screened).figure.axes)
    9
    """
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.figure import Figure

    numeric = [n for n in screen.correlations.columns if not study[n].is_categorical]
    names = numeric[:_MOST_COLUMNS]
    if len(names) < 2:
        raise MarkbaseError("A grid of pairs needs two numeric columns or more among the columns screened.")
    shown = {n: sample_of(study[n].values) for n in names}  # of rows in parts, a sample of them
    used = None if screen.basis.used is None else sample_of(screen.basis.used)
    rows = np.arange(len(shown[names[0]])) if used is None else np.flatnonzero(used)
    some = rows[np.linspace(0, len(rows) - 1, min(_MOST_POINTS, len(rows))).astype(np.intp)]
    count = len(names)
    figure = Figure(figsize=(1.35 * count + 0.6, 1.2 * count + 0.6), layout="constrained")
    FigureCanvasAgg(figure)
    axes: Any = figure.subplots(count, count)
    for a in range(count):
        for b in range(count):
            ax = axes[a, b]
            ax.tick_params(labelsize=6, length=2)
            if a == b:
                ax.hist(shown[names[a]][rows], bins=_bins(shown[names[a]][rows]), color=TEAL)
                ax.set_yticks([])
            elif a > b:
                _points(ax, shown[names[b]][some], shown[names[a]][some])
            else:
                r = float(screen.correlations.loc[names[a], names[b]])  # type: ignore[arg-type]
                flagged = abs(r) >= screen.limits.r and not (
                    a == 0 and screen.outcome is not None and names[0] == screen.outcome.name
                )
                ax.set_facecolor(PALE if flagged else "white")
                ax.text(
                    0.5,
                    0.5,
                    f"{'▲' if flagged else ''}{without_zero(r, 2)}",
                    transform=ax.transAxes,
                    ha="center",
                    va="center",
                    fontsize=7 + 6 * abs(r),
                    color=INK,
                )
                ax.set_xticks([])
                ax.set_yticks([])
            if a < count - 1:
                ax.set_xticklabels([])
            if b > 0:
                ax.set_yticklabels([])
            if a == count - 1:
                ax.set_xlabel(folded(names[b], 20), fontsize=7)
            if b == 0:
                ax.set_ylabel(folded(names[a], 20), fontsize=7)
    every = study.rows if screen.basis.used is None else int(np.count_nonzero(screen.basis.used))
    points = f"{len(some):,} of {every:,} rows drawn" if len(some) < every else f"{every:,} rows"
    points += f", correlations by {screen.weighting.short.replace('`', '')}" if screen.weighting else ""
    figure.suptitle(
        f"Pairs of {'' if count == len(numeric) else f'the first {count} of {len(numeric):,} '}numeric columns, {points} (▲ from |r| = {short(screen.limits.r)})",
        fontsize=9,
        x=0.01,
        ha="left",
    )
    return figure
