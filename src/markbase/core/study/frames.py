"""Reading any table of columns, and giving one back."""

from __future__ import annotations

from collections.abc import Collection
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from markbase.core.errors import MarkbaseError
from markbase.core.rows.parts import InParts
from markbase.core.rows.row_functions import refuse_in_parts
from markbase.core.rows.table import TableInParts
from markbase.core.study.column import Column

AnyTable = Any
"""A table of pandas, Polars or Arrow, or whatever hands its columns over as Arrow does, such as a relation of DuckDB."""


def columns_of(frame: AnyTable) -> list[tuple[str, Any]]:
    """Return name and values of each column of a table, without copying numbers more than needed.

    Any eager table that `narwhals` reads, or one that hands its columns over as Arrow does, such as a relation of DuckDB.
    """
    if isinstance(frame, TableInParts):
        return list(frame.columns.items())
    if isinstance(frame, pd.DataFrame):
        return [(str(name), frame.iloc[:, k]) for k, name in enumerate(frame.columns)]
    import narwhals.stable.v2 as nw

    for method in ("to_arrow_table", "fetch_arrow_table"):  # a query that has not run yet
        if hasattr(frame, method):
            frame = getattr(frame, method)()
            break
    try:
        table = nw.from_native(frame, eager_only=True)
    except TypeError:
        hint = "; call `collect()` first" if hasattr(frame, "collect") else ""
        if isinstance(frame, (dict, list)):
            hint = "; make one of it, for instance with `pandas.DataFrame`"
        if isinstance(frame, (str, Path)):
            hint = "; `open_study` opens a file"
        raise MarkbaseError(
            f"A study is made of a table (pandas, Polars, PyArrow), not of a {type(frame).__name__}{hint}."
        ) from None
    return [(name, _series(table[name], nw)) for name in table.columns]


def _series(series: Any, nw: Any) -> pd.Series[Any]:
    kind = series.dtype
    if kind.is_numeric():
        numbers = series.cast(nw.Float64) if series.null_count() else series
        return pd.Series(numbers.to_numpy())
    if kind == nw.Duration:
        return pd.Series(pd.to_timedelta(series.to_list()))
    if kind in (nw.Categorical, nw.Enum):
        categories = series.cat.get_categories().to_list()
        return pd.Series(pd.Categorical(series.to_list(), categories=categories, ordered=kind == nw.Enum))
    return pd.Series(series.to_list(), dtype=object)


def holds_whole_numbers(column: Column) -> bool:
    """Return whether a numeric column holds whole numbers alone, and few enough digits to be written as such."""
    if isinstance(column.values, InParts):
        facts = column.values.facts
        return facts.valid > 0 and facts.whole and max(abs(facts.low), abs(facts.high)) < 2**53
    present = column.values[column.present]
    return len(present) > 0 and bool(np.all(present == np.round(present))) and bool(np.all(np.abs(present) < 2**53))


def frame_of(columns: list[Column], codes: bool, whole: Collection[str] | None = None) -> pd.DataFrame:
    """Return columns as a table; missing is missing, whatever the reason was.

    Numeric columns as float64, or Int64 where every value is whole (or `whole` names them); groups as categories, in the
    order of their levels, told by their labels or codes.
    """
    refuse_in_parts(
        [c.values for c in columns],
        "one table of them",
        "go through them part by part, or take a sample of them",
    )
    table: dict[str, Any] = {}
    for column in columns:
        if column.is_categorical:
            names = [level.code if codes else level.label for level in column.levels]
            table[column.name] = pd.Categorical.from_codes(
                column.values, pd.Index(names), ordered=column.kind == "ordinal"
            )
            continue
        table[column.name] = column.values
        if holds_whole_numbers(column) if whole is None else column.name in whole:
            numbers = np.where(column.present, column.values, 0).astype(np.int64)
            table[column.name] = pd.arrays.IntegerArray(numbers, ~column.present)
    return pd.DataFrame(table)
