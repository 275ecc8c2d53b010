"""Figures of how a logistic fit classifies rows, and of its calibration."""

from __future__ import annotations

from typing import TYPE_CHECKING

from markbase.core.formatting import short
from markbase.core.results.logistic import LogisticFit
from markbase.show.figure_names import legend_below
from markbase.show.figures import AMBER, INK, TEAL, finish, own_axes, styled
from markbase.show.fit_figures import interval_words

if TYPE_CHECKING:
    from matplotlib.axes import Axes


@styled
def draw_classification(fit: LogisticFit, ax: Axes | None = None, *, folds: int | None = None, seed: int = 0) -> Axes:
    """Draw how many events and non-events are classified correctly at every cut.

    Parameters
    ----------
    fit : LogisticFit
        The fit.
    ax : matplotlib.axes.Axes, optional
        Where to draw; by default on a figure of its own.
    folds : int, optional
        Also for rows held out, in so many parts.
    seed : int
        The seed of the parts.

    Returns
    -------
    matplotlib.axes.Axes
        The axes drawn on.

    Examples
    --------
    >>> import markbase as mb
    >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
    >>> fit = mb.fit_logistic(study, "stays", ["age", "voice"], event="yes")
    >>> mb.draw_classification(fit).get_xlabel()
    '% of no predicted yes'
    """
    found = fit.classification(folds=folds, seed=seed)
    if ax is None:
        ax = own_axes(5.8, 5.8)
    ax.plot([0, 100], [0, 100], color=INK, linewidth=1, linestyle=":", label="no better than a coin")
    for c, color, dashes, name in (
        (found, TEAL, "-", "rows of the fit"),
        (found.held_out, AMBER, "--", "rows held out"),
    ):
        if c is None:
            continue
        x, y = 100 * (1 - c.points["specificity"]), 100 * c.points["sensitivity"]
        ax.plot(x, y, color=color, linestyle=dashes, linewidth=2, label=f"{name}, area {short(c.area, 3)}")
        at = 100 * (1 - c.specificity), 100 * c.sensitivity
        ax.plot(*at, "o", color=color, markersize=8, markerfacecolor="white", markeredgewidth=2)
    ax.set_aspect("equal")
    ax.set_xlabel(f"% of {fit.otherwise} predicted {fit.event}")
    ax.set_ylabel(f"% of {fit.event} predicted {fit.event}")
    finish(ax, f"{fit.outcome.name} = {fit.event}: classification at every cut (○ at {short(found.cut)})")
    ax.legend(frameon=False, fontsize=9, loc="lower right")
    return ax


@styled
def draw_calibration(fit: LogisticFit, ax: Axes | None = None, *, parts: int = 10) -> Axes:
    """Draw observed shares against predicted probabilities.

    Parameters
    ----------
    fit : LogisticFit
        The fit.
    ax : matplotlib.axes.Axes, optional
        Where to draw; by default on a figure of its own.
    parts : int
        Into how many parts of rising probability the rows are put.

    Returns
    -------
    matplotlib.axes.Axes
        The axes drawn on.

    Examples
    --------
    >>> import markbase as mb
    >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
    >>> fit = mb.fit_logistic(study, "stays", ["age", "voice"], event="yes")
    >>> mb.draw_calibration(fit).get_xlabel()
    'predicted % with stays = yes'
    """
    table = fit.calibration(parts)
    if ax is None:
        ax = own_axes(5.8, 5.8)
    x, y, low, high = (100 * table[k].to_numpy() for k in ("predicted", "observed", "low", "high"))
    ends = [min(x.min(), low.min()), max(x.max(), high.max())]
    room = 0.05 * (ends[1] - ends[0]) or 1.0
    ends = [max(ends[0] - room, 0), min(ends[1] + room, 100)]
    ax.plot(ends, ends, color=INK, linewidth=1, linestyle=":", label="as predicted")
    ax.vlines(x, low, high, color=TEAL, linewidth=2)
    ax.plot(x, y, "o", color=TEAL, markersize=7, label=f"observed, {interval_words(fit)}")
    ax.set_xlim(ends[0], ends[1])
    ax.set_ylim(ends[0], ends[1])
    ax.set_aspect("equal")
    ax.set_xlabel(f"predicted % with {fit.outcome.name} = {fit.event}")
    ax.set_ylabel("observed %")
    finish(ax, f"{fit.outcome.name} = {fit.event}: {len(table)} parts of about {int(table['n'].median()):,} rows")
    legend_below(ax)
    return ax
