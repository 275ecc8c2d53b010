"""P values and intervals of several comparisons taken together.

References
----------
Holm (1979), Scandinavian Journal of Statistics 6(2), 65-70.
Tukey (1949), Biometrics 5(2), 99-114, doi:10.2307/3001913; Kramer (1956), Biometrics 12(3), 307-310,
doi:10.2307/3001469.
"""

from __future__ import annotations

import math

import numpy as np
import scipy.special as sp
from numpy.typing import NDArray

from markbase.core.inference.corrections import check_correction
from markbase.core.inference.distributions import t_quantile

Array = NDArray[np.float64]
_POINTS = 400
_NOTHING = 45.0
"""Below e to the minus this of the largest, an integrand is left out."""


def corrected(p: Array, correction: str, statistic: Array, levels: int, df: float) -> Array:
    """Correct the p values of several comparisons.

    Parameters
    ----------
    p : ndarray, shape (m,)
        The p values, each by itself.
    correction : str
        ``holm``, ``bonferroni``, ``tukey`` or ``none``.
    statistic : ndarray, shape (m,)
        The differences over their standard errors, for ``tukey``.
    levels : int
        How many levels are compared in all pairs, for ``tukey``.
    df : float
        Degrees of freedom, for ``tukey``.

    Returns
    -------
    ndarray, shape (m,)
        Holm: the k-th smallest times m − k + 1, never less than the one before it. Bonferroni: times m.
        Tukey-Kramer: the tail of the studentised range at √2 times the statistic.

    Raises
    ------
    MarkbaseError
        If there is no such correction.
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

    Parameters
    ----------
    correction : str
        ``bonferroni`` and ``tukey`` give intervals that hold together; ``holm`` has none of its own, so its
        intervals are, like those of ``none``, each by itself.
    level : float
        Confidence level.
    comparisons, levels : int
        How many comparisons, and of how many levels.
    df : float
        Degrees of freedom.

    Returns
    -------
    float
        The half-width in standard errors.
    """
    if correction == "bonferroni":
        return t_quantile(1 - (1 - level) / max(comparisons, 1), df)
    if correction == "tukey":
        return _range_quantile(1 - level, levels, df) / math.sqrt(2)
    return t_quantile(level, df)


def _range_quantile(tail: float, levels: int, df: float) -> float:
    """Return where the studentised range has a given tail, by bisection."""
    low, high = 0.0, 4.0
    while studentised_range_tail(high, levels, df) > tail:
        low, high = high, 2 * high
    for _ in range(60):
        middle = (low + high) / 2
        low, high = (middle, high) if studentised_range_tail(middle, levels, df) > tail else (low, middle)
    return (low + high) / 2


def studentised_range_tail(q: float, levels: int, df: float) -> float:
    """Return the probability that the studentised range exceeds a value.

    Parameters
    ----------
    q : float
        The range over the standard error of one mean.
    levels : int
        How many means.
    df : float
        Degrees of freedom of the standard error; infinite for a known one.

    Returns
    -------
    float
        ``1 − ∫ f(s) k ∫ φ(z) [Φ(z) − Φ(z − q s)]^(k−1) dz ds``, f the density of √(χ²(df)/df), by
        Gauss-Legendre quadrature.
    """
    if not q > 0:
        return 1.0 if q == 0 else math.nan
    if math.isinf(df):
        return min(float(_range_tail(np.array([q]), levels)[0]), 1.0)
    # where the density of s times the tail at q·s is large: for far tails at small s, away from where s mostly is
    grid = np.exp(np.linspace(math.log(1e-4), math.log(1 + 40 / math.sqrt(df)), _POINTS))
    with np.errstate(divide="ignore"):
        height = _log_density(grid, df) + np.log(_range_tail(q * grid, levels))
    peak = float(height.max())
    if not math.isfinite(peak):
        return 0.0
    near = np.flatnonzero(height > peak - _NOTHING)
    low, high = grid[max(near[0] - 1, 0)], grid[min(near[-1] + 1, len(grid) - 1)]
    nodes, weights = np.polynomial.legendre.leggauss(_POINTS)
    s = (high - low) / 2 * nodes + (high + low) / 2
    f = np.exp(_log_density(s, df)) * weights * (high - low) / 2
    return min(max(float(f @ _range_tail(q * s, levels)), 0.0), 1.0)


def _log_density(s: Array, df: float) -> Array:
    """Return the logarithm of the density of √(χ²(df)/df)."""
    found: Array = math.log(2) + df / 2 * math.log(df / 2) - math.lgamma(df / 2) + (df - 1) * np.log(s) - df * s**2 / 2
    return found


def _range_tail(widths: Array, levels: int) -> Array:
    """Return the tail of the range of independent normal values at some widths, shape (widths,).

    By its complement, which keeps digits: k ∫ φ(z) (Φ(z)^(k−1) − [Φ(z) − Φ(z − w)]^(k−1)) dz, over where it is not nothing:
    the range is wide with the largest value near w/2 and the smallest near −w/2.
    """
    nodes, weights = np.polynomial.legendre.leggauss(_POINTS)
    low, high = np.maximum(-8.5, widths / 2 - 10), np.maximum(8.5, widths / 2 + 10)
    half = ((high - low) / 2)[:, None]
    z = half * nodes[None, :] + ((high + low) / 2)[:, None]
    density = np.exp(-(z**2) / 2) / math.sqrt(2 * math.pi) * weights[None, :] * half
    whole = sp.ndtr(z)
    lost = -np.expm1((levels - 1) * np.log1p(-np.minimum(sp.ndtr(z - widths[:, None]) / whole, 1 - 1e-16)))
    tail: Array = levels * np.einsum("ij,ij->i", whole ** (levels - 1) * lost, density)
    return tail
