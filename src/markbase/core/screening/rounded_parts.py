"""Columns that are parts of one whole but for the rounding of their values, so that hardly anything sets them apart."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.shared import rounding_room
from markbase.core.errors import listed, quoted
from markbase.core.formatting import plain
from markbase.core.rows.parts import in_parts
from markbase.core.rows.row_functions import all_of, learn, sample_of, sum_of
from markbase.core.study.column import Column
from markbase.core.study.exact_sums import null_vectors

_FEWEST, _ROWS, _MOST_COLUMNS = 3, 512, 200
"""So few columns have no total; the rows in which combinations are looked for, and the columns that are."""
_SMALL, _APART = 0.05, 0.25
"""What is left of a combination of columns of unit length; how far its weights may be from 1 and −1."""


@dataclass(frozen=True)
class RoundedParts:
    """Columns whose sum, or whose sum less their total, differs from row to row by rounding alone."""

    parts: tuple[str, ...]
    """The names of the parts."""
    total: str
    """The name of their total; empty where they add up to about the same in every row."""
    low: float
    """The least sum of the parts; of a total the largest difference from it."""
    high: float
    """The largest sum of the parts."""

    @property
    def names(self) -> tuple[str, ...]:
        """All of the columns."""
        return (*self.parts, self.total) if self.total else self.parts

    @property
    def statement(self) -> str:
        """What they are, as a sentence, and what would do."""
        named = listed(quoted(self.parts))
        if self.total:
            return (
                f"`{self.total}` is the sum of {named} in every row, to within {plain(self.low)}: they say the same but for rounding. Leave one of the "
                f"{len(self.names)} out; with all of them none can be told with the others held equal."
            )
        return (
            f"{named} add up to {plain(self.low)} to {plain(self.high)} in every row: shares of one whole, rounded. With all of them among the terms nothing "
            f"but rounding lets one differ while the others are held equal. Leave one out: the others are then told in exchange for it."
        )


def rounded_parts(columns: Sequence[Column], used: NDArray[np.bool_] | None) -> list[RoundedParts]:
    """Return the sets of three columns or more that are parts of one whole in every row used, but for the rounding of their values.

    Candidates are the combinations that are nearly 0 in up to 512 rows, with weights of 1 and −1; each is held against all rows.
    """
    if not _FEWEST <= len(columns) <= _MOST_COLUMNS:
        return []
    complete = all_of([c.present for c in columns] if used is None else [used, *(c.present for c in columns)])
    here = np.flatnonzero(sample_of(complete))
    here = here[np.linspace(0, len(here) - 1, min(len(here), _ROWS)).astype(np.intp)]
    rows = np.column_stack([sample_of(c.values)[here] for c in columns])
    block = rows - rows.mean(axis=0) if len(rows) else rows
    sizes = np.sqrt((block**2).sum(axis=0))
    if len(rows) <= len(columns) or not sizes.all():
        return []
    found = []
    for unit in null_vectors(block / sizes, _SMALL):
        weights = unit / sizes
        weights = weights / np.abs(weights).max()
        members = np.flatnonzero(np.abs(weights) > 0.5)
        off = np.abs(np.abs(weights) - np.isin(np.arange(len(weights)), members))
        if len(members) < _FEWEST or (off * sizes).max() > _APART * sizes[members].max():
            continue
        own = [columns[int(k)] for k in members]
        told = _held([c.name for c in own], [c.values[complete] for c in own], np.sign(weights[members]))
        if told is not None:
            found.append(told)
    return found


def _held(names: Sequence[str], values: Sequence[Any], signs: NDArray[np.float64]) -> RoundedParts | None:
    """Hold a combination against all rows: nothing but the rounding of each value may be left; None if more is, or nothing at all.

    Of rows in parts, those in memory are looked at first.
    """
    if in_parts(*values) and _held(names, [sample_of(column) for column in values], signs) is None:
        return None
    sums = sum_of([sign * column for sign, column in zip(signs, values, strict=True)])
    learn(numbers=[sums, *values])
    room, largest = sum(rounding_room(column) for column in values), max(float(np.abs(v).max()) for v in values)
    off = max(sums.max() - sums.mean(), sums.mean() - sums.min())
    if off > 2 * room or np.ptp(sums) <= 1e-9 * largest:
        return None
    if np.all(signs == 1):
        return RoundedParts(tuple(names), "", float(sums.min()), float(sums.max()))
    alone = np.flatnonzero(signs == (1 if np.sum(signs == 1) == 1 else -1))
    if len(alone) != 1 or np.abs(sums).max() > room:
        return None
    parts = tuple(name for k, name in enumerate(names) if k != alone[0])
    return RoundedParts(parts, names[int(alone[0])], float(np.abs(sums).max()), 0.0)
