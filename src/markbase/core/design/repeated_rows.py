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
) -> None:
    """Say that a column of the model is the same in all rows of each level of another one, whose rows may go together.

    Parameters
    ----------
    study : Study
        The data.
    columns : sequence of Column
        The columns of the terms.
    outcome : Column
        The outcome.
    used : ndarray of bool, shape (rows,), or None
        The rows used.
    """
    told = {outcome.name, *(column.name for column in columns)}
    if in_parts(outcome.values, *(column.values for column in columns)):
        return
    inside = slice(None) if used is None else np.flatnonzero(used)
    for name in study.columns:
        codes = None if name in told else _codes_of(study[name], inside)
        if codes is None:
            continue
        levels = len(np.unique(codes))
        fixed = next((c for c in columns if _does_not_vary(c, codes, levels, inside)), None)
        if fixed is not None:
            what = f"errors clustered by it{'' if study[name].is_categorical else ', declared categorical,'} allow for that"
            remark(
                f"`{fixed.name}` is the same in all rows of each `{name}` ({count_noun(levels, 'level')}, {count_noun(len(codes), 'row')}), and the errors "
                f"take every row by itself: if rows of one `{name}` go together, those of `{fixed.name}` are too small; {what}."
            )
            return


def _codes_of(column: Column, inside: slice | NDArray[np.intp]) -> NDArray[np.intp] | None:
    """Return which level each row used has, of a column whose levels may be a sample of something, with several rows each; else None."""
    named = column.role in ("identifier", "cluster") or bool(_NAMED.search(column.name.lower()))
    if column.role == "weight" or not column.valid or column.made is not None:
        return None
    if column.is_categorical:
        codes = column.values[inside].astype(np.intp)
    elif named and column.valid <= _MOST_NUMBERED and np.array_equal(column.values, np.round(column.values)):
        codes = np.unique(column.values, return_inverse=True)[1][inside]
    else:
        return None
    if len(codes) == 0 or codes.min() < 0:
        return None
    counts = np.bincount(codes)
    counts = counts[counts > 0]
    if len(counts) < _FEWEST or len(codes) < _FEWEST_ROWS * len(counts):
        return None
    middle = float(np.median(counts))
    alike = counts.min() >= _ALIKE * middle and counts.max() <= middle / _ALIKE
    return codes if named or alike else None


def _does_not_vary(column: Column, codes: NDArray[np.intp], levels: int, inside: slice | NDArray[np.intp]) -> bool:
    """Return whether a column is the same in all rows of each level, and not in all rows."""
    values = column.values[inside]
    if not _same_within(values[:_GLANCE], codes[:_GLANCE]) or not _same_within(values, codes):
        return False
    return 2 <= len(np.unique(values)) <= levels / 2


def _same_within(values: NDArray[np.generic], codes: NDArray[np.intp]) -> bool:
    first = np.zeros(int(codes.max(initial=0)) + 1, dtype=values.dtype)
    first[codes[::-1]] = values[::-1]  # of several rows the one written last stays
    return bool(np.array_equal(first[codes], values))
