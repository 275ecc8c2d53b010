"""Rows of the same person, class or site: terms that do not vary within them rest on fewer observations than there are rows."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.drawn import DrawnBy
from markbase.core.design.outcome_in_levels import histories
from markbase.core.errors import count_noun, remark
from markbase.core.rows.parts import in_parts
from markbase.core.rows.row_functions import counted, ends_by_code, sample_of
from markbase.core.study.column import Column
from markbase.core.study.numeric_remarks import looks_like_group_numbers, numbers_rows_of_one
from markbase.core.study.study import Study

_NAMED = re.compile(
    r"(?<![a-z])(ids?|participants?|subjects?|respondents?|persons?|people|pupils?|students?|patients?|child(ren)?|workers?|employees?|users?|"
    r"schools?|class(es|rooms?)?|households?|famil(y|ies)|teams?|clinics?|hospitals?|sites?|villages?|couples?|dyads?|pairs?|clusters?)(?![a-z])"
)
_FEWEST, _FEWEST_ROWS = 5, 2.0
"""So many levels, of so many rows on average, are a sample of something."""
_ALIKE = 0.2
"""Levels have about as many rows as one another if none has less than this share of the middle one, or more than its inverse."""
_MOST_NUMBERED = 2_000_000
"""In more rows than this numbers in memory are not looked at for repetitions."""
GLANCE = 2000
"""So many rows are looked at first."""
_BY_CHANCE, _ROWS_OF_DYADS = 5.0, 20_000
"""In so many rows two columns would name the same one by chance, where it says something that none does; and how many rows are looked at."""


def remark_on_repeated_rows(
    study: Study,
    columns: Sequence[Column],
    outcome: Column,
    used: NDArray[np.bool_] | None,
    drawn: DrawnBy,
    quiet: bool = False,
) -> tuple[tuple[Column, ...], bool]:
    """Say that a column of the model is the same in all rows of each level of another one, whose rows may go together, unless errors are clustered.

    Nothing is said where that is `quiet`. Returns the columns outside the model whose rows may, and whether nothing was said.
    """
    told = {outcome.name, *(column.name for column in (*columns, *drawn.columns))}
    repeating, said = [], False
    inside: Any = slice(None) if used is None else used
    some: Any = slice(0, GLANCE) if used is None else np.flatnonzero(sample_of(used))[:GLANCE]
    for name in study.columns:
        column = study[name]
        if name in told or not may_repeat(column):
            continue
        repeating.append(column)
        if said or quiet or drawn.clusters or (in_parts(column.values) and not column.is_categorical):
            continue
        glance = _coded(column, sample_of(column.values)[some])
        alike = [c for c in columns if same_within(sample_of(c.values)[some], glance)]
        codes = codes_of(column, inside) if alike else np.zeros(0, dtype=np.intp)
        if not len(codes) or codes.min() < 0:
            continue
        counts = counted(codes, int(codes.max()) + 1)
        levels = int(np.count_nonzero(counts))
        if levels < _FEWEST or len(codes) < _FEWEST_ROWS * levels or not (_is_named(column) or _are_alike(counts)):
            continue
        most = levels if _is_named(column) else levels // 2
        fixed = next((c for c in alike if _does_not_vary(c.values[inside], codes, most)), None)
        if fixed is not None and not _is_history(outcome.values[inside], codes):
            remark(
                f"`{fixed.name}` is the same in all rows of each `{name}` ({count_noun(levels, 'level')}, {count_noun(len(codes), 'row')}), and the errors "
                f"take every row by itself: if rows of one `{name}` go together, those of `{fixed.name}` are too small; errors clustered by it allow for that."
            )
            said = True
    return tuple(repeating), not said


def _is_history(values: Any, codes: NDArray[np.intp]) -> bool:
    """Return whether an outcome of two values ends the rows of each level, which then count as independent (see `histories`)."""
    if in_parts(values, codes) or not (len(ends := np.unique(values[:GLANCE])) == 2 and np.isin(values, ends).all()):
        return False
    return histories((values == ends[1]).astype(np.float64), codes) is not None


def _is_named(column: Column) -> bool:
    """Return whether a column is called like persons, classes or sites, or has such a role."""
    return column.role in ("identifier", "cluster") or bool(_NAMED.search(column.name.lower()))


def _are_alike(counts: NDArray[np.intp]) -> bool:
    """Return whether levels have about as many rows as one another."""
    counts = counts[counts > 0]
    middle = float(np.median(counts)) if len(counts) else 0.0
    return bool(len(counts)) and bool(counts.min() >= _ALIKE * middle and counts.max() <= middle / _ALIKE)


def may_repeat(column: Column) -> bool:
    """Return whether levels of a column may be a sample of something, with several rows each, as far as is known without a look at the rows used."""
    if column.role == "weight" or not column.valid or column.made is not None:
        return False
    if column.is_categorical:
        levels = int(np.count_nonzero(column.counts))
        return (
            levels >= _FEWEST
            and column.valid >= _FEWEST_ROWS * levels
            and (_is_named(column) or _are_alike(column.counts))
        )
    if not (_is_named(column) or looks_like_group_numbers(column) or numbers_rows_of_one(column)):
        return False
    values: Any = column.values
    if in_parts(values):  # those in memory say how often numbers repeat
        some = _coded(column, sample_of(values))
        several = np.count_nonzero(np.bincount(some[some >= 0])) >= _FEWEST
        return bool(values.facts.whole) and bool(several) and rows_alike(some, column.valid) >= _FEWEST_ROWS
    whole = column.valid <= _MOST_NUMBERED and np.array_equal(values, np.round(values))
    return whole and column.distinct_count * _FEWEST_ROWS <= column.valid


def are_dyads(one: Column, other: Column) -> bool:
    """Return whether two columns name the same members, such as who asks and who is asked: many in both, and never the same in one row.

    That none is has to be more than chance. Of rows in parts those in memory are looked at.
    """
    if in_parts(one.values, other.values) and not (one.is_categorical and other.is_categorical):
        return False
    members = [_named_in(column) for column in (one, other)]
    there = [own != "" for own in members]
    both = there[0] & there[1]
    first, second = (own[both] for own in members)
    if not len(first) or np.any(first == second):
        return False
    names, codes = np.unique(np.concatenate([first, second]), return_inverse=True)
    counts = [np.bincount(own, minlength=len(names)) for own in np.split(codes, 2)]
    shared = int(np.count_nonzero((counts[0] > 0) & (counts[1] > 0)))
    fewer = min(int(np.count_nonzero(own)) for own in counts)
    chance = float(counts[0].astype(np.float64) @ counts[1]) / len(first)
    return shared >= max(_FEWEST, fewer / 2) and chance >= _BY_CHANCE


def _named_in(column: Column) -> NDArray[np.str_]:
    """Return what a column names in some rows, as texts; empty where it names nothing."""
    values = sample_of(column.values)[:_ROWS_OF_DYADS]
    if column.is_categorical:
        labels = np.array([*(level.label for level in column.levels), ""])
        return np.asarray(labels[values])
    return np.where(np.isnan(values), "", np.char.mod("%.12g", values))


def rows_alike(codes: NDArray[np.intp], rows: int) -> float:
    """Return how many rows have the code of a row, on average over rows (Σn²/Σn): of so many rows of which these were taken at random."""
    counts = np.bincount(codes[codes >= 0])
    n = int(counts.sum())
    return 1 + float(counts @ (counts - 1.0)) / (n * (n - 1)) * (rows - 1) if n > 1 else 1.0


def codes_of(column: Column, rows: slice | NDArray[np.intp]) -> NDArray[np.intp]:
    """Return which level each of some rows has, below 0 for none."""
    return _coded(column, column.values[rows])


def _coded(column: Column, values: Any) -> NDArray[np.intp]:
    if column.is_categorical:
        levels: NDArray[np.intp] = values.astype(np.intp)
        return levels
    low, missing = np.nanmin(values, initial=np.inf), np.isnan(values)
    if np.nanmax(values, initial=low) - low < len(values) and np.all((values == np.floor(values)) | missing):
        return np.where(missing, -1, values - low).astype(np.intp)  # numbers from one on, as most are
    codes: NDArray[np.intp] = np.unique(values, return_inverse=True)[1]
    codes[missing] = -1
    return codes


def _does_not_vary(values: NDArray[np.generic], codes: NDArray[np.intp], most: int) -> bool:
    """Return whether values are the same in all rows of each level, and not in all rows, nor more of them than so many."""
    return same_within(values, codes) and 2 <= len(np.unique(sample_of(values))) <= most


def same_within(values: Any, codes: Any) -> bool:
    """Return whether values are the same in all rows of each code; not where a row has none. Of rows in parts those in memory are looked at first."""
    if in_parts(values, codes):
        return same_within(sample_of(values), sample_of(codes)) and _same_in_all(values, codes)
    if not len(codes) or codes.min() < 0:
        return False
    first = np.zeros(int(codes.max()) + 1, dtype=values.dtype)
    first[codes[::-1]] = values[::-1]  # of several rows the one written last stays
    return bool(np.array_equal(first[codes], values))


def _same_in_all(values: Any, codes: Any) -> bool:
    if codes.min() < 0:
        return False
    low, high = ends_by_code(values, codes, int(codes.max()) + 1)
    return bool(np.all(low >= high))
