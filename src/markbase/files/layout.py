"""Where things stand in a file: the names of the columns, what they are called in full, and the first and last row of the data.

Rows are counted as a spreadsheet counts them, from 1, blank ones too.
"""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import pandas as pd

from markbase.core.errors import FileError, MarkbaseError, listed, near, quoted, remark
from markbase.core.study.clock_times import read_as_clock
from markbase.core.study.dates import read_as_dates
from markbase.core.study.written_numbers import numbers_as_written
from markbase.files.text_tables import said_of_unnamed

_KEYS = ("data", "header", "labels", "last")
_TOTALS = re.compile(
    r"(grand |overall |sub)?(totals?|sums?|averages?|means?)|summe|gesamt|insgesamt|mittelwert|durchschnitt|totale?s?|somme|moyenne|suma|media|totaal",
    re.IGNORECASE,
)
"""What a row of totals is called."""
_WORD = re.compile(r"[^\W\d_]{3}")
_MOSTLY = 0.8
"""A column is one of numbers if at least this share of its rows has one."""
TOP = 50
"""Rows among which the names, or a second row of them, are looked for."""
_HEADED = 2
"""So many columns of numbers with texts above are no chance: one may begin with an answer that was not given."""
_FEWEST = 3
"""A column of fewer values says nothing of what stands above them."""


GivenLayout = Mapping[str, int]
"""A layout as it is given: where `header`, `labels` and `data` begin, and the `last` row."""


@dataclass(frozen=True)
class Layout:
    """Where things stand in a file."""

    header: int | None = None
    """The row of the names; None for the first that is not blank."""
    labels: int | None = None
    """A row that says what the columns are called in full."""
    data: int | None = None
    """The first row of the data; by default the one below these."""
    last: int | None = None
    """The last row of the data; by default that of the file."""

    @classmethod
    def of(cls, given: object) -> Layout:
        """Check what an analyst says of it: a mapping of ``header``, ``labels``, ``data`` and ``last`` to rows."""
        if given is None:
            return cls()
        if not isinstance(given, Mapping):
            raise MarkbaseError(
                f"A layout says which rows are header, labels, data and last, as header=3; not {given!r}."
            )
        for key, row in given.items():
            if key not in _KEYS:
                raise MarkbaseError(f"A layout knows no `{key}`.{near(str(key), _KEYS)}")
            if isinstance(row, bool) or not isinstance(row, int) or row < 1:
                raise MarkbaseError(f"`{key}` of a layout is a row, counted from 1, not {row!r}.")
        header, labels, data, last = (given.get(key) for key in ("header", "labels", "data", "last"))
        header = header or (1 if given else None)
        if labels == header and labels is not None:
            raise MarkbaseError(f"A layout has header and labels both in row {labels}; name the two rows.")
        if data is not None and data <= max(header or 0, labels or 0):
            raise MarkbaseError(f"The data of a layout begin below header and labels, not in row {data}.")
        found = cls(header, labels, data, last)
        if last is not None and last < found.first:
            raise MarkbaseError(
                f"The data of a layout begin in row {found.first}, so row {last} is not the last of them."
            )
        return found

    @property
    def is_plain(self) -> bool:
        """Whether the first row that is not blank has the names, and the others are data."""
        return self == Layout()

    @property
    def first(self) -> int:
        """The first row of the data, where the layout is not plain."""
        return self.data or 1 + max(self.header or 0, self.labels or 0)

    def top_of(self, rows: Sequence[Sequence[str]], told: str) -> tuple[list[str], list[str]]:
        """Return the names, and what the columns are called in full ("" where nobody says), of all rows above the data."""
        if len(rows) < self.first - 1:
            raise self.too_few(told, len(rows), self.first - 1)
        names = list(rows[(self.header or 1) - 1])
        labels = [" ".join(cell.split()) for cell in rows[self.labels - 1]] if self.labels else []
        return names, [*labels, *[""] * (len(names) - len(labels))][: len(names)]

    @staticmethod
    def too_few(told: str, rows: int, named: int) -> FileError:
        """Return what is said of a file that has fewer rows than its layout names."""
        return FileError(f"{told} has {rows} rows, and its layout names row {named}; count them from the top, from 1.")


def header_hint(rows: Sequence[Sequence[str]]) -> str:
    """Say which of the first rows of a file looks like that of the names, if it is not the first; empty if none does."""
    rows = [[cell.strip() for cell in row] for row in rows[:TOP]]
    most = max((sum(map(bool, row)) for row in rows), default=0)
    for number, row in enumerate(rows[:-1], 1):
        told = [cell for cell in row if cell]
        if number > 1 and len(told) == most > 1 and len(set(told)) == most and not any(map(_is_number, told)):
            some = listed(quoted(told[:3])) + (" …" if most > 3 else "")
            return f" Row {number} looks like that of the names ({some}): say in its layout that the header is row {number}."
    return ""


def names_again(rows: Sequence[Sequence[str]], names: Sequence[str], place: int, way: Callable[[int], str]) -> str:
    """Say that the first row of the data, or the first two, look like more names or labels, with the way out; empty if they do not.

    They do if no text of them comes again, and they are texts wherever all below are numbers, which is so in more than one
    column. `place` is the row of the file in which the data begin; `way` says what to do, by how many rows there are of
    names.
    """
    columns = list(zip(*([cell.strip() for cell in row] for row in rows[:TOP] if any(row)), strict=False))
    for several in (1, 2):
        if any(_goes_on(column, several) for column in columns):  # in most files the first column of numbers does
            continue
        found = [(n, c) for n, c in zip(names, columns, strict=False) if _is_headed(c, several)]
        if len(found) >= _HEADED:
            (name, column), which = (
                found[0],
                f"row {place} looks like a row" if several == 1 else f"rows {place} and {place + 1} look like rows",
            )
            return f"{which} of names and not of data (`{name}`: `{column[0]}`, above numbers): if so, {way(several)}."
    return ""


def total_below(frame: pd.DataFrame) -> str:
    """Say of which column the last row is the sum, or the mean, of the rows above it; empty if it looks like data.

    It is looked at if a cell of it is called a total, or it has a gap where most rows have none.
    """
    above, last = frame.iloc[:-1], [_text(cell) for cell in frame.iloc[-1]]
    called = any(_TOTALS.fullmatch(text.strip(" :.")) for text in last)
    gaps = [not text and share >= _MOSTLY for text, share in zip(last, above.notna().mean(), strict=True)]
    if len(above) < _FEWEST or not (called or any(gaps)):
        return ""
    for k, text in enumerate(last):
        if not _is_number(text):
            continue
        *others, value = numbers_as_written([*map(_text, above.iloc[:, k]), text]).tolist()
        numbers = np.array([v for v in others if not math.isnan(v)])
        if math.isnan(value) or len(numbers) < max(_FEWEST, _MOSTLY * len(above)):
            continue
        rounding = 0.51 * 10.0 ** -len(
            re.sub(r"\D", "", re.split(r"[.,]", text)[-1]) if re.search(r"[.,]", text) else ""
        )
        size = float(np.abs(numbers).max())
        if abs(value - numbers.sum()) <= rounding + 1e-9 * abs(value) and abs(value) > 1.5 * size:
            return f"`{frame.columns[k]}`: {text} is the sum of those above"
        if called and abs(value - numbers.mean()) <= rounding and numbers.min() < numbers.max():
            return f"`{frame.columns[k]}`: {text} is the mean of those above"
    return ""


def with_names(
    frame: pd.DataFrame,
    header: Sequence[str],
    unnamed: Sequence[str],
    labels: Sequence[str],
    layout: Layout,
    above: int,
    ends: Callable[[], int],
    name: str,
) -> tuple[pd.DataFrame, dict[str, str]]:
    """Give columns their names, and say what was seen of them and of the rows; columns with neither a name nor a value are none.

    `unnamed` are the names that were made up, `labels` what the columns are called in full; `above` rows stand above the
    data, and `ends` tells in which row of the file they end. Returns the labels by name as well, where the file has them.
    """
    frame.columns = pd.Index(header)
    empty = [column for column in unnamed if frame[column].isna().all()]
    if called := [column for column in unnamed if column not in empty]:
        remark(said_of_unnamed(f"`{name}`", called))

    def way(several: int) -> str:
        begin = f"the data begin in row {above + several + 1}"
        labelled = f"the labels are in row {above + 1}{f' and {begin}' if several > 1 else ''}; they then stand beside the names"
        return f"say in the layout that {begin if layout.labels or layout.data else labelled}"

    told = names_again(written(frame.iloc[:TOP]), header, above + 1, way)
    if told:
        remark(f"`{name}`: {told}")
    frame = frame.drop(columns=empty)
    total = total_below(frame)
    if total:
        row = ends()
        remark(
            f"`{name}`: the last row ({row}) looks like a total and not like data ({total}): if so, say in the layout that the last row is {row - 1}."
        )
    in_full = {column: label for column, label in zip(header, labels, strict=False) if label and label != column}
    return frame, in_full


def written(cells: pd.DataFrame) -> list[list[str]]:
    """Return cells as texts, blank ones empty."""
    return [[_text(cell) for cell in row] for row in cells.to_numpy(dtype=object)]


def _text(cell: Any) -> str:
    return "" if pd.isna(cell) else str(cell).strip()


def _is_headed(column: Sequence[str], several: int) -> bool:
    """Return whether texts stand above numbers."""
    above, below = column[:several], [cell for cell in column[several:] if cell]
    return len(below) >= _FEWEST and all(above) and not any(map(_is_number, above)) and all(map(_is_number, below))


def _goes_on(column: Sequence[str], several: int) -> bool:
    """Return whether the first cells are of the kind of those below: numbers above numbers, or a text that comes again."""
    below = [cell for cell in column[several:] if cell]
    above = [cell for cell in column[:several] if cell]
    if any(cell in below for cell in above):
        return True
    return any(map(_is_number, above)) and len(below) >= _FEWEST and all(map(_is_number, below))


def _is_number(text: str) -> bool:
    """Return whether a cell measures, as numbers, dates and times do."""
    dated = read_as_dates([text]) and not _WORD.search(text)  # a month by its name may head a column
    return not np.isnan(numbers_as_written([text])[0]) or dated or read_as_clock([text])
