"""Going through the rows of a table."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import pandas as pd


def rows_of(table: pd.DataFrame) -> Iterator[Any]:
    """Yield the rows of a table as named tuples, whose fields are its columns.

    Parameters
    ----------
    table : pandas.DataFrame
        A table whose column names are identifiers.

    Yields
    ------
    namedtuple
        One a row.
    """
    yield from table.itertuples(index=False)
