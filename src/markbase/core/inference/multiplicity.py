"""P values and intervals of several comparisons taken together.

References
----------
Holm (1979), Scandinavian Journal of Statistics 6(2), 65-70.
Tukey (1949), Biometrics 5(2), 99-114, doi:10.2307/3001913; Kramer (1956), Biometrics 12(3), 307-310,
doi:10.2307/3001469.
"""

from __future__ import annotations

import functools
import math

import numpy as np
import scipy.special as sp
from numpy.typing import NDArray

from markbase.core.inference.corrections import check_correction
from markbase.core.inference.distributions import t_quantile

Array = NDArray[np.float64]
_ACROSS = 200
"""Nodes for the largest of the values: with hundreds of levels its distribution is steep."""
_ALONG = 128
"""Nodes for the standard error."""
_DEVIATIONS = 8
_STIRLING_FROM = 30.0
_NOTHING = 45.0
"""Below e to the minus this of the largest, an integrand is left out."""


def corrected(p: Array, correction: str, statistic: Array, levels: int, df: float) -> Array:
    """Correct the p values of several comparisons, shape (m,), by ``holm``, ``bonferroni``, ``tukey`` or ``none``.

    Holm: the k-th smallest times m − k + 1, never less than the one before it. Bonferroni: times m. Tukey-Kramer, of all
    pairs of `levels`: the tail of the studentised range at √2 times the statistic, the difference over its standard error.
    """
    check_correction(correction)
    if correction == "none" or not len(p):
        return p
    if correction == "tukey":
        tails = np.array([studentised_range_tail(math.sqrt(2) * abs(t), levels, df) for t in statistic])
        return np.asarray(np.maximum(tails, p))  # all pairs together are no clearer than one by itself
    if correction == "bonferroni":
        return np.minimum(p * np.count_nonzero(~np.isnan(p)), 1.0)
    order = np.argsort(p, kind="stable")
    m = np.count_nonzero(~np.isnan(p))
    stepped = np.minimum(np.maximum.accumulate(p[order] * np.maximum(m - np.arange(len(p)), 1)), 1.0)
    found = np.empty(len(p))
    found[order] = stepped
    return found


def half_width(correction: str, level: float, comparisons: int, levels: int, df: float) -> float:
    """Return by how many standard errors an interval reaches to either side.

    ``bonferroni`` and ``tukey`` give intervals that hold together; ``holm`` has none of its own, so its intervals are, like
    those of ``none``, each by itself.
    """
    if correction == "bonferroni":
        return t_quantile(1 - (1 - level) / max(comparisons, 1), df)
    if correction == "tukey":
        return _range_quantile(1 - level, levels, df) / math.sqrt(2)
    return t_quantile(level, df)


@functools.lru_cache(maxsize=64)
def _range_quantile(tail: float, levels: int, df: float) -> float:
    """Return where the studentised range has a given tail."""
    from scipy.optimize import brentq  # slow to load, and seldom needed

    low, high = 0.0, 4.0
    while studentised_range_tail(high, levels, df) > tail:
        low, high = high, 2 * high

    def off(q: float) -> float:
        return math.log(studentised_range_tail(q, levels, df) / tail)  # nearly straight, so few steps do

    return float(brentq(off, low, high, xtol=1e-13, rtol=1e-14))


@functools.cache
def _nodes(points: int) -> tuple[Array, Array]:
    """Return nodes and weights of Gauss and Legendre on −1 to 1."""
    return np.polynomial.legendre.leggauss(points)


def studentised_range_tail(q: float, levels: int, df: float) -> float:
    """Return the probability that the studentised range of `levels` means, over the standard error of one, exceeds `q`.

    ``1 − ∫ f(s) k ∫ φ(z) [Φ(z) − Φ(z − q s)]^(k−1) dz ds``, f the density of √(χ²(df)/df), by Gauss-Legendre quadrature
    along the logarithm of s; an infinite `df` is a known standard error.
    """
    if not q > 0:
        return 1.0 if q == 0 else math.nan
    if math.isinf(df):
        return min(float(_range_tail(np.array([q]), levels)[0]), 1.0)
    # where the density of log s times the tail at q·s is large: for far tails at small s, away from where s mostly is
    reach = _DEVIATIONS / math.sqrt(df)
    low, high = -_NOTHING / min(df, _NOTHING) - 3, math.log1p(5 * reach)
    grid = np.union1d(np.linspace(low, high, 120), np.linspace(-reach, min(reach, high), 60))
    with np.errstate(divide="ignore"):
        height = _log_density(grid, df) + np.log(_range_tail(q * np.exp(grid), levels))
    peak = float(height.max())
    if not math.isfinite(peak):
        return 0.0
    near = np.flatnonzero(height > peak - _NOTHING)
    low, high = grid[max(near[0] - 1, 0)], grid[min(near[-1] + 1, len(grid) - 1)]
    nodes, weights = _nodes(_ALONG)
    logs = (high - low) / 2 * nodes + (high + low) / 2
    f = np.exp(_log_density(logs, df)) * weights * (high - low) / 2
    return min(max(float(f @ _range_tail(q * np.exp(logs), levels)), 0.0), 1.0)


def _log_density(logs: Array, df: float) -> Array:
    """Return the logarithm of the density of log √(χ²(df)/df)."""
    half = df / 2
    if half < _STIRLING_FROM:
        start = half * math.log(half) - math.lgamma(half) - half
    else:  # what is left of Stirling's formula, whose large terms would cancel
        start = math.log(half / (2 * math.pi)) / 2 - (1 - (1 - 2 / (7 * half**2)) / (30 * half**2)) / (12 * half)
    found: Array = math.log(2) + start + df * (logs - np.expm1(2 * logs) / 2)
    return found


def _range_tail(widths: Array, levels: int) -> Array:
    """Return the tail of the range of independent normal values at some widths, shape (widths,).

    By its complement, which keeps digits: k ∫ φ(z) (Φ(z)^(k−1) − [Φ(z) − Φ(z − w)]^(k−1)) dz, over where it is not nothing:
    the range is wide with the largest value near w/2 and the smallest near −w/2.
    """
    nodes, weights = _nodes(_ACROSS)
    low, high = np.maximum(-8.5, widths / 2 - 10), np.maximum(8.5, widths / 2 + 10)
    half = ((high - low) / 2)[:, None]
    z = half * nodes[None, :] + ((high + low) / 2)[:, None]
    density = np.exp(-(z**2) / 2) / math.sqrt(2 * math.pi) * weights[None, :] * half
    whole = sp.ndtr(z)
    lost = -np.expm1((levels - 1) * np.log1p(-np.minimum(sp.ndtr(z - widths[:, None]) / whole, 1 - 1e-16)))
    tail: Array = levels * np.einsum("ij,ij->i", whole ** (levels - 1) * lost, density)
    return tail
