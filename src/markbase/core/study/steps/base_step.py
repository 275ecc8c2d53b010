"""How every preparing step ends: a new study, and one more line on the trail."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterator, Mapping, Sequence
from typing import Any, Self

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.errors import ColumnError, remark
from markbase.core.rows.parts import held_parts, in_parts
from markbase.core.rows.row_functions import sample_of
from markbase.core.rows.table import FEWEST_KEPT, KEPT_VALUES, most_kept
from markbase.core.study.column import Column
from markbase.core.study.row_selection import Held, arrays_of, holding, take
from markbase.core.study.trail import Trail, TrailStep
from markbase.core.study.verification import Recode


class Stepping(ABC):
    """What the preparing steps of a study stand on."""

    _columns: dict[str, Column]
    _rows: int
    _index: pd.Index[Any]
    _name: str
    _trail: Trail
    _opened: tuple[Mapping[str, Any], int] | None = None
    """What a plan would say of the file it was opened from, and how many steps of the trail that holds; None where it cannot."""

    @abstractmethod
    def column(self, name: str) -> Column:
        """Return one typed column."""

    @abstractmethod
    def parts(self) -> Iterator[Self]:
        """Go through the rows a part at a time."""

    def _new_name(self, name: str) -> str:
        if not isinstance(name, str) or not name.strip():
            raise ColumnError(f"A new column needs a name, not {name!r}.")
        if name in self._columns:
            raise ColumnError(f"There is a column `{name}` already, and nothing is overwritten; choose another name.")
        return name

    def _recoded(
        self,
        recode: Recode,
        action: str,
        settings: Mapping[str, Any],
        reason: str,
        worth_a_remark: Sequence[str] | None = None,
    ) -> Self:
        if not recode.check.passed:
            raise AssertionError(f"{action} of {recode.column.name} did not verify")  # a defect of ours
        notes = recode.check.notes
        if worth_a_remark is not None:
            notes = tuple(n for n in notes if any(mark in n for mark in worth_a_remark))
        if notes:
            told = "; ".join(notes)
            remark(f"`{recode.column.name}`: {told}{'' if told.endswith('?') else '.'}")
        step = TrailStep(action, recode.column.name, recode.text, settings, reason, recode.check)
        return self._with(recode.column, step)

    def _with(self, column: Column, step: TrailStep) -> Self:
        """Return a study with one column put in place and one more step on the trail."""
        return self._remade({**self._columns, column.name: column}, step)

    def _remade(self, columns: dict[str, Column], step: TrailStep, rows: int | None = None) -> Self:
        """Return a study of other columns and one more step on the trail, of the same rows or of so many others, which are numbered anew."""
        study = self._of_columns(columns)
        if rows is not None:
            study._rows, study._index = rows, pd.RangeIndex(rows)
        study._trail = self._trail.then(step)
        return study

    def _holding(self, held: Held, index: pd.Index[Any] | None = None) -> Self:
        """Return a study of the same columns with other rows, which are in memory."""
        study = self._of_columns({name: holding((name,), column, held) for name, column in self._columns.items()})
        study._rows = len(next(iter(held.values()))[0])
        study._index = pd.RangeIndex(study._rows) if index is None else index
        return study

    def _of_columns(self, columns: dict[str, Column]) -> Self:
        """Return a study of other columns of the same rows, without a step on the trail."""
        study = object.__new__(type(self))
        study.__dict__.update(self.__dict__)
        study._columns = columns
        return study

    def _taken(self, rows: NDArray[np.bool_], step: TrailStep) -> Self:
        """Return a study with some of the rows and one more step on the trail."""
        study = self._of_columns({name: take(column, rows) for name, column in self._columns.items()})
        study._rows = int(np.count_nonzero(rows))
        study._index = pd.RangeIndex(study._rows) if in_parts(rows) else self._index[rows]
        study._trail = self._trail.then(step)
        return study._in_memory() if study._is_small() else study

    def _is_small(self) -> bool:
        """Return whether rows come in parts, are few, and not all of them kept in memory anyway; of rows of which hardly any is, whether they can be."""
        arrays = arrays_of(self._columns)
        if not in_parts(arrays):
            return False
        first: Any = next(iter(arrays.values()))[0]
        there, few = len(sample_of(first)), self._rows <= most_kept(len(arrays))
        return there < self._rows and (few or (there < FEWEST_KEPT and self._rows * len(arrays) <= KEPT_VALUES))

    def _in_memory(self) -> Self:
        """Return the same study with all rows in memory, in a pass."""
        held = list(held_parts(arrays_of(self._columns)))
        joined: Held = {
            place: (
                np.concatenate([part[place][0] for part in held]),
                None if why is None else np.concatenate([part[place][1] for part in held]),
            )
            for place, (_, why) in held[0].items()
        }
        return self._holding(joined)


def given(**settings: Any) -> dict[str, Any]:
    """Keep the settings that were given."""
    return {k: v for k, v in settings.items() if v is not None and not (isinstance(v, (list, dict)) and not v)}


def plain(value: Any) -> Any:
    """Return a setting as values that TOML and JSON can hold."""
    if isinstance(value, Mapping):
        return {str(k): plain(v) for k, v in value.items()}
    if isinstance(value, (list, tuple, range)):
        return [plain(v) for v in value]
    return value.item() if isinstance(value, np.generic) else value
