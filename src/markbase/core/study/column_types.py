"""From raw values to typed columns: what the codebook says, or a guess that says it is one."""

from __future__ import annotations

import datetime
import re
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.errors import ColumnError, MarkbaseError, count_noun, listed, quoted
from markbase.core.rows.parts import InParts
from markbase.core.rows.row_functions import look_up
from markbase.core.rows.table import TextsInParts
from markbase.core.study.codebook import ColumnSpec, code_text
from markbase.core.study.column import BLANK, FIRST_CODED, Base, Column, Level, MissingCode, Unit

SECONDS = Unit("second", "seconds")
"""What durations are counted in."""
_NUMBER = re.compile(r"[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?$")
_DECIMAL_COMMA = re.compile(r"[+-]?\d+,\d+$")


@dataclass(frozen=True)
class _Raw:
    """A column as distinct texts or numbers with the place of each row's value among them."""

    places: NDArray[np.intp]
    """Shape (rows,): place among `texts`, -1 where blank."""
    texts: list[str]
    """The distinct values as the file writes them."""
    numbers: NDArray[np.float64]
    """Shape (distinct,): the value of each text, NaN where it is not a number."""
    is_number: NDArray[np.bool_]
    """Shape (distinct,): whether the text is a number."""
    ordered: bool = False
    """Whether the source declares the values as ordered categories."""
    categories: bool = False
    """Whether the source declares the values as categories."""
    notes: tuple[str, ...] = ()
    in_parts: TextsInParts | None = None
    """Where the rows come in parts: which of these each of them has. `places` is then of the distinct values as read."""

    def rows_with(self, chosen: NDArray[np.bool_]) -> tuple[int, int]:
        """Count the rows that have some of the values, shape (distinct,), and return the number of the first of them."""
        if self.in_parts is None:
            rows = np.isin(self.places, np.flatnonzero(chosen))
            return int(rows.sum()), int(np.argmax(rows)) + 1
        here = np.isin(self.places, np.flatnonzero(chosen))
        return int(self.in_parts.counts[here].sum()), int(self.in_parts.firsts[here].min()) + 1


def build_column(
    series: pd.Series[Any] | InParts | NDArray[np.float64] | TextsInParts,
    spec: ColumnSpec,
    everywhere_missing: Sequence[MissingCode] = (),
) -> Column:
    """Make a typed column of raw values.

    Parameters
    ----------
    series : pandas.Series, InParts or TextsInParts
        Shape (rows,): numbers, text, booleans or categories.
    spec : ColumnSpec
        What is declared of the column; kind None is guessed.
    everywhere_missing : sequence of MissingCode
        Codes that stand for a missing answer in every column.

    Returns
    -------
    Column
        The column; what cannot be used as declared is said in its `fault`.

    Raises
    ------
    ColumnError
        If a row holds what is neither a number nor a text.
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
        return _spread(_from_raw(_raw_in_parts(series), spec), series, spec)
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
    return _from_raw(_raw(series), spec)


def _all_durations(series: pd.Series[Any]) -> bool:
    """Return whether a column holds durations, as spreadsheets give them."""
    present = (value for value in series if value is not None and value == value)
    return isinstance(next(present, None), datetime.timedelta) and all(
        isinstance(v, datetime.timedelta) for v in present
    )


def in_seconds(spec: ColumnSpec) -> ColumnSpec:
    """Return what is declared of a column of durations: seconds, unless something else, or that they are groups."""
    return replace(spec, unit=SECONDS) if spec.unit is None and spec.kind in (None, "numeric") else spec


def _from_raw(raw: _Raw, spec: ColumnSpec) -> Column:
    if spec.kind in (None, "numeric") and not (spec.levels or spec.base or raw.categories):
        raw, spec = _without_percent_signs(raw, spec)
    kind, guess = (spec.kind, "") if spec.kind else _guess(raw, spec)
    if kind == "numeric":
        return replace(_numeric(raw, spec), guess=guess)
    return replace(_group(raw, replace(spec, kind=kind)), guess=guess, doubt=_doubt(raw, spec) if guess else "")


def _doubt(raw: _Raw, spec: ColumnSpec) -> str:
    """Say that a guessed group is all numbers but for a few texts, if it is."""
    text = ~raw.is_number & (_coded(raw, spec.missing) == 0)
    if raw.categories or spec.base or int(text.sum()) * 2 > len(text) or text.all() or not text.any():
        return ""
    words, first, rows = _texts_in(raw, text)
    return (
        f"mostly numbers, but text in {count_noun(rows, 'row')} ({words}; first in row {first}): if it is numeric, "
        f"declare the text a missing code or mend it"
    )


def _texts_in(raw: _Raw, text: NDArray[np.bool_]) -> tuple[str, int, int]:
    """Return some of the texts, the first row that holds one, and how many rows do."""
    rows, first = raw.rows_with(text)
    some = quoted([raw.texts[k] for k in np.flatnonzero(text)[:3]])
    return listed(some), first, rows


def _raw_in_parts(series: TextsInParts) -> _Raw:
    """Return the distinct values of rows that come in parts, each standing for its rows."""
    if series.categories:
        texts = [_text_of(u) for u in series.distinct]
        return _Raw(np.arange(len(texts)), texts, *_parse(texts), series.ordered, categories=True, in_parts=series)
    uniques = np.empty(len(series.distinct), dtype=object)
    uniques[:] = series.distinct
    return _tidied(np.arange(len(uniques)), uniques, series)


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


def _text_of(value: object) -> str:
    """Write a value as the file would, truth values as tables write them, with gaps or without."""
    return str(value) if isinstance(value, (bool, np.bool_)) else code_text(value)


def _raw(series: pd.Series[Any]) -> _Raw:
    if isinstance(series.dtype, pd.CategoricalDtype):
        texts = [_text_of(c) for c in series.cat.categories]
        places = series.cat.codes.to_numpy().astype(np.intp)
        numbers, is_number = _parse(texts)
        return _Raw(places, texts, numbers, is_number, bool(series.cat.ordered), categories=True)
    places, uniques = pd.factorize(series.to_numpy(), use_na_sentinel=True)
    return _tidied(places, uniques, None)


def _tidied(places: NDArray[np.intp], uniques: NDArray[Any], in_parts: TextsInParts | None) -> _Raw:
    """Read outer blanks and decimal commas away."""
    texts = [_text_of(u) for u in uniques]
    blank = np.array([not text for text in texts], dtype=bool)
    places = places.astype(np.intp)
    if blank.any():
        keep = np.flatnonzero(~blank)
        moved = np.full(len(texts) + 1, -1, dtype=np.intp)
        moved[keep] = np.arange(len(keep))
        places, uniques, texts = moved[places], uniques[keep], [texts[k] for k in keep]
    notes: tuple[str, ...] = ()
    spaced = [text for text, u in zip(texts, uniques, strict=True) if isinstance(u, str) and u != text]
    if len(set(texts)) < len(texts) or spaced:  # outer blanks are read away: the same text must be one level
        first = {text: place for place, text in reversed(list(enumerate(texts)))}
        order = sorted(set(first.values()))
        slot = {old: new for new, old in enumerate(order)}
        moved = np.array([slot[first[text]] for text in texts] + [-1], dtype=np.intp)
        spaces = np.array(
            [isinstance(u, str) and u != text for u, text in zip(uniques, texts, strict=True)], dtype=bool
        )
        rows, _ = _Raw(places, texts, np.zeros(0), spaces, in_parts=in_parts).rows_with(spaces)
        places, texts = moved[places], [texts[k] for k in order]
        if rows:
            notes = (f"blanks around the text read away in {count_noun(rows, 'row')}",)
    numbers, is_number = _parse(texts)
    if _has_decimal_commas(texts, is_number):
        numbers, is_number = _parse([text.replace(",", ".") for text in texts])
        notes += ("decimal commas read as decimal points",)
    return _Raw(places, texts, numbers, is_number, notes=notes, in_parts=in_parts)


def _without_percent_signs(raw: _Raw, spec: ColumnSpec) -> tuple[_Raw, ColumnSpec]:
    """Read numbers that all have a percent sign as a numeric column counted in percent."""
    if not any(text.endswith("%") for text in raw.texts):
        return raw, spec
    coded = _coded(raw, spec.missing) > 0
    texts = [text if code else text.removesuffix("%").rstrip() for text, code in zip(raw.texts, coded, strict=True)]
    signed = np.array([text != own for text, own in zip(raw.texts, texts, strict=True)], dtype=bool)
    numbers, is_number = _parse(texts)
    notes = (*raw.notes, "percent signs read away")
    if _has_decimal_commas([text for text, code in zip(texts, coded, strict=True) if not code], is_number[~coded]):
        numbers, is_number = _parse([text.replace(",", ".") for text in texts])
        notes += ("decimal commas read as decimal points",)
    if not signed.any() or not np.all(coded | (signed & is_number)):
        return raw, spec
    return replace(raw, texts=texts, numbers=numbers, is_number=is_number, notes=notes), replace(
        spec, unit=spec.unit or Unit("percent", "percent")
    )


def _has_decimal_commas(texts: Sequence[str], is_number: NDArray[np.bool_]) -> bool:
    """Return whether all texts are numbers with decimal commas or whole numbers.

    Three digits behind every comma may be thousands as well, so that is left to the analyst.
    """
    with_comma = [text for text, number in zip(texts, is_number, strict=True) if not number]
    whole = [text for text, number in zip(texts, is_number, strict=True) if number]
    if (
        not with_comma
        or not all(_DECIMAL_COMMA.match(text) for text in with_comma)
        or any("." in text for text in whole)
    ):
        return False
    return any(len(text.rpartition(",")[2]) != 3 for text in with_comma)


def _parse(texts: Sequence[str]) -> tuple[NDArray[np.float64], NDArray[np.bool_]]:
    """Read texts as correctly rounded numbers (`float` is; many fast readers are not)."""
    if "_" not in "".join(texts):  # `float` would read 1_000
        try:
            numbers = np.array(texts, dtype=object).astype(np.float64)
        except ValueError:
            pass
        else:
            if not np.isnan(numbers).any():
                return numbers, np.ones(len(texts), dtype=bool)
    numbers = np.full(len(texts), np.nan)
    is_number = np.zeros(len(texts), dtype=bool)
    for place, text in enumerate(texts):
        if _NUMBER.match(text) or text.lstrip("+-").lower() in ("inf", "infinity"):
            numbers[place], is_number[place] = float(text), True
    return numbers, is_number


def _coded(raw: _Raw, missing: Sequence[MissingCode]) -> NDArray[np.uint8]:
    """Shape (distinct,): 0 for a value, 2 + k where the text is the k-th missing code."""
    why = np.zeros(len(raw.texts), dtype=np.uint8)
    codes, code_is_number = _parse([c.code for c in missing])
    for k, code in enumerate(missing):
        same = np.array([text == code.code for text in raw.texts], dtype=bool)
        if code_is_number[k]:
            same |= raw.numbers == codes[k]
        why[same] = FIRST_CODED + k
    return why


def _guess(raw: _Raw, spec: ColumnSpec) -> tuple[Any, str]:
    coded = _coded(raw, spec.missing) > 0
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
        codes, is_number = _parse([c.code for c in spec.missing])
        why = np.where(np.isnan(values), BLANK, 0).astype(np.uint8)
        for k in np.flatnonzero(is_number):
            why = np.where(values == codes[k], np.uint8(FIRST_CODED + k), why)
        values = np.where(why > 0, np.nan, values)
    guess = "guessed numeric, since every value is a number" if guessed else ""
    return Column(**_shared(spec, "numeric"), values=values, why_missing=why, guess=guess)


def _numeric(raw: _Raw, spec: ColumnSpec) -> Column:
    coded = _coded(raw, spec.missing)
    text = ~raw.is_number & (coded == 0)
    numbers = np.where((coded > 0) | text, np.nan, raw.numbers)
    values = np.append(numbers, np.nan)[raw.places]
    fault = ""
    if text.any():
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


def _why(raw: _Raw, coded: NDArray[np.uint8], spec: ColumnSpec) -> NDArray[np.uint8] | None:
    return np.append(coded, np.uint8(BLANK))[raw.places] if spec.missing else None


def _group(raw: _Raw, spec: ColumnSpec) -> Column:
    coded = _coded(raw, spec.missing)
    texts = _canonical(raw)
    declared = {level.code: place for place, level in enumerate(spec.levels)}
    for place, level in enumerate(spec.levels):  # a file may write the labels themselves
        declared.setdefault(level.label, place)
    extra = [k for k in range(len(texts)) if coded[k] == 0 and texts[k] not in declared]
    if not raw.categories:
        numeric = all(raw.is_number[k] for k in extra)
        extra.sort(key=lambda k: (raw.numbers[k], "") if numeric else (0.0, texts[k].casefold() + "\0" + texts[k]))
    labels = [texts[k] for k in extra]
    levels = spec.levels + tuple(Level(label, label, declared=not spec.levels) for label in labels)
    to_level = np.full(len(texts) + 1, -1, dtype=np.int32)
    for k, text in enumerate(texts):
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


def _canonical(raw: _Raw) -> list[str]:
    """Write the codes as the codebook does: ``1.0`` is ``1`` where every value is a number."""
    if raw.categories or not len(raw.texts) or not raw.is_number.all() or not np.isfinite(raw.numbers).all():
        return raw.texts
    plain = [code_text(float(x)) for x in raw.numbers]
    return plain if len(set(plain)) == len(plain) else raw.texts


def with_default_base(column: Column, declared: str = "") -> Column:
    """Give a group the base its codebook declares, or else its largest level.

    Parameters
    ----------
    column : Column
        A group.
    declared : str
        Label or code of the base; empty for none.

    Returns
    -------
    Column
        The group with a base; without one if it has no rows.

    Raises
    ------
    LevelError
        If the declared base is not a level.
    """
    if declared:
        return replace(column, base=Base(column.level_at(declared), "declared in the codebook", chosen=True))
    if not column.valid:
        return column
    return replace(
        column, base=Base(int(np.argmax(column.counts)), "largest level, since none was chosen", chosen=False)
    )


def _shared(spec: ColumnSpec, kind: Any) -> dict[str, Any]:
    return {
        "name": spec.name,
        "kind": kind,
        "role": spec.role,
        "label": spec.label,
        "unit": spec.unit,
        "missing_codes": spec.missing,
    }
