"""A column as it was read: distinct texts, which of them are numbers, and which each row has."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.errors import CodebookError, count_noun
from markbase.core.rows.table import TextsInParts
from markbase.core.study.codebook import code_text
from markbase.core.study.column import FIRST_CODED, MOST_REASONS, MissingCode

_NUMBER = re.compile(r"[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?$")
_BEGINS = frozenset("+-.0123456789iI")
"""How numbers begin."""


@dataclass(frozen=True)
class RawValues:
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
    is_text: NDArray[np.bool_] | None = None
    """Shape (distinct,): whether the source has a text there; None for all. Cells of a spreadsheet may be numbers beside texts."""
    in_parts: TextsInParts | None = None
    """Where the rows come in parts: which of these each of them has. `places` is then of the distinct values as read."""

    def rows_with(self, chosen: NDArray[np.bool_]) -> tuple[int, int]:
        """Count the rows that have some of the values, shape (distinct,), and return the number of the first of them."""
        if self.in_parts is None:
            rows = np.isin(self.places, np.flatnonzero(chosen))
            return int(rows.sum()), int(np.argmax(rows)) + 1
        here = np.isin(self.places, np.flatnonzero(chosen))
        return int(self.in_parts.counts[here].sum()), int(self.in_parts.firsts[here].min()) + 1


def raw_in_parts(series: TextsInParts) -> RawValues:
    """Return the distinct values of rows that come in parts, each standing for its rows."""
    uniques = np.empty(len(series.distinct), dtype=object)
    uniques[:] = series.distinct
    found = _tidied(np.arange(len(uniques)), uniques, series)
    return _declared(found, series.ordered) if series.categories else found


def raw_values(series: pd.Series[Any]) -> RawValues:
    """Return the distinct values of rows in memory, and which each row has."""
    if isinstance(series.dtype, pd.CategoricalDtype):
        uniques = series.cat.categories.to_numpy(dtype=object)
        return _declared(_tidied(series.cat.codes.to_numpy().astype(np.intp), uniques, None), bool(series.cat.ordered))
    places, uniques = pd.factorize(series.to_numpy(), use_na_sentinel=True)
    return _tidied(places, uniques, None)


def _declared(found: RawValues, ordered: bool) -> RawValues:
    """Return values as the categories that the source declares them to be."""
    return replace(found, ordered=ordered, categories=True, is_text=None)


def _text_of(value: object) -> str:
    """Write a value as the file would, truth values as tables write them, with gaps or without."""
    if type(value) is str:  # as nearly all are
        return value.strip()
    return str(value) if isinstance(value, (bool, np.bool_)) else code_text(value)


def _tidied(places: NDArray[np.intp], uniques: NDArray[Any], in_parts: TextsInParts | None) -> RawValues:
    """Read outer blanks away."""
    values = uniques.tolist()
    if set(map(type, values)) == {str}:
        texts = list(map(str.strip, values))
        if texts == values and "" not in texts:  # nothing to read away
            numbers, is_number = parsed(texts)
            is_text = np.ones(len(texts), dtype=bool)
            return RawValues(places.astype(np.intp), texts, numbers, is_number, is_text=is_text, in_parts=in_parts)
    texts = [_text_of(u) for u in uniques]
    blank = np.array([not text for text in texts], dtype=bool)
    is_text = np.array([isinstance(u, str) for u in uniques], dtype=bool)
    places = places.astype(np.intp)
    if blank.any():
        keep = np.flatnonzero(~blank)
        moved = np.full(len(texts) + 1, -1, dtype=np.intp)
        moved[keep] = np.arange(len(keep))
        places, uniques, texts, is_text = moved[places], uniques[keep], [texts[k] for k in keep], is_text[keep]
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
        rows, _ = RawValues(places, texts, np.zeros(0), spaces, in_parts=in_parts).rows_with(spaces)
        places, texts, is_text = moved[places], [texts[k] for k in order], is_text[order]
        if rows:
            notes = (f"blanks around the text read away in {count_noun(rows, 'row')}",)
    numbers, is_number = parsed(texts)
    return RawValues(places, texts, numbers, is_number, notes=notes, is_text=is_text, in_parts=in_parts)


def parsed(texts: Sequence[str]) -> tuple[NDArray[np.float64], NDArray[np.bool_]]:
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
    if not _BEGINS & {text[:1] for text in texts}:
        return numbers, is_number
    for place, text in enumerate(texts):
        if text[:1] in _BEGINS and (_NUMBER.match(text) or text.lstrip("+-").lower() in ("inf", "infinity")):
            numbers[place], is_number[place] = float(text), True
    return numbers, is_number


def missing_among(raw: RawValues, missing: Sequence[MissingCode]) -> NDArray[np.uint8]:
    """Shape (distinct,): 0 for a value, 2 + k where the text is the k-th missing code."""
    if len(missing) > MOST_REASONS:
        raise CodebookError(
            f"A column has {len(missing):,} codes for a missing answer, and at most {MOST_REASONS} are told apart."
        )
    why = np.zeros(len(raw.texts), dtype=np.uint8)
    codes, code_is_number = parsed([c.code for c in missing])
    for k, code in enumerate(missing):
        same = np.array([text == code.code for text in raw.texts], dtype=bool)
        if code_is_number[k]:
            same |= raw.numbers == codes[k]
        why[same] = FIRST_CODED + k
    return why
