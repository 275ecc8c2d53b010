"""What differs between imputations of the same rows: which columns were imputed, and in how many rows."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from markbase.core.study.column import Column
from markbase.core.study.study import Study

_NEARLY_ALL = 0.9
"""A share of rows in which hardly every column is imputed."""


@dataclass(frozen=True)
class Imputed:
    """What differs between the imputations."""

    rows: int
    """The rows of an imputation, the most where these differ."""
    columns: Mapping[str, int] | None
    """The columns of the model, each with in how many rows it was imputed: those that differ between the imputations, or have a gap in the data before
    imputation; None where rows could not be matched."""
    original: str = ""
    """The one that was left out, the data before imputation; empty for none."""
    unmatched: str = ""
    """Why rows could not be matched, as a clause; empty where they could."""
    more: Mapping[str, int] = field(default_factory=dict)
    """The columns of the model that differ between the imputations in more rows than are missing in the data before imputation, each with how many more."""

    @property
    def all_differ(self) -> bool:
        """Whether every column of the model differs in nearly all rows, as in other rows, such as those of waves, and hardly in imputations."""
        return bool(self.columns) and min((self.columns or {}).values()) > _NEARLY_ALL * self.rows


def original_among(studies: Mapping[str, Study]) -> str:
    """Name the first of some imputations where it is the data before imputation: more is missing in it than in any other; empty for none."""
    first, *others = studies
    gaps = {label: sum(study.rows - study[name].valid for name in study.columns) for label, study in studies.items()}
    return first if len(others) > 1 and gaps[first] > max(gaps[label] for label in others) else ""


def what_differs(studies: Sequence[Study], names: Sequence[str], original: str, before: Study | None) -> Imputed:
    """Count in how many rows each of some columns differs between imputations, or is missing `before`, in the data of the `original`.

    Rows are matched by a column whose values are all different in each imputation and the same in all of them; where there is none, by their order.
    """
    rows = max(study.rows for study in studies)
    differ, why = _matched(studies, rows)
    if before is None:
        return Imputed(rows, {name: differ[name] for name in names} if differ else None, original, why)
    missing = {name: before.rows - before[name].valid for name in names}
    more = {name: differ[name] - n for name, n in missing.items() if differ.get(name, 0) > n}
    return Imputed(rows, missing, original, why, more)


def _matched(studies: Sequence[Study], rows: int) -> tuple[dict[str, int], str]:
    """Count in how many rows each column differs between imputations of so many rows; say as a clause why not where rows cannot be matched."""
    if any(study.rows != rows for study in studies):
        return {}, "not all imputations have as many rows"
    if any(study.in_parts for study in studies):
        return {}, "rows in parts are not held against one another"
    orders = _orders(studies)
    differ = {name: _differing([study[name] for study in studies], orders) for name in studies[0].columns}
    if rows in differ.values() and 0 not in differ.values():
        return {}, "they seem to stand in another order"
    return differ, ""


def _orders(studies: Sequence[Study]) -> list[NDArray[np.intp] | slice]:
    """Return how the rows of each imputation are put in the same order."""
    for name in studies[0].columns:
        values = [study[name].values for study in studies]
        sorted_ones = [np.sort(v) for v in values]
        distinct = len(sorted_ones[0]) and bool(np.all(sorted_ones[0][1:] > sorted_ones[0][:-1]))
        if distinct and all(np.array_equal(sorted_ones[0], other) for other in sorted_ones[1:]):
            return [np.argsort(v) for v in values]
    return [slice(None)] * len(studies)


def _differing(columns: Sequence[Column], orders: Sequence[Any]) -> int:
    """Count the rows in which a column is not the same in all imputations; a gap is the same as a gap."""
    first = columns[0].values[orders[0]]
    differ = np.zeros(len(first), dtype=bool)
    for column, order in zip(columns[1:], orders[1:], strict=True):
        own: NDArray[Any] = column.values[order]
        same = own == first
        if not column.is_categorical:
            same |= np.isnan(own) & np.isnan(first)
        differ |= ~same
    return int(np.count_nonzero(differ))
