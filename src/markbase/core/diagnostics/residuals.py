"""What residuals look like: skew, kurtosis, spread, order.

References
----------
D'Agostino, Belanger & D'Agostino (1990), The American Statistician 44(4), 316-321, doi:10.1080/00031305.1990.10475751.
Anscombe & Glynn (1983), Biometrika 70(1), 227-234, doi:10.1093/biomet/70.1.227.
Koenker (1981), Journal of Econometrics 17(1), 107-112, doi:10.1016/0304-4076(81)90062-2.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
import pandas as pd
import scipy.special as sp
from numpy.typing import NDArray

from markbase.core.display import ShownTables
from markbase.core.formatting import number, p_phrase, plain

Array = NDArray[np.float64]


@dataclass(frozen=True)
class Finding:
    """One thing that was looked at."""

    about: str
    """What: ``shape``, ``spread``, ``straight lines``, ``cases``, ``rows alone``, ``order`` …"""
    figures: str
    """The numbers."""
    meaning: str
    """What they mean here."""
    way_on: str
    """What would do; empty if nothing need be done."""


class Spread(NamedTuple):
    """Breusch and Pagan's test in its studentised form: whether residuals spread more for some values of the terms."""

    statistic: float
    """n·R² of the squared residuals on the terms, chi-squared; with clusters, strata or sampling weights F of the scores of them all."""
    df: int
    """Its degrees of freedom."""
    p: float
    """Its p; NaN where these errors cannot carry a test."""
    df_rest: float = math.inf
    """Of F its other degrees of freedom; of chi-squared none, infinity."""
    untested: str = ""
    """Why there is no test, as a clause; empty if there is one."""

    @property
    def figures(self) -> str:
        """The numbers, as they are told."""
        if self.untested:
            return "not tested"
        df = f"F({self.df}, {plain(self.df_rest)})" if math.isfinite(self.df_rest) else f"chi²({self.df})"
        return f"{df} = {number(self.statistic, 2)}, {p_phrase(self.p)}"


class Intraclass(NamedTuple):
    """How alike rows of one cluster are in what a linear model misses."""

    cluster: str
    """The column of the clusters."""
    clusters: int
    """How many have rows."""
    correlation: float
    """The intraclass correlation of the residuals: the share of their variance that lies between clusters; below 0 by chance."""
    low: float
    """Where its interval begins."""
    high: float
    """Where it ends."""
    of_outcome: float
    """The intraclass correlation of the outcome, without any term."""
    design_effect: float
    """How many times the variance of what is the same for all rows of a cluster is that of independent rows: 1 + (Σn²/n − 1)·ICC."""
    statistic: float
    """F of the clusters beyond the terms."""
    df: int
    """Its degrees of freedom."""
    df_rest: float
    """Its other degrees of freedom."""
    p: float
    """Its p."""
    exact: bool
    """Whether the interval is exact for normal values; of more than 1,000 clusters it is taken as if they were of one size."""


@dataclass(frozen=True, eq=False)
class Views:
    """What the figure of the checks draws, a value a row used."""

    fitted: Array
    """What the model gives."""
    standardised: Array
    """Standardised residuals."""
    leverage: Array
    """Leverages."""
    normal: Array
    """Sorted: what a normal shape of as many rows would give."""
    heaviest: tuple[tuple[str, float, float], ...]
    """The cases that weigh most: label, leverage, standardised residual."""
    largest: float
    """The largest of Cook's distances."""


@dataclass(frozen=True, eq=False, repr=False)
class Checks(ShownTables):
    """The checks of a linear fit: none is a bare pass or fail."""

    outcome: str
    """The outcome."""
    skew: float
    """Skewness of the residuals, √b₁."""
    kurtosis: float
    """Kurtosis of the residuals less 3."""
    shape_statistic: float
    """D'Agostino and Pearson's K², chi-squared on 2; NaN below 20 rows."""
    shape_p: float
    """Its p."""
    spread_statistic: float
    """Breusch and Pagan's test in its studentised form: n·R² of the squared residuals on the terms, chi-squared; with clusters, strata or sampling
    weights F of the scores of the terms together, NaN where these cannot be tested."""
    spread_df: int
    """Its degrees of freedom."""
    spread_p: float
    """Its p."""
    lines: pd.DataFrame
    """One row a numeric column: `term`, `statistic` (F of its square, added to the model), `df_rest`, `p`, `bend` (which way), `explains` (what
    it explains of the sum of squared residuals)."""
    cases: pd.DataFrame
    """The cases that weigh most: the identifier, `observed`, `fitted`, `residual` (standardised), `leverage`, `influence` (Cook's
    distance), `moves` (the coefficient that leaving the case out would move most) and `by` (in its standard errors)."""
    clusters: pd.DataFrame | None
    """Of each cluster the coefficient that leaving it out would move most: `cluster`, `rows`, `term`, `level`, `estimate`, `se`, `without`, `moves` (in
    standard errors), the largest first; None without clusters, with more than 1,000, or where levels taken out lie in several."""
    serial: tuple[float, float, float] | None
    """Correlation of a residual with the one before, Durbin and Watson's d, and p by the beta distribution of independent rows, NaN without a test; None
    where nothing puts the rows in order."""
    findings: tuple[Finding, ...]
    """All of it, with what it means and what would do."""
    spread_df_rest: float = math.inf
    """Of F the other degrees of freedom of the test of the spread; of chi-squared none, infinity."""
    against: str = ""
    """What the levels of each group are compared with, in words; empty without groups."""
    left_out: str = "cluster"
    """What was left out in turn: ``cluster``, or, of dyads, ``member``."""
    intraclass: Intraclass | None = None
    """How alike rows of one cluster are, by the clusters of the errors or a column with that role; None without clusters, with fixed effects, or
    with sampling weights."""


def shape(residuals: Array, times: Array | None = None) -> tuple[float, float, float, float]:
    """Return skew, kurtosis less 3, K² and its p of residuals, each for so many rows; NaN for the last two below 20 rows, for which the approximation is not made."""
    n = len(residuals) if times is None else round(float(times.sum()))
    size = float(np.abs(residuals).max(initial=0.0))
    if size == 0:
        return math.nan, math.nan, math.nan, math.nan
    scaled = residuals / size  # powers of very large or small ones cannot be written
    centred = scaled - float(np.average(scaled, weights=times))
    m2, m3, m4 = (float(np.average(centred**power, weights=times)) for power in (2, 3, 4))
    if m2 == 0:
        return math.nan, math.nan, math.nan, math.nan
    skew, kurtosis = m3 / m2**1.5, m4 / m2**2
    if n < 20:
        return skew, kurtosis - 3, math.nan, math.nan
    y = skew * math.sqrt((n + 1) * (n + 3) / (6 * (n - 2)))
    beta = 3 * (n**2 + 27 * n - 70) * (n + 1) * (n + 3) / ((n - 2) * (n + 5) * (n + 7) * (n + 9))
    w2 = math.sqrt(2 * (beta - 1)) - 1
    z1 = math.asinh(y / math.sqrt(2 / (w2 - 1))) / math.sqrt(math.log(w2) / 2)
    mean = 3 * (n - 1) / (n + 1)
    variance = 24 * n * (n - 2) * (n - 3) / ((n + 1) ** 2 * (n + 3) * (n + 5))
    x = (kurtosis - mean) / math.sqrt(variance)
    third = 6 * (n**2 - 5 * n + 2) / ((n + 7) * (n + 9)) * math.sqrt(6 * (n + 3) * (n + 5) / (n * (n - 2) * (n - 3)))
    a = 6 + 8 / third * (2 / third + math.sqrt(1 + 4 / third**2))
    inner = (1 - 2 / a) / (1 + x * math.sqrt(2 / (a - 4)))
    z2 = (1 - 2 / (9 * a) - math.copysign(abs(inner) ** (1 / 3), inner)) / math.sqrt(2 / (9 * a))
    statistic = z1**2 + z2**2
    return skew, kurtosis - 3, statistic, float(sp.gammaincc(1.0, statistic / 2))
