"""Figures of simple slopes, and of predictions held against what happened. Nothing global is set."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from markbase.core.comparison.score import Score
from markbase.core.errors import FitError
from markbase.core.formatting import plain, short
from markbase.core.inference.distributions import t_quantile
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.simple_slopes import SLOPE_FIGURES
from markbase.core.results.stored_fit import StoredFit
from markbase.core.rows.row_functions import sample_of
from markbase.core.tables import own_name, rows_of
from markbase.show.figure_names import in_legend, legend_below, level_names, name_points
from markbase.show.figures import AMBER, INK, TEAL, finish, own_axes, styled

if TYPE_CHECKING:
    from matplotlib.axes import Axes

Array = NDArray[np.float64]
_PLACES = 121
_PARTS = 10
_MOST_POINTS = 3000
_MARKED = ((TEAL, "o"), (AMBER, "s"), (INK, "D"), ("#7a4f9a", "^"))


@styled
def draw_slopes(fit: AnyFit | StoredFit, numeric: str, by: str | None = None, ax: Axes | None = None) -> Axes:
    """Draw the slope of a numeric column: along a numeric moderator, along itself where it has a curve, or in each level of a group.

    Parameters
    ----------
    fit : LinearFit, LogisticFit or StoredFit
        The fit; of a saved one the rows are not drawn below the slope.
    numeric : str
        The column whose slope is drawn.
    by : str, optional
        The moderator; without it the slope of a curve is drawn along the column itself.
    ax : matplotlib.axes.Axes, optional
        Where to draw; by default on a figure of its own (``ax.figure``).

    Returns
    -------
    matplotlib.axes.Axes
        The axes drawn on: the slope with its interval inside the rows used, the region where the interval excludes 0 marked by
        a thick line (Johnson & Neyman 1936), and below it where the rows lie.

    Raises
    ------
    ColumnError
        If the model has no such column.
    FitError
        If the slope does not differ along the moderator.

    Examples
    --------
    >>> import markbase as mb
    >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
    >>> fit = mb.fit_linear(study, "belonging", ["age", "rehearsals", mb.interaction("age", "rehearsals")])
    >>> mb.draw_slopes(fit, "age", by="rehearsals").get_xlabel()
    'rehearsals'
    """
    moderator = next((v for v in fit.variables if v.name == by), None)
    if ax is None:
        levels = moderator.size if moderator is not None and moderator.is_categorical else 0
        ax = own_axes(8.0, max(4.8, 1 + 0.18 * levels))
    if moderator is not None and moderator.is_categorical:
        return _by_level(fit, numeric, moderator.name, ax)
    along = by or numeric
    regions = rows_of(fit.clear_region(numeric, along))
    low, high, _ = fit.rows_used.spread(along)
    grid = np.linspace(low, high, _PLACES)
    told = np.array([fit.slope_at(numeric, {along: float(v)}) for v in grid])
    half = t_quantile(fit.level, fit.df_rest) * told[:, 1]
    ax.axhline(0, color=INK, linewidth=1)
    ax.fill_between(grid, told[:, 0] - half, told[:, 0] + half, color=TEAL, alpha=0.14, linewidth=0)
    ax.plot(
        grid,
        told[:, 0],
        color=TEAL,
        linewidth=1.4,
        label="interval includes 0" if not all(r.clear for r in regions) else None,
    )
    for k, region in enumerate(r for r in regions if r.clear):
        inside = (grid >= region[0]) & (grid <= region.to)
        ends = np.array([region[0], *grid[inside], region.to])
        slopes = np.interp(ends, grid, told[:, 0])
        ax.plot(
            ends,
            slopes,
            color=AMBER,
            linewidth=4,
            solid_capstyle="butt",
            label=None if k else "interval excludes 0",
        )
    edges = sorted({float(r.to) for r in regions if r.to < high})
    for edge in edges:
        ax.axvline(edge, color=INK, linewidth=0.8, linestyle=":")
    if not isinstance(fit, StoredFit):
        _draw_rows(ax, fit.rows_used.values(along))
    name_points(ax, [plain(edge, 4) for edge in edges], [(edge, ax.get_ylim()[1]) for edge in edges], 9)
    column = fit.variable(along, "numeric").column
    ax.set_xlabel(along if column.unit is None or column.unit_many == along else f"{along}, {column.unit_many}")
    ax.set_ylabel(_slope_words(fit, numeric))
    finish(
        ax,
        f"Slope of {numeric} along {'its curve' if along == numeric else along}; shaded {short(100 * fit.level, 4)}% CI at each place by itself",
    )
    legend_below(ax)
    return ax


def _draw_rows(ax: Axes, values: Array) -> None:
    """Draw how the rows used lie along the axis; of rows in parts, a sample of them."""
    values = sample_of(values)
    counts, edges = np.histogram(values, bins=min(40, len(np.unique(values[:5000]))))
    ax.bar(
        edges[:-1],
        0.12 * counts / counts.max(),
        np.diff(edges),
        align="edge",
        color=INK,
        alpha=0.18,
        linewidth=0,
        transform=ax.get_xaxis_transform(),
        label="rows used",
    )


def _by_level(fit: AnyFit | StoredFit, numeric: str, by: str, ax: Axes) -> Axes:
    table = fit.simple_slopes(numeric, by=by)
    labels = list(dict.fromkeys(table["level"]))
    held = list(table.columns[3 : list(table.columns).index("slope")])  # behind level, base and n
    places = table[held].drop_duplicates() if held else None
    ax.axvline(0, color=INK, linewidth=1)
    count = 1 if places is None else len(places)
    y = np.arange(len(labels))[::-1]
    for k in range(count):
        own = table.iloc[k * len(labels) : (k + 1) * len(labels)]
        at = y + 0.22 * ((count - 1) / 2 - k)
        color, mark = _MARKED[k % len(_MARKED)]
        ax.hlines(at, own["low"], own["high"], color=color, linewidth=2)
        words = (
            ""
            if places is None
            else ", ".join(f"{own_name(SLOPE_FIGURES, c)} = {plain(float(places[c].iloc[k]), 4)}" for c in held)
        )
        ax.plot(own["slope"], at, mark, color=color, markersize=7, label=in_legend(words))
    table = table.iloc[: len(labels)]
    ax.set_yticks(y, level_names(labels, table["base"], table["n"]))
    ax.set_ylim(-0.6, len(labels) - 0.4)
    ax.set_xlabel(_slope_words(fit, numeric))
    finish(ax, f"Slope of {numeric} in each level of {by}, {short(100 * fit.level, 4)}% CI")
    if count > 1:
        legend_below(ax)
    return ax


def _slope_words(fit: AnyFit | StoredFit, numeric: str) -> str:
    return f"{fit.family.scale(fit.outcome)} per {fit.variable(numeric, 'numeric').column.step_one}"


@styled
def draw_score(scored: Score, ax: Axes | None = None) -> Axes:
    """Draw what was predicted for rows held out against what was observed in them.

    Parameters
    ----------
    scored : Score
        What `score` returned.
    ax : matplotlib.axes.Axes, optional
        Where to draw; by default on a figure of its own (``ax.figure``).

    Returns
    -------
    matplotlib.axes.Axes
        The axes drawn on. Of a linear fit a point a row, with the mean observed in each tenth of the predictions; of a logistic
        fit the share observed in each tenth. On the line, predictions are right on average.

    Raises
    ------
    FitError
        If fewer than two rows could be scored, or the rows are read in parts.

    Examples
    --------
    >>> import markbase as mb
    >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
    >>> kept, rest = study.hold_out(share=0.25, seed=1)
    >>> scored = mb.score(mb.fit_linear(kept, "travel_km", ["concerts", "voice"]), rest)
    >>> mb.draw_score(scored).get_xlabel()
    'predicted'
    """
    logistic = "probability" in scored.predictions
    known = scored.predictions.dropna(subset=["observed", "probability" if logistic else "predicted"])
    if len(scored.predictions) < scored.rows:
        raise FitError("Predictions of rows that are read in parts are not kept, so there is nothing to draw.")
    if len(known) < 2:
        raise FitError("Fewer than two rows held out could be scored, so there is nothing to draw.")
    factor = 100.0 if logistic else 1.0
    predicted = factor * known["probability" if logistic else "predicted"].to_numpy()
    observed = factor * known["observed"].to_numpy()
    if ax is None:
        ax = own_axes(6.2, 6.0)
    order = np.argsort(predicted, kind="stable")
    parts = np.array_split(order, min(_PARTS, len(order) // 5 or 1))
    middles = np.array([[predicted[p].mean(), observed[p].mean()] for p in parts])
    if not logistic:
        every = slice(None, None, max(1, len(known) // _MOST_POINTS))
        ax.plot(
            predicted[every],
            observed[every],
            "o",
            color=TEAL,
            alpha=0.3,
            markersize=3.5,
            markeredgewidth=0,
            label="a row",
        )
    ends = np.array([predicted.min(), predicted.max()])
    ax.plot(ends, ends, color=INK, linewidth=1.2, linestyle="--", label="observed = predicted")
    ax.plot(middles[:, 0], middles[:, 1], "D", color=AMBER, markersize=7, label=f"mean of each of {len(parts)} parts")
    unit = ", %" if logistic else ""
    ax.set_xlabel(f"predicted{unit}")
    ax.set_ylabel(f"observed{unit}")
    finish(ax, f"{scored.outcome}: {len(known):,} rows the fit has not seen")
    legend_below(ax)
    return ax
