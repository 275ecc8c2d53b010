"""P values and intervals of several comparisons taken together.

References
----------
Holm (1979), Scandinavian Journal of Statistics 6(2), 65-70.
Tukey (1949), Biometrics 5(2), 99-114, doi:10.2307/3001913; Kramer (1956), Biometrics 12(3), 307-310,
doi:10.2307/3001469.
Scheffé (1953), Biometrika 40(1-2), 87-110, doi:10.1093/biomet/40.1-2.87. Dunnett (1955) and others: see `joint_t`.
"""

from __future__ import annotations

import functools
import math

import numpy as np
import scipy.special as sp
from numpy.typing import NDArray

from markbase.core.inference.corrections import check_correction
from markbase.core.inference.distributions import f_quantile, p_of_f, t_quantile
from markbase.core.inference.joint_t import LargestOf
from markbase.core.inference.standard_error_mixture import gauss_legendre, over_standard_errors, where_tail_is

Array = NDArray[np.float64]
_ACROSS = 200
"""Nodes for the largest of the values: with hundreds of levels its distribution is steep."""


def corrected(
    p: Array,
    correction: str,
    statistic: Array,
    levels: int,
    df: float,
    largest: LargestOf | None = None,
    clustered: bool = False,
) -> Array:
    """Correct the p values of several comparisons, shape (m,).

    Holm: the k-th smallest times m − k + 1, never less than the one before it. Bonferroni: times m. Tukey-Kramer, of all
    pairs of `levels`: the tail of the studentised range at √2 times the statistic, the difference over its standard error.
    Dunnett, of comparisons with one level: the tail of the `largest` of their statistics. Scheffé, of whatever comparisons of
    `levels`: that of F at t²/(levels − 1); of `clustered` errors, of Hotelling's T² at t².
    """
    check_correction(correction)
    if correction == "none" or not len(p):
        return p
    if correction == "tukey":
        tails = np.array([studentised_range_tail(math.sqrt(2) * abs(t), levels, df) for t in statistic])
        return np.asarray(np.maximum(tails, p))  # all pairs together are no clearer than one by itself
    if correction == "scheffe":
        share, rest = _of_all(levels, df, clustered)
        return np.maximum(p_of_f(statistic**2 / (levels - 1) * share, levels - 1, rest), p)
    if correction == "dunnett":
        assert largest is not None
        return np.array([math.nan if math.isnan(t) else largest.tail(abs(t)) for t in statistic])
    if correction == "bonferroni":
        return np.minimum(p * np.count_nonzero(~np.isnan(p)), 1.0)
    order = np.argsort(p, kind="stable")
    m = np.count_nonzero(~np.isnan(p))
    stepped = np.minimum(np.maximum.accumulate(p[order] * np.maximum(m - np.arange(len(p)), 1)), 1.0)
    found = np.empty(len(p))
    found[order] = stepped
    return found


def half_width(
    correction: str,
    level: float,
    comparisons: int,
    levels: int,
    df: float,
    largest: LargestOf | None = None,
    clustered: bool = False,
) -> float:
    """Return by how many standard errors an interval reaches to either side.

    Intervals hold together but for ``holm``, which has none of its own, so that its intervals are, like those of ``none``, each
    by itself.
    """
    if correction == "bonferroni":
        return t_quantile(1 - (1 - level) / max(comparisons, 1), df)
    if correction == "tukey":
        return _range_quantile(1 - level, levels, df) / math.sqrt(2)
    if correction == "scheffe":
        share, rest = _of_all(levels, df, clustered)
        return math.sqrt((levels - 1) / share * f_quantile(level, levels - 1, rest))
    if correction == "dunnett":
        assert largest is not None
        return largest.quantile(1 - level)
    return t_quantile(level, df)


def _of_all(levels: int, df: float, clustered: bool) -> tuple[float, float]:
    """Return what a mean square of all levels is multiplied by to be F, and its degrees of freedom; NaN where clusters are too few for it."""
    rest = df - (levels - 1) + 1 if clustered and levels > 1 else df
    return (1.0, df) if math.isinf(df) else (rest / df, rest) if rest > 0 else (math.nan, math.nan)


@functools.lru_cache(maxsize=64)
def _range_quantile(tail: float, levels: int, df: float) -> float:
    """Return where the studentised range has a given tail."""
    return where_tail_is(lambda q: studentised_range_tail(q, levels, df), tail)


def studentised_range_tail(q: float, levels: int, df: float) -> float:
    """Return the probability that the studentised range of `levels` means, over the standard error of one, exceeds `q`.

    ``1 − ∫ f(s) k ∫ φ(z) [Φ(z) − Φ(z − q s)]^(k−1) dz ds``, f the density of √(χ²(df)/df); an infinite `df` is a known standard error.
    """
    if not q > 0:
        return 1.0 if q == 0 else math.nan
    return over_standard_errors(lambda widths: _range_tail(widths, levels), q, df)


def _range_tail(widths: Array, levels: int) -> Array:
    """Return the tail of the range of independent normal values at some widths, shape (widths,).

    By its complement, which keeps digits: k ∫ φ(z) (Φ(z)^(k−1) − [Φ(z) − Φ(z − w)]^(k−1)) dz, over where it is not nothing:
    the range is wide with the largest value near w/2 and the smallest near −w/2.
    """
    nodes, weights = gauss_legendre(_ACROSS)
    low, high = np.maximum(-8.5, widths / 2 - 10), np.maximum(8.5, widths / 2 + 10)
    half = ((high - low) / 2)[:, None]
    z = half * nodes[None, :] + ((high + low) / 2)[:, None]
    density = np.exp(-(z**2) / 2) / math.sqrt(2 * math.pi) * weights[None, :] * half
    whole = sp.ndtr(z)
    lost = -np.expm1((levels - 1) * np.log1p(-np.minimum(sp.ndtr(z - widths[:, None]) / whole, 1 - 1e-16)))
    tail: Array = levels * np.einsum("ij,ij->i", whole ** (levels - 1) * lost, density)
    return tail
