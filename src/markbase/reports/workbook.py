"""Tables for a manuscript as a workbook (Office Open XML): a sheet each, whose numbers are numbers, shown with the digits they are told with."""

from __future__ import annotations

import importlib.util
import io
import re
from collections.abc import Sequence
from typing import Any, NamedTuple

from markbase.core.errors import FileError
from markbase.reports.manuscript import table_in
from markbase.reports.undated import FIXED, undated
from markbase.show.page import LEVEL_INDENT, Section

_NUMBER = re.compile(r"([−-]?)(\d{1,3}(?:,\d{3})+|\d+)?(?:\.(\d+))?(%?)")
_WIDEST, _NARROWEST, _ROOM = 48, 8, 2
"""Letters a column has at most, and at least, and beside its longest cell."""
_LETTERS_A_LINE, _POINTS_A_LINE = 1.1, 15
_CHANGED = re.compile(rb"(<dcterms:modified[^>]*>)[^<]*")
_FIRST = 3
"""The row of the heads, below the caption and a row without anything."""


class _Number(NamedTuple):
    value: float
    form: str
    """How a sheet shows it."""


def can_write_workbooks() -> bool:
    """Return whether the package that makes workbooks is installed."""
    return importlib.util.find_spec("openpyxl") is not None


def workbook_bytes(tables: Sequence[Section], title: str = "") -> bytes:
    """Return tables as the contents of a workbook, the same bytes every time; its title stands in its properties.

    Raises a `FileError` if the package that makes workbooks is not installed.
    """
    if not can_write_workbooks():
        raise FileError(
            "A workbook needs the package openpyxl, which is not installed; python -m pip install openpyxl adds it."
        )
    import openpyxl

    book = openpyxl.Workbook()
    book.remove(book.active)
    book.properties.title, book.properties.creator, book.properties.created = title or None, "", FIXED
    for place, told in enumerate(tables, 1):
        _fill(book.create_sheet(f"Table {place}"), f"Table {place}. {told.title}", told)
    buffer = io.BytesIO()
    book.save(buffer)
    return undated(buffer.getvalue(), _without_change)


def _without_change(name: str, content: bytes) -> bytes:
    """Return a part of the file without the moment in which it was saved."""
    return (
        _CHANGED.sub(rb"\g<1>" + FIXED.strftime("%Y-%m-%dT%H:%M:%SZ").encode(), content)
        if "core.xml" in name
        else content
    )


def _fill(sheet: Any, caption: str, told: Section) -> None:
    """Put a table into a sheet, with its caption above and its note below."""
    from openpyxl.styles import Alignment, Border, Font, Side
    from openpyxl.utils import get_column_letter

    table, line = table_in(told), Side(style="thin")
    _put(sheet, 1, 1, caption).font = Font(bold=True)
    rows = [("head", table.heads), *((row.kind, row.cells) for row in table.rows)]
    for at, (kind, cells) in enumerate(rows, _FIRST):
        edges = Border(
            top=line if kind == "head" else None,
            bottom=line if kind == "head" or at == _FIRST + len(rows) - 1 else None,
        )
        for column, text in enumerate(cells):
            number = number_in(text) if column in table.right and kind != "head" else None
            cell = _put(sheet, at, column + 1, text.strip() if number is None else number.value)
            if number is not None:
                cell.number_format = number.form
            cell.font = Font(bold=kind == "head" or (kind == "group" and not column), italic=kind == "base")
            cell.alignment = Alignment(
                horizontal="right" if column in table.right else None,
                indent=int(text.startswith(LEVEL_INDENT)),
                wrap_text=kind == "head",
            )
            cell.border = edges
    widths = [
        min(max(_NARROWEST, *(len(cells[k]) for _, cells in rows)), _WIDEST) + _ROOM for k in range(len(table.heads))
    ]
    for column, width in enumerate(widths, 1):
        sheet.column_dimensions[get_column_letter(column)].width = width
    below = _FIRST + len(rows)
    _put(sheet, below, 1, f"Note. {told.note}").alignment = Alignment(wrap_text=True, vertical="top")
    sheet.merge_cells(start_row=below, end_row=below, start_column=1, end_column=len(widths))
    lines = 1 + int(_LETTERS_A_LINE * len(told.note) / sum(widths))
    sheet.row_dimensions[below].height = lines * _POINTS_A_LINE
    sheet.freeze_panes = sheet.cell(_FIRST + 1, 2)
    sheet.page_setup.fitToHeight, sheet.sheet_properties.pageSetUpPr.fitToPage = 0, True


def _put(sheet: Any, row: int, column: int, value: str | float) -> Any:
    cell = sheet.cell(row, column, value)
    if isinstance(value, str):
        cell.data_type = "s"  # a text stays a text, though it begin like a formula
    return cell


def number_in(text: str) -> _Number | None:
    """Return the number that a cell holds, with the form that shows its digits; None of any other text.

    ``−1,508.20`` is −1508.2 in the form ``#,##0.00``, ``.031`` is 0.031 in ``.000`` and ``12.5%`` is 0.125 in ``0.0%``.
    """
    found = _NUMBER.fullmatch(text.strip())
    if found is None or not (found[2] or found[3]):
        return None
    minus, whole, decimals, percent = found.groups()
    digits = f"{(whole or '0').replace(',', '')}.{decimals or '0'}"
    value = float(digits) / (100 if percent else 1)
    form = ("" if whole is None else "#,##0" if "," in whole or len(whole) < 4 else "0") + (
        f".{'0' * len(decimals)}" if decimals else ""
    )
    return _Number(-value if minus else value, f"{form.replace('#,##0', '0') if percent else form}{percent}")
