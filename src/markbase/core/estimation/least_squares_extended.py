"""Least squares in twice the working precision: the moments are taken again, and factored in it.

It is an algorithm of its own beside `least_squares`. Sums in twice the precision take some 25 times the time; one algorithm over a
number type would either run both at that pace, or hide the products and counts that make the working precision fast behind a switch
at every line.

References
----------
Higham (2002), Accuracy and Stability of Numerical Algorithms, 2nd ed., ch. 10 and 20, doi:10.1137/1.9780898718027.
"""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
import scipy.linalg
from numpy.typing import NDArray

from markbase.core import extended_precision as twofold
from markbase.core.design.cross_products_extended import gather_twofold
from markbase.core.design.moments import Moments
from markbase.core.design.terms import CodedColumns
from markbase.core.errors import remark
from markbase.core.estimation.fixed_effects import FixedEffects
from markbase.core.estimation.least_squares_solution import Dependent, Pivoted, Solution, Swept, condition_of

Array = NDArray[np.float64]

MOST_CONDITION = 1e11
"""Beyond this scaled condition number fewer than 7 digits could be vouched for."""
_LONG = 400
"""With more columns it takes more than a few seconds."""
_DEPENDENT = 1e-13
_NOTHING_WITHIN = 1e-26


def solve_twofold(
    moments: Moments,
    blocks: Sequence[CodedColumns],
    used: NDArray[np.bool_] | None,
    total_rows: int,
    columns: NDArray[np.intp],
    weights: Array | None,
    fixed_effects: FixedEffects | None,
) -> Solution:
    """Take the moments again and solve, as `solve`, both in twice the working precision.

    The solution holds what its coefficients leave over in rounding.
    """
    p = len(columns)
    if p > _LONG:
        remark(
            f"The {p:,} columns of these terms are nearly dependent or very far from 0, or they reproduce the outcome: they are solved in twice the digits, "
            f"which takes long for so many: its time grows with the third power of their number, and is a minute or two for a thousand."
        )
    everything = np.append(columns, moments.cross.shape[0] - 1)
    high, low = gather_twofold(moments, blocks, used, total_rows, weights)
    grid = np.ix_(everything, everything)
    sums = (high[0, everything], low[0, everything])
    count = (high[0, 0], low[0, 0])
    outer = twofold.over(twofold.times((sums[0][:, None], sums[1][:, None]), sums), count)
    centred = twofold.minus((high[grid], low[grid]), outer)
    if fixed_effects is not None:
        by_level = fixed_effects.sums_twofold(moments, blocks, used)
        whole = np.diag(centred[0])
        centred = twofold.minus((high[grid], low[grid]), _products_by_level(by_level, everything))
        nothing = np.diag(centred[0]) <= _NOTHING_WITHIN * whole
        if nothing.any():
            raise Swept(everything[nothing])
    unit = 2.0 ** -np.round(np.log2(_positive(np.diag(centred[0]))) / 2)
    centred = (centred[0] * np.outer(unit, unit), centred[1] * np.outer(unit, unit))
    lengths = np.sqrt(_positive(np.diag(centred[0])))

    factor, order, pivots = _cholesky(centred, lengths)
    told = np.empty((p, p))
    told[:, order] = factor[0][:p, :p] / lengths[order]
    smallest = math.sqrt(max(pivots[-1], 0.0))
    tolerance = max(
        _DEPENDENT * math.sqrt(p),
        4 * _noise(factor[0][:p, :p] / lengths[order], _grains(moments, blocks)[columns[order]]),
    )
    condition = condition_of(factor[0][:p, :p] / lengths[order]) if smallest >= tolerance else math.inf
    if condition > MOST_CONDITION:
        raise Dependent(
            told,
            lengths[:-1] / unit[:-1],
            columns,
            0.0 if math.isfinite(condition) else tolerance,
            condition,
            blocks if fixed_effects is None else None,
            used,
            total_rows,
        )

    inverse, beta = _back_substitute(factor, p)
    root, root_lower, coefficients, lower = np.empty((p, p)), np.empty((p, p)), np.empty(p), np.empty(p)
    root[order], root_lower[order] = inverse
    coefficients[order], lower[order] = beta
    scale, centre = np.repeat(moments.scales, moments.sizes), np.repeat(moments.centres, moments.sizes)
    x_unit, y_unit = unit[:-1] / scale[columns], scale[-1] / unit[-1]
    coefficients, lower = coefficients * x_unit * y_unit, lower * x_unit * y_unit
    mean = twofold.over(sums, count)
    above_centres = (mean[0][:-1] * scale[columns], mean[1][:-1] * scale[columns])
    above = twofold.times(above_centres, (coefficients, lower))
    means = twofold.add((centre[columns], np.zeros(p)), above_centres)
    at_centres = [centre[-1], mean[0][-1] * scale[-1], mean[1][-1] * scale[-1], *-above[0], *-above[1]]
    leading = math.fsum(at_centres)
    explained = math.fsum([*np.square(factor[0][:p, p])])
    return Solution(
        columns=columns,
        coefficients=coefficients,
        lower=lower,
        centres=centre[columns],
        at_centres=(leading, math.fsum([*at_centres, -leading])),
        means=means[0],
        root=root * x_unit[:, None],
        means_lower=means[1],
        root_lower=root_lower * x_unit[:, None],
        pivoted=Pivoted(factor[0][:p, :p], order, 1 / x_unit),
        whitened=factor[0][:p, p] * float(y_unit),
        explained=explained * float(y_unit) ** 2,
        residual=max(float(factor[0][p, p]), 0.0) * float(y_unit) ** 2,
        rows=moments.rows,
        weight=moments.weight,
        condition=condition,
        twofold=True,
    )


def _products_by_level(sums: twofold.Twofold, columns: NDArray[np.intp]) -> twofold.Twofold:
    """Return Σ s_a s_b / n over the levels, for the sums s of some columns and n in the first row."""
    own = (sums[0][columns], sums[1][columns])
    shares = twofold.over(own, (sums[0][0], sums[1][0]))
    total = (np.zeros((len(columns), len(columns))), np.zeros((len(columns), len(columns))))
    for k in range(len(columns)):
        row = twofold.times((own[0][k], own[1][k]), shares)
        total[0][k], total[1][k] = twofold.total(row)
    return total


def _grains(moments: Moments, blocks: Sequence[CodedColumns]) -> Array:
    """Return the rounding of the values of each column, relative to their spread, shape (columns,)."""
    grains = np.zeros(moments.cross.shape[0])
    for k, block in enumerate(blocks[:-1], 1):
        if block.multiplier is None:
            continue
        at = np.arange(moments.starts[k], moments.starts[k] + block.levels)
        spread = np.sqrt(np.maximum(np.diag(moments.cross)[at], 0.0) / moments.weight)
        size = abs(moments.centres[k]) / moments.scales[k] + spread
        with np.errstate(divide="ignore", invalid="ignore"):
            grains[at] = np.where(spread > 0, np.finfo(float).eps * size / spread, 0.0)
    return grains


def _noise(factor: Array, grains: Array) -> float:
    """Return what rounding of the values leaves of the last pivot's column: by its own weights in the others."""
    p = len(factor)
    if p < 2 or not np.all(np.diag(factor)[:-1] > 0):
        return float(grains.max(initial=0.0))
    weights = np.append(-scipy.linalg.solve_triangular(factor[:-1, :-1], factor[:-1, -1]), 1.0)
    return float(np.linalg.norm(weights * grains))


def _positive(squares: Array) -> Array:
    """Return squared lengths, 1 for a column that is the same in every row, of which rounding leaves nothing or less."""
    return np.where(squares > 0, squares, 1.0)


def _cholesky(matrix: twofold.Twofold, lengths: Array) -> tuple[twofold.Twofold, NDArray[np.intp], Array]:
    """Factor a twofold matrix with diagonal pivoting; its last row and column stay last.

    Returns the factor, upper triangular in the order of the pivots, its last diagonal entry not a root but what is left of
    the outcome's sum of squares; which column each pivot is, shape (p,); and what was left of each column's squared length,
    relative to it.
    """
    p = len(lengths) - 1
    rest = (matrix[0].copy(), matrix[1].copy())
    order, pivots = np.arange(p + 1), np.zeros(p)
    factor = (np.zeros((p + 1, p + 1)), np.zeros((p + 1, p + 1)))
    for k in range(p):
        left = np.diag(rest[0])[k:p] / lengths[order[k:p]] ** 2
        best = k + int(np.argmax(left))
        pivots[k] = left[best - k]
        if pivots[k] <= np.finfo(float).eps ** 2:
            break
        swap = np.arange(p + 1)
        swap[[k, best]] = swap[[best, k]]
        order = order[swap]
        rest = (rest[0][np.ix_(swap, swap)], rest[1][np.ix_(swap, swap)])
        factor = (factor[0][:, swap], factor[1][:, swap])
        diagonal = twofold.root((rest[0][k, k : k + 1], rest[1][k, k : k + 1]))
        row = twofold.over((rest[0][k, k:], rest[1][k, k:]), diagonal)
        factor[0][k, k:], factor[1][k, k:] = row
        after = (row[0][1:], row[1][1:])
        update = twofold.times((after[0][:, None], after[1][:, None]), after)
        below = twofold.minus((rest[0][k + 1 :, k + 1 :], rest[1][k + 1 :, k + 1 :]), update)
        rest[0][k + 1 :, k + 1 :], rest[1][k + 1 :, k + 1 :] = below
    factor[0][p, p], factor[1][p, p] = rest[0][p, p], rest[1][p, p]
    return factor, order[:p], pivots


def _back_substitute(factor: twofold.Twofold, p: int) -> tuple[twofold.Twofold, twofold.Twofold]:
    """Return the inverse of a triangular factor, and the coefficients."""
    right = (np.zeros((p, p + 1)), np.zeros((p, p + 1)))
    right[0][:, :p] = np.eye(p)
    right[0][:, p], right[1][:, p] = factor[0][:p, p], factor[1][:p, p]
    for k in range(p - 1, -1, -1):
        row = twofold.over((right[0][k], right[1][k]), (factor[0][k, k : k + 1], factor[1][k, k : k + 1]))
        right[0][k], right[1][k] = row
        update = twofold.times((factor[0][:k, k : k + 1], factor[1][:k, k : k + 1]), row)
        above = twofold.minus((right[0][:k], right[1][:k]), update)
        right[0][:k], right[1][:k] = above
    return (right[0][:, :p], right[1][:, :p]), (right[0][:, p], right[1][:, p])
