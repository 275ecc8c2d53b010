"""The adjusted means of two groups crossed, drawn level by level."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from markbase.core.errors import MarkbaseError
from markbase.core.results.any_fit import AnyFit
from markbase.core.study.remark import THIN_ROWS
from markbase.show.figure_names import folded, in_legend, legend_below, level_names
from markbase.show.figures import finish, own_axes, styled
from markbase.show.fit_figures import LINES, MARKS, MOST_LEVELS, interval_words

if TYPE_CHECKING:
    from matplotlib.axes import Axes


@styled
def draw_cells(fit: AnyFit, group: str, by: str, ax: Axes | None = None) -> Axes:
    """Draw the adjusted mean, or probability, of every combination of two groups that rows have.

    Parameters
    ----------
    fit : LinearFit or LogisticFit
        The fit.
    group : str
        A group of the model, a row of the figure for each level.
    by : str
        Another group of the model, of at most six levels: a mark and a line for each, which are parallel where nothing differs
        by the other group (in log odds, of a logistic fit).
    ax : matplotlib.axes.Axes, optional
        Where to draw; by default on a figure of its own (``ax.figure``).

    Returns
    -------
    matplotlib.axes.Axes
        The axes drawn on. Combinations of fewer than 30 rows are hollow, of those that no row has there is no mark.

    Raises
    ------
    ColumnError
        If the model has no such group.
    FitError
        As for `cell_means`.
    MarkbaseError
        If the groups are one, or `by` has more levels than can be told apart.

    Examples
    --------
    >>> import markbase as mb
    >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
    >>> fit = mb.fit_linear(study, "belonging", ["voice", "stays", mb.interaction("voice", "stays")])
    >>> mb.draw_cells(fit, "voice", by="stays").get_xlabel()
    'belonging, points'
    """
    rows, marks = fit.variable(group, "categorical"), fit.variable(by, "categorical")
    if marks.size > MOST_LEVELS:
        raise MarkbaseError(
            f"`{by}` has {marks.size} levels, more than the {MOST_LEVELS} that marks can tell apart; merge some, or let it be the rows."
        )
    means, _ = fit.cell_means(group, by, correction="none")
    if ax is None:
        ax = own_axes(7.6, 1.8 + (0.22 + 0.17 * marks.size) * rows.size)
    place = {label: -j for j, label in enumerate(rows.labels)}
    for k, level in enumerate(marks.labels):
        own = means[means[by] == level]
        y = own[group].map(place).to_numpy(dtype=float) + 0.17 * ((marks.size - 1) / 2 - k)
        value, low, high = (fit.family.factor * own[key].to_numpy() for key in ("adjusted", "low", "high"))
        (color, dashes), thin = LINES[k], own["n"].to_numpy() < THIN_ROWS
        path = np.full((2, rows.size), np.nan)  # a line ends where no row has both
        path[:, [-place[v] for v in own[group]]] = value, y
        ax.plot(*path, color=color, linestyle=dashes, linewidth=1.1, alpha=0.6)
        ax.hlines(y, low, high, color=color, linewidth=2)
        for here, face in ((~thin, color), (thin, "white")):
            ax.plot(value[here], y[here], MARKS[k], color=color, markerfacecolor=face, markersize=6.5)
        name = f"{folded(level, lines=2)}{' (base)' if k == marks.base else ''}"
        ax.plot([], [], MARKS[k], color=color, linestyle=dashes, label=in_legend(name))
    counts = means.groupby(group, observed=True)["n"].sum()
    bases = [k == rows.base for k in range(rows.size)]
    ax.set_yticks(-np.arange(rows.size), level_names(rows.labels, bases, [counts[v] for v in rows.labels]))
    ax.set_ylim(-rows.size + 0.35, 0.65)
    ax.set_xlabel(fit.family.adjusted(fit.outcome))
    together = any({group, by} <= set(t.names) for t in fit.model_terms)
    told = "as if all rows had both" if together else "their interaction is not in the model"
    hollow = f"; hollow: fewer than {THIN_ROWS} rows" if (means["n"] < THIN_ROWS).any() else ""
    lacking = "; no mark: no row has both" if len(means) < rows.size * marks.size else ""
    finish(ax, f"{group} and {by}, {told}; {interval_words(fit)}{hollow}{lacking}")
    legend_below(ax, 4, handlelength=3.4)
    return ax
