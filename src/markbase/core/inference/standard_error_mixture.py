"""From known standard errors to estimated ones: tails over the distribution of √(χ²(df)/df), and where they have a given value."""

from __future__ import annotations

import functools
import math
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
_ALONG = 128
"""Nodes for the standard error."""
_DEVIATIONS = 8
_STIRLING_FROM = 30.0
_NOTHING = 45.0
"""Below e to the minus this of the largest, an integrand is left out."""


@functools.cache
def gauss_legendre(points: int) -> tuple[Array, Array]:
    """Return nodes and weights of Gauss and Legendre on −1 to 1."""
    return np.polynomial.legendre.leggauss(points)


def over_standard_errors(tail_of: Callable[[Array], Array], q: float, df: float) -> float:
    """Return ∫ f(s) tail(q s) ds, f the density of √(χ²(df)/df), by quadrature along the logarithm of s.

    `tail_of` gives the tail at some widths, where the standard error is known; an infinite `df` is that.
    """
    if math.isinf(df):
        return min(float(tail_of(np.array([q]))[0]), 1.0)
    # where the density of log s times the tail at q·s is large: for far tails at small s, away from where s mostly is
    reach = _DEVIATIONS / math.sqrt(df)
    low, high = -_NOTHING / min(df, _NOTHING) - 3, math.log1p(5 * reach)
    grid = np.union1d(np.linspace(low, high, 120), np.linspace(-reach, min(reach, high), 60))
    with np.errstate(divide="ignore"):
        height = _log_density(grid, df) + np.log(tail_of(q * np.exp(grid)))
    peak = float(height.max())
    if not math.isfinite(peak):
        return 0.0
    near = np.flatnonzero(height > peak - _NOTHING)
    low, high = grid[max(near[0] - 1, 0)], grid[min(near[-1] + 1, len(grid) - 1)]
    nodes, weights = gauss_legendre(_ALONG)
    logs = (high - low) / 2 * nodes + (high + low) / 2
    f = np.exp(_log_density(logs, df)) * weights * (high - low) / 2
    return min(max(float(f @ tail_of(q * np.exp(logs))), 0.0), 1.0)


def where_tail_is(tail_of: Callable[[float], float], tail: float) -> float:
    """Return the value that has a given tail."""
    from scipy.optimize import brentq  # slow to load, and seldom needed

    low, high = 0.0, 4.0
    while tail_of(high) > tail:
        low, high = high, 2 * high

    def off(q: float) -> float:
        return math.log(tail_of(q) / tail)  # nearly straight, so few steps do

    return float(brentq(off, low, high, xtol=1e-13, rtol=1e-14))


def _log_density(logs: Array, df: float) -> Array:
    """Return the logarithm of the density of log √(χ²(df)/df)."""
    half = df / 2
    if half < _STIRLING_FROM:
        start = half * math.log(half) - math.lgamma(half) - half
    else:  # what is left of Stirling's formula, whose large terms would cancel
        start = math.log(half / (2 * math.pi)) / 2 - (1 - (1 - 2 / (7 * half**2)) / (30 * half**2)) / (12 * half)
    found: Array = math.log(2) + start + df * (logs - np.expm1(2 * logs) / 2)
    return found
