"""Rows of a table that a page lists, where there are too many to read."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import pandas as pd

from markbase.show.page import LEVEL_INDENT

SHOWN = 40
"""Rows that are listed of too many."""
MOST_LISTED = 240
"""Levels of a group, or combinations of levels, that a page lists."""


def clearest(rows: Sequence[Any]) -> tuple[list[Any], str]:
    """Return up to 240 levels as they are, of more the bases and the 40 of the lowest p, and words on the others: each row knows its `base` and its `p`."""
    tested = sorted(row.p for row in rows if not row.base and not math.isnan(row.p))
    if len(rows) <= MOST_LISTED or len(tested) <= SHOWN:
        return list(rows), ""
    kept = [row for row in rows if row.base or row.p <= tested[SHOWN - 1]]
    return kept, f"{LEVEL_INDENT}… {len(rows) - len(kept):,} of higher p"


def few_of(
    table: pd.DataFrame, by: str, which: str, what: str, *, most: int, ascending: bool = False
) -> tuple[pd.DataFrame, str]:
    """Return a table of up to `most` rows as it is, of more the first 40 by a column, and words on the others: ``; the 40 largest of 300, …``."""
    if len(table) <= most:
        return table, ""
    first = table.sort_values(by, ascending=ascending, kind="stable").head(SHOWN)
    return first, f"; the {SHOWN} {which} of {len(table):,}, the table of {what} has the others"
