"""How far sums over rows are off by the draw: of rows drawn in whole clusters, within strata, or each by itself with a weight.

References
----------
Obuchowski (1997), Biometrics 53(2), 567-578, doi:10.2307/2533958 (the area under the curve of rows in clusters).
Fuller (1975), Sankhyā C 37(3), 117-132 (clusters, or rows, within strata).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from markbase.core.inference.strata import stretch_of
from markbase.core.rows.parts import each_part
from markbase.core.rows.sums import total_of

Array = NDArray[np.float64]


class _Sums(NamedTuple):
    """What rows sum to in each unit: a cluster, or without clusters a stratum, in which rows are then what was drawn."""

    values: Array
    """Shape (sets, units): the sums."""
    squares: Array
    """The same of their squares."""
    rows: Array
    """How many rows there are."""
    strata: Array
    """Shape (units,): the stratum of each cluster, where these were drawn within strata; 0 otherwise."""


@dataclass(frozen=True, eq=False)
class DrawnRows:
    """Rows with an event or without, each with a probability, and how they were drawn."""

    happened: Any
    """Shape (rows,): 1 for the event, 0 otherwise."""
    p: Any
    """Shape (rows,): the probabilities."""
    weights: Any | None
    """Shape (rows,): sampling weights; None for none."""
    times: Any | None
    """Shape (rows,): for how many rows each stands; None for one."""
    cluster: tuple[int, Any] | None
    """How many clusters there may be, and the place of each row's, shape (rows,); None for none."""
    strata: tuple[int, Any] | None
    """The same of strata."""
    words: str
    """What of it intervals allow for, in a few words; empty where rows are independent."""
    crossed: tuple[tuple[int, Any], tuple[int, Any]] | None = None
    """The same of clusters of a second kind, and of the cells in which the two cross; None for none."""
    dyads: bool = False
    """Whether the two kinds are the members of dyads, the same ones in either, and the cells these dyads."""
    also: Any | None = None
    """Shape (rows,): a second unit of each row, to which it counts as well; None for none."""
    df: float = np.inf
    """Degrees of freedom of intervals: clusters less one, or less strata, or those of replicate weights; infinite where there are none."""
    replicates: tuple[float, tuple[Any, ...]] | None = None
    """What squares of sums by replicate weights are multiplied with, and the replicate weights over the first ones, each of shape (rows,); None for none."""
    counted: Callable[[Array], Array] = lambda p: p
    """The probability by which a row of another one is counted, where rows of nearly equal ones are taken together."""

    def _two_ways(self, variance: Callable[[DrawnRows], Array]) -> Array:
        """Return the sum of a variance by each kind of clusters, less that by the cells in which they cross, and no less than either.

        Of dyads that by members, in which rows count to both of theirs, less that by dyads.
        """
        assert self.crossed is not None
        one, other, cells = (
            variance(replace(self, cluster=own, crossed=None)) for own in (self.cluster, *self.crossed)
        )
        both = variance(replace(self, also=self.crossed[0][1], crossed=None)) if self.dyads else one + other
        return np.maximum(both - cells, np.maximum(one, other))

    def error_of_area(self, values: Array, scores: Array) -> float:
        """Return the standard error of an area under the curve from DeLong's components.

        Parameters
        ----------
        values : ndarray, shape (k,)
            The probabilities that occur, the lowest first.
        scores : ndarray, shape (2, k)
            By how much the component of a row with the event, and of one without, is above the area, as a share of all such rows.
        """
        if self.crossed is not None:
            return float(np.sqrt(self._two_ways(lambda own: np.square(own.error_of_area(values, scores)))))
        if self.replicates is not None:
            return float(np.sqrt(self._by_replicates(values, scores, np.zeros(scores.shape, dtype=np.intp))[0]))
        apart = self.cluster is not None and self.strata is None
        sides = np.array([[0], [1 if apart else 0]])
        sums = self._sums(values, scores, np.broadcast_to(sides, scores.shape))
        if not apart:
            return float(np.sqrt(self._variances(sums)[0]))
        own = sums.values @ sums.values.T
        there = np.append(np.count_nonzero(sums.rows, axis=1), np.count_nonzero(sums.rows.sum(axis=0)))
        if min(there) < 2:
            return float("nan")
        one, other, both = there / (there - 1)
        return float(np.sqrt(max(one * own[0, 0] + other * own[1, 1] + 2 * both * own[0, 1], 0.0)))

    def variances_of_shares(self, edges: Array, shares: Array, sizes: Array) -> Array:
        """Return the variance of the share with the event between some probabilities, shape (k,).

        Parameters
        ----------
        edges : ndarray, shape (k − 1,)
            The highest probability of each part but the last.
        shares, sizes : ndarray, shape (k,)
            The shares, and the sum of weights of each part.
        """
        if self.crossed is not None:
            return self._two_ways(lambda own: own.variances_of_shares(edges, shares, sizes))
        parts = np.arange(len(shares))
        scores = np.array([(1 - shares) / sizes, -shares / sizes])
        if self.replicates is not None:
            return self._by_replicates(edges, scores, np.broadcast_to(parts, scores.shape))
        return self._variances(self._sums(edges, scores, np.broadcast_to(parts, scores.shape)))

    def _by_replicates(self, edges: Array, scores: Array, sets: NDArray[np.intp]) -> Array:
        """Return the variance of the sum of each set, shape (sets,), by how it differs with each of the replicate weights; arguments as of `_sums`."""
        assert self.replicates is not None
        scale, ratios = self.replicates
        size = int(sets.max()) + 1

        def summed(happened: Array, p: Array, weights: Any, *others: Array) -> Array:
            side, place = (happened != 1).astype(np.intp), np.searchsorted(edges, self.counted(p))
            own = scores[side, place] * (1.0 if weights is None else weights)
            return np.array([np.bincount(sets[side, place], own * ratio, size) for ratio in others])

        found: Array = scale * np.square(total_of(each_part(summed, self.happened, self.p, self.weights, *ratios))).sum(
            axis=0
        )
        return found

    def _sums(self, edges: Array, scores: Array, sets: NDArray[np.intp]) -> _Sums:
        """Sum scores, shape (2, k), of rows with the event and without by set, shape (2, k), and unit; the edges say which of k a row has."""
        grouping = self.cluster or self.strata
        units = grouping[0] if grouping else 1
        size = (int(sets.max()) + 1, units)

        def summed(
            happened: Array, p: Array, weights: Any, times: Any, also: Any, cluster: Any, strata: Any
        ) -> tuple[Array, Array]:
            side, place = (happened != 1).astype(np.intp), np.searchsorted(edges, self.counted(p))
            own = scores[side, place] * (1.0 if weights is None else weights)
            unit = cluster if cluster is not None else np.zeros(1, dtype=np.intp) if strata is None else strata
            at = sets[side, place] * units + unit
            often = np.ones(len(p)) if times is None else times
            told = np.array([np.bincount(at, v, size[0] * units) for v in (own * often, own**2 * often, often)])
            if also is not None:
                told += [np.bincount(at - unit + also, v, told.shape[1]) for v in (own * often, own**2 * often, often)]
            within = np.zeros(units)
            if cluster is not None and strata is not None:
                within[cluster] = strata
            return told.astype(np.float64).reshape(3, *size), within

        columns = [None if own is None else own[1] for own in (self.cluster, self.strata)]
        found = list(each_part(summed, self.happened, self.p, self.weights, self.times, self.also, *columns))
        values, squares, rows = total_of(sums for sums, _ in found)
        return _Sums(values, squares, rows, np.max([within for _, within in found], axis=0))

    def _variances(self, sums: _Sums) -> Array:
        """Return the variance of the sum of each set, by how clusters, or rows, differ within their strata, shape (sets,)."""
        rows = sums.rows.sum(axis=0)
        if self.cluster is None:
            drawn, total, squares = rows, sums.values, sums.squares
        else:
            here = rows > 0
            stratum = sums.strata[here].astype(np.intp)
            drawn = np.bincount(stratum).astype(np.float64)
            total, squares = (
                np.array([np.bincount(stratum, own) for own in each[:, here]]) for each in (sums.values, sums.values**2)
            )
        away = squares - total**2 / np.maximum(drawn, 1)
        found: Array = np.maximum(away, 0.0) @ stretch_of(drawn)
        return found
