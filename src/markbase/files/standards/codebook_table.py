"""A codebook as a plain table: a row a column, or a row a level of it."""

from __future__ import annotations

import csv
import io
from collections.abc import Mapping
from typing import Any

from markbase.core.errors import CodebookError, listed, near, quoted
from markbase.core.study.codebook import Codebook, code_text

_HEADS = ("column", "label", "kind", "role", "unit", "units", "code", "level", "missing", "base", "made", "made_of")
_ALSO = {
    "variable": "column",
    "name": "column",
    "value": "code",
    "category": "level",
    "value_label": "level",
    "question": "label",
}
_YES, _NO = ("yes", "y", "true", "1", "x"), ("", "no", "n", "false", "0")


def read_codebook_table(text: str, where: str) -> dict[str, Any]:
    """Read a codebook table as `Codebook.from_mapping` takes it; rows of the same column add to its entry.

    Lines of cells between commas, semicolons or tabs; the first names what stands below: ``column``, and any of ``label``,
    ``kind``, ``role``, ``unit``, ``units`` (for more than one), ``code``, ``level`` (its label), ``missing`` (yes for a
    code that stands for a missing answer), ``base`` (yes in the row of the reference level, or its name in a row without
    code), ``made`` and ``made_of`` (columns between bars). Raises a `CodebookError` if a head is not known, or two rows of
    a column contradict one another.
    """
    first = text.lstrip("\n\r").split("\n", 1)[0]
    separator = max(",;\t", key=first.count)
    try:
        rows = [
            row
            for row in csv.reader(io.StringIO(text), delimiter=separator, strict=True)
            if any(c.strip() for c in row)
        ]
    except csv.Error as problem:
        raise CodebookError(f"{where} cannot be read as a table: {problem}.") from None
    if not rows:
        raise CodebookError(f"{where} is empty.")
    heads = [_head(cell, where) for cell in rows[0]]
    if "column" not in heads or len(set(heads)) < len(heads):
        raise CodebookError(
            f"{where}: the first line must name each of its columns once, `column` among them; it names {listed(quoted(rows[0]))}."
        )
    columns: dict[str, dict[str, Any]] = {}
    for number, row in enumerate(rows[1:], 2):
        if len(row) != len(heads):
            raise CodebookError(f"{where}, row {number}: {len(row)} cells, and the first line names {len(heads)}.")
        cells = {head: cell.strip() for head, cell in zip(heads, row, strict=True)}
        if not cells["column"]:
            raise CodebookError(f"{where}, row {number}: no `column` is named.")
        _add(columns.setdefault(cells["column"], {}), cells, f"{where}, row {number}")
    return {"columns": columns}


def _head(cell: str, where: str) -> str:
    plain = "_".join(cell.strip().casefold().split())
    head = _ALSO.get(plain, plain)
    if head not in _HEADS:
        raise CodebookError(f"{where}: `{cell}` is no head of a codebook table.{near(plain, _HEADS)}")
    return head


def _add(entry: dict[str, Any], cells: Mapping[str, str], where: str) -> None:
    """Add what a row says to the entry of its column."""
    said: dict[str, Any] = {key: cells[key] for key in ("label", "kind", "role") if cells.get(key)}
    if cells.get("unit"):
        said["unit"] = [cells["unit"], cells["units"]] if cells.get("units") else cells["unit"]
    if cells.get("made"):
        of = [part.strip() for part in cells.get("made_of", "").split("|")]
        said["made"] = {cells["made"]: of[0] if len(of) == 1 else of}
    for key, value in said.items():
        if entry.setdefault(key, value) != value:
            raise CodebookError(f"{where}: `{key}` of `{cells['column']}` is {value!r}, and was {entry[key]!r} before.")
    code = code_text(cells.get("code", "")) or cells.get("level", "")
    is_missing = _yes(cells.get("missing", ""), "missing", where)
    if not code:
        if is_missing:
            raise CodebookError(f"{where}: which code is missing? Name it under `code`.")
        if cells.get("base"):
            entry["base"] = cells["base"]
        return
    is_base = _yes(cells.get("base", ""), "base", where)
    place = entry.setdefault("missing" if is_missing else "levels", {})
    if code in place:
        raise CodebookError(f"{where}: the code `{code}` of `{cells['column']}` is given twice.")
    place[code] = cells.get("level") or code
    if is_base:
        entry["base"] = code


def _yes(cell: str, key: str, where: str) -> bool:
    if cell.casefold() in (*_YES, *_NO):
        return cell.casefold() in _YES
    raise CodebookError(f"{where}: `{key}` is `{cell}`; it can be yes, or empty.")


def codebook_table_text(book: Codebook, guesses: Mapping[str, str], data: str) -> str:  # noqa: ARG001 - as the others have it
    """Return a codebook as a table; its title has no place there."""
    stream = io.StringIO()
    out = csv.writer(stream, lineterminator="\n")
    out.writerow(_HEADS)
    for name, spec in book.columns.items():
        how, of = spec.made or ("", ())
        unit = (spec.unit.one, spec.unit.many if spec.unit.many != spec.unit.one else "") if spec.unit else ("", "")
        out.writerow(
            [name, spec.label, spec.kind or "", spec.role or "", *unit, "", "", "", spec.base, how, "|".join(of)]
        )
        rows = [(level.code, level.label, "") for level in spec.levels]
        rows += [(code.code, code.label, "yes") for code in spec.missing]
        for row in rows:
            out.writerow([name, *[""] * 5, *row, *[""] * 3])
    return stream.getvalue()
