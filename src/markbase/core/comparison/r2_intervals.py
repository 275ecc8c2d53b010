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
from collections.abc import Sequence

import numpy as np
import scipy.special as sp
from numpy.typing import NDArray

from markbase.core.estimation.whitening import Whitened
from markbase.core.results.changes import Change
from markbase.core.results.linear import LinearFit

Array = NDArray[np.float64]


_MOST = 1 << 14
"""Rows that tell by how much rows move R²: of more, so many, evenly spread, tell it to a percent of the interval's width."""


def intervals_of_changes(
    changes: Sequence[Change], r2: Sequence[float], fits: Sequence[LinearFit]
) -> list[tuple[float, float]]:
    """Return an interval for what each fit of an entry adds to R² of the one before; NaN without classical errors, and where F is too small even for no effect at all."""
    told = [c.kind == "F" and math.isfinite(c.statistic) for c in changes]
    if fits[-1].errors.middle is not None or not any(told):
        return [(math.nan, math.nan)] * len(fits)
    added = np.diff([0.0, *r2])
    every = zip(told, changes, [0.0, *r2], added.tolist(), _errors_of(added, fits), fits, strict=False)
    return [_interval(*own) if here else (math.nan, math.nan) for here, *own in every]


def _interval(change: Change, before: float, d: float, se: float, fit: LinearFit) -> tuple[float, float]:
    """Return the interval of a change d of R², `before` the smaller fit's, of which the error over samples of rows is known.

    Over samples of rows the interval is even in the angle of which the change is the squared sine, so that its spread hardly depends on where it
    lies, about the change less what chance alone would add, d/F.
    """
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
    if not 0 < d < 1:
        return ends[0], ends[1]
    reach = float(sp.ndtri(1 - tail)) * se / (2 * math.sqrt(d * (1 - d)))
    angle = math.asin(math.sqrt(d * max(1 - 1 / change.statistic, 0.0)))
    low, high = (math.sin(min(max(angle + side, 0.0), math.pi / 2)) ** 2 for side in (-reach, reach))
    return min(ends[0], low), max(ends[1], high)


def _errors_of(added: Array, fits: Sequence[LinearFit]) -> list[float]:
    """Return how far what each fit adds varies over samples of rows.

    With residuals e of the fit, e₀ of the one before, y of the outcome from its mean and d the change, a row moves it by (e₀² − e² − d·y²)/Σy².
    """
    first = fits[0]
    whole = first.strength.total_ss if first.fixed_effects is None else first.fixed_effects.outcome_ss
    unit = math.sqrt(whole / first.moments.weight)  # so that no power of a very large or small outcome is out of reach
    whitened = [first._whitened_without_terms, *(fit._whitened for fit in fits)]
    left, heavy, _ = Whitened.residuals_of_some(whitened, _MOST)
    sums = _sums(unit, added, left, heavy)
    n = first.moments.rows
    return [
        math.sqrt(s / sums[0] / first.moments.weight * n / fit.rows_over) for s, fit in zip(sums[1:], fits, strict=True)
    ]


def _sums(unit: float, added: Array, left: Sequence[Array], heavy: Array | None) -> Array:
    """Return the sum of weights, and of the squares of e₀² − e² − d·y² for each change d, the outcome counted in a unit, shape (1 + changes,)."""
    each = np.array(left) / unit
    moved = (each[:-1] - each[1:]) * (each[:-1] + each[1:]) - added[:, None] * each[0] ** 2
    own = np.vstack([np.ones(each.shape[1]), moved**2])
    return np.asarray(own.sum(axis=1) if heavy is None else own @ heavy)


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
