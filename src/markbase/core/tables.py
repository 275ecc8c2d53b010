"""Making tables, and going through their rows."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from functools import cache
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

Column = Sequence[Any] | NDArray[Any]
_TEXT: Any = pd.Series(["text"]).dtype


def table_of(columns: Mapping[str, Column]) -> pd.DataFrame:
    """Make a table of columns that hold one type each, which a look at the first value tells.

    Parameters
    ----------
    columns : mapping of str to array_like, shape (rows,)
        The columns, of text or of anything else; at least one row.

    Returns
    -------
    pandas.DataFrame
        As of `pandas.DataFrame`, which looks at every value.
    """
    made = [
        pd.array(values, dtype=_TEXT) if isinstance(values[0], str) else np.asarray(values)
        for values in columns.values()
    ]
    table = pd.DataFrame(dict(enumerate(made)), index=pd.RangeIndex(len(made[0])), copy=False)
    table.columns = _heads(tuple(columns))
    return table


@cache
def _heads(names: tuple[str, ...]) -> pd.Index[str]:
    return pd.Index(names)


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
