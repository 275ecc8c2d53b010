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

from markbase.core.errors import MarkbaseError, listed, quoted
from markbase.core.inference.distributions import t_quantile

Array = NDArray[np.float64]
CORRECTIONS = ("bonferroni", "holm", "none", "tukey")
_POINTS = 400


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
        return np.array([studentised_range_tail(math.sqrt(2) * abs(t), levels, df) for t in statistic])
    if correction == "bonferroni":
        return np.minimum(p * np.count_nonzero(~np.isnan(p)), 1.0)
    order = np.argsort(p, kind="stable")
    m = np.count_nonzero(~np.isnan(p))
    stepped = np.minimum(np.maximum.accumulate(p[order] * np.maximum(m - np.arange(len(p)), 1)), 1.0)
    found = np.empty(len(p))
    found[order] = stepped
    return found


def check_correction(correction: str) -> None:
    """Refuse a correction that does not exist."""
    if correction not in CORRECTIONS:
        raise MarkbaseError(f"There is no correction {correction!r}; there are {listed(quoted(CORRECTIONS))}.")


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
    nodes, weights = np.polynomial.legendre.leggauss(_POINTS)
    z = 8.5 * nodes  # φ is nothing beyond
    density = np.exp(-(z**2) / 2) / math.sqrt(2 * math.pi) * weights * 8.5

    def beyond(width: Array) -> Array:
        """Return the tail of the range at some widths, by its complement where that keeps digits."""
        # 1 − k∫φ·inside^(k−1) = k∫φ·(Φ^(k−1) − inside^(k−1)): what Φ(z − w) takes away
        whole = sp.ndtr(z)[None, :]
        lost = -np.expm1((levels - 1) * np.log1p(-np.minimum(sp.ndtr(z[None, :] - width[:, None]) / whole, 1 - 1e-16)))
        tail: Array = levels * ((whole ** (levels - 1) * lost) @ density)
        return tail

    if math.isinf(df):
        return min(float(beyond(np.array([q]))[0]), 1.0)
    spread = 1 / math.sqrt(2 * df)
    low, high = max(0.0, 1 - 12 * spread), 1 + 14 * spread
    if df < 40:
        low, high = 0.0, 1 + 40 / math.sqrt(df)
    s = (high - low) / 2 * nodes + (high + low) / 2
    log_f = math.log(2) + df / 2 * math.log(df / 2) - math.lgamma(df / 2) + (df - 1) * np.log(s) - df * s**2 / 2
    f = np.exp(log_f) * weights * (high - low) / 2
    return min(max(float(f @ beyond(q * s)), 0.0), 1.0)
