"""Terms that are the same in all rows of each combination of two columns, such as countries and years: they rest on fewer observations than there are rows.

References
----------
Moulton (1990), Review of Economics and Statistics 72(2), 334-338, doi:10.2307/2109724; Bertrand, Duflo & Mullainathan (2004), Quarterly Journal of
Economics 119(1), 249-275, doi:10.1162/003355304772839588, of laws that are those of a state and a year.
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.repeated_rows import GLANCE, codes_of, same_within
from markbase.core.errors import count_noun, remark
from markbase.core.rows.parts import in_parts
from markbase.core.rows.row_functions import counted, sample_of
from markbase.core.study.column import Column

_MOST_COLUMNS, _MOST_CELLS = 6, 1 << 20
"""Pairs of so many columns are looked at, of no more combinations."""
_FEWEST, _FEWEST_APART = 10, 3
"""So many combinations say something, of which so many with several rows have another value than most rows."""


def remark_on_combinations(columns: Sequence[Column], among: Sequence[Column], used: Any) -> None:
    """Say that a column of the model is the same in all rows of each combination of two others, whose rows may go together.

    Parameters
    ----------
    columns : sequence of Column
        Those of the model.
    among : sequence of Column
        Groups and times, in the model or not.
    used : array of bool, shape (rows,), or None
        The rows used; None for all.
    """
    some: Any = slice(0, GLANCE) if used is None else np.flatnonzero(sample_of(used))[:GLANCE]
    glances = {c.name: _glance(c, some) for c in among[:_MOST_COLUMNS]}
    codes = {name: own for name, own in glances.items() if len(own) and own.min() >= 0}
    for one, other in itertools.combinations([c for c in among if c.name in codes], 2):
        if not (one.is_categorical or other.is_categorical):
            continue  # a third number that two fix is told elsewhere
        joint = np.unique(
            codes[one.name] * (int(codes[other.name].max()) + 1) + codes[other.name], return_inverse=True
        )[1]
        if 2 * (int(joint.max()) + 1) > len(joint):
            continue
        for column in columns:
            if (
                column.name not in (one.name, other.name)
                and column.made is None
                and _is_of_cells(column, some, joint, codes[one.name], codes[other.name])
            ):
                cells = _cells(column, one, other, slice(None) if used is None else used)
                if cells:
                    _tell(column, one, other, *cells)
                    return


def _glance(column: Column, some: Any) -> NDArray[np.intp]:
    """Return the codes of some rows; none where one of them has no value, or an infinite one."""
    values = sample_of(column.values)[some]
    if not column.is_categorical and not np.isfinite(values).all():
        return np.zeros(0, dtype=np.intp)
    return codes_of(replace(column, values=values), slice(None))


def _is_of_cells(column: Column, some: Any, joint: NDArray[np.intp], *alone: NDArray[np.intp]) -> bool:
    """Return whether values are the same in each combination, and not in each level of one of the two columns alone."""
    values = sample_of(column.values)[some]
    return same_within(values, joint) and not any(same_within(values, own) for own in alone)


def _cells(column: Column, one: Column, other: Column, inside: Any) -> tuple[int, int] | None:
    """Count the combinations, and the rows, if values are the same in each of them, and those of several rows do not nearly all have the same."""
    if in_parts(column.values, one.values, other.values) and not (one.is_categorical and other.is_categorical):
        return None
    first, second = (codes_of(c, inside) for c in (one, other))
    width = int(second.max()) + 1
    size = (int(first.max()) + 1) * width
    if size > _MOST_CELLS or first.min() < 0 or second.min() < 0:
        return None
    joint, values = first * width + second, column.values[inside]
    if not same_within(values, joint):
        return None
    counts = counted(joint, size)
    here, rows = int(np.count_nonzero(counts)), int(counts.sum())
    if here < _FEWEST or 2 * here > rows or not _differ(values, joint, counts):
        return None
    return here, rows


def _differ(values: Any, joint: Any, counts: NDArray[np.int64]) -> bool:
    """Return whether some combinations of several rows have another value than most: of few rows that are apart, each may be alone by chance."""
    kept, at = sample_of(values), sample_of(joint)
    found, where = np.unique(kept, return_inverse=True)
    usual = int(np.argmax(np.bincount(where)))
    return len(found) > 1 and len(np.unique(at[(where != usual) & (counts[at] > 1)])) >= _FEWEST_APART


def _tell(column: Column, one: Column, other: Column, cells: int, rows: int) -> None:
    one, other = sorted((one, other), key=lambda c: (not c.is_categorical, c.name))  # the group first
    way = (
        f"`{one.name}`, or by `{other.name}`," if other.is_categorical else f"`{one.name}`, in one of which each lies,"
    )
    remark(
        f"`{column.name}` is the same in all rows of each combination of `{one.name}` and `{other.name}` ({cells:,} of them, {count_noun(rows, 'row')}), and the "
        f"errors take every row by itself: if rows of one go together, those of `{column.name}` are too small; errors clustered by {way} allow for that."
    )
