"""From raw values to typed columns: what the codebook says, or a guess that says it is one."""

from __future__ import annotations

import datetime
from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.errors import ColumnError, MarkbaseError, count_noun, listed, quoted
from markbase.core.rows.parts import InParts
from markbase.core.rows.row_functions import look_up
from markbase.core.rows.table import TextsInParts
from markbase.core.study.codebook import ColumnSpec, code_text
from markbase.core.study.column import BLANK, FIRST_CODED, Base, Column, MissingCode, Unit, levels_of
from markbase.core.study.level_order import alphabetical, ordered
from markbase.core.study.raw_values import (
    RawValues,
    missing_among,
    parsed,
    raw_in_parts,
    raw_values,
)
from markbase.core.study.written_numbers import as_written, decimals_in_doubt, numbers_as_written, signs_of_bounds

_MOST_IN_ORDER, _MOST_SORTED = 1000, 50_000
"""Levels that stand in the order people give them, and by their letters; more stand as they come."""
SECONDS = Unit("second", "seconds")
"""What durations are counted in."""


def build_column(
    series: pd.Series[Any] | InParts | NDArray[np.float64] | TextsInParts,
    spec: ColumnSpec,
    everywhere_missing: Sequence[MissingCode] = (),
) -> Column:
    """Make a typed column of raw values: numbers, text, booleans or categories, shape (rows,).

    A kind that is not declared is guessed; what cannot be used as declared is said in the column's `fault`. Raises a
    `ColumnError` if a row holds what is neither a number nor a text.
    """
    try:
        return _built(series, spec, everywhere_missing)
    except (TypeError, ValueError, OverflowError, ArithmeticError) as problem:
        if isinstance(problem, MarkbaseError):
            raise
        told = list(series.distinct) if isinstance(series, TextsInParts) else series.head(1000).tolist()  # type: ignore[union-attr]
        held = {type(v).__name__ for v in told} - {"NoneType", "float", "str"}
        raise no_column_of(spec.name, listed(sorted(held)) or "of an unknown kind") from None


def no_column_of(name: str, held: str) -> ColumnError:
    """Return the refusal of a column that holds something else than numbers and texts."""
    return ColumnError(f"`{name}` holds values that are neither numbers nor texts ({held}); make one of these of them.")


def _built(
    series: pd.Series[Any] | InParts | NDArray[np.float64] | TextsInParts,
    spec: ColumnSpec,
    everywhere_missing: Sequence[MissingCode],
) -> Column:
    own = {c.code for c in spec.missing}
    spec = replace(spec, missing=spec.missing + tuple(c for c in everywhere_missing if c.code not in own))
    if isinstance(series, (InParts, np.ndarray)):
        return _numeric_from_numbers(series, spec, guessed=spec.kind is None)
    if isinstance(series, TextsInParts):
        return _spread(_from_raw(raw_in_parts(series), spec), series, spec)
    if series.dtype.kind == "O" and _all_durations(series):
        series = pd.to_timedelta(series)
    if series.dtype.kind == "c":
        raise TypeError  # its real part is not what it holds
    if series.dtype.kind == "m":
        return _built(series.dt.total_seconds(), in_seconds(spec), everywhere_missing)
    numeric = pd.api.types.is_numeric_dtype(series) and not pd.api.types.is_bool_dtype(series)
    if numeric and (spec.kind == "numeric" or not (spec.kind or spec.base)):
        values = series.to_numpy(dtype=np.float64, na_value=np.nan)
        return _numeric_from_numbers(values, spec, guessed=spec.kind is None)
    return _from_raw(raw_values(series), spec)


def _all_durations(series: pd.Series[Any]) -> bool:
    """Return whether a column holds durations, as spreadsheets give them."""
    present = (v for v in series if v is not None and v is not pd.NA and v == v)  # NA cannot be compared
    return isinstance(next(present, None), datetime.timedelta) and all(
        isinstance(v, datetime.timedelta) for v in present
    )


def in_seconds(spec: ColumnSpec) -> ColumnSpec:
    """Return what is declared of a column of durations: seconds, unless something else, or that they are groups."""
    return replace(spec, unit=SECONDS) if spec.unit is None and spec.kind in (None, "numeric") else spec


def _from_raw(raw: RawValues, spec: ColumnSpec) -> Column:
    if spec.kind in (None, "numeric") and not (spec.levels or spec.base or raw.categories):
        raw, spec = as_written(raw, spec)
    kind, guess = (spec.kind, "") if spec.kind else _guess(raw, spec)
    if kind == "numeric":
        return replace(_numeric(raw, spec), guess=guess)
    return replace(_group(raw, replace(spec, kind=kind)), guess=guess, doubt=_doubt(raw, spec) if guess else "")


def _doubt(raw: RawValues, spec: ColumnSpec) -> str:
    """Say that a guessed group is all numbers but for a few texts, or numbers that can be read in two ways, if it is."""
    coded = missing_among(raw, spec.missing) > 0
    if not raw.categories and not spec.base:
        example = decimals_in_doubt(_not_coded(raw, coded))
        if example:
            return f"numbers that can be read in two ways: nothing says whether `{example}` holds thousands or decimals; say which mark stands before decimals"
    text = ~raw.is_number & ~coded
    if text.any():
        text &= np.isnan(numbers_as_written(raw.texts))
    if raw.categories or spec.base or int(text.sum()) * 2 > len(text) or text.all() or not text.any():
        return ""
    words, first, rows = _texts_in(raw, text)
    if signs_of_bounds([raw.texts[k] for k in np.flatnonzero(text)]):
        return (
            f"mostly numbers, but a bound in {count_noun(rows, 'row')} ({words}; first in row {first}), which is no missing answer: if it is numeric, "
            f"say what it counts as; with its sign taken off it is the number it names"
        )
    return (
        f"mostly numbers, but text in {count_noun(rows, 'row')} ({words}; first in row {first}): if it is numeric, "
        f"declare the text a missing code or mend it"
    )


def _not_coded(raw: RawValues, coded: NDArray[np.bool_]) -> list[str]:
    """Return the distinct texts that stand for no missing answer."""
    return [raw.texts[k] for k in np.flatnonzero(~coded).tolist()] if coded.any() else raw.texts


def _texts_in(raw: RawValues, text: NDArray[np.bool_]) -> tuple[str, int, int]:
    """Return some of the texts, the first row that holds one, and how many rows do."""
    rows, first = raw.rows_with(text)
    some = quoted([raw.texts[k] for k in np.flatnonzero(text)[:3]])
    return listed(some), first, rows


def _spread(column: Column, series: TextsInParts, spec: ColumnSpec) -> Column:
    """Turn a column of distinct values into one of the rows that have them."""
    blank = -1 if column.is_categorical else np.nan
    values: Any = series.places
    in_order = np.array_equal(column.values, np.arange(len(column.values)))
    if not (column.is_categorical and in_order):  # else they are the levels in order already
        values = look_up(np.append(column.values, np.array(blank, column.values.dtype)), series.places)
    why = None
    if column.why_missing is not None:
        why = look_up(np.append(column.why_missing, np.uint8(BLANK)), series.places)
    whole = replace(column, values=values, why_missing=why, base=None)
    if not column.is_categorical:
        return whole
    if isinstance(values, InParts):
        counts = np.bincount(column.values[column.present], series.counts[column.present], len(column.levels))
        values.__dict__["counted"] = counts.astype(np.int64)
    return with_default_base(whole, spec.base)


def _guess(raw: RawValues, spec: ColumnSpec) -> tuple[Any, str]:
    coded = missing_among(raw, spec.missing) > 0
    if spec.base:
        return "categorical", "guessed categorical, since a base is given"
    if raw.categories:
        kind = "ordinal" if raw.ordered else "categorical"
        return kind, "read as categories from the source"
    if bool(np.all(raw.is_number | coded)) and not bool(np.all(coded)):
        return "numeric", "guessed numeric, since every value is a number"
    if bool(np.all(coded)):  # or there is no text at all
        return "numeric", "guessed numeric, since every value is missing"
    return "categorical", "guessed categorical, since it holds text"


def _numeric_from_numbers(values: Any, spec: ColumnSpec, guessed: bool) -> Column:
    why = None
    if spec.missing:
        codes, is_number = parsed([c.code for c in spec.missing])
        why = np.where(np.isnan(values), BLANK, 0).astype(np.uint8)
        for k in np.flatnonzero(is_number):
            why = np.where(values == codes[k], np.uint8(FIRST_CODED + k), why)
        values = np.where(why > 0, np.nan, values)
    guess = "guessed numeric, since every value is a number" if guessed else ""
    return Column(**_shared(spec, "numeric"), values=values, why_missing=why, guess=guess)


def _numeric(raw: RawValues, spec: ColumnSpec) -> Column:
    coded = missing_among(raw, spec.missing)
    text = ~raw.is_number & (coded == 0)
    numbers = np.where((coded > 0) | text, np.nan, raw.numbers)
    values = np.append(numbers, np.nan)[raw.places]
    fault = ""
    example = decimals_in_doubt(_not_coded(raw, coded > 0)) if text.any() else ""
    if example:
        fault = (
            f"`{spec.name}` is declared numeric, and nothing in it says whether `{example}` holds thousands or decimals: declare no kind, and "
            f"say which mark stands before decimals."
        )
    elif text.any():
        words, first, rows = _texts_in(raw, text)
        fault = (
            f"`{spec.name}` is declared numeric but holds text in {count_noun(rows, 'row')} "
            f"({words}; first in row {first}): mend the file, or declare such a text a missing code."
        )
    return Column(
        **_shared(spec, "numeric"),
        values=values,
        why_missing=_why(raw, coded, spec),
        fault=fault,
        notes=raw.notes,
    )


def _why(raw: RawValues, coded: NDArray[np.uint8], spec: ColumnSpec) -> NDArray[np.uint8] | None:
    return np.append(coded, np.uint8(BLANK))[raw.places] if spec.missing else None


def _group(raw: RawValues, spec: ColumnSpec) -> Column:
    coded = missing_among(raw, spec.missing)
    texts = _canonical(raw)
    declared = {level.code: place for place, level in enumerate(spec.levels)}
    for place, level in enumerate(spec.levels):  # a file may write the labels themselves
        declared.setdefault(level.label, place)
    extra = np.flatnonzero(coded == 0).tolist()
    if declared:
        extra = [k for k in extra if texts[k] not in declared]
    if not raw.categories:
        numeric = bool(raw.is_number[extra].all())
        if numeric:
            extra.sort(key=lambda k: raw.numbers[k])
        elif len(extra) <= _MOST_IN_ORDER:
            extra = [extra[place] for place in ordered([texts[k] for k in extra])[0]]
        elif len(extra) <= _MOST_SORTED:  # of more nobody reads the order
            extra = [extra[place] for place in alphabetical([texts[k] for k in extra])]
    labels = [texts[k] for k in extra]
    levels = spec.levels + levels_of(labels, not spec.levels)
    to_level = np.full(len(texts) + 1, -1, dtype=np.int32)
    for k, text in enumerate(texts) if declared else ():
        if coded[k] == 0 and text in declared:
            to_level[k] = declared[text]
    to_level[extra] = len(spec.levels) + np.arange(len(extra), dtype=np.int32)
    column = Column(
        **_shared(spec, spec.kind or "categorical"),
        values=to_level[raw.places],
        levels=levels,
        why_missing=_why(raw, coded, spec),
        notes=raw.notes,
    )
    return with_default_base(column, spec.base)


def _canonical(raw: RawValues) -> list[str]:
    """Write the codes as the codebook does: ``1.0`` is ``1`` where every value is a number."""
    if raw.categories or not len(raw.texts) or not raw.is_number.all() or not np.isfinite(raw.numbers).all():
        return raw.texts
    plain = [code_text(float(x)) for x in raw.numbers]
    return plain if len(set(plain)) == len(plain) else raw.texts


def with_default_base(column: Column, declared: str = "") -> Column:
    """Give a group the base its codebook declares, by label or code, or else its largest level; none if it has no rows."""
    if declared:
        return replace(column, base=Base(column.level_at(declared), "declared in the codebook", chosen=True))
    if not column.valid:
        return column
    level = int(np.argmax(column.counts))
    alone = np.count_nonzero(column.counts == column.counts[level]) == 1
    why = f"{'' if alone else 'one of the '}largest level{'' if alone else 's'}, since none was chosen"
    return replace(column, base=Base(level, why, chosen=False))


def _shared(spec: ColumnSpec, kind: Any) -> dict[str, Any]:
    return {
        "name": spec.name,
        "kind": kind,
        "role": spec.role,
        "label": spec.label,
        "unit": spec.unit,
        "missing_codes": spec.missing,
    }
