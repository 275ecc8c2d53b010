"""Sums and products of arrays carried to twice the working precision.

A twofold number is an unevaluated sum of two doubles, the second the rounding error of the first.

References
----------
Dekker (1971), Numerische Mathematik 18, 224-242, doi:10.1007/BF01397083.
Rump, Ogita & Oishi (2008), SIAM J. Sci. Comput. 31(1), 189-224, doi:10.1137/050645671.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
Twofold = tuple[Array, Array]

_SPLITTER = 134217729.0  # 2**27 + 1 parts a double into two halves of 26 bits


def two_sum(a: Array, b: Array) -> Twofold:
    """Return the rounded sum and its exact rounding error."""
    total = a + b
    part = total - a
    return total, (a - (total - part)) + (b - part)


def two_product(a: Array, b: Array) -> Twofold:
    """Return the rounded product and its exact rounding error, for numbers well within range."""
    product = a * b
    a_high = _SPLITTER * a
    a_high = a_high - (a_high - a)
    b_high = _SPLITTER * b
    b_high = b_high - (b_high - b)
    a_low, b_low = a - a_high, b - b_high
    return product, ((a_high * b_high - product) + a_high * b_low + a_low * b_high) + a_low * b_low


def add(a: Twofold, b: Twofold) -> Twofold:
    """Return the sum of two twofold arrays."""
    high, low = two_sum(a[0], b[0])
    return two_sum(high, low + a[1] + b[1])


def times(a: Twofold, b: Twofold) -> Twofold:
    """Return the product of two twofold arrays, which are broadcast."""
    high, low = two_product(a[0], b[0])
    return two_sum(high, low + a[0] * b[1] + a[1] * b[0])


def minus(a: Twofold, b: Twofold) -> Twofold:
    """Return the difference of two twofold arrays."""
    return add(a, (-b[0], -b[1]))


def over(a: Twofold, b: Twofold) -> Twofold:
    """Return the quotient of two twofold arrays, which are broadcast."""
    first = a[0] / b[0]
    rest = minus(a, times((first, np.zeros_like(first)), b))
    return two_sum(first, rest[0] / b[0])


def root(a: Twofold) -> Twofold:
    """Return the square root of a twofold array of positive numbers."""
    first = np.sqrt(a[0])
    rest = minus(a, two_product(first, first))
    return two_sum(first, rest[0] / (2 * first))


def matmul(a: Twofold, b: Twofold) -> Array:
    """Return the product of two twofold matrices, rounded."""
    shape = (a[0].shape[0], b[0].shape[1])
    total = (np.zeros(shape), np.zeros(shape))
    for k in range(a[0].shape[1]):
        total = add(total, times((a[0][:, k : k + 1], a[1][:, k : k + 1]), (b[0][k], b[1][k])))
    return total[0]


def total(a: Twofold) -> Twofold:
    """Return the sums along the last axis of a twofold array, by halves."""
    high, low = a
    while (size := high.shape[-1]) > 1:
        half = size // 2
        added = add((high[..., :half], low[..., :half]), (high[..., half : 2 * half], low[..., half : 2 * half]))
        rest = slice(2 * half, size)
        high = np.concatenate([added[0], high[..., rest]], axis=-1)
        low = np.concatenate([added[1], low[..., rest]], axis=-1)
    return high[..., 0], low[..., 0]


def sums_by_code(codes: NDArray[np.intp] | None, values: Twofold, levels: int) -> Twofold:
    """Sum twofold values of shape (rows,) by code, as if in about three times the working precision, shape (levels,).

    The leading bits of all values are cut off at a common place, so that their sums are exact in any order (Rump, Ogita &
    Oishi 2008, ExtractVector); twice, and the rest is summed as it comes.
    """
    rest, low = values
    total = (np.zeros(levels), np.zeros(levels))
    for _ in range(2):
        largest = float(np.abs(rest).max(initial=0.0))
        if largest == 0.0:
            break
        cut = 2.0 ** (np.ceil(np.log2(largest)) + np.ceil(np.log2(len(rest) + 2)) + 1)
        leading = (cut + rest) - cut
        rest = rest - leading
        total = add(total, (_sum(codes, leading, levels), np.zeros(levels)))
    return add(total, (_sum(codes, rest + low, levels), np.zeros(levels)))


def _sum(codes: NDArray[np.intp] | None, values: Array, levels: int) -> Array:
    if codes is None:
        return np.array([values.sum()])
    sums: Array = np.bincount(codes, weights=values, minlength=levels).astype(np.float64, copy=False)
    return sums
