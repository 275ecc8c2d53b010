"""Columns of a file that a codebook declares to be made of others: held against these, row by row, before it is believed."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from markbase.core.errors import CodebookError, count_noun, near
from markbase.core.formatting import short
from markbase.core.rows.row_functions import all_of, first_true, sd_of
from markbase.core.study.codebook import Codebook
from markbase.core.study.column import Column, Made
from markbase.core.study.derived_values import value_of

Array = NDArray[np.float64]
_MOST_DECIMALS = 12
_ROUNDING = 1e-9


def with_declared_sources(columns: Mapping[str, Column], book: Codebook) -> dict[str, Column]:
    """Return the columns of a study, those that were declared to be made of others knowing their sources.

    Raises a `CodebookError` if a source is not there, is no numeric column, or rests on the column itself; or if the column
    is not what it was declared to be in some row, to within the decimals it has in the file.
    """
    found = dict(columns)
    waiting = {name: spec.made for name, spec in book.columns.items() if spec.made is not None}
    while waiting:
        ready = [name for name, (_, of) in waiting.items() if not set(of) & set(waiting)]
        if not ready:
            name = next(iter(waiting))
            raise CodebookError(
                f"{book.source}, column `{name}`: `made` goes round in a circle; name columns that were not made of it."
            )
        for name in ready:
            how, of = waiting.pop(name)
            found[name] = _declared(found, name, how, of, book.source)
    return found


def _declared(columns: Mapping[str, Column], name: str, how: str, of: tuple[str, ...], source: str) -> Column:
    where = f"{source}, column `{name}`"
    for part in of:
        if part not in columns:
            raise CodebookError(
                f"{where}: it is declared to be made of `{part}`, which the data do not have.{near(part, columns)}"
            )
        if columns[part].is_categorical or columns[part].fault:
            raise CodebookError(f"{where}: it is declared to be made of `{part}`, which is no numeric column.")
    column = columns[name]
    if column.is_categorical or column.fault:
        raise CodebookError(f"{where}: it is declared to be made of others, and is no numeric column.")
    sources = tuple(columns[part] for part in of)
    made = Made(how, of, sources, _parameters(how, sources[0]))
    expected = value_of(made, [s.values for s in sources])
    assert expected is not None  # every operation that can be declared acts row by row
    both = column.present & np.isfinite(expected)
    wrong = both & (np.abs(np.where(both, column.values - expected, 0.0)) > _slack(column.values, expected))
    undefined = column.present & all_of([s.present for s in sources]) & ~np.isfinite(expected)
    if (wrong | undefined).any():
        row = first_true(wrong | undefined)
        there = short(float(expected[row]), 8) if np.isfinite(expected[row]) else "not defined"
        raise CodebookError(
            f"{where}: it is declared to be the {how.replace('_', ' ')} of {' and '.join(f'`{p}`' for p in of)}, and in "
            f"{count_noun(int((wrong | undefined).sum()), 'row')} of {column.valid:,} it is not (first in row {row + 1}: "
            f"{short(float(column.values[row]), 8)}, where that is {there}); correct the values, or leave `made` out."
        )
    return replace(column, made=made)


def _parameters(how: str, source: Column) -> tuple[float, ...]:
    """Return the numbers that a rescaling takes from its source."""
    values = source.values[source.present]
    if how == "unit_range":
        return source.span[0], source.span[1] - source.span[0]
    if how in ("centre", "z"):
        return float(values.mean()), *((sd_of(values),) if how == "z" else ())
    return ()


def _slack(values: Array, expected: Array) -> Array:
    """Return how far values may be off: half of their last decimal, or rounding where they have them all."""
    known = values[np.isfinite(values)]
    scale = _ROUNDING * np.maximum(np.abs(np.where(np.isfinite(expected), expected, 0.0)), 1e-300)
    for decimals in range(1, _MOST_DECIMALS):
        if np.all(np.abs(known - np.round(known, decimals)) <= 1e-14 * np.maximum(np.abs(known), 1.0)):
            if np.all(known == np.round(known)):
                return scale
            return np.asarray(np.maximum(scale, 0.5 * 10.0**-decimals * (1 + 1e-6)))
    return scale
