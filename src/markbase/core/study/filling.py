"""Saying what a blank means: none, not ticked, not there."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np

from markbase.core.errors import ColumnError, count_noun
from markbase.core.formatting import plain
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
