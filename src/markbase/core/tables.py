"""Making tables, and going through their rows."""

from __future__ import annotations

from collections import namedtuple
from collections.abc import Callable, Container, Mapping, Sequence
from functools import cache
from typing import Any, overload

import numpy as np
import pandas as pd
from numpy.typing import NDArray

Column = Sequence[Any] | NDArray[Any]
_TEXT: Any = pd.Series(["text"]).dtype
_COPIED_AT_ONCE = int(pd.__version__.partition(".")[0]) < 3
"""Whether a copy shares nothing from the start; from pandas 3 on a column is copied when it is first written to."""


class own_table:  # noqa: N801 - it stands where `cached_property` would
    """A table that is computed once, of which everybody who asks gets a copy: what is done to it changes no other print."""

    def __init__(self, function: Callable[[Any], pd.DataFrame]) -> None:
        self.function, self.__doc__ = function, function.__doc__

    def __set_name__(self, owner: type, name: str) -> None:
        self.key = f"_table_{name}"

    @overload
    def __get__(self, instance: None, owner: type) -> own_table: ...

    @overload
    def __get__(self, instance: object, owner: type) -> pd.DataFrame: ...

    def __get__(self, instance: object | None, owner: type) -> pd.DataFrame | own_table:
        if instance is None:
            return self
        kept = instance.__dict__
        if self.key not in kept:
            kept[self.key] = self.function(instance)
        table: pd.DataFrame = kept[self.key]
        return table.copy(deep=_COPIED_AT_ONCE)

    def __set__(self, instance: object, value: object) -> None:
        raise AttributeError("a table of a result cannot be replaced")


def table_of(columns: Mapping[str, Column]) -> pd.DataFrame:
    """Make a table of columns that hold one type each, which a look at the first value tells; `pandas.DataFrame` looks at every one."""
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


TableRow = Mapping[str, Any]
"""A row of a table: its values by the names of the columns."""


def name_beside(figures: Container[str], name: str, of: str = "column") -> str:
    """Return what a column of the data (or a fit, a block) is called in a table that has some figures: by its name, or apart from the figure of that name."""
    return f"{name} ({of})" if name in figures else name


def own_name(figures: Container[str], name: str) -> str:
    """Return the name of a column of the data by what it is called in such a table."""
    bare = name.removesuffix(" (column)")
    return bare if bare in figures else name


def records_of(table: pd.DataFrame) -> list[TableRow]:
    """Return the rows of a table, whatever its columns are called."""
    names = table.columns.tolist()
    return [dict(zip(names, cells, strict=True)) for cells in _cells_of(table)]


def rows_of(table: pd.DataFrame) -> list[Any]:
    """Return the rows of a table whose column names are identifiers as named tuples."""
    return list(map(_named(tuple(table.columns))._make, _cells_of(table)))


def _cells_of(table: pd.DataFrame) -> list[list[Any]]:
    """Return the cells of a table, row by row: at once, where pandas would ask each column for each."""
    cells: list[list[Any]] = table.to_numpy(dtype=object).tolist()
    return cells


@cache
def _named(names: tuple[str, ...]) -> Any:
    return namedtuple("Row", names, rename=True)
