"""One thing that deserves a second look, and from when on it does."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from markbase.core.study.column import Column

THIN_ROWS = 30
"""A level with fewer rows than this is called thin: its interval will be wide."""
SKEWED = 1.0
"""A numeric column with a skew beyond this, either way, is called strongly skewed."""
FEW_VALUES = 12
"""Whole numbers with at most this many distinct values may be codes."""


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
