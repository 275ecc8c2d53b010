"""Text files that hold a table: cells taken apart, without guessing at their values."""

from __future__ import annotations

import csv
import io
import itertools
import sys
import warnings
from pathlib import Path
from typing import Any

import pandas as pd

from markbase.core.errors import FileError, count_noun, remark
from markbase.files.layout import TOP, Layout, header_hint, with_names
from markbase.files.text_files import NoRowsError, read_text
from markbase.files.text_tables import ESCAPED, SEPARATORS, checked_names, separator_of


def read_text_table(path: Path, encoding: str, layout: Layout) -> tuple[pd.DataFrame, dict[str, str]]:
    """Read a text file as a table whose cells are texts, and what its columns are called in full where the file says so."""
    before = csv.field_size_limit(sys.maxsize)  # a long cell is a long cell
    try:
        return _parsed(read_text(path, encoding), path, layout)
    finally:
        csv.field_size_limit(before)


def _rows_above(text: str, separator: str, layout: Layout) -> tuple[list[list[str]], int]:
    """Return the rows above the data, the last one that of the names where the layout is plain, and how many lines they take."""
    rows: list[list[str]] = []
    reader = csv.reader(io.StringIO(text), delimiter=separator)
    for row in reader:
        rows.append(row)
        if (row and layout.is_plain) or (not layout.is_plain and len(rows) == layout.first - 1):
            break
    return rows, reader.line_num


def _parsed(text: str, path: Path, layout: Layout) -> tuple[pd.DataFrame, dict[str, str]]:
    lines = text.split("\n", layout.header or 0)
    separator = separator_of(text if layout.is_plain else lines[min(layout.header or 1, len(lines)) - 1])
    rows, skipped = _rows_above(text, separator, layout)
    names, labels = (rows[-1], []) if layout.is_plain else layout.top_of(rows, f"`{path}`")

    def hint() -> str:
        if not layout.is_plain:
            return ""
        top = text.split("\n", TOP)[:TOP]
        own = separator_of(max(top, key=lambda line: max(map(line.count, SEPARATORS))))
        return header_hint(list(csv.reader(top, delimiter=own)))

    header, unnamed = checked_names(names, path, hint)
    if len(header) == 1 and (elsewhere := hint()):
        remark(f"`{path.name}` is read as one column.{elsewhere}")
    body = text.split("\n", skipped)[-1] if text.count("\n") >= skipped else ""
    if layout.last:
        body = _until(body, separator, layout, f"`{path}`")
    if not body.strip("\n"):  # a name that does not end takes all rows
        told = _ragged(text, separator, len(header), path, 0) if layout.is_plain else ""
        raise FileError(told) if told else NoRowsError(f"`{path}` has column names but no rows.", header)
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("error", pd.errors.ParserWarning)
            frame = pd.read_csv(
                io.StringIO(body),
                sep=separator,
                header=None,
                names=range(len(header)),
                dtype=object,
                keep_default_na=False,
                na_values=[""],
                index_col=False,
            )
    except (pd.errors.ParserError, pd.errors.ParserWarning) as problem:
        told = _ragged(body, separator, len(header), path, skipped, len(rows))
        raise FileError(f"{told}{hint()}" if told else f"`{path}` cannot be read as a table: {problem}.") from None
    if frame.iloc[:, -1].isna().any():  # a line cut short looks like empty cells
        short = _ragged(body, separator, len(header), path, skipped, len(rows))
        if short:
            raise FileError(f"{short}{hint()}")
    filled = frame.dropna(how="all").reset_index(drop=True)
    if len(filled) < len(frame):  # as a spreadsheet writes rows that were once filled
        if filled.empty:
            raise NoRowsError(f"`{path}` has column names but no rows.", header)
        blank = len(frame) - len(filled)
        remark(
            f"`{path.name}`: {count_noun(blank, 'row')} without any value {'was' if blank == 1 else 'were'} left out; rows are counted without {'it' if blank == 1 else 'them'}."
        )
        frame = filled
    if "'" in text and any(f"'{mark}" in text for mark in ESCAPED):
        frame = frame.map(_without_apostrophe, na_action="ignore")

    def ends() -> int:
        below = [number for number, row in enumerate(csv.reader(io.StringIO(body), delimiter=separator), 1) if any(row)]
        return len(rows) + below[-1]

    return with_names(frame, header, unnamed, labels, layout, len(rows), ends, path.name)


def _until(body: str, separator: str, layout: Layout, told: str) -> str:
    """Return the rows of the data up to the last one that a layout names."""
    reader, wanted = csv.reader(io.StringIO(body), delimiter=separator), (layout.last or 0) - layout.first + 1
    rows = sum(1 for _ in itertools.islice(reader, wanted))
    if rows < wanted:
        raise layout.too_few(told, layout.first - 1 + rows, layout.last or 0)
    return "\n".join(body.split("\n", reader.line_num)[: reader.line_num])


def _without_apostrophe(cell: Any) -> Any:
    """Read what `write_data` wrote behind an apostrophe, to keep it from being taken for a formula."""
    return cell[1:] if isinstance(cell, str) and cell[:1] == "'" and cell[1:2] in ESCAPED else cell


def _ragged(text: str, separator: str, cells: int, path: Path, above: int, rows_above: int = 0) -> str:
    """Name the first line that does not hold as many cells as there are columns, below some lines and rows; empty if all do."""
    reader = csv.reader(io.StringIO(text), delimiter=separator, strict=True)
    wrong, opened, right = 0, 0, 0
    first = last = (0, 0)
    try:
        for number, row in enumerate(reader, rows_above + 1):
            opened = reader.line_num
            if row and len(row) != cells:
                wrong += 1
                first = first if wrong > 1 else (above + reader.line_num, len(row))
            elif row:
                right, last = right + 1, (wrong, number)
    except csv.Error as problem:
        what = "a quotation mark is opened and never closed" if "end of data" in str(problem) else str(problem)
        return f"`{path}`, line {above + opened + 1}: {what}; mend the quotation marks there."
    if not wrong:
        return ""
    below = ""
    if right and not last[0] and rows_above:  # all that is wrong stands below the table
        below = f" If the table ends above it, say in its layout that the last row is {last[1]}."
    return (
        f"`{path}`, line {first[0]}: {count_noun(first[1], 'cell')} where the first line names {count_noun(cells, 'column')} "
        f"(separated by {SEPARATORS[separator]}; {count_noun(wrong, 'such line')}); mend the line, or put quotes around a "
        f"text that holds the separator.{below}"
    )
