"""What solving gives: a solution, or the finding that there is none."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import scipy.linalg
from numpy.typing import NDArray

from markbase.core import extended_precision as twofold
from markbase.core.design.moments import Moments
from markbase.core.design.terms import CodedColumns
from markbase.core.estimation.fixed_effects import FixedEffects

Array = NDArray[np.float64]

MOMENTS_CONDITION = 100.0
"""Up to this scaled condition number the moments alone carry 10 digits; beyond it they are taken again."""
SMALL = 300
"""Up to as many columns everything may be looked at, and not only estimated."""
_ITERATIONS = 15
_MANY = 1 << 16
_MOST_FULL = 16


@dataclass(frozen=True, eq=False)
class Pivoted:
    """A factor whose columns are in the order of the pivots, and at unit length."""

    factor: Array
    """Shape (p, p): the upper triangle is the factor; what lies below is not looked at."""
    order: NDArray[np.intp]
    """Shape (p,): which column each pivot is."""
    lengths: Array
    """Shape (p,): the lengths of the columns, in the order of the columns."""

    @classmethod
    def known(cls, placed: Array) -> Pivoted:
        """Return a factor of which only is known what it is with its columns where they belong, shape (p, p)."""
        made = cls(placed, np.arange(len(placed)), np.ones(len(placed)))
        made.__dict__["placed"] = placed
        return made

    @cached_property
    def placed(self) -> Array:
        """Shape (p, p): the factor with its columns where they belong, at their length."""
        placed = np.empty(self.factor.T.shape)
        placed[self.order] = np.tril(self.factor.T)  # rows of the transpose lie side by side
        placed *= self.lengths[:, None]
        return placed.T


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
    pivoted: Pivoted
    """The factor of the centred cross-products, whose inverse the root is."""
    whitened: Array
    """Shape (p,): u with F b = u, the coefficients where nothing cancels."""
    explained: float
    """Sum of squares explained by the columns."""
    residual: float
    """Sum of squared residuals."""
    rows: int
    """Rows used."""
    weight: float
    """The sum of the weights; without weights, the rows."""
    condition: float
    """Condition number of the centred columns at unit length (where it is small a bound, of many columns an estimate)."""
    twofold: bool
    """Whether the moments were taken again in twice the working precision."""

    @property
    def factor(self) -> Array:
        """Shape (p, p): F with FᵀF the centred cross-products."""
        return self.pivoted.placed

    def without(self, own: NDArray[np.bool_], others: Solution | None = None) -> Solution:
        """Return the solution with some coefficients at 0, those of `own`, shape (p,), and all others as they are in a solution without them.

        `others` is that solution; None where no column is left. It has the roots of this one, so that rows have the same whitened columns.
        """
        coefficients, lower = np.zeros((2, len(own)))
        if others is not None:
            coefficients[~own], lower[~own], at_centres = others.coefficients, others.lower, others.at_centres
        else:
            above = (self.means - self.centres) * self.coefficients
            at_centres = math.fsum([*self.at_centres, *above, *((self.means - self.centres) * self.lower)]), 0.0
        return replace(self, coefficients=coefficients, lower=lower, at_centres=at_centres)

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
            The product, without loss where the columns are nearly collinear.
        """
        shifted = combinations.copy()
        if not self.twofold:
            shifted[starts] -= self.means - self.centres  # combinations count numeric columns from their centres
            return _product(shifted, self.root)
        lower = np.zeros_like(shifted)
        nothing = np.zeros_like(self.centres)
        above = twofold.minus((self.means, self.means_lower), (self.centres, nothing))
        none = np.zeros((int(starts.sum()), len(nothing)))
        shifted[starts], lower[starts] = twofold.minus(
            (combinations[starts], none), (above[0][None, :], above[1][None, :])
        )
        return twofold.matmul((shifted, lower), (self.root, self.root_lower))


def _product(combinations: Array, root: Array) -> Array:
    """Return the matrix product; of many combinations that each are of few columns, by those alone."""
    if combinations.size > _MANY and np.count_nonzero(combinations) < combinations.size / _MOST_FULL:
        from scipy.sparse import csr_array

        filled = combinations != 0
        ends = np.concatenate([[0], np.cumsum(np.count_nonzero(filled, axis=1))])
        places = np.flatnonzero(filled) % combinations.shape[1]
        sparse = csr_array((combinations[filled], places, ends), shape=combinations.shape)
        return np.asarray(sparse @ root)
    return np.asarray(combinations @ root)


class Dependent(Exception):  # noqa: N818 - a finding, told to the user as an CollinearityError that names the columns
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
    blocks : sequence of CodedColumns, optional
        The components, to hold a dependence against the rows.
    used : ndarray of bool, shape (rows,), optional
        The rows used; None for all.
    total_rows : int
        Rows of the data.
    """

    def __init__(
        self,
        factor: Array,
        lengths: Array,
        columns: NDArray[np.intp],
        tolerance: float,
        condition: float,
        blocks: Sequence[CodedColumns] | None = None,
        used: NDArray[np.bool_] | None = None,
        total_rows: int = 0,
    ) -> None:
        super().__init__("dependent columns")
        self.factor, self.lengths, self.columns = factor, lengths, columns
        self.tolerance, self.condition = tolerance, condition
        self.blocks, self.used, self.total_rows = blocks, used, total_rows


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


def centred_products(moments: Moments, fixed_effects: FixedEffects | None = None) -> Array:
    """Return the sums of products of deviations from the means, or from the means within levels, in the units of the moments."""
    if fixed_effects is None or fixed_effects.sums is None:
        sums = moments.cross[0]
        centred: Array = moments.cross - np.outer(sums, sums) / moments.weight
        return centred
    swept: Array = moments.cross - (fixed_effects.sums / fixed_effects.sums[0]) @ fixed_effects.sums.T
    return swept


def inner_columns(moments: Moments, last: int) -> NDArray[np.intp]:
    """Choose the inner columns before block `last`: numeric columns, and of each group all levels but the most populous."""
    starts = moments.starts.tolist()
    stays = np.arange(starts[last]) > 0
    for start, size in zip(starts[1:last], moments.sizes[1:last], strict=True):
        if size > 1:
            stays[start + int(moments.cross[0, start : start + size].argmax())] = False
    return np.flatnonzero(stays)


def enough(columns: int) -> float:
    """Return the condition number up to which the moments of so many columns carry the digits asked for."""
    return MOMENTS_CONDITION if columns <= SMALL else 5 * MOMENTS_CONDITION  # twofold is slow with many columns


def condition_of(factor: Array) -> float:
    """Return the condition number of the upper triangle of a factor in the 2-norm, of a large one by iteration.

    Infinite if it is singular. Where it is small, a bound: the root of the product of those in the 1-norm and the maximum norm.
    """
    rcond = math.prod(float(scipy.linalg.lapack.dtrcon(factor, norm=norm, uplo="U")[0]) for norm in "1I")
    bound = math.sqrt(1 / rcond) if rcond > 0 else float("inf")
    if bound <= enough(len(factor)) or not math.isfinite(bound):
        return bound
    factor = np.asfortranarray(np.triu(factor))
    if len(factor) <= SMALL:
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
