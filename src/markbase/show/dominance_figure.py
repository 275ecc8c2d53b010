"""What terms or blocks add over all orders of entry, drawn."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from markbase.core.comparison.dominance import Dominance
from markbase.core.formatting import short
from markbase.show.figures import AMBER, INK, TEAL, finish, own_axes, styled

if TYPE_CHECKING:
    from matplotlib.axes import Axes


@styled
def draw_dominance(found: Dominance, ax: Axes | None = None) -> Axes:
    """Draw what each term, or block, adds on average over all orders of entry, and what it adds entered first and last.

    Parameters
    ----------
    found : Dominance
        What `dominance` returns.
    ax : matplotlib.axes.Axes, optional
        Where to draw; by default on a figure of its own (``ax.figure``).

    Returns
    -------
    matplotlib.axes.Axes
        The axes drawn on, in shares of R² (McFadden's of a logistic model), the largest average at the top; with intervals, if samples were drawn.

    Examples
    --------
    >>> import markbase as mb
    >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
    >>> found = mb.dominance(mb.fit_linear(study, "belonging", ["age", "voice", "rehearsals"]))
    >>> mb.draw_dominance(found).get_xlabel()
    'added to R² of belonging'
    """
    table = found.table
    if ax is None:
        ax = own_axes(7.6, 1.5 + 0.42 * len(table))
    y = np.arange(len(table))[::-1]
    first, average, last = (table[name].to_numpy() for name in ("alone", "average", "last"))
    ax.hlines(y, np.minimum(first, last), np.maximum(first, last), color=INK, linewidth=0.8)
    if found.sampled:
        ax.hlines(y, table["low"], table["high"], color=TEAL, linewidth=5, alpha=0.3)
    ax.plot(first, y, ">", color=AMBER, markersize=6)
    ax.plot(last, y, "<", color=INK, markersize=6)
    ax.plot(average, y, "o", color=TEAL, markersize=7)
    ax.axvline(0, color=INK, linewidth=1)
    ax.set_yticks(y, table[found.what].tolist())
    ax.set_ylim(-0.6, len(table) - 0.4)
    ax.tick_params(axis="y", length=0)
    ax.set_xlabel(f"added to {found.measure} of {found.fit.explained}")
    band = f", band: {short(100 * found.fit.level, 4)}% CI of it" if found.sampled else ""
    finish(ax, f"● average over all orders{band}, ▶ entered first, ◀ entered last")
    return ax
