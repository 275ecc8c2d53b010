"""One thing that deserves a second look, and from when on it does."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from markbase.core.formatting import short
from markbase.core.rows.parts import in_parts
from markbase.core.study.column import BLANK, Column

THIN_ROWS = 30
"""A level with fewer rows than this is called thin: its interval will be wide."""
SKEWED = 1.0
"""A numeric column with a skew beyond this, either way, is called strongly skewed."""
FEW_VALUES = 12
"""Whole numbers with at most this many distinct values may be codes."""
_FEWEST_BLOCKS, _MOST_ALONE, _LONGEST_NAME = 3, 0.2, 40
"""Blocks of rows have names: so many at least, few of them alone in a row, none longer than so many letters."""


@dataclass(frozen=True)
class Remark:
    """One thing that deserves a second look."""

    text: str
    """What was seen."""
    mend: tuple[Mapping[str, Any], ...] = ()
    """The preparing steps that would mend it, as `Study.prepare` takes them; empty if none would."""


def about_one(column: Column, no: object, text: str) -> Remark:
    """Say that a column has one value; beside blanks it may be a box that was ticked, and a blank what was not."""
    reasons = dict(column.missing_counts())
    if not column.guess or no is None or not reasons.get("blank"):
        return Remark(text)
    mend = {"do": "fill_blank", "column": column.name, "value": int(no) if isinstance(no, float) else no}
    return Remark("one value, or blank: a box to tick? if so, a blank is one that was not ticked", (mend,))


def about_rows_of_one(column: Column, which: str, rows: float) -> Remark:
    """Say that a column may tell which rows are of one person, class or place, each of so many on average."""
    text = f"{which}, of {short(rows, 2)} rows on average: persons measured more than once, classes, places? rows of one then go together"
    return Remark(text, ({"do": "as_role", "column": column.name, "role": "cluster"},))


def about_blocks(column: Column) -> Remark | None:
    """Say that a column may name something in the first of several rows that are about it, as tables for readers do."""
    if not column.guess or in_parts(column.values) or column.role == "identifier":
        return None
    at = np.flatnonzero(column.reasons() != BLANK)
    if (
        not _FEWEST_BLOCKS <= column.valid == len(at) <= len(column.values) / 2
        or at[0]
        or np.mean(np.diff(at) == 1) > _MOST_ALONE
    ):
        return None
    values = column.values[at]
    if column.is_categorical:
        named = len(np.unique(values)) == len(at) and max(len(column.levels[k].label) for k in values) <= _LONGEST_NAME
    else:
        named = bool(np.all(np.diff(values) > 0) and np.all(values == np.round(values)))
    if not named:
        return None
    mend = {"do": "fill_down", "column": column.name}
    return Remark("every value once, with blank rows below it: does it hold for these as well?", (mend,))
