"""Several imputations of the same rows in one table, and plausible values: how columns tell that they are."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable
from typing import NamedTuple

import numpy as np

from markbase.core.errors import remark
from markbase.core.rows.parts import InParts
from markbase.core.study.column import Column

_NUMBERS = re.compile(
    r"(?<![a-z])(imps?|imputations?|imputed|implicates?)([ _.-]?(no|nr|num|number|id|index|set|dataset))?(?![a-z])"
)
"""What a column that numbers imputations is called."""
_PLAUSIBLE = re.compile(r"^(?P<before>.*?)(?<![a-z])(pv|plausible[ _.-]?values?)[ _.-]?(?P<number>\d+)(?P<behind>.*)$")
_MOST = 1_000
"""So many imputations nobody has more of."""


class Stacked(NamedTuple):
    """Imputations of the same cases that stand below one another in one table."""

    column: str
    """The column that numbers them."""
    imputations: int
    """How many there are."""
    rows: int
    """The rows of each."""


def stacked(column: Column) -> Stacked | None:
    """Return what a column says of imputations that stand below one another; None where it does not number any.

    By its name, and by each of its levels or whole numbers, which follow one another, having as many rows.
    """
    if not _NUMBERS.search(column.name.lower()) or column.role is not None or not column.valid:
        return None
    counts = _counts_of(column)
    if not 2 <= len(counts) <= _MOST or counts.min() != counts.max() or counts[0] < 2:
        return None
    return Stacked(column.name, len(counts), int(counts[0]))


def _counts_of(column: Column) -> np.ndarray:
    """Return how many rows each imputation has; of numbers that do not follow one another none."""
    if column.is_categorical:
        counts = np.asarray(column.counts)
        return counts[counts > 0]
    values = column.values
    if isinstance(values, InParts):
        found = values.facts.distinct
        numbers, counts = (np.asarray(own) for own in found) if found is not None else (np.zeros(0), np.zeros(0))
    else:
        numbers, counts = np.unique(values[~np.isnan(values)], return_counts=True)
    follows = (
        len(numbers) and numbers[0] >= 0 and np.array_equal(numbers, np.round(numbers[0]) + np.arange(len(numbers)))
    )
    return counts if follows else counts[:0]


def remark_on_stacked(columns: Iterable[Column]) -> Stacked | None:
    """Say that rows hold imputations of the same cases where one of some columns numbers them; return what the first that does says, None where none does."""
    found = next((own for column in columns if (own := stacked(column)) is not None), None)
    if found is not None:
        remark(
            f"These rows hold {found.imputations} imputations of the same cases (`{found.column}`), and each counts as a case of its own: errors, intervals and p are too small, as if "
            f"there were {found.imputations} times as many. Combine fits of each, and describe one of them."
        )
    return found


def plausible_values(name: str, columns: Collection[str]) -> tuple[str, ...]:
    """Return the columns that hold plausible values of the same thing as one of them, which is among them, in their order; none where there are no others."""
    own = _PLAUSIBLE.match(name.lower())
    if own is None:
        return ()
    found = []
    for other in columns:
        told = _PLAUSIBLE.match(other.lower())
        if told is not None and (told["before"], told["behind"]) == (own["before"], own["behind"]):
            found.append((int(told["number"]), other))
    return tuple(other for _, other in sorted(found)) if len(found) > 1 else ()
