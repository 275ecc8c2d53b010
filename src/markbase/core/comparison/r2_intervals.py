"""Intervals of R², and of what a block adds to it.

Two kinds of chance are in it. The noncentral F has that of the outcome, with the values of the predictors and R² of the block below as they
are; where little is added there is hardly any other. Where much is explained, which rows were drawn matters as much: by how much each of
them moves R² tells how far it varies over samples of rows, whatever their distribution. The wider of the two is told at each end, since either is
too narrow somewhere: the first where much is explained, the second where nothing is added.

References
----------
Steiger (2004), Psychological Methods 9(2), 164-182, doi:10.1037/1082-989X.9.2.164 (the noncentral F).
Alf & Graf (1999), Psychological Methods 4(1), 70-75, doi:10.1037/1082-989X.4.1.70 (how a change of R² varies, for normal columns).
Jones & Waller (2015), Psychometrika 80(2), 365-378, doi:10.1007/s11336-013-9380-y (whatever the distribution, of standardised coefficients).
"""

from __future__ import annotations

import math
from functools import partial

import numpy as np
import scipy.special as sp
from numpy.typing import NDArray

from markbase.core.results.changes import Change
from markbase.core.results.linear import LinearFit
from markbase.core.rows.parts import each_part
from markbase.core.rows.sums import total_of

Array = NDArray[np.float64]


def interval_of_change(change: Change, before: float, fit: LinearFit, smaller: LinearFit | None) -> tuple[float, float]:
    """Return an interval for the change of R²; NaN without classical errors, and where F is too small even for no effect at all.

    `before` is R² of the `smaller` fit, 0 where there is none. Over samples of rows the interval is even in the angle of which the change is the
    squared sine, so that its spread hardly depends on where it lies, about the change less what chance alone would add, d/F.
    """
    if change.kind != "F" or fit.errors.middle is not None or not math.isfinite(change.statistic):
        return math.nan, math.nan
    n, tail = fit.moments.rows, (1 - fit.level) / 2
    central, ends = float(sp.fdtr(change.df, change.df_rest, change.statistic)), []
    if central < tail:
        return math.nan, math.nan
    for upper in (1 - tail, tail):
        if central <= upper:  # even no effect at all puts less than this below what was seen
            ends.append(0.0)
            continue
        shift = _noncentrality(upper, change)
        f2 = shift / n
        ends.append(f2 / (1 + f2) * (1 - before))
    d, se = _change_and_se(fit, smaller)
    if not 0 < d < 1:
        return ends[0], ends[1]
    reach = float(sp.ndtri(1 - tail)) * se / (2 * math.sqrt(d * (1 - d)))
    angle = math.asin(math.sqrt(d * max(1 - 1 / change.statistic, 0.0)))
    low, high = (math.sin(min(max(angle + side, 0.0), math.pi / 2)) ** 2 for side in (-reach, reach))
    return min(ends[0], low), max(ends[1], high)


def _change_and_se(fit: LinearFit, smaller: LinearFit | None) -> tuple[float, float]:
    """Return what a fit explains more than a smaller one, as a share, and how far that varies over samples of rows.

    With residuals e of the fit, e₀ of the smaller, y of the outcome from its mean and d the change, a row moves it by (e₀² − e² − d·y²)/Σy².
    """
    smaller_left = fit._deviations if smaller is None else smaller._residuals
    heavy = fit.weights.values if fit.weights else None
    in_units = partial(_sums, fit.outcome_sd)  # so that no power of a very large or small outcome is out of reach
    sums = total_of(each_part(in_units, fit._residuals, smaller_left, fit._deviations, heavy))
    total, more, *squares = (float(v) for v in sums)
    d = more / total
    moved = squares[0] - 2 * d * squares[1] + d * d * squares[2]
    return d, math.sqrt(max(moved, 0.0)) / total * math.sqrt(fit.moments.rows / fit.rows_over)


def _sums(unit: float, left: Array, below: Array, outcome: Array, heavy: Array | None) -> Array:
    """Return the sums over rows of y², of c = e₀² − e², and of their products c², cy² and y⁴, the outcome counted in a unit."""
    y, c = (outcome / unit) ** 2, ((below - left) / unit) * ((below + left) / unit)
    terms = np.nan_to_num(np.array([y, c, c * c, c * y, y * y]))
    return np.asarray(terms.sum(axis=1) if heavy is None else terms @ np.nan_to_num(heavy))


_FAR = 1e7
"""A statistic times its degrees of freedom beyond which the noncentral F is taken by its normal limit."""


def _noncentrality(share: float, change: Change) -> float:
    """Return the noncentrality at which a share of the distribution lies below the statistic.

    The root of the statistic is nearly normal, with a spread that hardly depends on the root of the noncentrality: the
    quantile of the share is nearly a straight line in it, along which the search starts and steps.
    """
    aim = float(sp.ndtri(share))

    def off(root: float) -> float:
        return float(sp.ndtri(sp.ncfdtr(change.df, change.df_rest, root * root, change.statistic))) - aim

    whole, offset = change.df * change.statistic, (change.df - 1) / 2
    spread = math.sqrt(1 + whole / (2 * change.df_rest))
    if whole > _FAR:  # the root is normal there, and the distribution itself has no digits left
        return max(math.sqrt(whole) - spread * aim, 0.0) ** 2
    near = max(math.sqrt(max(whole - offset, 0.0)) - spread * aim, 0.0)
    here = math.sqrt(max(near * near - offset, 0.01))
    start = off(here)
    step = 1.3 * spread * start + math.copysign(1e-3, start)
    there = max(here + step, 0.0)
    while start * off(there) > 0:  # a larger noncentrality leaves less below, so the sign leads to the root
        step *= 4
        here, there = there, max(there + step, 0.0)
    from scipy.optimize import brentq  # slow to load, and seldom needed

    root, _ = brentq(off, min(here, there), max(here, there), rtol=1e-12, full_output=True)
    return float(root) ** 2
