"""Least squares from moments, in twice the working precision where they do not carry enough digits.

Inside, each group goes in against its most populous level, whatever its base: that keeps the
equations as well conditioned as they can be, and makes the fit the same, to the last bit, for
every base. The base comes in afterwards, as a difference of two coefficients.
"""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
import scipy.linalg
from numpy.typing import NDArray

from markbase.core.design.moments import Moments
from markbase.core.design.terms import CodedColumns
from markbase.core.estimation.factoring import factored, many_levels
from markbase.core.estimation.fixed_effects import FixedEffects
from markbase.core.estimation.least_squares_extended import solve_twofold
from markbase.core.estimation.least_squares_solution import (
    Pivoted,
    Solution,
    centred_products,
    condition_of,
    enough,
    inner_columns,
)

Array = NDArray[np.float64]

_LEAST_UNEXPLAINED = 1e-4
_MOST_OFFSET = 1e5
_LEAST_WITHIN = 1e-3


def solve(
    moments: Moments,
    blocks: Sequence[CodedColumns],
    used: NDArray[np.bool_] | None,
    total_rows: int,
    columns: NDArray[np.intp] | None = None,
    weights: Array | None = None,
    fixed_effects: FixedEffects | None = None,
    rough: bool = False,
) -> Solution:
    """Solve the least-squares problem of the last block on the others.

    The centred cross-products at unit diagonal are factored by Cholesky with pivoting (Higham 2002, Accuracy and Stability
    of Numerical Algorithms, 2nd ed., ch. 10 and 20, doi:10.1137/1.9780898718027). Where a pivot is small, the condition
    number above `MOMENTS_CONDITION`, the outcome all but reproduced, or a mean very large beside its spread, the moments
    are taken again in twice the working precision, and factored in it: the error, which grows with the square of the
    condition number, then starts from 1e-32 instead of 1e-16.

    Parameters
    ----------
    moments : Moments
        Moments of the intercept, the terms and, last, the outcome.
    blocks : sequence of CodedColumns
        The terms and, last, the outcome, for when the rows are needed again.
    used : ndarray of bool, shape (total_rows,), or None
        The rows used; None for all.
    total_rows : int
        Rows of the data, used or not.
    columns : ndarray of int, shape (p,), optional
        Which columns of the moments to solve for; by default `inner_columns`.
    weights : ndarray, shape (total_rows,), optional
        With how much each row counts.
    fixed_effects : FixedEffects, optional
        The levels taken out.
    rough : bool
        Keep to the working precision while it gives a factor at all: for steps that are corrected later.

    Raises
    ------
    Dependent
        If the columns are dependent, or so nearly that fewer than 7 digits could be vouched for.
    Swept
        If columns do not vary within the levels taken out.
    """
    columns = inner_columns(moments, len(moments.sizes) - 1) if columns is None else columns
    scale = np.repeat(moments.scales, moments.sizes)
    centre = np.repeat(moments.centres, moments.sizes)
    n = moments.weight
    everything = np.append(columns, moments.cross.shape[0] - 1)
    sums = moments.cross[0, everything]
    squares = np.diag(moments.cross)[everything] - sums**2 / n
    products, taken, levels = moments.cross, sums, None
    if fixed_effects is None:
        levels = many_levels(moments, blocks[:-1], columns)
    else:
        products, taken = centred_products(moments, fixed_effects), np.zeros_like(sums)
        within = np.diag(products)[everything]
        if np.any(within < _LEAST_WITHIN * squares):
            return solve_twofold(moments, blocks, used, total_rows, columns, weights, fixed_effects)
        squares = within
    if not (squares > 0).all():
        return solve_twofold(moments, blocks, used, total_rows, columns, weights, fixed_effects)
    lengths = np.sqrt(squares)
    offset = np.max(np.abs(centre[everything]) / (scale[everything] * lengths / math.sqrt(n)))
    found = factored(products[np.ix_(everything, everything)], taken, n, lengths, levels)
    if found.rank < len(columns) or (offset > _MOST_OFFSET and not rough):
        return solve_twofold(moments, blocks, used, total_rows, columns, weights, fixed_effects)
    order, projected, condition = found.order, found.projected, condition_of(found.factor)
    r2 = float(projected @ projected)
    if not rough and (condition > enough(len(columns)) or 1 - r2 < _LEAST_UNEXPLAINED):
        return solve_twofold(moments, blocks, used, total_rows, columns, weights, fixed_effects)
    root, standardised = np.empty((len(columns), len(columns))), np.empty(len(columns))
    root[order] = found.inverse()
    standardised[order] = scipy.linalg.lapack.dtrtrs(found.factor, projected)[0]
    x_length, y_length = lengths[:-1] * scale[columns], lengths[-1] * scale[-1]
    coefficients = standardised * y_length / x_length
    above_centres = scale[columns] * sums[:-1] / n
    return Solution(
        columns=columns,
        coefficients=coefficients,
        lower=np.zeros(len(columns)),
        centres=centre[columns],
        at_centres=(float(centre[-1]), float(scale[-1] * sums[-1] / n - above_centres @ coefficients)),
        means=centre[columns] + above_centres,
        root=np.divide(root, x_length[:, None], out=root),
        means_lower=np.zeros(len(columns)),
        root_lower=np.broadcast_to(0.0, root.shape),
        pivoted=Pivoted(found.factor, order, x_length),
        whitened=projected * float(y_length),
        explained=r2 * float(y_length) ** 2,
        residual=(1 - r2) * float(y_length) ** 2,
        rows=moments.rows,
        weight=n,
        condition=condition,
        twofold=False,
    )
