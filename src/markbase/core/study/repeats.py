"""Rows that are the same as a row before them: duplicates, and how many of them chance would make."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.errors import count_noun
from markbase.core.rows.parts import in_parts
from markbase.core.rows.row_functions import sum_of
from markbase.core.rows.table import hashed
from markbase.core.study.column import Column
from markbase.core.study.numeric_remarks import looks_coded
from markbase.core.study.remark import Remark
from markbase.core.study.verification import Check

_COUNTED = 4, 5_000
"""So many rows a table of counts may have."""
_MOST_ROWS, _MOST_CELLS = 200_000, 20_000_000
"""Of more nobody looks unasked."""
_FEWEST_OTHERS = 1 / 3
"""The share of rows that are no repeats from which on repeats are asked about."""
_HARDLY_VARIES = 0.9
"""The share of pairs of rows with the same value from which on a column is not left out to see what it tells."""
_MOST_TRIED, _FEWEST_VARIED = 40, 4
"""How many columns are left out in turn, those that vary most; and how few tell nothing where none makes a difference."""
_APART = 0x2545F4914F6CDD1D
"""How far apart seeds are."""
_FEWEST_PAIRS = 30
"""So many pairs of rows that are the same in all columns but two say how often they are the same in one of these."""
_MORE, _MOST_OTHERS, _SURELY = 1.5, 8, 2
"""From how many times as many as independent columns would make this is asked, of how many other columns, and how many times as many as they say are told."""
_OFTENER = 4
"""How many times as many repeats as chance would make are told."""


def sources_of_repeats(columns: Sequence[Column]) -> NDArray[np.intp]:
    """Return for each row the place of the first row that is the same in all of some columns, shape (rows,): its own if there is none before it.

    Missing answers are the same if they are missing for the same reason.
    """
    bits = [b for column in columns for b in _bits(column)]
    mixed = sum_of([hashed(b, _seed(k)) for k, b in enumerate(bits)])
    order = np.argsort(mixed, kind="stable")
    same = mixed[order][1:] == mixed[order][:-1]
    for b in bits if same.any() else ():  # no other row that the mixing happens to take for the same
        same &= b[order][1:] == b[order][:-1]
    starts = np.concatenate([[True], ~same])
    first = order[np.maximum.accumulate(np.where(starts, np.arange(len(order)), 0))]
    found = np.empty(len(order), dtype=np.intp)
    found[order] = first
    return found


def _seed(place: int) -> int:
    """Return a seed for a column: far from those of other columns, since one more seed mixes as one more in the number does."""
    return place * _APART % 2**62


def _bits(column: Column) -> Iterator[NDArray[np.uint64]]:
    """Return a column as whole numbers that are the same where it is, and why it is missing."""
    values = column.values
    if column.is_categorical:
        yield values.astype(np.int64).view(np.uint64)
    else:
        yield np.where(np.isnan(values), np.nan, values + 0.0).view(np.uint64)
    if column.why_missing is not None:
        yield column.why_missing.astype(np.uint64)


def remark_on_repeats(columns: Sequence[Column]) -> Remark | None:
    """Say that rows are the same in every column, if chance would hardly make so many; None of many rows, or rows in parts."""
    rows = len(columns[0].values) if columns else 0
    if in_parts([c.values for c in columns]) or not 1 < rows <= min(_MOST_ROWS, _MOST_CELLS // len(columns)):
        return None
    sources = sources_of_repeats(columns)
    again = np.flatnonzero(sources != np.arange(rows))
    if not len(again) or not _beyond_chance(columns, sources):
        return None
    one, alone = int(again[0]), len(again) == 1
    return Remark(
        f"{count_noun(len(again), 'row')} {'is' if alone else 'are'} the same in all {len(columns)} columns as a row before {'it' if alone else 'them'} (duplicates; "
        f"{'' if alone else 'the first is '}row {one + 1:,}, {'' if alone else 'which is '}row {sources[one] + 1:,} again): the same case twice?",
        ({"do": "leave_out_repeats"},),
    )


def column_of_counts(columns: Sequence[Column]) -> Column | None:
    """Return the column that seems to say how many cases each row stands for: whole numbers beside groups of which each combination stands in one row, as in a table of counts.

    None where no column does, or several; and of more rows than such tables have, or rows in parts.
    """
    rows = len(columns[0].values) if columns else 0
    if in_parts([c.values for c in columns]) or not _COUNTED[0] <= rows <= _COUNTED[1] or len(columns) < 3:
        return None
    numeric = [c for c in columns if not c.is_categorical]
    amounts = [c for c in numeric if not looks_coded(c)]
    if len(amounts) > 1:
        return None
    sizes = {c.name: int(np.count_nonzero(c.counts)) if c.is_categorical else c.distinct_count for c in columns}
    found = [
        c
        for c in amounts or numeric
        if c.role is None
        and c.valid == rows
        and _are_counts(c.values)
        and math.prod(n for name, n in sizes.items() if name != c.name) <= 4 * rows
        and max(n for name, n in sizes.items() if name != c.name) <= rows / 2
        and np.array_equal(sources_of_repeats([own for own in columns if own is not c]), np.arange(rows))
    ]
    return found[0] if len(found) == 1 else None


def _are_counts(values: NDArray[np.float64]) -> bool:
    return bool(values.min() >= 0 and values.max() > 1 and np.all(values == np.round(values)))


def remark_on_counts(columns: Sequence[Column]) -> Remark | None:
    """Say that the rows may be those of a table of counts."""
    counting = column_of_counts(columns)
    if counting is None:
        return None
    text = f"each combination of the other columns stands in one row, beside a whole number in `{counting.name}`: a table of counts? then rows count by it, as frequencies"
    return Remark(text, ({"do": "as_role", "column": counting.name, "role": "weight"},))


def _by_chance(
    mixed: Sequence[NDArray[np.uint64]], k: int, but_one: float, same: float, others: Sequence[int]
) -> float | None:
    """Return how many pairs of rows chance makes the same, of those that are the same in all columns but one; None if no rows tell.

    How often that column is the same too is read from rows that differ in one more column: the largest share of them, since classes lie within
    schools, and rows of two schools are never of one class.
    """
    whole, share = sum_of(list(mixed)), -1.0
    for other in others:
        alike = whole - mixed[other]
        differing = _pairs(alike - mixed[k]) - but_one
        if differing >= _FEWEST_PAIRS:
            share = max(share, (_pairs(alike) - same) / differing)
    if share < 0:
        return None
    return math.inf if share >= 1 else (but_one - same) * share / (1 - share)


def _beyond_chance(columns: Sequence[Column], sources: NDArray[np.intp]) -> bool:
    """Return whether more rows are the same than chance would make.

    Rows that are the same by chance go with rows that are the same but for one column, so many as that column varies. Either there are
    too few of these for the repeats there are, or there is none at all, whichever column is left out.
    """
    rows, same = len(sources), _pairs(sources)
    if np.count_nonzero(sources == np.arange(rows)) < _FEWEST_OTHERS * rows:
        return False  # rows of so few kinds repeat one another
    alike = [_pairs(next(_bits(c))) / (rows * (rows - 1) / 2) for c in columns]
    varied = [k for k in np.argsort(alike) if alike[k] < _HARDLY_VARIES][:_MOST_TRIED]
    mixed = [sum_of([hashed(b, _seed(2 * k + j)) for j, b in enumerate(_bits(c))]) for k, c in enumerate(columns)]
    whole, alone = sum_of(mixed), 0
    for k in varied:
        but_one = _pairs(whole - mixed[k])
        if but_one > same > _MORE * but_one * alike[k]:
            others = [other for other in varied if other != k][:_MOST_OTHERS]
            counted = _by_chance(mixed, k, but_one, same, others)
            expected = _OFTENER * but_one * alike[k] if counted is None else _SURELY * counted
            if same > expected + 3 * math.sqrt(expected) + 1:
                return True
        alone += but_one == same
    return alone == len(varied) >= _FEWEST_VARIED


def _pairs(values: NDArray[Any]) -> float:
    """Return how many pairs of rows have the same value."""
    _, counts = np.unique(values, return_counts=True)
    return float((counts * (counts - 1.0)).sum() / 2)


def check_of_repeats(sources: NDArray[np.intp], kept: NDArray[np.bool_], told: str) -> Check:
    """Count how many rows stand there how often, and whether each of those kept is another."""
    times = np.bincount(sources)[np.unique(sources)]
    often, rows = np.unique(times, return_counts=True)
    table = pd.DataFrame({"times": often, "rows": rows})
    return Check("", told, table, int((often * rows).sum()) == len(sources) and int(rows.sum()) == int(kept.sum()))


def other_answers(columns: Sequence[Column], sources: NDArray[np.intp]) -> int:
    """Count the repeats that differ from the row they repeat in some of the columns."""
    again = np.flatnonzero(sources != np.arange(len(sources)))
    differ: Any = np.zeros(len(again), dtype=bool)
    for column in columns:
        for b in _bits(column):
            differ |= b[again] != b[sources[again]]
    return int(differ.sum())
