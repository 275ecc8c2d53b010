"""A group by whose levels something is told, a few of them beside one another."""

from __future__ import annotations

import numpy as np

from markbase.core.errors import ColumnError, LevelError, count_noun
from markbase.core.study.column import Column

_MOST = 12
"""So many levels something is told by."""


def check_few_levels(column: Column, done: str) -> None:
    """Refuse a column by whose levels nothing can be told; `done` says what is, as in ``a sample is told``.

    Raises a `ColumnError` if it cannot be used or is numeric, and a `LevelError` if fewer than two or more than twelve of its levels have rows.
    """
    if column.fault:
        raise ColumnError(column.fault)
    if not column.is_categorical:
        raise ColumnError(
            f"`{column.name}` is numeric: {done} by the levels of a group; cut it, or declare it categorical."
        )
    there = int(np.count_nonzero(column.counts))
    if not 2 <= there <= _MOST:
        raise LevelError(
            f"{count_noun(there, 'level')} of `{column.name}` {'has' if there == 1 else 'have'} rows, and {done} by 2 to {_MOST}: merge levels, or choose another group."
        )
