"""Which rows a model uses, and why others are not used."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.errors import FitError, count_noun, listed
from markbase.core.rows.parts import in_parts
from markbase.core.rows.row_functions import counted, learn, sample_of, sum_of
from markbase.core.rows.table import FEWEST_KEPT
from markbase.core.study.column import BLANK, FIRST_CODED, Column
from markbase.core.tables import own_table


class Loss(NamedTuple):
    """Rows missing in one column for one reason."""

    column: str
    """The column."""
    reason: str
    """Why they are missing."""
    rows: int
    """How many."""
    only: int
    """How many of them no other column of the model would have lost."""


_NONE_LOST = pd.DataFrame({"column": pd.Series(dtype="str"), "reason": pd.Series(dtype="str"), "rows": [], "only": []})


@dataclass(frozen=True, eq=False)
class CompleteCases:
    """The rows of a fit."""

    rows: int
    """Rows of the study."""
    used: int
    """Rows with a value in the outcome and in every term."""
    losses: tuple[Loss, ...] = ()
    """Why rows were not used, a line a column and reason."""
    others: NDArray[np.bool_] | None = None
    """Shape (rows,): rows not used that have a value in the first column, the outcome of a fit; None where all rows are used."""

    def cut_to(self, used: NDArray[np.bool_]) -> CompleteCases:
        """Return the account of some of the rows; why the others are not used is not told again."""
        return CompleteCases(self.rows, int(np.count_nonzero(used)), self.losses, self.others)

    @own_table
    def lost(self) -> pd.DataFrame:
        """Why rows were not used, as a table.

        `column`, `reason`, `rows` (missing there for that reason; a row may be counted in several lines)
        and `only` (of these, rows that no other column of the model would have lost).
        """
        return (
            pd.DataFrame(list(self.losses), columns=list(Loss._fields)) if self.losses else _NONE_LOST.copy(deep=False)
        )


def complete_rows(columns: Sequence[Column]) -> tuple[NDArray[np.bool_] | None, CompleteCases]:
    """Find the rows with a value in every column (None if all have), with an account of what was lost to which column.

    Raises a `FitError` if no row is complete.
    """
    rows = len(columns[0].values)
    gaps = [c for c in columns if c.valid < rows]
    if not gaps:
        if not rows:
            raise FitError("The data have no rows, so nothing can be fitted.")
        return None, CompleteCases(rows, rows)
    holes = sum_of([~c.present for c in gaps])
    used = holes == 0
    codes = [(_reasons(c, holes), 2 * (FIRST_CODED + len(c.missing_codes))) for c in gaps]
    first, others = columns[0], columns[0].present & ~used
    numbers = [] if first.is_categorical else [first.values[others], first.values[used]]
    learn(codes=codes, masks=[used, others], dispersions=numbers)
    lost = tuple(loss for c, (why, _) in zip(gaps, codes, strict=True) for loss in _losses(c, why))
    count = int(np.count_nonzero(used))
    if not count:
        empty = [c.name for c in gaps if not c.valid]
        worst = sorted(gaps, key=lambda c: c.valid)[:3]
        told = listed([f"`{c.name}` ({count_noun(rows - c.valid, 'row')} missing)" for c in worst])
        raise FitError(
            f"Every row is missing {'all of ' + listed([f'`{n}`' for n in empty]) if empty else 'at least one column'}: no row of "
            f"{rows:,} has the outcome and every term. Most is lost to {told}; leave such a column out, or mend its codes."
        )
    seen: Any = used
    if in_parts(seen) and np.count_nonzero(sample_of(seen)) < min(FEWEST_KEPT, count):
        thinnest = min(gaps, key=lambda c: c.valid)
        raise FitError(
            f"Only {count:,} of {rows:,} rows have a value in every column that is asked for, and hardly any of them is among the rows that are kept in memory of data "
            f'read in parts. Keep these rows first (`keep`, `{{"{thinnest.name}": {{"present": true}}}}`): so few are then in memory.'
        )
    return used, CompleteCases(rows, count, lost, others)


def _reasons(column: Column, holes: Any) -> Any:
    """Return for each row twice why it is missing, 1 more if no other column lacks it."""
    return 2 * column.reasons().astype(np.int64) + (holes == 1)


def _losses(column: Column, why: Any) -> list[Loss]:
    names = ["blank", *(c.shown for c in column.missing_codes)]
    counts = counted(why, 2 * (FIRST_CODED + len(column.missing_codes)))[2 * BLANK :].reshape(-1, 2)
    return [
        Loss(column.name, reason, int(several + only), int(only))
        for reason, (several, only) in zip(names, counts, strict=True)
        if several + only
    ]
