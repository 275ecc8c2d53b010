"""Whether rows on which a fit is judged are rows that it was made of."""

from __future__ import annotations

import math

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.results.any_fit import AnyFit
from markbase.core.results.linear import LinearFit
from markbase.core.results.logistic import LogisticFit
from markbase.core.results.stored_fit import StoredFit
from markbase.core.rows.parts import InParts

Array = NDArray[np.float64]
_SAME = 1e-9
"""Figures, and predictions, that differ by a smaller share are the same."""
_MOST = 500_000
"""Rows up to which they are held against one another."""
_BEYOND, _SHARE = 5.0, 0.02
"""By so many standard errors more than by chance, and by so large a share of the rows, must be the same."""


def rows_seen(fit: AnyFit | StoredFit, table: pd.DataFrame, observed: Array, predicted: Array) -> int:
    """Return how many of the rows scored seem to be rows of the fit: by outcome and prediction, or, of rows that are not in memory, by all figures being the same.

    Of few groups and answers rows are the same by chance. How often, the rows of the fit tell, of which each is held against the others.
    """
    rows, used = len(observed), fit.rows_used.counted
    if rows == fit.sample.used == used and np.allclose(
        table["held_out"], table["of_the_fit"], rtol=_SAME, atol=_SAME, equal_nan=True
    ):
        return rows
    if (
        not isinstance(fit, (LinearFit, LogisticFit))
        or isinstance(fit.outcome.values, InParts)
        or isinstance(observed, InParts)
    ):
        return 0
    if max(rows, fit.sample.used) > _MOST:
        return 0
    inside = fit.rows_used.inside
    ours, theirs = _pairs(fit.outcome.values[inside], fit._fitted[inside]), _pairs(observed, predicted)
    places, counts = np.unique(ours, return_counts=True)
    again = int(np.count_nonzero(np.isin(theirs, places)))
    chance = float(counts[counts > 1].sum() / len(ours))
    expected, spread = rows * chance, math.sqrt(rows * chance * (1 - chance))
    beyond = again - expected
    if chance == 1 or beyond <= _BEYOND * spread or beyond < max(_SHARE * rows, 1):
        return 0
    return min(round(beyond / (1 - chance)), rows)  # those that are the same by chance are not counted


def seen_words(seen: int, rows: int) -> str:
    """Say how many of the rows scored seem to be rows of the fit."""
    which = "All of the rows" if seen == rows else f"{seen:,} of the {rows:,} rows"
    return f"{which} scored seem to be rows that the fit was made of: same outcome, same prediction. They do not tell how it does on others"


def _pairs(observed: Array, predicted: Array) -> NDArray[np.complex128]:
    """Return outcome and prediction of each row as one value, which rounding does not change."""
    digits = 9 - math.floor(math.log10(max(float(np.abs(predicted).max()), 1e-300)))
    return np.round(observed.astype(np.float64), 12) + 1j * np.round(predicted, min(max(digits, -300), 300))
