"""Rows of the same person, class or site: terms that do not vary within them rest on fewer observations than there are rows."""

from __future__ import annotations

import re
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from markbase.core.errors import count_noun, remark
from markbase.core.rows.parts import in_parts
from markbase.core.study.column import Column
from markbase.core.study.study import Study

_NAMED = re.compile(
    r"(?<![a-z])(ids?|participants?|subjects?|respondents?|persons?|people|pupils?|students?|patients?|child(ren)?|workers?|employees?|users?|"
    r"schools?|class(es|rooms?)?|households?|famil(y|ies)|teams?|clinics?|hospitals?|sites?|villages?|couples?|dyads?|pairs?|clusters?)(?![a-z])"
)
_FEWEST, _FEWEST_ROWS = 5, 2.0
"""So many levels, of so many rows on average, are a sample of something."""
_ALIKE = 0.2
"""Levels have about as many rows as one another if none has less than this share of the middle one, or more than its inverse."""
_MOST_NUMBERED = 100_000
"""In more rows than this numbers are not looked at for repetitions."""
_GLANCE = 2000


def remark_on_repeated_rows(
    study: Study, columns: Sequence[Column], outcome: Column, used: NDArray[np.bool_] | None
) -> tuple[Column, ...]:
    """Say that a column of the model is the same in all rows of each level of another one, whose rows may go together.

    Returns the columns outside the model whose rows may, none where rows come in parts.
    """
    told = {outcome.name, *(column.name for column in columns)}
    if in_parts(outcome.values, *(column.values for column in columns)):
        return ()
    repeating, said = [], False
    places = None if used is None else np.flatnonzero(used)
    inside, some = (slice(None), slice(0, _GLANCE)) if places is None else (places, places[:_GLANCE])
    for name in study.columns:
        column = study[name]
        if name in told or not _may_repeat(column):
            continue
        repeating.append(column)
        if said:
            continue
        alike = [c for c in columns if same_within(c.values[some], codes_of(column, some))]
        codes = codes_of(column, inside) if alike else np.zeros(0, dtype=np.intp)
        if not len(codes) or codes.min() < 0:
            continue
        counts = np.bincount(codes)
        levels = int(np.count_nonzero(counts))
        if levels < _FEWEST or len(codes) < _FEWEST_ROWS * levels or not (_is_named(column) or _are_alike(counts)):
            continue
        fixed = next((c for c in alike if _does_not_vary(c.values[inside], codes, levels)), None)
        if fixed is not None:
            what = f"errors clustered by it{'' if column.is_categorical else ', declared categorical,'} allow for that"
            remark(
                f"`{fixed.name}` is the same in all rows of each `{name}` ({count_noun(levels, 'level')}, {count_noun(len(codes), 'row')}), and the errors "
                f"take every row by itself: if rows of one `{name}` go together, those of `{fixed.name}` are too small; {what}."
            )
            said = True
    return tuple(repeating)


def _is_named(column: Column) -> bool:
    """Return whether a column is called like persons, classes or sites, or has such a role."""
    return column.role in ("identifier", "cluster") or bool(_NAMED.search(column.name.lower()))


def _are_alike(counts: NDArray[np.intp]) -> bool:
    """Return whether levels have about as many rows as one another."""
    counts = counts[counts > 0]
    middle = float(np.median(counts)) if len(counts) else 0.0
    return bool(len(counts)) and bool(counts.min() >= _ALIKE * middle and counts.max() <= middle / _ALIKE)


def _may_repeat(column: Column) -> bool:
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
    whole = (
        column.valid <= _MOST_NUMBERED and _is_named(column) and np.array_equal(column.values, np.round(column.values))
    )
    return whole and column.distinct_count * _FEWEST_ROWS <= column.valid


def codes_of(column: Column, rows: slice | NDArray[np.intp]) -> NDArray[np.intp]:
    """Return which level each of some rows has, below 0 for none."""
    values = column.values[rows]
    if column.is_categorical:
        return values.astype(np.intp)
    codes: NDArray[np.intp] = np.unique(values, return_inverse=True)[1]
    codes[np.isnan(values)] = -1
    return codes


def _does_not_vary(values: NDArray[np.generic], codes: NDArray[np.intp], levels: int) -> bool:
    """Return whether values are the same in all rows of each level, and not in all rows."""
    return same_within(values, codes) and 2 <= len(np.unique(values)) <= levels / 2


def same_within(values: NDArray[np.generic], codes: NDArray[np.intp]) -> bool:
    """Return whether values are the same in all rows of each code; not where a row has none."""
    if not len(codes) or codes.min() < 0:
        return False
    first = np.zeros(int(codes.max()) + 1, dtype=values.dtype)
    first[codes[::-1]] = values[::-1]  # of several rows the one written last stays
    return bool(np.array_equal(first[codes], values))
