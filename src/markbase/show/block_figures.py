"""Figures of a blockwise entry: what each block adds, and how estimates move."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from markbase.core.comparison.blocks import Blocks
from markbase.core.comparison.imputations import stands_for
from markbase.core.comparison.imputed_blocks import ImputedBlocks
from markbase.core.errors import MarkbaseError, listed
from markbase.core.formatting import short
from markbase.core.tables import rows_of
from markbase.show.figure_names import folded, in_legend, legend_below
from markbase.show.figures import AMBER, INK, TEAL, finish, own_axes, styled
from markbase.show.fit_figures import LINES, MARKS, MOST_LEVELS

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_INTERVAL, _RANGE = ("change_low", "change_high"), ("change_lowest", "change_highest")
"""The ends of the line beside what a block adds."""


@styled
def draw_blocks(hierarchy: Blocks | ImputedBlocks, ax: Axes | None = None) -> Axes:
    """Draw how R² rises with each block, and what each adds.

    Parameters
    ----------
    hierarchy : Blocks or ImputedBlocks
        A blockwise entry of a linear regression, or one combined over imputations.
    ax : matplotlib.axes.Axes, optional
        Where to draw; by default on a figure of its own.

    Returns
    -------
    matplotlib.axes.Axes
        The axes drawn on.

    Raises
    ------
    MarkbaseError
        If the blockwise entry is of a logistic regression, which has no share of variation.

    Examples
    --------
    >>> import markbase as mb
    >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
    >>> blocks = mb.fit_blocks(study, "belonging", {"who": ["age", "voice"], "taking part": ["rehearsals"]})
    >>> mb.draw_blocks(blocks).get_xlabel()
    '% of the variation in belonging explained in these rows'
    """
    if hierarchy.logistic:
        raise MarkbaseError("A logistic blockwise entry has no share of variation to draw; read its `steps`.")
    steps = hierarchy.steps
    if ax is None:
        ax = own_axes(7.6, 1.5 + 0.5 * len(steps))
    y = np.arange(len(steps))[::-1]
    after, change = (100 * steps[k].to_numpy() for k in ("r2", "r2_change"))
    fit = stands_for(hierarchy.last)
    low, high = (100 * steps[k].to_numpy() for k in (_RANGE if isinstance(hierarchy, ImputedBlocks) else _INTERVAL))
    before = after - change
    ax.barh(y, before, height=0.5, color="#dfe7ea", edgecolor=INK, linewidth=0.6)
    ax.barh(y, change, left=before, height=0.5, color=TEAL, edgecolor=INK, linewidth=0.6)
    ax.hlines(y, before + low, before + high, color=AMBER, linewidth=2)
    reach = float(np.nanmax([after.max(), np.nanmax(np.where(np.isnan(high), 0, before + high))]))
    for k, value in enumerate(change):
        end = np.nanmax([after[k], before[k] + high[k]])
        ax.text(
            end + 0.015 * reach,
            y[k],
            f"{after[k]:.1f}" if not k else f"+{value:.1f} = {after[k]:.1f}",
            va="center",
            fontsize=9,
            color=INK,
        )
    ax.set_xlim(0, 1.22 * reach)
    ax.set_yticks(y, list(steps["block"]))
    names = fit.fixed_effect_names
    within = f" within levels of {listed(names)}" if names else ""
    ax.set_xlabel(f"% of the variation in {fit.outcome.name}{within} explained in these rows")
    line = f"{short(100 * fit.level, 4)}% CI of the addition"
    if isinstance(hierarchy, ImputedBlocks):
        line = f"its range over the {'imputations' if hierarchy.by else 'plausible values'}, no interval"
    finish(ax, f"What each block adds; line: {line}")
    return ax


@styled
def draw_paths(hierarchy: Blocks | ImputedBlocks, terms: Sequence[str] | None = None, ax: Axes | None = None) -> Axes:
    """Draw how estimates move from block to block, with intervals.

    Parameters
    ----------
    hierarchy : Blocks or ImputedBlocks
        A blockwise entry, or one combined over imputations.
    terms : sequence of str, optional
        Which terms; by default those of the first block.
    ax : matplotlib.axes.Axes, optional
        Where to draw; by default on a figure of its own.

    Returns
    -------
    matplotlib.axes.Axes
        The axes drawn on: an estimate over its first standard error, so that all share a scale.

    Raises
    ------
    MarkbaseError
        If there is no such term, or there are more than six estimates.

    Examples
    --------
    >>> import markbase as mb
    >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
    >>> blocks = mb.fit_blocks(study, "belonging", {"who": ["age", "voice"], "taking part": ["rehearsals"]})
    >>> mb.draw_paths(blocks).get_ylabel()
    'estimate, in its first standard errors'
    """
    wanted = list(hierarchy.added[0]) if terms is None else list(terms)
    table, errors = hierarchy.moves, hierarchy.errors
    chosen = table[table["term"].isin(wanted) & ~table["base"]]
    if not len(chosen) or len(chosen) > MOST_LEVELS:
        raise MarkbaseError(
            f"{len(chosen)} estimates of {', '.join(wanted)} cannot be drawn; choose terms with 1 to {MOST_LEVELS} among {', '.join(dict.fromkeys(table['term'][1:]))}."
        )
    if ax is None:
        ax = own_axes(8.0, 4.6)
    x = np.arange(len(hierarchy.names))
    against = {(r.term, r.level): r.against for fit in hierarchy for r in rows_of(fit.coefficients)}
    for k, (place, row) in enumerate(chosen.iterrows()):
        color, dashes = LINES[k]
        value = row[list(hierarchy.names_in_tables)].to_numpy(dtype=float)
        se = errors.loc[[place], list(hierarchy.names_in_tables)].to_numpy(dtype=float)[0]
        unit = se[~np.isnan(se)][0]
        shift = 0.07 * (k - (len(chosen) - 1) / 2)
        name = f"{folded(row['term'], lines=1)}: {row['level']}" if row["level"] else str(row["term"])
        name += f" against {base}" if (base := against[row["term"], row["level"]]) else ""
        ax.errorbar(
            x + shift,
            value / unit,
            1.96 * se / unit,
            color=color,
            linestyle=dashes,
            marker=MARKS[k],
            markersize=6,
            linewidth=1.8,
            capsize=3,
            label=in_legend(name),
        )
    ax.axhline(0, color=INK, linewidth=1)
    ax.set_xticks(x, list(hierarchy.names))
    ax.set_ylabel("estimate, in its first standard errors")
    finish(ax, f"{stands_for(hierarchy.last).explained}: how estimates move as blocks enter (±1.96 standard errors)")
    legend_below(ax, handlelength=3.2)
    return ax
