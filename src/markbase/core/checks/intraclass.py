"""How alike the rows of one cluster are in what a linear fit misses: the intraclass correlation.

With e the residuals, Z the indicators of the clusters and M = I − H of the fit, the clusters explain R = eᵀZ(ZᵀMZ)⁻Zᵀe beyond the
terms, tested by F. Their variance is that of which the expectation of R is σ²·d + σ_c²·tr(ZᵀMZ) (Henderson's third method). With
Q the whitened columns, S = ZᵀQ and D = ZᵀZ, ZᵀMZ = D − SSᵀ: all of it comes from the sums of clusters.

References
----------
Henderson (1953), Biometrics 9(2), 226-252, doi:10.2307/3001853.
Harville & Fenech (1985), Biometrics 41(1), 137-152, doi:10.2307/2530650, for the interval: exact for normal values, whatever the sizes.
Kish (1965), Survey Sampling, section 5.4, for the design effect.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from markbase.core.diagnostics.residuals import Finding, Intraclass
from markbase.core.errors import count_noun
from markbase.core.estimation.whitening import Whitened
from markbase.core.formatting import number, p_phrase, plain, short
from markbase.core.inference.distributions import f_quantile, p_of_f
from markbase.core.rows.sums import totals_of

if TYPE_CHECKING:
    from markbase.core.results.linear import LinearFit

Array = NDArray[np.float64]
_EXACT = 1_000
"""Of more clusters the interval is taken as if they were of one size."""
_SAME = 1e-14
_LEAST = -0.5
"""No variance of clusters is further below 0, over σ²: a correlation of −1, of two rows that are opposites."""
_WITHIN = 1e-9
"""A direction of the terms with no more of its variation within clusters is the same for all rows of one."""


def intraclasses_of(fit: LinearFit) -> list[Intraclass]:
    """Return how alike rows of one cluster of each kind are; none without clusters, or where levels are taken out or rows drawn with unequal weights."""
    possible = (fit.possible_cluster,) if fit.possible_cluster is not None else ()
    sizes = {column: len(column.levels) for column in fit.drawn_by.clusters or possible}
    every = [intraclass_by(fit, c.name, c.values, size, size <= _EXACT) for c, size in sizes.items()]
    return [found for found in every if found is not None]


def intraclass_by(fit: LinearFit, name: str, codes: NDArray[np.integer], levels: int, exact: bool) -> Intraclass | None:
    """Return the same by any column, of which each row has one of some levels, below 0 for none; the ends of the interval exact or about so."""
    sampled = fit.weights is not None and fit.weights.kind == "sampling"
    if fit.fixed_effects is not None or sampled:
        return None
    width, centre = len(fit.solution.columns) + 1, float(fit.moments.centres[-1])

    def summed(own: Whitened, codes: NDArray[np.integer]) -> tuple[Array, Array]:
        sums, squares = np.zeros((levels + 1, width + 3)), np.zeros(2)
        outcome = own.blocks[-1].multiplier
        assert outcome is not None
        for chunk, Q, e, w in own.chunks():
            y, at = outcome[chunk] - centre, codes[chunk].astype(np.intp)
            for k, values in enumerate((w, w * y, w * e, *(w * Q.T))):
                sums[:, k] += np.bincount(np.where(at < 0, levels, at), weights=values, minlength=levels + 1)
            squares += [w @ y**2, w @ e**2]
        return sums, squares

    sums, squares = totals_of(fit._whitened.over(summed, codes))
    counts, of_outcome, of_residuals, S = sums[:, 0], sums[:, 1], sums[:, 2], sums[:, 3:]
    here = counts > 0
    if counts[-1] or here.sum() < 2:  # rows without a cluster
        return None
    counts, of_outcome, of_residuals, S = counts[here], of_outcome[here], of_residuals[here], S[here]
    weight = float(counts.sum())
    shared, inside = S.T / counts @ S, S.T @ (of_residuals / counts)
    values, vectors = np.linalg.eigh(np.eye(width) - shared)
    varies = values > _WITHIN
    more = (vectors.T @ inside)[varies] ** 2 / values[varies]
    between = float(of_residuals @ (of_residuals / counts) + more.sum())
    df = len(counts) - int(np.count_nonzero(~varies))
    rest = fit.rows_over - df
    if df < 1 or rest < 1:
        return None
    effect = float(counts @ counts) / weight
    if squares[1] - between <= _SAME * squares[1]:  # the outcome is the same for all rows of a cluster
        return Intraclass(name, len(counts), 1.0, 1.0, 1.0, 1.0, effect, math.inf, df, rest, 0.0, True)
    size = (weight - float(np.sum(S**2))) / df
    variance = float(squares[1] - between) / rest
    F = between / df / variance
    correlation, quantiles = (
        _from_f(F, size),
        [f_quantile(q, df, rest) for q in ((1 + fit.level) / 2, (1 - fit.level) / 2)],
    )
    low, high = (_from_f(F / q, size) for q in quantiles)
    if exact:
        low, high = _ends(np.diag(counts) - S @ S.T, of_residuals, df, [df * variance * q for q in quantiles])
    low, high = min(low, correlation), max(high, correlation)  # of hardly any rows they could disagree
    alone = float(of_outcome @ (of_outcome / counts) - of_outcome.sum() ** 2 / weight)
    left, own_df = float(squares[0] - of_outcome @ (of_outcome / counts)), len(counts) - 1
    own_size = (weight - float(counts @ counts) / weight) / own_df
    of_itself = _from_f(alone / own_df / (left / (weight - own_df - 1)), own_size) if left > 0 else math.nan
    effect = 1 + (effect - 1) * max(correlation, 0.0)
    p = float(p_of_f(F, df, rest))
    return Intraclass(name, len(counts), correlation, low, high, of_itself, effect, F, df, rest, p, exact)


def _ends(covariance: Array, sums: Array, df: int, wanted: Sequence[float]) -> tuple[float, float]:
    """Return the intraclass correlations at which the clusters explain as much as is wanted.

    With γ the variance of the clusters over σ², the residuals' sums by cluster have the covariance σ²(C + γC²), C = ZᵀMZ.
    """
    from scipy.optimize import brentq  # slow to load, and seldom needed

    sizes, directions = np.linalg.eigh(covariance)
    sizes, squares = sizes[-df:], (directions.T @ sums)[-df:] ** 2
    ends = []
    for much in wanted:
        least, most = max(-(1 - 1e-12) / sizes[-1], _LEAST), 1.0
        if _explained(least, sizes, squares) <= much:  # clusters of hardly more than a row
            ends.append(least / (1 + least))
            continue
        while _explained(most, sizes, squares) > much:
            most *= 4
        gamma = brentq(lambda g, much=much: _explained(g, sizes, squares) - much, least, most, xtol=1e-14)
        ends.append(gamma / (1 + gamma))
    return ends[0], ends[1]


def _explained(gamma: float, sizes: Array, squares: Array) -> float:
    return float(np.sum(squares / (sizes * (1 + gamma * sizes))))


def _from_f(F: float, size: float) -> float:
    """Return the intraclass correlation that belongs to a ratio of mean squares, of clusters of a size."""
    return max((F - 1) / (F - 1 + size), -1.0) if F - 1 + size > 0 else -1.0


def intraclass_finding(fit: LinearFit, found: Intraclass) -> Finding:
    """Say whether rows of one cluster are alike in what a fit misses, and what that does to its errors."""
    name = found.cluster
    ends = f"{short(100 * fit.level, 4)}% CI {'' if found.exact else 'about '}{number(found.low, 3)} to {number(found.high, 3)}"
    figures = (
        f"intraclass correlation by `{name}` ({count_noun(found.clusters, 'cluster')}) {number(found.correlation, 3)} of what the model misses ({ends}), "
        f"{number(found.of_outcome, 3)} of `{fit.outcome.name}` itself; F({found.df}, {plain(found.df_rest)}) = {number(found.statistic, 2)}, {p_phrase(found.p)}"
    )
    clustered = bool(fit.errors.cluster)
    if not found.p < fit.alpha:
        meaning = f"no clear evidence that rows of one `{name}` are alike in what the model misses"
        way = (
            ""
            if clustered
            else f"cluster the errors by `{name}` all the same if its rows were drawn, or treated, together"
        )
        return Finding("rows together", figures, meaning, way)
    meaning = f"rows of one `{name}` are alike in what the model misses"
    if clustered:
        return Finding("rows together", figures, f"{meaning}, which the clustered errors of this fit allow for", "")
    meaning += (
        f": the variance of what is the same for all rows of a `{name}` is about {number(found.design_effect, 1)} times what these errors take it "
        "for (design effect); what differs within it is less affected"
    )
    return Finding("rows together", figures, meaning, f"cluster the errors by `{name}`")
