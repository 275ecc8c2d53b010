"""How an outcome lies within the levels of a column, as the rows were made: with the same mean in each, or as the event that ends it.

References
----------
Allison (1982), Sociological Methodology 13, 61-98, doi:10.2307/270718, and Singer & Willett (1993), Journal of Educational Statistics 18(2),
155-195, doi:10.3102/10769986018002155 (event histories in discrete time, whose rows of one person count as independent).
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
Codes = NDArray[np.integer]
_FEWEST_LEVELS, _FEWEST_ROWS = 5, 1.5
"""So many levels, of so many rows on average, are looked at."""
_EVEN = 0.01
"""Means that lie no further apart, in standard deviations of the outcome, are the same but for rounding."""


class Histories(NamedTuple):
    """Rows of which those of a level end with an event."""

    event: float
    """The value of the outcome, 0 or 1, that ends them."""
    ended: int
    """How many levels end so."""
    levels: int
    """How many there are."""


def same_mean(values: Array, codes: Codes) -> float | None:
    """Return the mean that an outcome has in every level, but for rounding; None where means differ, or levels are few or of one row.

    Parameters
    ----------
    values : ndarray, shape (rows,)
        The outcome.
    codes : ndarray of int, shape (rows,)
        The level of each row, from 0; below 0 for none.

    Returns
    -------
    float or None
        The mean.
    """
    counts = _counts(codes)
    if counts is None or counts[counts > 0].min() < 2:
        return None
    means = np.bincount(codes, weights=values)[counts > 0] / counts[counts > 0]
    return float(values.mean()) if 0 < float(np.std(values)) * _EVEN >= float(np.ptp(means)) else None


def histories(happened: Array, codes: Codes) -> Histories | None:
    """Return whether the rows of every level end, at the latest, with an event, after different numbers of rows: an event history.

    Parameters
    ----------
    happened : ndarray, shape (rows,)
        The outcome, 0 or 1.
    codes : ndarray of int, shape (rows,)
        The level of each row, from 0, the rows of a level in the order of time; below 0 for none.

    Returns
    -------
    Histories or None
        None where a level has rows after the event, none has several rows, or levels are few.
    """
    counts = _counts(codes)
    if counts is None or np.count_nonzero(np.diff(happened)) < 2:
        return None  # of rows in the order of the outcome the file does not tell the time
    last = np.zeros(len(counts), dtype=np.intp)
    last[codes] = np.arange(len(codes))  # of several rows the one written last stays
    for event in (1.0, 0.0):
        at = np.flatnonzero(happened == event)
        lengths = counts[codes[at]]
        ends = len(at) >= _FEWEST_LEVELS and np.array_equal(last[codes[at]], at)
        if ends and len(np.unique(lengths)) > 1:
            return Histories(event, len(at), int(np.count_nonzero(counts)))
    return None


def _counts(codes: Codes) -> NDArray[np.intp] | None:
    """Count the rows of each level; None where some have none, or levels are few, or of hardly more than a row."""
    if not len(codes) or codes.min() < 0:
        return None
    counts = np.bincount(codes)
    levels = int(np.count_nonzero(counts))
    return counts if levels >= _FEWEST_LEVELS and len(codes) >= _FEWEST_ROWS * levels else None
