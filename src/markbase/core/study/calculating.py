"""A numeric column that is calculated from others, as an expression says."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from markbase.core.errors import ColumnError, count_noun
from markbase.core.formatting import plain
from markbase.core.rows.row_functions import made_of
from markbase.core.study.arithmetic import combine, verified
from markbase.core.study.column import Column, Made
from markbase.core.study.expressions import Part, computed, outer_step, places_that_fail, plain_step, read
from markbase.core.study.transformations import check_numeric, transform
from markbase.core.study.verification import Recode, with_missing

Array = NDArray[np.float64]

_LARGEST = 1e150
"""Squares of larger numbers cannot be summed."""


def calculated(column: Callable[[str], Column], expression: str, name: str) -> Recode:
    """Calculate a new numeric column as an expression says (see `expressions.read`), verified; `column` returns a column by its name.

    A row is missing where a column in it is, where it divides by 0, and where a number gets too large, each counted. An expression
    that is one step of `derive` is that step, and one that is the logarithm or the square of something is told as such.

    Raises a `ColumnError` for what cannot be read, a column that is not there or has no numbers, and a function that is not
    defined in some rows, such as a logarithm of zeros.
    """
    part = read(expression)
    columns = {own: column(own) for own in part.columns}
    for own in columns.values():
        check_numeric(own, "calculate")
    return _calculated(part, columns, name)


def _calculated(part: Part, columns: Mapping[str, Column], name: str) -> Recode:
    step = plain_step(part)
    if step is not None:
        how, names = step
        if len(names) == 1:
            return transform(columns[names[0]], how, name)
        return combine([columns[own] for own in names], how, name, None, 1.0)
    outer = outer_step(part)
    if outer is None:
        return _in_full(part, columns, name)
    how, inner = outer
    if inner.what == "column":
        return transform(columns[inner.text], how, name)
    within = _calculated(inner, columns, inner.shown)
    done = transform(within.column, how, name)
    notes = (*within.check.notes, *done.check.notes)
    return replace(done, check=replace(done.check, source=", ".join(inner.columns), notes=notes))


def _in_full(part: Part, columns: Mapping[str, Column], name: str) -> Recode:
    names, places = part.columns, places_that_fail(part)
    sources = [columns[own] for own in names]

    def of_rows(*numbers: Array) -> tuple[Array, Array]:
        values, faults = computed(part, dict(zip(names, numbers, strict=True)))
        where = np.zeros(len(numbers[0]))
        for k, rows in reversed(list(enumerate(faults))):
            where = np.where(rows, k + 1.0, where)
        there = ~np.any([np.isnan(own) for own in numbers], axis=0)
        where = np.where(
            there & (where == 0) & ~(np.abs(values) < _LARGEST), len(places) + 1.0, np.where(there, where, 0.0)
        )
        return np.where(there & (where == 0), values, np.nan), where

    values, where = made_of(2, of_rows, *(own.values for own in sources))
    gone: dict[str, NDArray[np.bool_]] = {f"`{own.name}` missing": ~own.present for own in sources[1:]}
    notes = []
    for k, (kind, of, rule) in enumerate(places):
        rows = where == k + 1.0
        count = int(np.count_nonzero(rows))
        if not count:
            continue
        if kind == "rule":
            raise ColumnError(
                f"`{part.shown}` needs `{of.shown}` to be {rule}, and in {count_noun(count, 'row')} it is not ({_lowest(of, columns, rows)}): "
                "keep the other rows, blank codes, or write it otherwise, as log(1 + …) for zeros or max(…, 0) for what is below."
            )
        gone[f"`{of.shown}` is 0"] = rows
        notes.append(f"{count_noun(count, 'row')} with `{of.shown}` = 0 left missing")
    large = where == len(places) + 1.0
    if count := int(np.count_nonzero(large)):
        gone["too large a number"] = large
        notes.append(f"{count_noun(count, 'row')} left missing, too large a number")
    made = Made("calculation", names, tuple(sources), expression=part.shown)
    new = with_missing(Column(name, "numeric", values, label=part.shown, made=made), sources[0], gone)
    return verified(sources, new, f"Made `{name}`, `{part.shown}`", notes)


def _lowest(part: Part, columns: Mapping[str, Column], rows: NDArray[np.bool_]) -> str:
    """Say what a part of an expression is at the lowest in some rows."""

    def of_rows(*numbers: Array) -> tuple[Array]:
        return (computed(part, dict(zip(part.columns, numbers, strict=True)))[0],)

    if not part.columns:
        return f"it is {part.shown}"
    (found,) = made_of(1, of_rows, *(columns[own].values for own in part.columns))
    return f"the lowest is {plain(float(found[rows].min()))}"
