"""Least squares from moments, in twice the working precision where they do not carry enough digits.

Inside, each group goes in against its most populous level, whatever its base: that keeps the
equations as well conditioned as they can be, and makes the fit the same, to the last bit, for
every base. The base comes in afterwards, as a difference of two coefficients.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import scipy.linalg
from numpy.typing import NDArray

from markbase.core.model import twofold
from markbase.core.model.gathering_twofold import gather_twofold
from markbase.core.model.moments import Moments
from markbase.core.model.terms import Block
from markbase.core.model.within import Within

Array = NDArray[np.float64]

MOMENTS_CONDITION = 100.0
"""Up to this scaled condition number the moments alone carry 10 digits; beyond it they are taken again."""
MOST_CONDITION = 1e11
"""Beyond this scaled condition number fewer than 7 digits could be vouched for."""
_LEAST_UNEXPLAINED = 1e-4
_MOST_OFFSET = 1e5
_PIVOT = 1e-10
_SMALL = 300
_ITERATIONS = 15
_DEPENDENT = 1e-13
_LEAST_WITHIN = 1e-3
_NOTHING_WITHIN = 1e-26


@dataclass(frozen=True, eq=False)
class Solution:
    """Least-squares coefficients of the inner columns, and what their errors follow from."""

    columns: NDArray[np.intp]
    """Shape (p,): which columns of the moments are the inner ones; the intercept is not among them."""
    coefficients: Array
    """Shape (p,): coefficients in the units of the data."""
    lower: Array
    """Shape (p,): what the coefficients leave over in rounding (zero unless they were refined)."""
    centres: Array
    """Shape (p,): where the inner columns were centred; 0 for levels."""
    at_centres: tuple[float, float]
    """What the fit gives at the centres, and what that leaves over in rounding."""
    means: Array
    """Shape (p,): means of the inner columns."""
    root: Array
    """Shape (p, p): A with A Aᵀ the inverse of the centred cross-products."""
    means_lower: Array
    """Shape (p,): what the means leave over in rounding (zero unless taken twofold)."""
    root_lower: Array
    """Shape (p, p): what the root leaves over in rounding (zero unless taken twofold)."""
    explained: float
    """Sum of squares explained by the columns."""
    residual: float
    """Sum of squared residuals."""
    rows: int
    """Rows used."""
    weight: float
    """The sum of the weights; without weights, the rows."""
    condition: float
    """Condition number of the centred columns at unit length (where it is small or of many columns, a 1-norm estimate)."""
    twofold: bool
    """Whether the moments were taken again in twice the working precision."""

    def roots_of(self, combinations: Array, starts: NDArray[np.bool_]) -> Array:
        """Return C A for combinations C of the coefficients, of which ``s² (CA)(CA)ᵀ`` is the covariance.

        Parameters
        ----------
        combinations : ndarray, shape (m, p)
            The combinations.
        starts : ndarray of bool, shape (m,)
            Whether the start of the equation is part of them; then they are taken less the means.

        Returns
        -------
        ndarray, shape (m, p)
            The product, without loss where the columns nearly overlap.
        """
        shifted = combinations.copy()
        if not self.twofold:
            shifted[starts] -= self.means - self.centres  # combinations count amounts from their centres
            product: Array = shifted @ self.root
            return product
        lower = np.zeros_like(shifted)
        nothing = np.zeros_like(self.centres)
        above = twofold.minus((self.means, self.means_lower), (self.centres, nothing))
        for k in np.flatnonzero(starts):
            shifted[k], lower[k] = twofold.minus((combinations[k], nothing), above)
        return twofold.matmul((shifted, lower), (self.root, self.root_lower))


class Dependent(Exception):  # noqa: N818 - a finding, told to the user as an OverlapError that names the columns
    """The inner columns are exactly, or all but exactly, dependent.

    Parameters
    ----------
    factor : ndarray, shape (k, p)
        Triangular factor of the centred inner columns at unit length.
    lengths : ndarray, shape (p,)
        Their lengths.
    columns : ndarray, shape (p,)
        Which columns of the moments they are.
    tolerance : float
        The remainder below which a column counts as dependent; 0 if none is, but too nearly so.
    condition : float
        The condition number found.
    """

    def __init__(
        self, factor: Array, lengths: Array, columns: NDArray[np.intp], tolerance: float, condition: float
    ) -> None:
        super().__init__("dependent columns")
        self.factor, self.lengths, self.columns = factor, lengths, columns
        self.tolerance, self.condition = tolerance, condition


class Swept(Exception):  # noqa: N818 - a finding, told to the user as an error that names the terms
    """Columns that do not vary within the levels taken out.

    Parameters
    ----------
    columns : ndarray of int
        Which columns of the moments they are.
    """

    def __init__(self, columns: NDArray[np.intp]) -> None:
        super().__init__("columns constant within levels")
        self.columns = columns


def centred_products(moments: Moments, within: Within | None = None) -> Array:
    """Return the sums of products of deviations from the means, or from the means within levels.

    Parameters
    ----------
    moments : Moments
        The moments.
    within : Within, optional
        The levels taken out.

    Returns
    -------
    ndarray, shape (columns, columns)
        In the units of the moments.
    """
    if within is None or within.sums is None:
        sums = moments.cross[0]
        centred: Array = moments.cross - np.outer(sums, sums) / moments.weight
        return centred
    swept: Array = moments.cross - (within.sums / within.sums[0]) @ within.sums.T
    return swept


def inner_columns(moments: Moments, last: int) -> NDArray[np.intp]:
    """Choose the inner columns: amounts, and of each group all levels but the most populous.

    Parameters
    ----------
    moments : Moments
        The moments of the terms; block 0 is the intercept.
    last : int
        The first block that is not a term.

    Returns
    -------
    ndarray of int, shape (p,)
        Columns of the moments.
    """
    starts = moments.starts.tolist()
    stays = np.arange(starts[last]) > 0
    for start, size in zip(starts[1:last], moments.sizes[1:last], strict=True):
        if size > 1:
            stays[start + int(moments.cross[0, start : start + size].argmax())] = False
    return np.flatnonzero(stays)


def solve(
    moments: Moments,
    blocks: Sequence[Block],
    used: NDArray[np.bool_] | None,
    total_rows: int,
    columns: NDArray[np.intp] | None = None,
    weights: Array | None = None,
    within: Within | None = None,
    rough: bool = False,
) -> Solution:
    """Solve the least-squares problem of the last block on the others.

    Parameters
    ----------
    moments : Moments
        Moments of the intercept, the terms and, last, the outcome.
    blocks : sequence of Block
        The terms and, last, the outcome, for when the rows are needed again.
    used : ndarray of bool, shape (total_rows,), or None
        The rows used; None for all.
    total_rows : int
        Rows of the data, used or not.
    columns : ndarray of int, shape (p,), optional
        Which columns of the moments to solve for; by default `inner_columns`.
    weights : ndarray, shape (total_rows,), optional
        With how much each row counts.
    within : Within, optional
        The levels taken out.
    rough : bool
        Keep to the working precision while it gives a factor at all: for steps that are corrected later.

    Returns
    -------
    Solution
        The solution, refined against the rows where the condition asks for it.

    Raises
    ------
    Dependent
        If the columns are dependent, or so nearly that fewer than 7 digits could be vouched for.
    Swept
        If columns do not vary within the levels taken out.

    Notes
    -----
    The centred cross-products at unit diagonal are factored by Cholesky with pivoting. Where a
    pivot is small, the condition number above `MOMENTS_CONDITION`, the outcome all but reproduced,
    or a mean very large beside its spread, the moments are taken again in twice the working
    precision, and factored in it: the error, which grows with the square of the condition number,
    then starts from 1e-32 instead of 1e-16.

    References
    ----------
    Higham (2002), Accuracy and Stability of Numerical Algorithms, 2nd ed., ch. 10 and 20,
    doi:10.1137/1.9780898718027.
    """
    columns = inner_columns(moments, len(moments.sizes) - 1) if columns is None else columns
    scale = np.repeat(moments.scales, moments.sizes)
    centre = np.repeat(moments.centres, moments.sizes)
    n = moments.weight
    everything = np.append(columns, moments.cross.shape[0] - 1)
    sums = moments.cross[0, everything]
    if within is None:
        centred = moments.cross[np.ix_(everything, everything)] - np.outer(sums, sums) / n
    else:
        centred = centred_products(moments, within)[np.ix_(everything, everything)]
        whole = np.diag(moments.cross)[everything] - sums**2 / n
        if np.any(np.diag(centred) < _LEAST_WITHIN * whole):
            return _solve_twofold(moments, blocks, used, total_rows, columns, weights, within)
    lengths = np.sqrt(np.diag(centred))
    S = centred / np.outer(lengths, lengths)

    offset = np.max(np.abs(centre[everything]) / (scale[everything] * lengths / math.sqrt(n)))
    factor, order, rank, _ = scipy.linalg.lapack.dpstrf(S[:-1, :-1], tol=_PIVOT, lower=0)
    if rank < len(columns) or (offset > _MOST_OFFSET and not rough):
        return _solve_twofold(moments, blocks, used, total_rows, columns, weights, within)
    order = order - 1
    condition = _condition(factor)
    projected = scipy.linalg.lapack.dtrtrs(factor, S[order, -1], trans=1)[0]
    r2 = float(projected @ projected)
    enough = MOMENTS_CONDITION if len(columns) <= _SMALL else 5 * MOMENTS_CONDITION  # twofold is slow with many columns
    if not rough and (condition > enough or 1 - r2 < _LEAST_UNEXPLAINED):
        return _solve_twofold(moments, blocks, used, total_rows, columns, weights, within)
    inverse = _inverse(factor)
    root, standardised = np.empty_like(inverse), np.empty(len(columns))
    root[order] = inverse
    standardised[order] = inverse @ projected
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
        root=root / x_length[:, None],
        means_lower=np.zeros(len(columns)),
        root_lower=np.zeros_like(root),
        explained=r2 * float(y_length) ** 2,
        residual=(1 - r2) * float(y_length) ** 2,
        rows=moments.rows,
        weight=n,
        condition=condition,
        twofold=False,
    )


def _condition(factor: Array) -> float:
    """Return the condition number of the upper triangle in the 2-norm, of a large one by iteration."""
    rcond, _ = scipy.linalg.lapack.dtrcon(factor, norm="1", uplo="U")
    estimate = float(1 / rcond) if rcond > 0 else float("inf")
    if estimate <= MOMENTS_CONDITION or not math.isfinite(estimate):
        return estimate
    factor = np.asfortranarray(np.triu(factor))
    if len(factor) <= _SMALL:
        return float(np.linalg.cond(factor))  # the 1-norm is on the large side
    large = small = np.cos(np.arange(len(factor), dtype=np.float64))
    largest = smallest = 0.0
    for _ in range(_ITERATIONS):
        large = factor.T @ (factor @ large)
        largest = float(np.linalg.norm(large))
        large = large / largest
        small = scipy.linalg.lapack.dtrtrs(factor, scipy.linalg.lapack.dtrtrs(factor, small, trans=1)[0])[0]
        smallest = float(np.linalg.norm(small))
        small = small / smallest
    return math.sqrt(largest * smallest)


def _inverse(factor: Array) -> Array:
    inverse, _ = scipy.linalg.lapack.dtrtri(factor)
    return np.triu(inverse)


def _solve_twofold(
    moments: Moments,
    blocks: Sequence[Block],
    used: NDArray[np.bool_] | None,
    total_rows: int,
    columns: NDArray[np.intp],
    weights: Array | None,
    within: Within | None,
) -> Solution:
    p = len(columns)
    everything = np.append(columns, moments.cross.shape[0] - 1)
    high, low = gather_twofold(moments, blocks, used, total_rows, weights)
    grid = np.ix_(everything, everything)
    sums = (high[0, everything], low[0, everything])
    count = (high[0, 0], low[0, 0])
    outer = twofold.over(twofold.times((sums[0][:, None], sums[1][:, None]), sums), count)
    centred = twofold.minus((high[grid], low[grid]), outer)
    if within is not None:
        by_level = within.sums_twofold(moments, blocks, used)
        whole = np.diag(centred[0])
        centred = twofold.minus((high[grid], low[grid]), _products_by_level(by_level, everything))
        nothing = np.diag(centred[0]) <= _NOTHING_WITHIN * whole
        if nothing.any():
            raise Swept(everything[nothing])
    unit = 2.0 ** -np.round(np.log2(np.diag(centred[0])) / 2)
    centred = (centred[0] * np.outer(unit, unit), centred[1] * np.outer(unit, unit))
    lengths = np.sqrt(np.diag(centred[0]))

    factor, order, pivots = _cholesky(centred, lengths)
    told = np.empty((p, p))
    told[:, order] = factor[0][:p, :p] / lengths[order]
    tolerance = max(_DEPENDENT * math.sqrt(p), 4 * _grain(moments, blocks))
    smallest = math.sqrt(max(pivots[-1], 0.0))
    condition = _condition(factor[0][:p, :p] / lengths[order]) if smallest >= tolerance else math.inf
    if condition > MOST_CONDITION:
        raise Dependent(
            told, lengths[:-1] / unit[:-1], columns, 0.0 if math.isfinite(condition) else tolerance, condition
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


def _grain(moments: Moments, blocks: Sequence[Block]) -> float:
    """Return the rounding of the values themselves, relative to their spread: the noise floor of an overlap."""
    grain = 0.0
    for k, block in enumerate(blocks[:-1], 1):
        if block.codes is None:
            start = moments.starts[k]
            spread = math.sqrt(moments.cross[start, start] / moments.rows)
            size = abs(moments.centres[k]) / moments.scales[k] + spread
            grain = max(grain, np.finfo(float).eps * size / spread)
    return grain


def _cholesky(matrix: twofold.Twofold, lengths: Array) -> tuple[twofold.Twofold, NDArray[np.intp], Array]:
    """Factor a twofold matrix with diagonal pivoting; its last row and column stay last.

    Returns
    -------
    factor : twofold array, shape (p + 1, p + 1)
        Upper triangular in the order of the pivots. The last diagonal entry is not a root but what
        is left of the outcome's sum of squares.
    order : ndarray of int, shape (p,)
        Which column each pivot is.
    pivots : ndarray, shape (p,)
        What was left of each column's squared length, relative to it.
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
