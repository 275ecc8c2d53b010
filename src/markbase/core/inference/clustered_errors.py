"""Errors of rows that may go together within clusters, and what estimates would be without each cluster.

In whitened columns, of which the products sum to the identity, S_g = A_gᵀA_g are those of a cluster with the rows A_g, and u_g is its
score: without it the estimates move by −(I − S_g)⁻¹u_g, which is −u_g − A_gᵀ(I − A_gA_gᵀ)⁻¹A_gu_g where rows are fewer than columns.

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

from markbase.core.errors import FitError, count_noun, remark
from markbase.core.estimation.fixed_effects import FixedEffects
from markbase.core.inference.standard_errors import ALONE, Errors, Over, ScoredRows
from markbase.core.inference.strata import codes_within, squared_within, strata_of_clusters
from markbase.core.rows.sums import totals_of
from markbase.core.study.column import Column

Array = NDArray[np.float64]
_CELLS, _GATHERED = 1 << 23, 1 << 22
"""Numbers that are held of the products of clusters, and of rows, at a time."""
_MANY = 32
"""With more passes over the rows than this, leaving out each cluster takes a while."""
_LIGHT, _NOTHING = 0.9, 1e-20
"""A cluster whose products are no larger decides no direction alone, nor nearly; and a direction in which it has no rows."""


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
    lines: int
    """How many rows there are in all, each counted once."""

    @property
    def even(self) -> float:
        """As how many clusters of equal size they count (`Errors.even_clusters`)."""
        sizes = self.rows.astype(np.float64)
        return float(sizes.sum()) ** 2 / float(sizes @ sizes)


def cluster_sums(over: Over, cluster: Column, p: int) -> ClusterSums:
    """Sum the scores of each cluster."""
    levels = len(cluster.levels)

    def summed(rows: Iterator[ScoredRows], clusters: NDArray[np.integer]) -> tuple[Array, ...]:
        sums, shares, lines = np.zeros((levels, p + 1)), np.zeros(levels), np.zeros(1)
        counts, uncancelled = np.zeros(levels), np.zeros((p + 1, p + 1))
        for chunk, Q, score, _, share, times in rows:
            codes = clusters[chunk].astype(np.intp)
            scores = Q * (score if times is None else score * times)[:, None]
            order = np.argsort(codes, kind="stable")
            starts = np.flatnonzero(np.diff(codes[order], prepend=-1))
            sums[codes[order[starts]]] += np.add.reduceat(scores[order], starts)
            uncancelled += np.dot(scores.T, scores)
            shares += np.bincount(codes, weights=np.einsum("ij,ij->i", Q, Q) * share, minlength=levels)
            counts += np.bincount(codes, weights=times, minlength=levels)
            lines += len(codes)
        return sums, shares, counts, uncancelled, lines

    sums, shares, counts, uncancelled, lines = totals_of(over(summed, cluster.values))
    return ClusterSums(sums, shares, np.round(counts).astype(np.int64), uncancelled, int(lines[0]))


def several_clusters(over: Over, cluster: Column, p: int) -> ClusterSums:
    """Sum the scores of each cluster; refuse fewer than two that have rows."""
    sums = cluster_sums(over, cluster, p)
    found = int(np.count_nonzero(sums.rows))
    if found < 2:
        raise FitError(
            f"`{cluster.name}` has {count_noun(found, 'cluster')} in the rows used; clustered errors need at least two."
        )
    return sums


def clustered_errors(
    kind: str, over: Over, cluster: Column, strata: Column | None, n: int, rest: int, p: int
) -> Errors:
    """Return errors of summed scores (CR1), or of what estimates would be without each cluster (CR3).

    Their middle is G/(G − 1)·(n − 1)/(n − k)·Σ u_g u_gᵀ, or (G − 1)/G·Σ d_g d_gᵀ with d_g = (I − S_g)⁻¹u_g, in which directions
    that a cluster decides alone have no part. With strata, the sums of those within each (CR1 alone).
    """
    sums, drawn = several_clusters(over, cluster, p), ("", 0)
    clusters = int(np.count_nonzero(sums.rows))
    if kind == "CR3":
        sizes = sums.rows.astype(np.float64)
        if float(np.minimum(sizes, p + 1).sum()) * (p + 1) > _MANY * _CELLS:
            remark(
                f"`{cluster.name}` has {clusters:,} clusters: errors from leaving out one at a time (CR3) take long, and with so many the usual ones "
                f"(CR1) say nearly the same."
            )
        moved, alone = moves_without(over, cluster, sums, p)
        middle = moved.T @ moved * ((clusters - 1) / clusters)
        fitted = _stacked(alone)
    else:
        if strata is None:
            middle = sums.scores.T @ sums.scores * (clusters / (clusters - 1) * (n - 1) / rest)
        else:
            of_clusters = strata_of_clusters(over, cluster, strata)
            middle = squared_within(sums.scores, of_clusters, cluster, strata) * ((n - 1) / rest)
            drawn = strata.name, len(np.unique(of_clusters[of_clusters >= 0]))
        fitted = directions_alone(over, cluster, sums, p)
    own = "CR3" if kind == "CR3" else "clustered"
    free = clusters - max(drawn[1], 1)
    return Errors(own, free, cluster.name, clusters, middle, sums.uncancelled, fitted, *drawn, sums.even)


def directions_alone(over: Over, cluster: Column, sums: ClusterSums, p: int) -> Array | None:
    """Return the whitened directions that a cluster decides alone, shape (k, p + 1); None where there are none."""
    candidates = np.flatnonzero(sums.shares > 1 - ALONE)
    return _stacked([found for some in _decomposed(over, cluster, candidates, sums.rows, p) for found in some.fitted()])


def _stacked(alone: list[tuple[int, Array]]) -> Array | None:
    return np.vstack([directions for _, directions in alone]) if alone else None


def moves_without(over: Over, cluster: Column, sums: ClusterSums, p: int) -> tuple[Array, list[tuple[int, Array]]]:
    """Return by how much the whitened estimates exceed those without each cluster, and the directions that a cluster decides alone.

    Shape (clusters, p + 1), 0 in these directions; and of each such cluster its place and its directions, shape (k, p + 1).
    """
    moved, alone = np.zeros_like(sums.scores), list[tuple[int, Array]]()
    here, scores = np.flatnonzero(sums.rows), sums.scores[..., None]
    small = sums.rows[here] <= p
    for places, products in products_within(over, cluster, here[~small], p):
        heavy = _is_heavy(products)
        light = places[~heavy]
        moved[light] = np.linalg.solve(np.eye(p + 1) - products[~heavy], scores[light])[..., 0]
        alone += _move_heavy(moved, sums.scores, _of_products(places[heavy], products[heavy]))
    for places, rows in _rows_of(over, cluster, here[small], sums.rows, p):
        products, across = rows @ rows.transpose(0, 2, 1), rows.transpose(0, 2, 1)
        heavy = _is_heavy(products)
        light = places[~heavy]
        inside = np.linalg.solve(np.eye(rows.shape[1]) - products[~heavy], rows[~heavy] @ scores[light])
        moved[light] = (scores[light] + across[~heavy] @ inside)[..., 0]
        alone += _move_heavy(moved, sums.scores, _of_rows(places[heavy], rows[heavy], products[heavy]))
    return moved, alone


def _move_heavy(moved: Array, scores: Array, own: _Decomposed) -> list[tuple[int, Array]]:
    """Put in by how much estimates exceed those without clusters that may decide a direction alone; return the directions that they do."""
    along = np.einsum("kij,ki->kj", own.vectors, scores[own.places])
    moved[own.places] = scores[own.places] + np.einsum("kij,kj->ki", own.vectors, along * (own.inverse - 1))
    return own.fitted()


class _Decomposed(NamedTuple):
    """The products of whitened columns within each of some clusters, by their own directions."""

    places: NDArray[np.intp]
    values: Array
    vectors: Array

    @property
    def alone(self) -> NDArray[np.bool_]:
        return self.values > 1 - ALONE

    @property
    def inverse(self) -> Array:
        """1/(1 − λ), 0 in directions that the cluster decides alone."""
        return np.where(self.alone, 0.0, 1 / np.where(self.alone, 1.0, 1 - self.values))

    def fitted(self) -> list[tuple[int, Array]]:
        """Return the directions that a cluster decides alone, with its place."""
        return [(int(k), v[:, a].T) for k, v, a in zip(self.places, self.vectors, self.alone, strict=True) if a.any()]


def _is_heavy(products: Array) -> NDArray[np.bool_]:
    """Return which clusters may decide a direction alone, or nearly: the size is no less than the largest of their own values."""
    found: NDArray[np.bool_] = np.linalg.norm(products, axis=(1, 2)) > _LIGHT
    return found


def _of_products(places: NDArray[np.intp], products: Array) -> _Decomposed:
    return _Decomposed(places, *np.linalg.eigh(products))


def _of_rows(places: NDArray[np.intp], rows: Array, products: Array) -> _Decomposed:
    """Return the directions of some clusters within their rows, shape (clusters, rows, p + 1), with the products of these rows; in all others nothing is told."""
    values, vectors = np.linalg.eigh(products)
    values = np.maximum(values, 0.0)
    with np.errstate(divide="ignore"):
        lengths = np.where(values > _NOTHING, 1 / np.sqrt(values), 0.0)
    return _Decomposed(places, values, rows.transpose(0, 2, 1) @ vectors * lengths[:, None])


def _decomposed(
    over: Over, cluster: Column, places: NDArray[np.intp], rows: NDArray[np.int64], p: int
) -> Iterator[_Decomposed]:
    """Yield some clusters by their own directions, some at a time."""
    small = rows[places] <= p
    for some, products in products_within(over, cluster, places[~small], p):
        yield _of_products(some, products)
    for some, own in _rows_of(over, cluster, places[small], rows, p):
        yield _of_rows(some, own, own @ own.transpose(0, 2, 1))


def _rows_of(
    over: Over, cluster: Column, places: NDArray[np.intp], rows: NDArray[np.int64], p: int
) -> Iterator[tuple[NDArray[np.intp], Array]]:
    """Yield clusters of as many rows at a time, with the whitened columns of these, shape (clusters, rows, p + 1); `rows` is no less than each has."""
    batch = np.cumsum(rows[places]) // max(1, _CELLS // (p + 1))
    for some in np.split(places, np.flatnonzero(np.diff(batch)) + 1) if len(places) else ():
        at = np.full(len(cluster.levels) + 1, -1)  # the last is of rows without a cluster
        at[some] = np.arange(len(some))

        def taken(rows: Iterator[ScoredRows], clusters: NDArray[np.integer], at: NDArray[np.intp] = at) -> list[Any]:
            return list(_gathered(rows, clusters, at))

        found = [own for part in over(taken, cluster.values) for own in part]
        where, inside = np.concatenate([w for w, _ in found]), np.vstack([own for _, own in found])
        order, counts = np.argsort(where, kind="stable"), np.bincount(where, minlength=len(some))
        starts = np.cumsum(counts) - counts
        for count in np.unique(counts[counts > 0]):
            who = np.flatnonzero(counts == count)
            yield some[who], inside[order[starts[who][:, None] + np.arange(count)]]


def products_within(
    over: Over, cluster: Column, places: NDArray[np.intp], p: int
) -> Iterator[tuple[NDArray[np.intp], Array]]:
    """Yield some clusters at a time, with the products of whitened columns over their rows, shape (clusters, p + 1, p + 1)."""
    most = max(1, _CELLS // (p + 1) ** 2)
    for start in range(0, len(places), most):
        some = places[start : start + most]
        at = np.full(len(cluster.levels) + 1, -1)  # the last is of rows without a cluster
        at[some] = np.arange(len(some))
        products = np.zeros((len(some), p + 1, p + 1))
        for there, own in over(_products_at(at, p + 1), cluster.values):
            products[there] += own
        yield some, products


def _products_at(at: NDArray[np.intp], size: int) -> Callable[..., tuple[NDArray[np.intp], Array]]:
    """Return what takes the products of the clusters that some rows are of, those with a place."""

    def multiplied(rows: Iterator[ScoredRows], clusters: NDArray[np.integer]) -> tuple[NDArray[np.intp], Array]:
        there = np.unique(at[clusters])
        there = there[there >= 0]
        own = np.zeros((len(there), size, size))
        for places, inside in _gathered(rows, clusters, at):
            order = np.argsort(places, kind="stable")
            ordered, begin = np.searchsorted(there, places[order]), 0
            for end in (np.flatnonzero(np.diff(ordered, append=-1)) + 1).tolist():
                some = inside[order[begin:end]]
                own[ordered[begin]] += np.dot(some.T, some)
                begin = end
        return there, own

    return multiplied


def _gathered(
    rows: Iterator[ScoredRows], clusters: NDArray[np.integer], at: NDArray[np.intp]
) -> Iterator[tuple[NDArray[np.intp], Array]]:
    """Yield the places of clusters and the whitened columns of many rows at once, so that those of one cluster come together."""
    places, inside, held = list[NDArray[np.intp]](), list[Array](), 0
    for chunk, Q, _, _, share, _ in rows:
        here = at[clusters[chunk]]
        told = here >= 0
        places.append(here[told])
        inside.append(Q[told] * np.sqrt(share[told])[:, None])
        held += inside[-1].size
        if held > _GATHERED:
            yield np.concatenate(places), np.vstack(inside)
            places, inside, held = [], [], 0
    if held:
        yield np.concatenate(places), np.vstack(inside)


def nested_in(cluster: Column, fixed_effects: FixedEffects, over: Over) -> bool:
    """Return whether each of the levels taken out lies in one cluster."""
    low, high = codes_within(over, len(fixed_effects.rows_at), fixed_effects.codes, cluster.values)
    return not (high > low).any()


def refuse_crossed(cluster: Column, fixed_effects: FixedEffects) -> None:
    """Refuse levels taken out that lie in several clusters, where each is to be left out: without one of these, they would be others."""
    name = fixed_effects.names[0]
    raise FitError(
        f"Levels of `{name}` that are taken out lie in several clusters of `{cluster.name}`, and would be others without one of them; what "
        f"estimates would be without each cluster (CR3) needs each level in one. Cluster by `{name}`, or take the usual clustered errors (CR1)."
    )
