"""Where things stand in a file: the names of the columns, what they are called in full, and the first row of the data.

Rows are counted as a spreadsheet counts them, from 1, blank ones too.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from markbase.core.errors import FileError, MarkbaseError, listed, near, quoted

_KEYS = ("data", "header", "labels")
_LOOKED_AT = 50
"""Rows among which the names, or a second row of them, are looked for."""
_FEWEST = 3
"""A column of fewer values says nothing of what stands above them."""


@dataclass(frozen=True)
class Layout:
    """Where things stand in a file."""

    header: int | None = None
    """The row of the names; None for the first that is not blank."""
    labels: int | None = None
    """A row that says what the columns are called in full."""
    data: int | None = None
    """The first row of the data; by default the one below these."""

    @classmethod
    def of(cls, given: object) -> Layout:
        """Check what an analyst says of it: a mapping of ``header``, ``labels`` and ``data`` to rows."""
        if given is None:
            return cls()
        if not isinstance(given, Mapping):
            raise MarkbaseError(f"A layout says which rows are header, labels and data, as header=3; not {given!r}.")
        for key, row in given.items():
            if key not in _KEYS:
                raise MarkbaseError(f"A layout knows no `{key}`.{near(str(key), _KEYS)}")
            if isinstance(row, bool) or not isinstance(row, int) or row < 1:
                raise MarkbaseError(f"`{key}` of a layout is a row, counted from 1, not {row!r}.")
        header, labels, data = given.get("header"), given.get("labels"), given.get("data")
        header = header or (1 if labels or data else None)
        if labels == header and labels is not None:
            raise MarkbaseError(f"A layout has header and labels both in row {labels}; name the two rows.")
        if data is not None and data <= max(header or 0, labels or 0):
            raise MarkbaseError(f"The data of a layout begin below header and labels, not in row {data}.")
        return cls(header, labels, data)

    @property
    def is_plain(self) -> bool:
        """Whether the first row that is not blank has the names, and the others are data."""
        return self == Layout()

    @property
    def first(self) -> int:
        """The first row of the data, where the layout is not plain."""
        return self.data or 1 + max(self.header or 0, self.labels or 0)

    @property
    def rows(self) -> dict[str, int]:
        """What it says, by its keys."""
        told = {"header": self.header, "labels": self.labels, "data": self.data}
        return {key: row for key, row in told.items() if row is not None}

    def top_of(self, rows: Sequence[Sequence[str]], told: str) -> tuple[list[str], list[str]]:
        """Return the names, and what the columns are called in full ("" where nobody says), of all rows above the data."""
        last = max(self.rows.values(), default=1)
        if len(rows) < last - (self.data == last):
            raise FileError(
                f"{told} has {len(rows)} rows, and its layout names row {last}; count them from the top, from 1."
            )
        names = list(rows[(self.header or 1) - 1])
        labels = [" ".join(cell.split()) for cell in rows[self.labels - 1]] if self.labels else []
        return names, [*labels, *[""] * (len(names) - len(labels))][: len(names)]


def header_hint(rows: Sequence[Sequence[str]]) -> str:
    """Say which of the first rows of a file looks like that of the names, if it is not the first; empty if none does."""
    rows = [[cell.strip() for cell in row] for row in rows[:_LOOKED_AT]]
    most = max((sum(map(bool, row)) for row in rows), default=0)
    for number, row in enumerate(rows[:-1], 1):
        told = [cell for cell in row if cell]
        if number > 1 and len(told) == most > 1 and len(set(told)) == most and not any(map(_is_number, told)):
            some = listed(quoted(told[:3])) + (" …" if most > 3 else "")
            return f" Row {number} looks like that of the names ({some}): say in its layout that the header is row {number}."
    return ""


def names_again(rows: Sequence[Sequence[str]], names: Sequence[str], place: int, way: Callable[[int], str]) -> str:
    """Say that the first row of the data, or the first two, look like more names or labels, with the way out; empty if they do not.

    They do if no text of them comes again, and they are texts wherever all below are numbers.

    Parameters
    ----------
    rows : sequence of sequence of str
        The first rows of the data.
    names : sequence of str
        The names of the columns.
    place : int
        In which row of the file the data begin.
    way : callable
        What to do, by how many rows there are of names.

    Returns
    -------
    str
        The sentence.
    """
    columns = list(zip(*([cell.strip() for cell in row] for row in rows[:_LOOKED_AT] if any(row)), strict=False))
    for several in (1, 2):
        found = [(n, c) for n, c in zip(names, columns, strict=False) if _is_headed(c, several)]
        if found and not any(_goes_on(column, several) for column in columns):
            (name, column), which = (
                found[0],
                f"row {place} looks like a row" if several == 1 else f"rows {place} and {place + 1} look like rows",
            )
            return f"{which} of names and not of data (`{name}`: `{column[0]}`, above numbers): if so, {way(several)}."
    return ""


def _is_headed(column: Sequence[str], several: int) -> bool:
    """Return whether texts stand above numbers."""
    below = [cell for cell in column[several:] if cell]
    above = column[:several]
    return len(below) >= _FEWEST and all(map(_is_number, below)) and all(above) and not any(map(_is_number, above))


def _goes_on(column: Sequence[str], several: int) -> bool:
    """Return whether the first cells are of the kind of those below: numbers above numbers, or a text that comes again."""
    below = [cell for cell in column[several:] if cell]
    above = [cell for cell in column[:several] if cell]
    if len(below) >= _FEWEST and all(map(_is_number, below)):
        return any(map(_is_number, above))
    return any(cell in below for cell in above)


def _is_number(text: Any) -> bool:
    plain = re.sub(r"[\s%€$£'’]", "", str(text)).replace(",", ".", 1)
    try:
        float(plain)
    except ValueError:
        return bool(re.fullmatch(r"\d{1,4}[-./:]\d{1,2}([-./:]\d{1,4})?", plain))  # a date, or a time
    return plain[:1].lower() not in ("n", "i")  # nan, inf
