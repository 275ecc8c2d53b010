"""Factoring the centred cross-products: with pivots, and of a group of very many levels by what is known of them beforehand.

The indicators of a group make a block that is diagonal, less what centring takes from it. Its triangular factor and the inverse
of that can be written down, so that only the Schur complement of the other columns is left to be factored, which are few.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import scipy.linalg
from numpy.typing import NDArray

from markbase.core.design.moments import Moments
from markbase.core.design.terms import CodedColumns

Array = NDArray[np.float64]

_PIVOT = 1e-10
_MANY_LEVELS = 200
"""From so many inner levels on it is quicker to write a group's factor down."""


@dataclass(frozen=True, eq=False)
class Factored:
    """Cross-products at unit length as FᵀF, and the outcome in the coordinates of F."""

    factor: Array
    """Shape (p, p): F, upper triangular, in the order of the pivots; what lies below the diagonal is not looked at."""
    order: NDArray[np.intp]
    """Shape (p,): which column each pivot is."""
    rank: int
    """How many pivots are large enough."""
    projected: Array
    """Shape (p,): the u with Fᵀu the products of the columns with the outcome, at unit length."""
    group: Array | None = None
    """Shape (m, m): the inverse of F for the levels of a group that come first, if it is known."""

    def inverse(self) -> Array:
        """Return the inverse of the factor, shape (p, p), with zeros below the diagonal."""
        if self.group is None:
            return np.triu(scipy.linalg.lapack.dtrtri(self.factor)[0])
        m = len(self.group)
        inverse = np.zeros(self.factor.shape)
        inverse[:m, :m] = self.group
        if m == len(inverse):
            return inverse
        inverse[m:, m:] = np.triu(scipy.linalg.lapack.dtrtri(self.factor[m:, m:])[0])
        inverse[:m, m:] = -(self.group @ self.factor[:m, m:]) @ inverse[m:, m:]
        return inverse


def factored(products: Array, sums: Array, weight: float, lengths: Array, levels: NDArray[np.intp] | None) -> Factored:
    """Factor cross-products of the columns and, last, the outcome, shape (p + 1, p + 1), from the means.

    `sums` are those of the columns (zero if the products are centred), `lengths` those of the centred columns, both of
    shape (p + 1,); `levels` are the columns that are the indicators of one group, of which levels are left out. With n the
    counts of these, and N_k the rows at level k, those behind it and those left out, the factor of diag(n) − n nᵀ/N has the
    rows b_k (N_{k+1} at k, −n_j behind), where b_k² = n_k/(N_k N_{k+1}); its inverse has the columns 1/(b_j N_{j+1}) at j,
    b_j above.
    """
    p = len(lengths) - 1
    if levels is None:
        S = _centred(products, sums, sums, weight, lengths, lengths)
        factor, order, rank, _ = scipy.linalg.lapack.dpstrf(S[:-1, :-1].T, tol=_PIVOT, lower=0)
        order = order - 1
        projected = scipy.linalg.lapack.dtrtrs(factor, S[order, -1], trans=1)[0]
        return Factored(factor, order.astype(np.intp), int(rank), projected)
    m = len(levels)
    others = np.setdiff1d(np.arange(p + 1), levels)
    n, size = sums[levels], lengths[levels]
    behind = weight - n.sum() + np.cumsum(n[::-1])[::-1]
    after = np.append(behind[1:], weight - n.sum())
    b = np.sqrt(n / (behind * after))
    factor = np.empty((p, p), order="F")
    np.multiply.outer(-n / size, b, out=factor[:m, :m].T)
    factor[np.arange(m), np.arange(m)] = b * after / size
    group = np.triu(np.multiply.outer(size, b))
    group[np.arange(m), np.arange(m)] = size / (b * after)
    across = _centred(products[np.ix_(levels, others)], n, sums[others], weight, size, lengths[others])
    across = group.T @ across
    rest = _centred(
        products[np.ix_(others, others)], sums[others], sums[others], weight, lengths[others], lengths[others]
    )
    rest -= across.T @ across
    if len(others) == 1:  # the outcome
        return Factored(factor, levels, m, across[:, -1], group)
    below, order, rank, _ = scipy.linalg.lapack.dpstrf(rest[:-1, :-1], tol=_PIVOT, lower=0)
    order = order - 1
    factor[:m, m:], factor[m:, m:] = across[:, order], below
    projected = np.append(across[:, -1], scipy.linalg.lapack.dtrtrs(below, rest[order, -1], trans=1)[0])
    return Factored(factor, np.append(levels, others[order]), m + int(rank), projected, group)


def _centred(products: Array, left: Array, right: Array, weight: float, rows: Array, columns: Array) -> Array:
    """Return products less those of the sums, at unit length."""
    taken = np.outer(left, right)
    taken /= weight
    np.subtract(products, taken, out=taken)
    taken /= np.outer(rows, columns)
    return taken


def many_levels(moments: Moments, blocks: Sequence[CodedColumns], columns: NDArray[np.intp]) -> NDArray[np.intp] | None:
    """Find a group whose levels make up most of the inner columns, and return which of these are its levels.

    None if there is no such group, or what is left out of it is too little to hold the others against.
    """
    groups = [k for k, b in enumerate(blocks) if b.codes is not None and b.multiplier is None]
    widest = max(groups, key=lambda k: blocks[k].levels, default=None)
    if widest is None or blocks[widest].levels <= _MANY_LEVELS:
        return None
    start = int(moments.starts[widest + 1])
    levels = np.flatnonzero((columns >= start) & (columns < start + blocks[widest].levels))
    counts = moments.cross[0, columns[levels]]
    few = len(levels) < max(_MANY_LEVELS, len(columns) / 2)
    return None if few or moments.weight - counts.sum() < counts.max() else levels
