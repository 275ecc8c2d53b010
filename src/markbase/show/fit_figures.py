"""Figures of a fit. Each takes the axes to draw on, or makes a figure of its own; nothing global is set."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from markbase.core.comparison.blocks import Blocks
from markbase.core.errors import ColumnError, MarkbaseError, listed
from markbase.core.formatting import short
from markbase.core.results.linear import LinearFit
from markbase.core.results.logistic import LogisticFit
from markbase.core.rows.row_functions import learn, sample_of
from markbase.show.figures import AMBER, INK, TEAL, finish, own_axes, say_sample, styled

if TYPE_CHECKING:
    from matplotlib.axes import Axes

AnyFit = LinearFit | LogisticFit
_LINES = (
    (TEAL, "-"),
    (AMBER, "--"),
    (INK, ":"),
    ("#7a4f9a", "-."),
    ("#2f7d32", (0, (5, 1, 1, 1, 1, 1))),
    ("#a33b3b", (0, (1, 1))),
)
_MARKS = "osD^vP"
MOST_LEVELS = 6
"""Lines of more levels cannot be told apart."""
_MOST_POINTS = 1500
_POINTS = 40


@styled
def draw_groups(fit: AnyFit, group: str, ax: Axes | None = None) -> Axes:
    """Draw how the levels of a group differ from the base, with intervals.

    Parameters
    ----------
    fit : LinearFit or LogisticFit
        The fit.
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
    names = [f"{v} (base)" if b else str(v) for v, b in zip(table["level"], base, strict=True)]
    ax.set_yticks(y, [f"{v}, n = {n:,}" for v, n in zip(names, table["n"], strict=True)])
    ax.set_ylim(-0.6, len(table) - 0.4)
    ax.set_xlabel(fit.family.difference(fit.outcome))
    finish(ax, f"{group}: differences from {table['level'][base].iloc[0]}, {_interval(fit)}")
    return ax


@styled
def draw_adjusted(fit: AnyFit, group: str, ax: Axes | None = None) -> Axes:
    """Draw the adjusted mean, or probability, of each level of a group beside the plain one.

    Parameters
    ----------
    fit : LinearFit or LogisticFit
        The fit.
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
    ax.plot(adjusted, y, "o", color=TEAL, markersize=7, label=f"adjusted, {_interval(fit)}")
    ax.plot(plain, y - 0.18, "|", color=AMBER, markersize=13, markeredgewidth=2.4, label="as observed")
    names = [f"{v} (base)" if b else str(v) for v, b in zip(table["level"], table["base"], strict=True)]
    ax.set_yticks(y, [f"{v}, n = {n:,}" for v, n in zip(names, table["n"], strict=True)])
    ax.set_ylim(-0.7, len(table) - 0.4)
    ax.set_xlabel(fit.family.adjusted(fit.outcome))
    finish(ax, f"{group}: adjusted as if all rows had the level")
    ax.legend(
        frameon=False, fontsize=8, loc="upper left", bbox_to_anchor=(0, -0.2 - 0.35 / max(len(table), 2)), ncols=2
    )
    return ax


@styled
def draw_lines(fit: AnyFit, numeric: str, by: str, ax: Axes | None = None) -> Axes:
    """Draw what the fit gives along a numeric column, a line for each level of a group.

    Parameters
    ----------
    fit : LinearFit or LogisticFit
        The fit.
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
        as in the sample. Each line goes as far as the rows of its level do.

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
    fit.spread(numeric)
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
    logistic = isinstance(fit, LogisticFit)
    factor = fit.family.factor
    shown = np.flatnonzero(used)
    shown = shown[:: max(1, len(shown) // _MOST_POINTS)]
    if not logistic:
        say_sample(ax, fit.outcome.values, len(shown))
    for k, level in enumerate(levels):
        color, dashes = _LINES[k]
        own = own_values[k]
        grid = np.linspace(own.min(), own.max(), _POINTS)
        table = fit.predict([{by: level, numeric: float(v)} for v in grid])
        y = factor * table["probability" if logistic else "predicted"]
        if not logistic:
            points = shown[codes[shown] == k]
            ax.plot(
                x[points],
                y_values[points],
                _MARKS[k],
                color=color,
                markersize=2.6,
                alpha=0.28,
                markeredgewidth=0,
            )
        is_base = k == group.base
        ax.fill_between(grid, factor * table["low"], factor * table["high"], color=color, alpha=0.09, linewidth=0)
        ax.plot(grid, y, color=color, linestyle=dashes, linewidth=2.4, label=f"{level} (base)" if is_base else level)
    ax.set_xlabel(
        numeric if x_column.unit is None or x_column.unit_many == numeric else f"{numeric}, {x_column.unit_many}"
    )
    ax.set_ylabel(fit.family.adjusted(fit.outcome))
    own_slopes = any(numeric in t.names and by in t.names for t in fit.model_terms)
    told = (
        "slopes differ by group in the model"
        if own_slopes
        else "one slope for all"
        if not logistic
        else "one slope for all in log odds"
    )
    finish(ax, f"{fit.outcome.name} along {numeric}, by {by}: {told}; shaded {_interval(fit)}")
    ax.legend(
        frameon=False,
        fontsize=9,
        ncols=min(len(levels), 4),
        loc="upper left",
        bbox_to_anchor=(0, -0.11),
        handlelength=3.4,
    )
    return ax


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
    ax.plot(x, y, "o", color=TEAL, markersize=7, label=f"observed, {_interval(fit)}")
    ax.set_xlim(ends[0], ends[1])
    ax.set_ylim(ends[0], ends[1])
    ax.set_aspect("equal")
    ax.set_xlabel(f"predicted % with {fit.outcome.name} = {fit.event}")
    ax.set_ylabel("observed %")
    finish(ax, f"{fit.outcome.name} = {fit.event}: {len(table)} parts of about {int(table['n'].median()):,} rows")
    ax.legend(frameon=False, fontsize=9, loc="upper left")
    return ax


def _interval(fit: AnyFit) -> str:
    return f"{short(100 * fit.level, 4)}% confidence intervals"


@styled
def draw_blocks(hierarchy: Blocks, ax: Axes | None = None) -> Axes:
    """Draw how R² rises with each block, and what each adds.

    Parameters
    ----------
    hierarchy : Blocks
        A blockwise entry of a linear regression.
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
    low, high = (100 * steps[k].to_numpy() for k in ("change_low", "change_high"))
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
    names = hierarchy.last.fixed_effect_names
    within = f" within levels of {listed(names)}" if names else ""
    ax.set_xlabel(f"% of the variation in {hierarchy.last.outcome.name}{within} explained in these rows")
    finish(ax, f"What each block adds; line: {short(100 * hierarchy.last.level, 4)}% CI of the addition")
    return ax


@styled
def draw_paths(hierarchy: Blocks, terms: Sequence[str] | None = None, ax: Axes | None = None) -> Axes:
    """Draw how estimates move from block to block, with intervals.

    Parameters
    ----------
    hierarchy : Blocks
        A blockwise entry.
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
    for k, (place, row) in enumerate(chosen.iterrows()):
        color, dashes = _LINES[k]
        value = row[list(hierarchy.names)].to_numpy(dtype=float)
        se = errors.loc[[place], list(hierarchy.names)].to_numpy(dtype=float)[0]
        unit = se[~np.isnan(se)][0]
        shift = 0.07 * (k - (len(chosen) - 1) / 2)
        name = f"{row['term']}: {row['level']}" if row["level"] else str(row["term"])
        ax.errorbar(
            x + shift,
            value / unit,
            1.96 * se / unit,
            color=color,
            linestyle=dashes,
            marker=_MARKS[k],
            markersize=6,
            linewidth=1.8,
            capsize=3,
            label=name,
        )
    ax.axhline(0, color=INK, linewidth=1)
    ax.set_xticks(x, list(hierarchy.names))
    ax.set_ylabel("estimate, in its first standard errors")
    finish(ax, f"{hierarchy.last.explained}: how estimates move as blocks enter (±1.96 standard errors)")
    ax.legend(frameon=False, fontsize=9, ncols=3, loc="upper left", bbox_to_anchor=(0, -0.09), handlelength=3.2)
    return ax
