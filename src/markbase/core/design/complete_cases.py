"""Which rows a model uses, and why others are not used."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.errors import FitError, count_noun, listed
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

    def cut_to(self, used: NDArray[np.bool_]) -> CompleteCases:
        """Return the account of some of the rows; why the others are not used is not told again."""
        return CompleteCases(self.rows, int(np.count_nonzero(used)), self.losses)

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
    """Find the rows that have a value in every column.

    Parameters
    ----------
    columns : sequence of Column
        The outcome and the terms.

    Returns
    -------
    used : ndarray of bool, shape (rows,), or None
        The rows; None if all are complete.
    account : SampleAccount
        The count of rows, and what was lost to which column.

    Raises
    ------
    FitError
        If no row is complete.
    """
    rows = len(columns[0].values)
    gaps = [c for c in columns if c.valid < rows]
    if not gaps:
        if not rows:
            raise FitError("The data have no rows, so nothing can be fitted.")
        return None, CompleteCases(rows, rows)
    holes = np.sum([~c.present for c in gaps], axis=0)
    used = holes == 0
    lost = tuple(loss for c in gaps for loss in _losses(c, holes == 1))
    count = int(np.count_nonzero(used))
    if not count:
        empty = [c.name for c in gaps if not c.valid]
        worst = sorted(gaps, key=lambda c: c.valid)[:3]
        told = listed([f"`{c.name}` ({count_noun(rows - c.valid, 'row')} missing)" for c in worst])
        raise FitError(
            f"Every row is missing {'all of ' + listed([f'`{n}`' for n in empty]) if empty else 'at least one column'}: no row of "
            f"{rows:,} has the outcome and every term. Most is lost to {told}; leave such a column out, or mend its codes."
        )
    return used, CompleteCases(rows, count, lost)


def _losses(column: Column, alone: NDArray[np.bool_]) -> list[Loss]:
    missing = ~column.present
    if column.why_missing is None:
        why, names = np.where(missing, BLANK, 0), ["blank"]
    else:
        why, names = column.why_missing, ["blank", *(c.shown for c in column.missing_codes)]
    records = []
    for k, reason in enumerate(names):
        here = why == (BLANK if k == 0 else FIRST_CODED + k - 1)
        if here.any():
            count, only = int(np.count_nonzero(here)), int(np.count_nonzero(here & alone))
            records.append(Loss(column.name, reason, count, only))
    return records
