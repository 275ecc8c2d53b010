"""Spreadsheets: cells as they are, what merged ones share, and formulas that nothing has worked out yet."""

from __future__ import annotations

import io
import warnings
import zipfile
from fnmatch import fnmatchcase
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from markbase.core.errors import FileError, listed, quoted, remark
from markbase.files.layout import TOP, Layout, header_hint, with_names, written
from markbase.files.text_files import no_room, read_bytes
from markbase.files.text_tables import checked_names

SHEETS = (".xlsx", ".ods")
"""How the names of spreadsheets end."""


def sheets_like(path: Path, pattern: str) -> list[str] | None:
    """Return the sheets whose names are like a pattern, in their order; None where it is none, or one is called so.

    Raises
    ------
    FileError
        If the file cannot be read, or no sheet is called like that.
    """
    if not any(mark in pattern for mark in "*?["):
        return None
    sheets = _sheets(path, read_bytes(path))[1]
    if pattern in sheets:
        return None
    found = [name for name in sheets if fnmatchcase(name, pattern)]
    if not found:
        raise FileError(f"`{path}` has no sheet like `{pattern}`; there {_are(sheets)}.")
    return found


def _are(sheets: list[str]) -> str:
    return f"{'is' if len(sheets) == 1 else 'are'} {listed(quoted(sheets))}"


def _sheets(path: Path, raw: bytes) -> tuple[pd.ExcelFile, list[str]]:
    """Open a spreadsheet, and name its sheets."""
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # about styles, which are not read
            book = pd.ExcelFile(io.BytesIO(raw), engine="odf" if path.suffix.lower() == ".ods" else "openpyxl")
            return book, [str(name) for name in book.sheet_names]
    except MemoryError:
        raise no_room(path) from None
    except Exception as problem:
        raise FileError(f"`{path}` cannot be read as a spreadsheet: {str(problem).splitlines()[0]}.") from None


def read_sheet(path: Path, sheet: str | None, layout: Layout) -> tuple[pd.DataFrame, dict[str, str]]:
    """Read a sheet, by default the first, as a table, and what its columns are called in full where the layout says so."""
    raw = read_bytes(path)
    book, sheets = _sheets(path, raw)
    if sheet is not None and sheet not in sheets:
        raise FileError(f"`{path}` has no sheet `{sheet}`; there {_are(sheets)}.")
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            cells = book.parse(sheet or sheets[0], header=None, dtype=object, keep_default_na=False, na_values=[""])
    except MemoryError:
        raise no_room(path) from None
    except Exception as problem:
        raise FileError(f"`{path}` cannot be read as a spreadsheet: {str(problem).splitlines()[0]}.") from None
    if sheet is None and len(sheets) > 1:
        remark(f"`{path.name}` has {len(sheets)} sheets; the first, `{sheets[0]}`, was read.")
    filled = np.flatnonzero(cells.notna().any(axis=1))
    above = layout.first - 1 if not layout.is_plain else int(filled[0]) + 1 if len(filled) else 0
    if not len(filled) or filled[-1] < above:
        raise FileError(f"`{path}` has {'column names but no rows' if len(filled) else 'nothing in that sheet'}.")
    if layout.last and layout.last > len(cells):
        raise layout.too_few(f"`{path}`", len(cells), layout.last)
    rows = written(cells.iloc[: max(above, TOP)])
    names, labels = (rows[above - 1], []) if layout.is_plain else layout.top_of(rows, f"`{path}`")
    header, unnamed = checked_names(names, path, lambda: header_hint(rows))
    if path.suffix.lower() == ".xlsx":
        for column, merged in _fill_merged(cells, raw, sheet or sheets[0], above).items():
            remark(
                f"`{path.name}`: `{header[column]}` has merged cells ({merged}); what they hold counts for each of their rows."
            )
        if unworked := _unworked_columns(cells.iloc[: layout.last], raw, sheet or sheets[0], above):
            what = f"{listed(quoted(header[k] for k in unworked))} {'holds' if len(unworked) == 1 else 'hold'}"
            remark(
                f"`{path.name}`: {what} formulas without their results; open the file in a spreadsheet program, and save it."
            )
    frame = cells.iloc[above : layout.last].dropna(how="all").reset_index(drop=True)
    return with_names(frame, header, unnamed, labels, layout, above, lambda: int(filled[-1]) + 1, path.name)


def _fill_merged(cells: pd.DataFrame, raw: bytes, sheet: str, above: int) -> dict[int, str]:
    """Give rows below the names what a cell holds that is merged over them, and say which cells of which columns were.

    Those merged over several columns are headings or notes; so are those over rows that hold nothing else.
    """
    with zipfile.ZipFile(io.BytesIO(raw)) as parts:
        if not any(b"mergeCell " in parts.read(name) for name in parts.namelist() if "/worksheets/" in name):
            return {}
    found: dict[int, list[str]] = {}
    ranges = _workbook(raw, read_only=False)[sheet].merged_cells.ranges
    for merged in sorted(ranges, key=lambda merged: (merged.min_col, merged.min_row)):
        column, first, last = merged.min_col - 1, merged.min_row - 1, merged.max_row
        if merged.max_col > merged.min_col or first < above or column >= cells.shape[1]:
            continue
        own = cells.iloc[first:last]
        rows = own.index[own.drop(columns=cells.columns[column]).notna().any(axis=1)]
        value: Any = cells.iat[first, column]
        if len(rows) > 1 and not pd.isna(value):
            cells.iloc[rows, column] = value
            found.setdefault(column, []).append(str(merged.coord))
    return {k: ", ".join(v[:3]) + (f" and {len(v) - 3} more" if len(v) > 3 else "") for k, v in found.items()}


def _unworked_columns(cells: pd.DataFrame, raw: bytes, sheet: str, above: int) -> list[int]:
    """Return the columns that hold nothing but formulas whose results are not in the file."""
    empty = np.flatnonzero(cells.iloc[above:].isna().all() & cells.iloc[:above].notna().any())
    if not len(empty):
        return []
    rows = _workbook(raw, read_only=True)[sheet].iter_rows(min_row=above + 1, values_only=True)
    formulas = {k for row in rows for k in empty.tolist() if k < len(row) and str(row[k] or "").startswith("=")}
    return sorted(formulas)


def _workbook(raw: bytes, read_only: bool) -> Any:
    import openpyxl

    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # as above
        return openpyxl.load_workbook(io.BytesIO(raw), read_only=read_only)
