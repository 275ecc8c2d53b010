"""P values and intervals of several comparisons taken together.

References
----------
Holm (1979), Scandinavian Journal of Statistics 6(2), 65-70.
Benjamini & Hochberg (1995), Journal of the Royal Statistical Society B 57(1), 289-300, doi:10.1111/j.2517-6161.1995.tb02031.x.
Tukey (1949), Biometrics 5(2), 99-114, doi:10.2307/3001913; Kramer (1956), Biometrics 12(3), 307-310,
doi:10.2307/3001469.
Scheffé (1953), Biometrika 40(1-2), 87-110, doi:10.1093/biomet/40.1-2.87. Dunnett (1955) and others: see `joint_t`.
"""

from __future__ import annotations

import functools
import math
from dataclasses import dataclass

import numpy as np
import scipy.special as sp
from numpy.typing import NDArray

from markbase.core.inference.distributions import f_quantile, p_of_f, t_quantile
from markbase.core.inference.joint_t import LargestOf
from markbase.core.inference.standard_error_mixture import gauss_legendre, over_standard_errors, where_tail_is
from markbase.core.inference.standard_errors import Errors

Array = NDArray[np.float64]
_ACROSS = 200
"""Nodes for the largest of the values: with hundreds of levels its distribution is steep."""


def corrected(p: Array, correction: str) -> Array:
    """Correct the p values of several comparisons step by step, whatever they are of, shape (m,).

    Holm: the k-th smallest times m − k + 1, never less than the one before it. Bonferroni: times m. Benjamini and Hochberg, for the share of chance
    findings among what is clear: the k-th smallest times m/k, never more than the one after it. None: as they are.
    """
    if correction == "none" or not len(p):
        return p
    m = np.count_nonzero(~np.isnan(p))
    if correction == "bonferroni":
        return np.minimum(p * m, 1.0)
    order = np.argsort(p, kind="stable")
    if correction == "benjamini-hochberg":
        found, falling = p.copy(), order[:m][::-1]
        found[falling] = np.minimum.accumulate(p[falling] * m / np.arange(m, 0, -1))
        return found
    stepped = np.minimum(np.maximum.accumulate(p[order] * np.maximum(m - np.arange(len(p)), 1)), 1.0)
    found = np.empty(len(p))
    found[order] = stepped
    return found


@dataclass(frozen=True, eq=False)
class Together:
    """What comparisons of the levels of a group have in common, from which their statistics go by one distribution."""

    levels: int
    """How many are compared with one another."""
    errors: Errors
    """What their standard errors rest on."""
    largest: LargestOf | None = None
    """The distribution of the largest of their statistics, for Dunnett's correction."""

    def corrected(self, p: Array, correction: str, statistic: Array) -> Array:
        """Correct the p values of the comparisons, shape (m,), each a difference over its standard error.

        Tukey-Kramer, of all pairs: the tail of the studentised range at √2 times the statistic. Dunnett, of comparisons with one
        level: the tail of the `largest`. Scheffé, of whatever comparisons: that of F at t²/(levels − 1); of clustered errors, of
        Hotelling's T² at t². Others: see `corrected`.
        """
        if correction == "tukey":
            tails = [studentised_range_tail(math.sqrt(2) * abs(t), self.levels, self.errors.df) for t in statistic]
            return np.maximum(tails, p)  # all pairs together are no clearer than one by itself
        if correction == "scheffe":
            df, (share, rest) = self.levels - 1, self.errors.hotelling(self.levels - 1)
            return np.maximum(p_of_f(statistic**2 / df * share, df, rest), p)
        if correction == "dunnett":
            assert self.largest is not None
            return np.array([math.nan if math.isnan(t) else self.largest.tail(abs(t)) for t in statistic])
        return corrected(p, correction)

    def half_width(self, correction: str, level: float, comparisons: int) -> float:
        """Return by how many standard errors an interval of one of the comparisons reaches to either side.

        Intervals hold together but for ``holm`` and ``benjamini-hochberg``, which have none of their own, so that their intervals are, like those of
        ``none``, each by itself.
        """
        if correction == "bonferroni":
            return t_quantile(1 - (1 - level) / max(comparisons, 1), self.errors.df)
        if correction == "tukey":
            return _range_quantile(1 - level, self.levels, self.errors.df) / math.sqrt(2)
        if correction == "scheffe":
            df, (share, rest) = self.levels - 1, self.errors.hotelling(self.levels - 1)
            return math.sqrt(df / share * f_quantile(level, df, rest))
        if correction == "dunnett":
            assert self.largest is not None
            return self.largest.quantile(1 - level)
        return t_quantile(level, self.errors.df)


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
