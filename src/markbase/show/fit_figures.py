"""Figures of a fit. Each takes the axes to draw on, or makes a figure of its own; nothing global is set."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from markbase.core.comparison.imputations import Imputations, stands_for
from markbase.core.errors import ColumnError, MarkbaseError, without_remarks
from markbase.core.formatting import short
from markbase.core.results.linear import LinearFit
from markbase.core.results.logistic import LogisticFit
from markbase.core.rows.row_functions import learn, sample_of
from markbase.show.figure_names import folded, in_legend, legend_below, level_names
from markbase.show.figures import AMBER, INK, TEAL, finish, own_axes, say_sample, styled

if TYPE_CHECKING:
    from matplotlib.axes import Axes

AnyFit = LinearFit | LogisticFit
LINES = (
    (TEAL, "-"),
    (AMBER, "--"),
    (INK, ":"),
    ("#7a4f9a", "-."),
    ("#2f7d32", (0, (5, 1, 1, 1, 1, 1))),
    ("#a33b3b", (0, (1, 1))),
)
MARKS = "osD^vP"
MOST_LEVELS = 6
"""Lines of more levels cannot be told apart."""
_MOST_POINTS = 1500
_POINTS = 40


@styled
def draw_groups(fit: AnyFit | Imputations, group: str, ax: Axes | None = None) -> Axes:
    """Draw how the levels of a group differ from the base, with intervals.

    Parameters
    ----------
    fit : LinearFit, LogisticFit or Imputations
        The fit, or those of several imputations, combined.
    group : str
        A group of the model.
    ax : matplotlib.axes.Axes, optional
        Where to draw; by default on a figure of its own (``ax.figure``).

    Returns
    -------
    matplotlib.axes.Axes
        The axes drawn on. Of a logistic fit the differences are in percentage points of adjusted probability.

    Raises
    ------
    ColumnError
        If the model has no such group.

    Examples
    --------
    >>> import markbase as mb
    >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
    >>> fit = mb.fit_linear(study, "belonging", ["age", "voice"])
    >>> mb.draw_groups(fit, "voice").get_title(loc="left")
    'voice: differences from alto, 95% confidence intervals'
    """
    table = fit.groups(group)
    factor = fit.family.factor
    if ax is None:
        ax = own_axes(7.2, 1.5 + 0.42 * len(table))
    y = np.arange(len(table))[::-1]
    base = table["base"].to_numpy()
    value, low, high = (factor * table[k].to_numpy() for k in ("difference", "low", "high"))
    ax.axvline(0, color=INK, linewidth=1)
    ax.hlines(y[~base], low[~base], high[~base], color=TEAL, linewidth=2.2)
    ax.plot(value[~base], y[~base], "o", color=TEAL, markersize=7)
    ax.plot(0, y[base], "D", markersize=9, markerfacecolor="white", markeredgecolor=INK, markeredgewidth=1.6)
    ax.set_yticks(y, level_names(table["level"], table["base"], table["n"]))
    ax.set_ylim(-0.6, len(table) - 0.4)
    ax.set_xlabel(fit.family.difference(stands_for(fit).outcome))
    finish(ax, f"{group}: differences from {table['level'][base].iloc[0]}, {interval_words(fit)}")
    return ax


@styled
def draw_adjusted(fit: AnyFit | Imputations, group: str, ax: Axes | None = None) -> Axes:
    """Draw the adjusted mean, or probability, of each level of a group beside the plain one.

    Parameters
    ----------
    fit : LinearFit, LogisticFit or Imputations
        The fit, or those of several imputations, combined.
    group : str
        A group of the model.
    ax : matplotlib.axes.Axes, optional
        Where to draw; by default on a figure of its own.

    Returns
    -------
    matplotlib.axes.Axes
        The axes drawn on.

    Raises
    ------
    ColumnError
        If the model has no such group.

    Examples
    --------
    >>> import markbase as mb
    >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
    >>> fit = mb.fit_linear(study, "belonging", ["age", "voice"])
    >>> mb.draw_adjusted(fit, "voice").get_xlabel()
    'belonging, points'
    """
    table = fit.groups(group)
    factor = fit.family.factor
    if ax is None:
        ax = own_axes(7.2, 1.7 + 0.42 * len(table))
    y = np.arange(len(table))[::-1]
    low, high, adjusted, plain = (
        factor * table[k].to_numpy() for k in ("adjusted_low", "adjusted_high", "adjusted", "plain")
    )
    ax.hlines(y, low, high, color=TEAL, linewidth=2.2)
    ax.plot(adjusted, y, "o", color=TEAL, markersize=7, label=f"adjusted, {interval_words(fit)}")
    ax.plot(plain, y - 0.18, "|", color=AMBER, markersize=13, markeredgewidth=2.4, label="as observed")
    ax.set_yticks(y, level_names(table["level"], table["base"], table["n"]))
    ax.set_ylim(-0.7, len(table) - 0.4)
    ax.set_xlabel(fit.family.adjusted(stands_for(fit).outcome))
    finish(ax, f"{group}: adjusted as if all rows had the level")
    legend_below(ax, 2, fontsize=8)
    return ax


@styled
def draw_lines(fit: AnyFit | Imputations, numeric: str, by: str, ax: Axes | None = None) -> Axes:
    """Draw what the fit gives along a numeric column, a line for each level of a group.

    Parameters
    ----------
    fit : LinearFit, LogisticFit or Imputations
        The fit, or those of several imputations, combined.
    numeric : str
        A numeric column of the model.
    by : str
        A group of the model, of at most six levels.
    ax : matplotlib.axes.Axes, optional
        Where to draw; by default on a figure of its own.

    Returns
    -------
    matplotlib.axes.Axes
        The axes drawn on: of a linear fit lines over the data, of a logistic fit curves of probability. Other terms are
        as in the sample. Each line goes as far as the rows of its level do. Over imputations rows are those of the first.

    Raises
    ------
    ColumnError
        If the model has no such numeric column or group.
    MarkbaseError
        If the group has more levels than can be told apart.

    Examples
    --------
    >>> import markbase as mb
    >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
    >>> fit = mb.fit_linear(study, "belonging", ["age", "voice", mb.interaction("age", "voice")])
    >>> mb.draw_lines(fit, "age", by="voice").get_xlabel()
    'age, years'
    """
    levels = list(fit.groups(by)["level"])
    if len(levels) > MOST_LEVELS:
        raise MarkbaseError(
            f"`{by}` has {len(levels)} levels, more than the {MOST_LEVELS} that lines can tell apart; merge some, or use `draw_groups`."
        )
    made, fit = fit, stands_for(fit)
    fit.rows_used.values(numeric)  # refused where there are none
    x_column = next(p.column for t in fit.model_terms for p in t.variables if p.name == numeric)
    group = next((p for t in fit.model_terms for p in t.variables if p.name == by), None)
    if group is None:
        raise ColumnError(f"The model has no group `{by}`.")
    if ax is None:
        ax = own_axes(8.4, 5.2)
    inside = group.codes >= 0 if fit.used is None else fit.used
    own_values = [x_column.values[inside & (group.codes == k)] for k in range(len(levels))]
    learn(own_values)
    codes, x, y_values, used = (
        sample_of(values) for values in (group.codes, x_column.values, fit.outcome.values, inside)
    )  # points of rows in parts are a sample of them
    shares, factor = fit.family.shares, fit.family.factor
    shown = np.flatnonzero(used)
    shown = shown[:: max(1, len(shown) // _MOST_POINTS)]
    if not shares:
        say_sample(ax, fit.outcome.values, len(shown))
    for k, level in enumerate(levels):
        color, dashes = LINES[k]
        own = own_values[k]
        grid = np.linspace(own.min(), own.max(), _POINTS)
        with without_remarks():
            table = made.predict([{by: level, numeric: float(v)} for v in grid])
        y = factor * table[fit.family.predicted]
        if not shares:
            points = shown[codes[shown] == k]
            ax.plot(
                x[points],
                y_values[points],
                MARKS[k],
                color=color,
                markersize=2.6,
                alpha=0.28,
                markeredgewidth=0,
            )
        is_base = k == group.base
        ax.fill_between(grid, factor * table["low"], factor * table["high"], color=color, alpha=0.09, linewidth=0)
        ax.plot(
            grid,
            y,
            color=color,
            linestyle=dashes,
            linewidth=2.4,
            label=in_legend(f"{folded(level, lines=2)}{' (base)' if is_base else ''}"),
        )
    ax.set_xlabel(
        numeric if x_column.unit is None or x_column.unit_many == numeric else f"{numeric}, {x_column.unit_many}"
    )
    ax.set_ylabel(fit.family.adjusted(fit.outcome))
    own_slopes = any(numeric in t.names and by in t.names for t in fit.model_terms)
    told = (
        "slopes differ by group in the model"
        if own_slopes
        else "one slope for all"
        if not fit.family.ratios
        else "one slope for all in log odds"
    )
    rows = (
        ""
        if made is fit
        else "; rows of the first imputation"
        if isinstance(made, Imputations) and made.by
        else "; values of the first"
    )
    finish(
        ax, f"{fit.outcome.name} along {numeric}, by {by}: {told}; shaded {interval_words(made)}{rows * (not shares)}"
    )
    legend_below(ax, 4, handlelength=3.4)
    return ax


def interval_words(fit: AnyFit | Imputations) -> str:
    """Return what the intervals of a figure are."""
    return f"{short(100 * fit.level, 4)}% confidence intervals"
