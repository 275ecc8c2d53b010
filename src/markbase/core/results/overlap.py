"""Levels of a group of which no row is like one of another level in a further column: holding that equal rests on the model alone.

References
----------
Gelman & Hill (2007), Data Analysis Using Regression and Multilevel/Hierarchical Models, section 10.3 (lack of complete overlap).
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.terms import Variable
from markbase.core.results.rows_used import RowsUsed
from markbase.core.rows.parts import in_parts
from markbase.core.rows.row_functions import ends_by_code, some_of

Array = NDArray[np.float64]
_MOST_ROWS = 200_000
"""Of more rows, or rows in parts, some are looked at first, which most often shows that levels overlap."""
_NEAR = 0.1
"""A value is nearly among those of a level if it is no further from them than such a share of what they span."""
_SEEN = 20
"""Of so many rows of a level among these it is worth to look at all, if they do not show it."""


@dataclass(frozen=True, eq=False)
class Apart:
    """A column in which levels of a group have nothing in common."""

    column: str
    """Its name."""
    spans: Array | None
    """Shape (levels, 2): its lowest and highest value at each level; None of a group, which has levels of its own."""
    pairs: NDArray[np.bool_]
    """Shape (levels, levels): of which two there is no value of it between the ends of both, or no level of it with rows of both."""


def apart_in(rows: RowsUsed, variable: Variable, others: Iterable[Variable]) -> list[Apart]:
    """Return the columns among `others` in which levels of a group, or both values of a numeric column of two, have nothing in common."""
    found, spans_of = list[Apart](), None
    for other in others:
        if other.is_categorical and variable.is_categorical:
            if _without_common(_some_counts(rows, variable, other)).any():
                found.append(Apart(other.name, None, _without_common(rows.counts_at((variable.name, other.name)))))
        elif not other.is_categorical:
            spans_of = spans_of or _spans_by(*rows.codes_of(variable))
            spans = spans_of(other.column.values[rows.inside])
            found.append(Apart(other.name, spans, _disjoint(spans)))
    return [apart for apart in found if apart.pairs.any()]


def beyond_rows(rows: RowsUsed, variable: Variable, other: Variable, value: float) -> Apart | None:
    """Return the ends of a numeric column at the levels of a group, if a value of it lies beyond those of some; not a number for those that hold it, or nearly.

    That is at most a tenth of what they span away, where the level has rows like those of others.
    """
    spans = _spans_by(*rows.codes_of(variable), lambda spans: bool(_off(spans, value).any()))(
        other.column.values[rows.inside]
    )
    pairs = _disjoint(spans)
    room = np.where(pairs.any(axis=1), 0.0, _NEAR * (spans[:, 1] - spans[:, 0]))
    off = _off(spans, value) > room
    return Apart(other.name, np.where(off[:, None], spans, np.nan), pairs) if off.any() else None


def _off(spans: Array, value: float) -> Array:
    """Return how far a value lies beyond the ends at each level; 0 where there are none."""
    return np.nan_to_num(np.maximum(np.maximum(spans[:, 0] - value, value - spans[:, 1]), 0.0))


def _some_counts(rows: RowsUsed, one: Variable, other: Variable) -> NDArray[np.int64]:
    """Count some rows, or all, at the levels of two groups."""
    codes = [some_of(rows.codes_of(v)[0]).astype(np.int64) for v in (one, other)]
    counts: NDArray[np.int64] = np.bincount(codes[0] * other.size + codes[1], minlength=one.size * other.size)
    return counts.reshape(one.size, other.size)


def _without_common(counts: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Return which two levels of the first of two groups have no level of the second in common."""
    has = (counts > 0).astype(np.float64)
    found: NDArray[np.bool_] = has @ has.T == 0
    return found


def _spans_by(
    codes: NDArray[np.integer], size: int, matter: Callable[[Array], bool] = lambda spans: bool(_disjoint(spans).any())
) -> Callable[[Array], Array]:
    """Return what tells the ends of values at each level, as `_spans` does; of few rows these are put in order once."""
    if in_parts(codes) or not 0 < len(codes) <= _MOST_ROWS:
        return lambda values: _spans(codes, size, values, matter)
    order = np.argsort(codes, kind="stable")
    here, starts = np.unique(codes[order], return_index=True)

    def spans(values: Array) -> Array:
        found, own = np.full((size, 2), np.nan), values[order]
        found[here, 0], found[here, 1] = np.minimum.reduceat(own, starts), np.maximum.reduceat(own, starts)
        return found

    return spans


def _spans(codes: NDArray[np.integer], size: int, values: Array, matter: Callable[[Array], bool]) -> Array:
    """Return the ends of values of very many rows at each level, shape (levels, 2); of some rows where those do not matter, not a number for levels that have few of these."""
    if in_parts(values) or len(values) > _MOST_ROWS:
        some = some_of(codes)
        spans = np.stack(ends_by_code(some_of(values), some, size), axis=1)
        spans[np.bincount(some, minlength=size) < _SEEN] = np.nan
        if not matter(spans):
            return spans
    spans = np.stack(ends_by_code(values, codes, size), axis=1)
    spans[spans[:, 0] > spans[:, 1]] = np.nan
    return spans


def _disjoint(spans: Array) -> NDArray[np.bool_]:
    low, high = spans.T
    below = high[:, None] < low
    found: NDArray[np.bool_] = below | below.T
    return found
