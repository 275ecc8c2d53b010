"""Numeric columns whose values come in two bunches of which the one looks like the other in another unit."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np
from numpy.typing import NDArray

from markbase.core.errors import count_noun
from markbase.core.formatting import plain
from markbase.core.rows.parts import InParts
from markbase.core.study.column import Column

Array = NDArray[np.float64]
_GAP = 5.0
"""So many times the highest of the lower bunch is the lowest of the upper one, with nothing in between."""
_UNITS = (10, 100, 1000)
"""What one unit is of another."""
_ENOUGH, _FEWEST, _DISTINCT, _SHARE, _FIT = 40, 3, 8, 0.01, 0.9
"""Rows that tell; values of the smaller bunch, and of the larger one; the share of the smaller one in all, and how much of it lies within the larger, rescaled."""
_YEARS, _AGES = (1880.0, 2100.0), (0.0, 115.0)
_LOOKED_AT = 4000
"""Rows that are looked at before all are."""


def mixed_units(column: Column, codes: Sequence[float] = ()) -> str:
    """Say that the values of a numeric column come in two bunches of different units, or of ages and years; empty where they do not.

    Values that look like codes for a missing answer do not count. Of rows in parts those that are kept in memory are looked at.
    """
    if column.is_categorical or not column.valid or not column.span[0] >= 0 or not np.isfinite(column.span[1]):
        return ""
    if column.span[1] < _GAP * max(column.span[0], 1e-300) or column.valid < _ENOUGH:
        return ""
    every = column.values.kept if isinstance(column.values, InParts) else column.values
    if len(codes):
        every = every[~np.isin(every, codes)]
    some = every[np.linspace(0, len(every) - 1, min(len(every), _LOOKED_AT)).astype(np.intp)]
    if not list(_bunches(some)):
        return ""
    return next((told for lower, upper in _bunches(every) if (told := _told(lower, upper))), "")


def _bunches(values: Array) -> Iterator[tuple[Array, Array]]:
    """Yield the values above 0 in two bunches, parted where the widest gap is, if it is wide."""
    rising = np.sort(values[values > 0])
    if len(rising) < 2 * _FEWEST:
        return
    ratios = rising[1:] / rising[:-1]
    widest = int(np.argmax(ratios)) + 1
    if ratios[widest - 1] >= _GAP:
        yield rising[:widest], rising[widest:]


def _told(lower: Array, upper: Array) -> str:
    """Say what two bunches are to one another; empty for nothing known."""
    smaller, larger = (lower, upper) if len(lower) < len(upper) else (upper, lower)
    few = len(smaller) < _SHARE * (len(lower) + len(upper))
    if few or len(np.unique(smaller)) < _FEWEST or len(np.unique(larger)) < _DISTINCT:
        return ""
    told = [f"{plain(some[0])} to {plain(some[-1])} ({count_noun(len(some), 'row')})" for some in (lower, upper)]
    if _within(lower, _AGES) and _within(upper, _YEARS) and np.array_equal(upper, np.round(upper)):
        return f"values of {told[0]} and of {told[1]}: ages and years in one column?"
    alike = [(abs(np.log(np.median(upper) / np.median(lower) / k)), k) for k in _UNITS]
    _, k = min(alike)
    there = smaller * k if smaller is lower else smaller / k
    low, high = np.quantile(larger, (0.05, 0.95))
    if high / low > upper[0] / lower[-1]:  # one long tail, whose gaps are wide as well
        return ""
    if np.mean((there >= larger[0]) & (there <= larger[-1])) < _FIT:
        return ""
    return f"values of {told[0]} and of {told[1]}, and none in between, the ones about {k} times the others: two units in one column?"


def _within(values: Array, span: tuple[float, float]) -> bool:
    return bool(span[0] <= values[0] and values[-1] <= span[1])
