"""Errors of rows that may go together two ways, such as ratings of the same song and ratings by the same judge.

Two rows may go together where they share a cluster of either kind. Squared sums of scores within the clusters of each kind count pairs that share
both twice, so those of the cells in which two clusters cross are taken away once. What is left need not be a variance in every
direction: where it is below 0 it is taken as 0, in whitened columns, so that the errors do not depend on the base of a group.

References
----------
Cameron, Gelbach & Miller (2011), Journal of Business & Economic Statistics 29(2), 238-249, doi:10.1198/jbes.2010.07136.
MacKinnon, Nielsen & Webb (2021), Journal of Business & Economic Statistics 39(2), 505-519, doi:10.1080/07350015.2019.1677473.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any

import numpy as np
from numpy.typing import NDArray

from markbase.core.errors import FitError
from markbase.core.inference.clustered_errors import ClusterSums, directions_alone, several_clusters
from markbase.core.inference.standard_errors import Crossed, Errors, Over
from markbase.core.inference.sums_by_code import scores_of, sums_by_code
from markbase.core.rows.parts import each_part, in_parts
from markbase.core.rows.row_functions import made_of
from markbase.core.study.column import Column

Array = NDArray[np.float64]
_HELD = 1 << 23
"""Numbers that are held of the sums of cells at a time."""
_MOST_CELLS = 20_000_000
"""So many cells of rows in parts are told apart."""
_BELOW = 1e-9
"""A share of the largest variance: what is further below 0 is no rounding."""
Numbered = tuple[Any, int, bool]
"""The number of each row's cell, how many there are, and whether none has a second row."""


def crossed_errors(over: Over, cluster: Column, crossed: Column, n: int, rest: int, p: int) -> Errors:
    """Return errors of scores summed within the clusters of each of two kinds.

    Their middle is (n − 1)/(n − k)·(V₁ + V₂ − V₁₂) with V = G/(G − 1)·Σ u_g u_gᵀ over the G clusters of a kind, or cells, and t is on one less than the
    fewer clusters.
    """
    each = [several_clusters(over, column, p) for column in (cluster, crossed)]
    counts = [int(np.count_nonzero(sums.rows)) for sums in each]
    own = [
        sums.scores.T @ sums.scores * (count / (count - 1) * (n - 1) / rest)
        for sums, count in zip(each, counts, strict=True)
    ]
    shared, cells = within_cells(over, _cells_of(cluster, crossed), each[0], p)
    values, vectors = np.linalg.eigh(own[0] + own[1] - shared * (cells / max(cells - 1, 1) * (n - 1) / rest))
    below = bool(values[0] < -_BELOW * values[-1])
    middle = (vectors * np.maximum(values, 0.0)) @ vectors.T
    fitted = [directions_alone(over, column, sums, p) for column, sums in zip((cluster, crossed), each, strict=True)]
    alone = np.vstack([found for found in fitted if found is not None]) if any(f is not None for f in fitted) else None
    return Errors(
        "clustered",
        min(counts) - 1,
        cluster.name,
        counts[0],
        middle,
        each[0].uncancelled,
        alone,
        even_clusters=each[0].even,
        crossed=Crossed(crossed.name, counts[1], each[1].even, cells, np.array(own), below),
    )


def within_cells(over: Over, numbered: Numbered, sums: ClusterSums, p: int) -> tuple[Array, int]:
    """Return the squared sums of scores within cells, and how many of these have rows."""
    codes, cells, single = numbered
    if single:  # no cell has a second row
        return sums.uncancelled, sums.lines
    most = max(1, _HELD // (p + 1))
    middle, found = np.zeros((p + 1, p + 1)), 0
    for start in range(0, cells, most):
        count = min(most, cells - start)
        own, there = sums_by_code(over, codes, start, count, scores_of, p + 1)
        middle += own.T @ own
        found += int(np.count_nonzero(there))
    return middle, found


def _cells_of(cluster: Column, crossed: Column) -> Numbered:
    """Return what `numbered_cells` gives, which is kept, since many fits ask for it."""
    kept: tuple[Column, Numbered] | None = cluster.__dict__.get("cells")
    if kept is None or kept[0] is not crossed:
        kept = cluster.__dict__["cells"] = crossed, numbered_cells(cluster, crossed)
    return kept[1]


def numbered_cells(cluster: Column, crossed: Column, turned: bool = False) -> Numbered:
    """Tell apart the cells in which the clusters of two kinds cross.

    Parameters
    ----------
    cluster, crossed : Column
        Two groups.
    turned : bool
        Whether a cell is the same the other way round, of groups with the same levels.

    Returns
    -------
    codes : array, shape (rows,)
        The number of each row's cell, as a float; of no meaning where one of the two has no value.
    cells : int
        How many occur.
    single : bool
        Whether none has a second row.

    Raises
    ------
    FitError
        If rows come in parts, and the cells are more than can be told apart there.
    """
    size = len(crossed.levels)

    def number(one: NDArray[np.integer], other: NDArray[np.integer]) -> tuple[Array]:
        first, second = (np.minimum(one, other), np.maximum(one, other)) if turned else (one, other)
        return (np.where((one < 0) | (other < 0), -1.0, first.astype(np.float64) * size + second),)

    (numbers,) = made_of(1, number, cluster.values, crossed.values)
    if not in_parts(numbers):
        every, codes = np.unique(numbers, return_inverse=True)
        gaps = int(every[0] < 0)
        return codes.astype(np.float64) - gaps, len(every) - gaps, bool(np.bincount(codes)[gaps:].max() == 1)
    rows, different = 0, np.zeros(0)
    for told, own in _merged(each_part(_distinct, numbers)):
        rows, different = told, own
        if len(different) > _MOST_CELLS:
            raise FitError(
                f"`{cluster.name}` and `{crossed.name}` cross in more than {_MOST_CELLS:,} cells, which are not told apart of rows in parts: cluster by one of the two, "
                f"or take a sample of the rows into memory."
            )

    def placed(numbers: Array) -> tuple[Array]:
        return (np.searchsorted(different, numbers).astype(np.float64),)

    (codes,) = made_of(1, placed, numbers)
    return codes, len(different), rows == len(different)


def _distinct(numbers: Array) -> tuple[int, Array]:
    """Return how many numbers are not below 0, and which these are."""
    there = numbers[numbers >= 0]
    return len(there), np.unique(there)


def _merged(parts: Iterable[tuple[int, Array]]) -> Iterator[tuple[int, Array]]:
    """Yield the counts and the different numbers of the parts up to some, and in the end of all; numbers are merged as they pile up."""
    rows, whole, waiting, held = 0, np.zeros(0), list[Array](), 0
    for count, own in parts:
        rows, held = rows + count, held + len(own)
        waiting.append(own)
        if held > len(whole):
            whole, waiting, held = np.unique(np.concatenate([whole, *waiting])), [], 0
            yield rows, whole
    yield rows, np.unique(np.concatenate([whole, *waiting]))
