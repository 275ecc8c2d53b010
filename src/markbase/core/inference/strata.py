"""Scores of clusters, or of rows, that were drawn separately within strata: by how much they differ within each of these.

What differs from stratum to stratum is no chance of the draw, so scores are taken from the mean of their stratum:
Σ_h n_h/(n_h − 1) Σ_g (u_hg − ū_h)(u_hg − ū_h)ᵀ over the n_h clusters (or rows) g of each stratum h.

References
----------
Fuller (1975), Sankhyā C 37(3), 117-132.
Binder (1983), International Statistical Review 51(3), 279-292, doi:10.2307/1402588.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from markbase.core.errors import FitError, count_noun, listed, quoted
from markbase.core.inference.standard_errors import ALONE, Errors, Over, ScoredRows
from markbase.core.rows.sums import totals_of
from markbase.core.study.column import Column

Array = NDArray[np.float64]
_NAMED = 4


def codes_within(over: Over, levels: int, at: object, codes: object) -> tuple[Array, Array]:
    """Return the lowest and the highest of some codes among the rows of each level, shape (levels,); ∞ and −∞ of none."""

    def spanned(rows: Iterator[ScoredRows], at: NDArray[np.integer], codes: NDArray[np.integer]) -> Array:
        found = np.full((2, levels), -np.inf)
        for chunk, *_ in rows:
            for row, sign in zip(found, (-1, 1), strict=True):
                np.maximum.at(row, at[chunk], sign * codes[chunk].astype(float))
        return found

    whole = np.full((2, levels), -np.inf)
    for part in over(spanned, at, codes):
        whole = np.maximum(whole, part)
    return -whole[0], whole[1]


def strata_of_clusters(over: Over, cluster: Column, strata: Column) -> NDArray[np.intp]:
    """Return the stratum of each cluster, shape (clusters,), −1 of one without rows; refuse one that lies in several."""
    low, high = codes_within(over, len(cluster.levels), cluster.values, strata.values)
    several = np.flatnonzero(high > low)
    if len(several):
        first = cluster.levels[int(several[0])].label
        raise FitError(
            f"`{first}` of `{cluster.name}` lies in several strata of `{strata.name}` ({count_noun(len(several), 'such cluster')}): clusters are "
            f"drawn within one. If clusters of several strata have the same name, combine the two groups into one, which tells them apart."
        )
    return np.where(np.isfinite(high), high, -1.0).astype(np.intp)


def squared_within(scores: Array, strata_of: NDArray[np.intp], cluster: Column, strata: Column) -> Array:
    """Return the squared scores of clusters, shape (clusters, p + 1), within their strata; −1 is the stratum of a cluster without rows."""
    here = strata_of >= 0
    scores, strata_of = scores[here], strata_of[here]
    drawn = np.bincount(strata_of, minlength=len(strata.levels)).astype(float)
    _refuse_single(drawn, strata, f"cluster of `{cluster.name}`")
    sums = np.zeros((len(drawn), scores.shape[1]))
    np.add.at(sums, strata_of, scores)
    away = scores - (sums / np.maximum(drawn, 1)[:, None])[strata_of]
    squares: Array = away.T @ (away * stretch_of(drawn)[strata_of][:, None])
    return squares


def stratified_errors(over: Over, strata: Column, n: int, rest: int, p: int) -> Errors:
    """Return the errors of rows that were drawn within strata, by their squared scores (HC1): with one stratum those without."""
    levels = len(strata.levels)

    def summed(rows: Iterator[ScoredRows], codes: NDArray[np.integer]) -> tuple[Array, Array]:
        drawn, sums = np.zeros(levels), np.zeros((levels, p + 1))
        for chunk, Q, score, leverage, _, times in rows:
            own = codes[chunk].astype(np.intp)
            drawn += np.bincount(own, weights=times, minlength=levels)
            np.add.at(sums, own, Q * _weighed(score, leverage, times)[:, None])
        return drawn, sums

    drawn, sums = totals_of(over(summed, strata.values))
    _refuse_single(drawn, strata, "row")
    count = int(np.count_nonzero(drawn))
    if rest - count + 1 < 1:
        raise FitError(
            f"{n:,} rows less {n - rest:,} coefficients and {count:,} strata of `{strata.name}` leave no degree of freedom: merge strata, or leave "
            f"terms out."
        )
    means, stretched = sums / np.maximum(drawn, 1)[:, None], stretch_of(drawn)

    def squared(rows: Iterator[ScoredRows], codes: NDArray[np.integer]) -> tuple[Array, list[Array]]:
        middle, fitted = np.zeros((p + 1, p + 1)), list[Array]()
        for chunk, Q, score, leverage, share, times in rows:
            own = codes[chunk].astype(np.intp)
            away = Q * _weighed(score, leverage, None)[:, None] - means[own]
            weight = stretched[own] if times is None else stretched[own] * times
            middle += np.dot((away * weight[:, None]).T, away)
            alone = 1 - leverage < ALONE
            fitted.append(Q[alone] * np.sqrt(share[alone])[:, None])
        return middle, fitted

    found = list(over(squared, strata.values))
    (middle,) = totals_of((part,) for part, _ in found)
    fitted = np.vstack([directions for _, part in found for directions in part])
    directions = fitted / np.linalg.norm(fitted, axis=1)[:, None] if len(fitted) else None
    return Errors(
        "HC1",
        rest - count + 1,
        middle=middle * ((n - 1) / rest),
        fitted=directions,
        strata=strata.name,
        strata_count=count,
    )


def _weighed(score: Array, leverage: Array, times: Array | None) -> Array:
    """Return the scores of rows, each as often as it stands for; a row that alone decides a coefficient has none."""
    own = np.where(1 - leverage < ALONE, 0.0, score)
    return own if times is None else own * times


def stretch_of(drawn: Array) -> Array:
    """Return n/(n − 1) for each stratum, 0 of one without rows."""
    return np.where(drawn > 0, drawn / np.maximum(drawn - 1, 1), 0.0)


def _refuse_single(drawn: Array, strata: Column, what: str) -> None:
    """Refuse strata of which one cluster, or row, alone is used: nothing tells how those drawn there differ."""
    single = [strata.levels[int(k)].label for k in np.flatnonzero(drawn == 1)]
    if single:
        more = [f"{len(single) - _NAMED} more"] if len(single) > _NAMED else []
        raise FitError(
            f"`{strata.name}` has {count_noun(len(single), 'stratum', 'strata')} with one {what} in the rows used "
            f"({listed([*quoted(single[:_NAMED]), *more])}): how those drawn there differ cannot be told. Merge each with the stratum most like it."
        )
