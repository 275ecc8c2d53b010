"""Rows of a table that a page lists, where there are too many to read."""

from __future__ import annotations

import pandas as pd

SHOWN = 40
"""Rows that are listed of too many."""


def few_of(
    table: pd.DataFrame, by: str, which: str, what: str, *, most: int, ascending: bool = False
) -> tuple[pd.DataFrame, str]:
    """Return a table of up to `most` rows as it is, of more the first 40 by a column, and words on the others: ``; the 40 largest of 300, …``."""
    if len(table) <= most:
        return table, ""
    first = table.sort_values(by, ascending=ascending, kind="stable").head(SHOWN)
    return first, f"; the {SHOWN} {which} of {len(table):,}, the table of {what} has the others"
