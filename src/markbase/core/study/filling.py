"""Saying what a blank means: none, not ticked, not there; or the same as above."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from markbase.core.errors import ColumnError, count_noun
from markbase.core.formatting import plain
from markbase.core.rows.following import made_along
from markbase.core.rows.parts import in_parts
from markbase.core.study.codebook import code_text
from markbase.core.study.column import BLANK, PRESENT, Column, Level
from markbase.core.study.column_types import with_default_base
from markbase.core.study.verification import Recode, before_and_after, old_by_new


def fill_blank(column: Column, value: object) -> Recode:
    """Put a value into the blank rows of a column, verified; rows with a code for a missing answer stay missing.

    Of a group a level, by label or code, or a new one, which stands last.
    """
    blank = column.reasons() == BLANK
    rows = int(np.count_nonzero(blank))
    if not rows:
        raise ColumnError(f"`{column.name}` has no blank row, so there is nothing to fill.")
    why = None if column.why_missing is None else np.where(blank, PRESENT, column.why_missing).astype(np.uint8)
    if column.is_categorical:
        shown = code_text(value)
        known = [k for k, level in enumerate(column.levels) if shown in (level.label, level.code)]
        levels = column.levels if known else (*column.levels, Level(shown, shown, True))
        place = known[0] if known else len(column.levels)
        shown = levels[place].label
        values = np.where(blank, np.int32(place), column.values).astype(column.values.dtype)
        new = replace(column, values=values, levels=levels, why_missing=why)
        if column.base is None or not column.base.chosen:
            new = with_default_base(replace(new, base=None))
    else:
        number = (
            float(value) if isinstance(value, (int, float, np.number)) and not isinstance(value, bool) else math.nan
        )
        if not math.isfinite(number):
            raise ColumnError(f"`{column.name}` is numeric, so what its blank rows hold is a number, not {value!r}.")
        shown = plain(number, 12)
        new = replace(column, values=np.where(blank, number, column.values), why_missing=why)
    new = replace(new, made=None)  # what it was made of does not give these values
    notes = (f"a blank counts as `{shown}` from here on, whoever left it and why",)
    check = (old_by_new if column.is_categorical else before_and_after)(column, new, notes)
    changed = int(np.count_nonzero(column.present & (new.values != column.values)))
    added = new.valid == column.valid + rows and len(new.values) == len(column.values)
    text = f"Filled {count_noun(rows, 'blank row')} of `{column.name}` with `{shown}`: {count_noun(column.valid, 'row')} with a value before, {new.valid:,} after."
    return Recode(new, replace(check, passed=added and not changed), text)


def fill_down(column: Column) -> Recode:
    """Give blank rows what the last row above them holds that is not blank, be it a code for a missing answer; verified.

    Blank rows above the first of these stay blank.
    """
    reasons = column.reasons()
    blank = reasons == BLANK
    rows = int(np.count_nonzero(blank))
    if not rows:
        raise ColumnError(f"`{column.name}` has no blank row, so there is nothing to fill.")
    if rows == len(column.values):
        raise ColumnError(f"`{column.name}` is blank in every row, so there is nothing to fill it with.")
    trees = (column.values, reasons)
    values, why = made_along(2, _last_of, _later, _carried, *trees) if in_parts(*trees) else _carried(None, *trees)
    kept = None if column.why_missing is None else why.astype(np.uint8)
    new = replace(column, values=values.astype(column.values.dtype), why_missing=kept, made=None)
    if column.is_categorical and (column.base is None or not column.base.chosen):
        new = with_default_base(replace(new, base=None))
    left = int(np.count_nonzero(why == BLANK))
    if left == rows:
        raise ColumnError(
            f"The blank rows of `{column.name}` all stand above its first value, so nothing stands above them."
        )
    top = (f"{count_noun(left, 'blank row')} at the top, above any value, {'stays' if left == 1 else 'stay'} blank",)
    notes = ("which value a row gets rests on the order of the rows in the file", *(top if left else ()))
    check = (old_by_new if column.is_categorical else before_and_after)(column, new, notes)
    changed = int(np.count_nonzero(column.present & (new.values != column.values)))
    holds = not changed and new.valid >= column.valid
    if not in_parts(*trees):  # the row above is what each of them is now
        below = np.flatnonzero(blank[1:]) + 1
        holds = holds and np.array_equal(new.values[below], new.values[below - 1], equal_nan=not column.is_categorical)
    text = (
        f"Filled {count_noun(rows - left, 'blank row')} of `{column.name}` with what stands above: {count_noun(column.valid, 'row')} with a "
        f"value before, {new.valid:,} after."
    )
    return Recode(new, replace(check, passed=holds), text)


@dataclass(frozen=True)
class _Last:
    """The last row that is not blank."""

    value: float
    """What it holds."""
    why: float
    """Whether, and why, that is missing."""


def _last_of(values: NDArray[Any], reasons: NDArray[np.uint8]) -> _Last | None:
    known = np.flatnonzero(reasons != BLANK)
    return _Last(float(values[known[-1]]), float(reasons[known[-1]])) if len(known) else None


def _later(before: _Last | None, after: _Last | None) -> _Last | None:
    return after or before


def _carried(
    before: _Last | None, values: NDArray[Any], reasons: NDArray[np.uint8]
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Return what rows hold, and why not, that follow others whose last one is known."""
    first = before or _Last(math.nan if values.dtype.kind == "f" else -1.0, float(BLANK))
    at = 1 + np.maximum.accumulate(np.where(reasons != BLANK, np.arange(len(reasons)), -1))
    return np.append(first.value, values)[at], np.append(first.why, reasons)[at]
