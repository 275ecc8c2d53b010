"""Errors of rows that may go together within clusters, and what estimates would be without each cluster.

In whitened columns, of which the products sum to the identity, S_g are those of a cluster and u_g its score: without it the
estimates move by −(I − S_g)⁻¹u_g.

References
----------
Liang & Zeger (1986), Biometrika 73(1), 13-22, doi:10.1093/biomet/73.1.13.
Bell & McCaffrey (2002), Survey Methodology 28(2), 169-181.
Cameron & Miller (2015), Journal of Human Resources 50(2), 317-372, doi:10.3368/jhr.50.2.317.
MacKinnon, Nielsen & Webb (2023), Journal of Applied Econometrics 38(5), 671-694, doi:10.1002/jae.2969.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from markbase.core.errors import FitError, count_noun
from markbase.core.estimation.fixed_effects import FixedEffects
from markbase.core.inference.standard_errors import ALONE, Errors, ScoredRows
from markbase.core.rows.sums import total_of, totals_of
from markbase.core.study.column import Column

Array = NDArray[np.float64]
Over = Callable[..., Iterator[Any]]
"""Takes a function and arrays of one value a row, and applies it to the `ScoredRows` of every part and its share of the arrays."""
_CELLS = 1 << 22


class ClusterSums(NamedTuple):
    """What the rows of each cluster sum to."""

    scores: Array
    """Shape (clusters, p + 1): their scores."""
    shares: Array
    """Shape (clusters,): their leverages."""
    rows: NDArray[np.int64]
    """Shape (clusters,): how many there are, each as often as it stands for."""
    uncancelled: Array
    """Shape (p + 1, p + 1): the squared scores of single rows."""


def cluster_sums(over: Over, cluster: Column, p: int) -> ClusterSums:
    """Sum the scores of each cluster; refuse fewer than two that have rows."""
    levels = len(cluster.levels)

    def summed(rows: Iterator[ScoredRows], clusters: NDArray[np.integer]) -> tuple[Array, Array, Array, Array]:
        sums, shares = np.zeros((levels, p + 1)), np.zeros(levels)
        counts, uncancelled = np.zeros(levels), np.zeros((p + 1, p + 1))
        for chunk, Q, score, _, share, times in rows:
            codes = clusters[chunk].astype(np.intp)
            scores = Q * (score if times is None else score * times)[:, None]
            np.add.at(sums, codes, scores)
            uncancelled += np.dot(scores.T, scores)
            shares += np.bincount(codes, weights=np.einsum("ij,ij->i", Q, Q) * share, minlength=levels)
            counts += np.bincount(codes, weights=times, minlength=levels)
        return sums, shares, counts, uncancelled

    sums, shares, counts, uncancelled = totals_of(over(summed, cluster.values))
    found = int(np.count_nonzero(counts))
    if found < 2:
        raise FitError(
            f"`{cluster.name}` has {count_noun(found, 'cluster')} in the rows used; clustered errors need at least two."
        )
    return ClusterSums(sums, shares, np.round(counts).astype(np.int64), uncancelled)


def clustered_errors(kind: str, over: Over, cluster: Column, n: int, rest: int, p: int) -> Errors:
    """Return errors of summed scores (CR1), or of what estimates would be without each cluster (CR3).

    Their middle is G/(G − 1)·(n − 1)/(n − k)·Σ u_g u_gᵀ, or (G − 1)/G·Σ d_g d_gᵀ with d_g = (I − S_g)⁻¹u_g, in which directions
    that a cluster decides alone have no part.
    """
    sums = cluster_sums(over, cluster, p)
    clusters = int(np.count_nonzero(sums.rows))
    if kind == "CR3":
        moved, alone = moves_without(over, cluster, sums, p)
        middle = moved.T @ moved * ((clusters - 1) / clusters)
    else:
        middle = sums.scores.T @ sums.scores * (clusters / (clusters - 1) * (n - 1) / rest)
        candidates = np.flatnonzero(sums.shares > 1 - ALONE)
        alone = [found for places, own in _decomposed(over, cluster, candidates, p) for found in own.fitted(places)]
    fitted = np.vstack([directions for _, directions in alone]) if alone else None
    own = "CR3" if kind == "CR3" else "clustered"
    return Errors(own, clusters - 1, cluster.name, clusters, middle, sums.uncancelled, fitted)


def moves_without(over: Over, cluster: Column, sums: ClusterSums, p: int) -> tuple[Array, list[tuple[int, Array]]]:
    """Return by how much the whitened estimates exceed those without each cluster, and the directions that a cluster decides alone.

    Shape (clusters, p + 1), 0 in these directions; and of each such cluster its place and its directions, shape (k, p + 1).
    """
    moved, alone = np.zeros_like(sums.scores), list[tuple[int, Array]]()
    for places, own in _decomposed(over, cluster, np.flatnonzero(sums.rows), p):
        along = np.einsum("kij,ki->kj", own.vectors, sums.scores[places])
        moved[places] = np.einsum("kij,kj->ki", own.vectors, along * own.inverse)
        alone += own.fitted(places)
    return moved, alone


class _Decomposed(NamedTuple):
    """The products of whitened columns within each of some clusters, by their own directions."""

    values: Array
    vectors: Array

    @property
    def alone(self) -> NDArray[np.bool_]:
        return self.values > 1 - ALONE

    @property
    def inverse(self) -> Array:
        """1/(1 − λ), 0 in directions that the cluster decides alone."""
        return np.where(self.alone, 0.0, 1 / np.where(self.alone, 1.0, 1 - self.values))

    def fitted(self, places: NDArray[np.intp]) -> list[tuple[int, Array]]:
        """Return the directions that a cluster decides alone, with its place."""
        return [(int(k), v[:, a].T) for k, v, a in zip(places, self.vectors, self.alone, strict=True) if a.any()]


def _decomposed(
    over: Over, cluster: Column, places: NDArray[np.intp], p: int
) -> Iterator[tuple[NDArray[np.intp], _Decomposed]]:
    """Yield some clusters at a time, with the products of their rows."""
    most = max(1, _CELLS // (p + 1) ** 2)
    for start in range(0, len(places), most):
        some = places[start : start + most]
        at = np.full(len(cluster.levels), -1)
        at[some] = np.arange(len(some))
        multiplied = _products_within(at, (len(some), p + 1, p + 1))
        yield some, _Decomposed(*np.linalg.eigh(total_of(over(multiplied, cluster.values))))


def _products_within(at: NDArray[np.intp], shape: tuple[int, int, int]) -> Callable[..., Array]:
    def multiplied(rows: Iterator[ScoredRows], clusters: NDArray[np.integer]) -> Array:
        products = np.zeros(shape)
        for chunk, Q, _, _, share, _ in rows:
            own = at[clusters[chunk]]
            order = np.argsort(own, kind="stable")
            order = order[np.searchsorted(own, 0, sorter=order) :]
            ordered, inside = own[order], Q[order] * np.sqrt(share[order])[:, None]
            ends = (np.flatnonzero(np.diff(ordered, append=-1)) + 1).tolist()
            begin = 0
            for end in ends:
                products[ordered[begin]] += np.dot(inside[begin:end].T, inside[begin:end])
                begin = end
        return products

    return multiplied


def check_nested(cluster: Column, fixed_effects: FixedEffects | None, over: Over) -> None:
    """Refuse levels taken out that lie in several clusters: without one of these, they would be others."""
    if fixed_effects is None:
        return
    levels = len(fixed_effects.rows_at)

    def spanned(rows: Iterator[ScoredRows], clusters: NDArray[np.integer], codes: NDArray[np.intp]) -> Array:
        found = np.full((2, levels), -np.inf)
        for chunk, *_ in rows:
            for row, sign in zip(found, (1, -1), strict=True):
                np.maximum.at(row, codes[chunk], sign * clusters[chunk].astype(float))
        return found

    whole = np.full((2, levels), -np.inf)
    for part in over(spanned, cluster.values, fixed_effects.codes):
        whole = np.maximum(whole, part)
    if (whole[0] > -whole[1]).any():
        name = fixed_effects.names[0]
        raise FitError(
            f"Levels of `{name}` that are taken out lie in several clusters of `{cluster.name}`, and would be others without one of them; what "
            f"estimates would be without each cluster (CR3) needs each level in one. Cluster by `{name}`, or take the usual clustered errors (CR1)."
        )
