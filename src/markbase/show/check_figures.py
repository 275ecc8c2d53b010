"""One sheet of four views of a linear fit's residuals."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from markbase.core.formatting import short
from markbase.core.results.linear import LinearFit
from markbase.show.figure_names import fold_words, name_points
from markbase.show.figures import AMBER, INK, TEAL, own_sheet, say_sample, styled

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

_MOST_POINTS = 3000
_MOST_PARTS = 12
_ROWS_A_PART = 15
"""Means of fewer go up and down by chance."""


@styled
def draw_checks(fit: LinearFit) -> Figure:
    """Draw residuals against fitted values, against the normal shape, their spread, and the cases that weigh most.

    Parameters
    ----------
    fit : LinearFit
        The fit.

    Returns
    -------
    matplotlib.figure.Figure
        A sheet of four views.

    Examples
    --------
    >>> import markbase as mb
    >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
    >>> fit = mb.fit_linear(study, "belonging", ["age", "voice"])
    >>> len(mb.draw_checks(fit).figure.axes)
    4
    """
    views = fit.residual_views()
    figure, axes = own_sheet(10.4, 8.2, 2, 2)
    step = max(1, len(views.fitted) // _MOST_POINTS)
    x, z = views.fitted[::step], views.standardised[::step]
    unit = fit.outcome.unit_many
    say_sample(axes[1, 1], fit.outcome.values, len(x))
    _cloud(axes[0, 0], x, z, views.fitted, views.standardised)
    axes[0, 0].axhline(0, color=INK, linewidth=1)
    _label(
        axes[0, 0],
        f"fitted {fit.outcome.name}, {unit}",
        "standardised residual",
        "Is anything left along the fit? (line: means of parts)",
    )
    wanted, seen = views.normal[::step], np.sort(views.standardised)[::step]
    ends = [wanted.min(), wanted.max()]
    axes[0, 1].plot(ends, ends, color=INK, linewidth=1, linestyle=":")
    axes[0, 1].plot(wanted, seen, "o", color=TEAL, markersize=3, alpha=0.6, markeredgewidth=0)
    _label(axes[0, 1], "what a normal shape would give", "standardised residual", "Shape: on the dotted line if normal")
    root = np.sqrt(np.abs(views.standardised))
    _cloud(axes[1, 0], x, root[::step], views.fitted, root)
    _label(
        axes[1, 0],
        f"fitted {fit.outcome.name}, {unit}",
        "√ of its size",
        "Spread: a level line if it is the same throughout",
    )
    axes[1, 1].plot(views.leverage[::step], z, "o", color=TEAL, markersize=3, alpha=0.45, markeredgewidth=0)
    axes[1, 1].axhline(0, color=INK, linewidth=1)
    for _, leverage, residual in views.heaviest:
        axes[1, 1].plot(leverage, residual, "s", color=AMBER, markersize=5)
    names, places = [h[0] for h in views.heaviest], [h[1:] for h in views.heaviest]
    name_points(axes[1, 1], names, places, color=INK)
    _label(
        axes[1, 1],
        "leverage",
        "standardised residual",
        f"Cases that weigh most (■), largest Cook's distance {short(views.largest)}",
    )
    return figure


def _cloud(ax: Axes, x: np.ndarray, y: np.ndarray, all_x: np.ndarray, all_y: np.ndarray) -> None:
    ax.plot(x, y, "o", color=TEAL, markersize=3, alpha=0.35, markeredgewidth=0)
    few = min(_MOST_PARTS, max(3, len(all_x) // _ROWS_A_PART))
    parts = np.array_split(np.argsort(all_x, kind="stable"), few)
    ax.plot(
        [all_x[p].mean() for p in parts if len(p)], [all_y[p].mean() for p in parts if len(p)], color=AMBER, linewidth=2
    )


def _label(ax: Axes, x: str, y: str, title: str) -> None:
    ax.set_xlabel(x, fontsize=9)
    ax.set_ylabel(y, fontsize=9)
    ax.set_title(fold_words(ax, title, 9.5), fontsize=9.5, y=1, loc="left", color=INK)
    ax.tick_params(labelsize=8)
    for side in ("top", "right"):
        ax.spines[side].set_visible(False)
