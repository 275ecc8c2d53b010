"""Means of the outcome in the levels of a column, such as the mean of a class, or of the others in it, among the terms (peer effects).

References
----------
Manski (1993), Review of Economic Studies 60(3), 531-542, doi:10.2307/2298123 (the reflection problem).
Guryan, Kroft & Notowidigdo (2009), American Economic Journal: Applied Economics 1(4), 34-68, doi:10.1257/app.1.4.34 (means of the others).
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.repeated_rows import codes_of, may_repeat
from markbase.core.design.shared import ROUNDING, Shared, rounding_room
from markbase.core.rows.parts import bincount_of, each_part, in_parts
from markbase.core.rows.row_functions import all_of, sample_of
from markbase.core.study.column import Column
from markbase.core.study.study import Study

_FEWEST_ROWS, _FEWEST_VALUES, _GLANCE = 20, 3, 2000
"""Rows, and means, that tell; rows that are looked at before all are."""
_WHOLE = 0.5
"""By what rounding to whole numbers may have moved one."""
_FALLS = -0.7
"""How a mean of the others goes with the outcome within a level, as a correlation; rounding blurs it."""
_FIRST_ROWS, _PAIRS, _RISING = 256, 12, 0.25
"""Rows of which pairs of one level are looked at first; so many such pairs tell; the share of them that may rise together, of a mean of the others."""
Array = NDArray[np.float64]


def by_means(study: Study, outcome: Column, terms: Iterable[Column]) -> list[Shared]:
    """Say that a term is the mean of the outcome in the levels of a column, in every row, or that of the other rows there, though nobody says so.

    Of an outcome of two levels the share of one, or its percentage. Columns that a preparing step made are told by how they were made.
    """
    told = []
    groups = None
    for term in terms:
        numbers = () if term.is_categorical or term.made is not None or not term.valid else _could_be(outcome, term)
        if numbers and groups is None:
            groups = [(g, _pairs_of(g)) for n in study.columns if n != outcome.name and _may_group(g := study[n])]
        likely = ((g, n) for g, pairs in groups or () for n in numbers if not _rises(outcome, n[1], term, pairs))
        found = next((f for g, n in likely if (f := _told(outcome, n, term, g)) is not None), None)
        told += [] if found is None else [found]
    return told


def _could_be(outcome: Column, term: Column) -> tuple[tuple[float, float, str], ...]:
    """Return of what a term could be means, by what it spans: of an amount and a step times the values of the outcome, and what such a mean is called."""
    low, high = term.span
    if outcome.is_categorical:
        if len(outcome.levels) != 2:
            return ()
        ways = ((0.0, 1.0, outcome.levels[1].label), (1.0, -1.0, outcome.levels[0].label))
        return tuple(
            (per * start, per * step, f"the {'share' if per == 1 else 'percentage'} of `{outcome.name}` = `{label}`")
            for per in (1.0, 100.0)
            for start, step, label in ways
            if 0 <= low < high <= per
        )
    within = bool(outcome.valid) and outcome.span[0] <= low < high <= outcome.span[1]
    return ((0.0, 1.0, f"the mean of `{outcome.name}`"),) if within else ()


def _may_group(column: Column) -> bool:
    """Return whether a column has levels of several rows."""
    if not column.is_categorical:
        return not in_parts(column.values) and may_repeat(column)
    levels = int(np.count_nonzero(column.counts))
    return 2 <= levels <= column.valid / 2


def _pairs_of(group: Column) -> NDArray[np.intp]:
    """Return some of the first rows, shape (2, pairs), two of one level each."""
    values = sample_of(group.values)[:_FIRST_ROWS]
    order = np.argsort(values, kind="stable")
    rising = values[order]
    alike = (rising[1:] == rising[:-1]) & (rising[1:] >= 0 if group.is_categorical else True)
    return np.stack([order[1:][alike], order[:-1][alike]])


def _rises(outcome: Column, step: float, term: Column, pairs: NDArray[np.intp]) -> bool:
    """Return whether a column differs between rows of one level, and not as a mean of the others does, which never rises as the outcome rises."""
    x, y = (sample_of(own)[pairs] for own in (term.values, outcome.values))
    with np.errstate(invalid="ignore"):
        both = (x[0] - x[1]) * ((y[0] - y[1]) * step)
    if outcome.is_categorical:
        both = both[(y >= 0).all(axis=0)]
    told = both[both != 0]
    told = told[~np.isnan(told)]
    return len(told) >= _PAIRS and float(np.count_nonzero(told > 0)) > _RISING * len(told)


def _told(outcome: Column, numbers: tuple[float, float, str], term: Column, group: Column) -> Shared | None:
    """Say that a term is the mean of the outcome, or of a number made of it, in the levels of a column, or of the others there; None where it is not."""
    start, step, what = numbers
    seen = [sample_of(own)[:_GLANCE] for own in (outcome.present, term.values, outcome.values, group.values)]
    g = codes_of(replace(group, values=seen[3]), slice(None))  # from another start than those of all rows
    inside = seen[0] & (g >= 0) & ~np.isnan(seen[1])
    x, y, g = (own[inside] for own in (seen[1], seen[2], g))
    if len(x) < _FEWEST_ROWS or len(np.unique(x)) < _FEWEST_VALUES:
        return None
    apart = bool(np.any(_spread(x, g)[g] > ROUNDING * np.abs(x)))
    if apart and not _falls(x, y, g, step):
        return None
    codes = codes_of(group, slice(None))
    size = len(group.levels) if group.is_categorical else int(codes.max()) + 1
    there = all_of([outcome.present, codes >= 0])
    y, g = (own[there] for own in (outcome.values, codes))
    count, total = bincount_of(g, None, size), bincount_of(g, y, size)
    room = rounding_room(sample_of(term.values)[sample_of(term.present)])
    of_outcome = rounding_room(sample_of(outcome.values)[sample_of(outcome.present)])
    if of_outcome < _WHOLE:  # the mean may be of numbers that were rounded later; whole ones were not
        room += of_outcome

    def off(x: Array, y: Any, g: Any) -> bool:
        rest = count[g] - apart
        mean = start + step * (total[g] - (y if apart else 0.0)) / np.maximum(rest, 1)
        known = ~np.isnan(x) & (rest > 0)
        return bool(np.any(np.abs(x - mean)[known] > room + ROUNDING * np.abs(mean[known])))

    if any(each_part(off, term.values[there], y, g)):
        return None
    if not apart:
        text = (
            f"`{term.name}` is {what} over the rows of each `{group.name}`, in every row: each row is a part of it, so the two go together by "
            f"construction, whatever rows of one `{group.name}` have to do with one another."
        )
    else:
        text = (
            f"`{term.name}` is {what} over the other rows of each `{group.name}`, in every row: whatever makes rows of one `{group.name}` alike makes the "
            f"two go together, and within a `{group.name}` the one is lower where the other is higher, both by construction; neither says what rows do to one another (the "
            f"reflection problem, Manski 1993)."
        )
    return Shared(term.name, text)


def _falls(x: Array, y: Array, codes: NDArray[np.intp], step: float) -> bool:
    """Return whether a column falls within levels as the outcome, times a step, rises, as the mean of others does: in nearly all levels."""
    n = np.bincount(codes)
    dx, dy = (own - (np.bincount(codes, weights=own) / np.maximum(n, 1))[codes] for own in (x, step * y))
    both, one, other = (np.bincount(codes, weights=own) for own in (dx * dy, dx * dx, dy * dy))
    varies = one * other > 0
    return (
        bool(varies.any()) and float(np.median((both / np.sqrt(np.where(varies, one * other, 1.0)))[varies])) < _FALLS
    )


def _spread(x: Array, codes: NDArray[np.intp]) -> Array:
    """Return how far values of one level lie apart, shape (levels,)."""
    low, high = np.full(int(codes.max()) + 1, np.inf), np.full(int(codes.max()) + 1, -np.inf)
    np.minimum.at(low, codes, x)
    np.maximum.at(high, codes, x)
    apart: Array = high - low
    return apart
