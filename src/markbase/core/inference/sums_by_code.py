"""Sums of what rows contribute, by a number that each row has."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

import numpy as np
from numpy.typing import NDArray

from markbase.core.inference.standard_errors import Over, ScoredRows

Array = NDArray[np.float64]
Contribution = Callable[[ScoredRows], Array]
"""Returns what each of some rows contributes, shape (rows, width)."""


def scores_of(rows: ScoredRows) -> Array:
    """Return the scores of rows in whitened columns, each as often as it stands for, shape (rows, p + 1)."""
    often = rows.score if rows.times is None else rows.score * rows.times
    found: Array = rows.Q * often[:, None]
    return found


def sums_by_code(
    over: Over, codes: Any, start: int, count: int, contribution: Contribution, width: int
) -> tuple[Array, NDArray[np.bool_]]:
    """Sum what rows contribute by their codes, those from a number on.

    Parameters
    ----------
    over : Over
        What applies a function to the scored rows of every part.
    codes : array, shape (rows,)
        The number of each row.
    start, count : int
        The first number, and how many.
    contribution : callable
        What each row contributes.
    width : int
        How many figures that are.

    Returns
    -------
    sums : ndarray, shape (count, width)
        The sums.
    there : ndarray of bool, shape (count,)
        Which numbers have rows.
    """

    def summed(rows: Iterator[ScoredRows], codes: NDArray[Any]) -> tuple[NDArray[np.intp], Array]:
        where, values = [np.zeros(0, dtype=np.intp)], [np.zeros((0, width))]
        for own in rows:
            at = codes[own.chunk].astype(np.intp) - start
            inside = (at >= 0) & (at < count)
            places, told = _summed(at[inside], contribution(own)[inside])
            where.append(places)
            values.append(told)
        return _summed(np.concatenate(where), np.concatenate(values))

    sums, there = np.zeros((count, width)), np.zeros(count, dtype=bool)
    for places, own in over(summed, codes):
        sums[places] += own
        there[places] = True
    return sums, there


def _summed(places: NDArray[np.intp], values: Array) -> tuple[NDArray[np.intp], Array]:
    """Return the different places, and the sum of the values at each."""
    order = np.argsort(places, kind="stable")
    begins = np.flatnonzero(np.diff(places[order], prepend=-1))
    return places[order[begins]], np.add.reduceat(values[order], begins) if len(begins) else values
