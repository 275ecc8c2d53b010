"""One figure of a whole fit: every difference from its base and every slope, on one scale."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from markbase.core.comparison.imputations import Imputations, stands_for
from markbase.core.design.terms import Variable
from markbase.core.formatting import plain, short
from markbase.core.inference.distributions import t_quantile
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.logistic import LogisticFit
from markbase.core.tables import rows_of
from markbase.show.figures import INK, TEAL, finish, own_axes, styled

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_MOST_LEVELS = 12
_ENDS = 4
"""How many levels are drawn at either end of a group with more."""


class _Line(NamedTuple):
    label: str
    value: float = np.nan
    low: float = np.nan
    high: float = np.nan
    base: bool = False


@styled
def draw_coefficients(fit: AnyFit | Imputations, ax: Axes | None = None) -> Axes:
    """Draw what a fit says on one scale: each level against its base, and each numeric column per standard deviation.

    Parameters
    ----------
    fit : LinearFit, LogisticFit or Imputations
        The fit, or those of several imputations, combined.
    ax : matplotlib.axes.Axes, optional
        Where to draw; by default on a figure of its own (``ax.figure``).

    Returns
    -------
    matplotlib.axes.Axes
        The axes drawn on, in units of the outcome; of a logistic fit in percentage points of probability. Differences and
        slopes that depend on other columns are averaged over the rows used; a numeric column of two values is drawn for the
        step from one to the other. Of a group of more than twelve levels the four lowest and the four highest are drawn.

    Examples
    --------
    >>> import markbase as mb
    >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
    >>> fit = mb.fit_linear(study, "belonging", ["age", "voice"])
    >>> mb.draw_coefficients(fit).get_xlabel()
    'difference in belonging, points'
    """
    made, fit = fit, stands_for(fit)
    lines = [line for variable in fit.variables for line in _lines(made, variable)]
    if ax is None:
        ax = own_axes(7.6, 1.3 + 0.27 * len(lines))
    factor = fit.family.factor
    ax.axvline(0, color=INK, linewidth=1)
    for y, line in zip(range(len(lines), 0, -1), lines, strict=True):
        if line.base:
            ax.plot(0, y, "D", markersize=7, markerfacecolor="white", markeredgecolor=INK, markeredgewidth=1.3)
        elif np.isfinite(line.value):
            ax.hlines(y, factor * line.low, factor * line.high, color=TEAL, linewidth=2)
            ax.plot(factor * line.value, y, "o", color=TEAL, markersize=5.5)
    ax.set_yticks(range(len(lines), 0, -1), [line.label for line in lines])
    for label, line in zip(ax.get_yticklabels(), lines, strict=True):
        label.set_fontweight("bold" if np.isnan(line.value) else "normal")
    ax.set_ylim(0.3, len(lines) + 0.7)
    ax.set_xlabel(fit.family.difference(fit.outcome), fontsize=9)
    averaged = "; what is in an interaction is averaged over the rows" * any(
        t.kind == "interaction" for t in fit.model_terms
    )
    finish(ax, f"◇ base; numeric columns per standard deviation; {short(100 * fit.level, 4)}% CI{averaged}")
    ax.tick_params(axis="y", length=0)
    return ax


def _lines(made: AnyFit | Imputations, variable: Variable) -> list[_Line]:
    """Return what is drawn of one variable."""
    if not variable.is_categorical:
        fit = stands_for(made)
        return [] if any(variable.name in fit.moves_with(v.name) for v in _numerics(fit)) else [_slope(made, variable)]
    if made.not_averaged(variable.name):
        return [_Line(f"{variable.name} (not averaged: empty combinations)")]
    table = made.groups(variable.name)
    heading = variable.name
    if len(table) > _MOST_LEVELS:
        order = table["difference"].argsort().to_numpy()
        kept = np.zeros(len(table), dtype=bool)
        kept[[*order[:_ENDS], *order[-_ENDS:]]] = True
        heading += f" (lowest and highest of {len(table)})"
        table = table[kept | table["base"].to_numpy()]
    levels = [
        _Line(f"{r.level}{' (base)' if r.base else ''}", r.difference, r.low, r.high, bool(r.base))
        for r in rows_of(table)
    ]
    return [_Line(heading), *levels]


def _numerics(fit: AnyFit) -> list[Variable]:
    return [v for v in fit.variables if not v.is_categorical]


def _slope(made: AnyFit | Imputations, variable: Variable) -> _Line:
    """Return the slope of a numeric column averaged over the rows, times a step worth drawing."""
    fit = stands_for(made)
    name, column = variable.name, variable.column
    low, high, sd = fit.rows_used.spread(name)
    values = column.values if fit.used is None else column.values[fit.used]
    two = column.two_values is not None or bool(np.isin(values, (low, high)).all())
    step = high - low if two else sd
    if isinstance(made, Imputations):
        value, below, above = (step * v for v in made._average_slope(name))
    elif isinstance(fit, LogisticFit):
        row = next(r for r in rows_of(fit.marginal) if r.term == name)
        value, below, above = step * row.effect, step * row.low, step * row.high
    else:
        slope, se = fit.slope_at(name)
        half = t_quantile(fit.level, fit.df_rest) * se
        value, below, above = step * slope, step * (slope - half), step * (slope + half)
    unit = f" {column.unit_many}" if column.unit else ""
    words = f"{plain(high)} against {plain(low)}" if two else f"per {short(step)}{unit}"
    return _Line(f"{name}, {words}", value, below, above)
