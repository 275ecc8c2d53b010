"""Tail probabilities and quantiles, accurate in the tails."""

from __future__ import annotations

import numpy as np
import scipy.special as sp
from numpy.typing import ArrayLike, NDArray


def p_of_t(t: ArrayLike, df: float) -> NDArray[np.float64]:
    """Return the two-sided p value of t statistics; NaN stays NaN, and infinite degrees of freedom are the normal distribution.

    P(|T| >= |t|) as the regularised incomplete beta I(df/2, 1/2; df/(df + t²)), which keeps its relative accuracy however
    small it is (Abramowitz & Stegun 1964, Handbook of Mathematical Functions, 26.7.1).
    """
    if np.isinf(df):
        return np.asarray(sp.erfc(np.abs(np.asarray(t, dtype=np.float64)) / np.sqrt(2)))
    square = np.square(np.asarray(t, dtype=np.float64))
    return _beta_tail(0.5, df / 2, square, df)


def t_quantile(level: float, df: float) -> float:
    """Return the half-width, in standard errors, of a two-sided interval: the (1 + level)/2 quantile of the t distribution."""
    if np.isinf(df):
        return float(sp.ndtri((1 + level) / 2))
    return float(sp.stdtrit(df, (1 + level) / 2))


def p_of_each_t(t: ArrayLike, df: ArrayLike) -> NDArray[np.float64]:
    """Return the two-sided p values of t statistics, each on degrees of freedom of its own, which may be infinite."""
    t, rest = np.broadcast_arrays(np.asarray(t, dtype=np.float64), np.asarray(df, dtype=np.float64))
    finite = np.isfinite(rest)
    own = np.where(finite, rest, 1.0)
    found = _beta_tail(0.5, own / 2, np.square(t), own)
    return np.where(np.isnan(rest), np.nan, np.where(finite, found, p_of_t(t, np.inf)))


def each_t_quantile(level: float, df: ArrayLike) -> NDArray[np.float64]:
    """Return the half-widths of two-sided intervals, in standard errors, each on degrees of freedom of its own."""
    rest = np.asarray(df, dtype=np.float64)
    found = np.array([t_quantile(level, each) if each > 0 else np.nan for each in rest.ravel()])
    return found.reshape(rest.shape)


def p_of_f(statistic: ArrayLike, df: ArrayLike, df_rest: ArrayLike) -> NDArray[np.float64]:
    """Return the upper tail of F statistics: 0 for an infinite one; with infinite `df_rest`, of one as of all, df·F is chi-squared.

    P(F >= statistic) as I(df_rest/2, df/2; df_rest/(df_rest + df·F)) (Abramowitz & Stegun 1964, Handbook of Mathematical
    Functions, 26.6.2).
    """
    F, a, rest = (np.asarray(each, dtype=np.float64) for each in (statistic, df, df_rest))
    if np.isinf(rest).any():
        return np.asarray(sp.gammaincc(a / 2, a * F / 2))
    return _beta_tail(a / 2, rest / 2, a * F, rest)


def f_quantile(level: float, df: float, df_rest: float) -> float:
    """Return the quantile of F; with an infinite `df_rest` that of chi-squared over its degrees of freedom."""
    if np.isinf(df_rest):
        return 2 * float(sp.gammaincinv(df / 2, level)) / df
    return float(sp.fdtri(df, df_rest, level))


def _beta_tail(
    a: float | NDArray[np.float64],
    b: float | NDArray[np.float64],
    over: NDArray[np.float64],
    rest: float | NDArray[np.float64],
) -> NDArray[np.float64]:
    """Return 1 − I(a, b; over/(over + rest)), from whichever of the two shares is the smaller and so has all its digits."""
    with np.errstate(over="ignore", invalid="ignore", divide="ignore"):
        small = sp.betaincc(a, b, over / (over + rest))
        large = sp.betainc(b, a, rest / (over + rest))
    return np.where(over < rest, small, large)
