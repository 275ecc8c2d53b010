"""Tables for a manuscript, as an Office Open XML document."""

from __future__ import annotations

import datetime
import importlib.util
import io
import math
import zipfile
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from markbase.core.comparing.ladder import Ladder
from markbase.core.errors import FileError, MarkbaseError
from markbase.core.model.linear import LinearFit
from markbase.core.model.logistic import LogisticFit
from markbase.core.tables import rows_of
from markbase.core.wording import clear_of_zero, decimals_for, number, p_phrase, p_value, short, without_zero
from markbase.files.whole import refuse_to_replace, write_whole

Result = LinearFit | LogisticFit | Ladder
_DATE = (1980, 1, 1, 0, 0, 0)
_SUFFIX = ".docx"
_WIDTH = 6.2
"""Inches of text on a page."""


def write_document(path: str | Path, *results: Result, title: str = "", replace: bool = False) -> None:
    """Write tables of fits for a manuscript.

    Parameters
    ----------
    path : str or Path
        A file that ends in ``.docx``.
    *results : LinearFit, LogisticFit or Ladder
        A table each: one model with estimate, standard error, interval and p; of a ladder the rungs side by side. The base of every
        group has its row; rows used, fit and errors stand in the note.
    title : str
        A heading for the document.
    replace : bool
        Whether a file that is there may be written over.

    Raises
    ------
    FileError
        If the file does not end in ``.docx``, is there already, cannot be written, or the package that makes documents is not installed.
    MarkbaseError
        If there is nothing to write.
    """
    path = Path(path)
    if path.suffix.lower() != _SUFFIX:
        raise FileError(f"`{path}` does not end in {_SUFFIX}; documents are written as such.")
    if not results:
        raise MarkbaseError("Give at least one fit to write a table of.")
    refuse_to_replace(path, replace)
    write_whole(path, document_bytes(results, title))


def can_write_documents() -> bool:
    """Return whether the package that makes documents is installed."""
    return importlib.util.find_spec("docx") is not None


def document_bytes(results: Sequence[Result], title: str = "") -> bytes:
    """Return tables of fits as the contents of a document, the same bytes every time.

    Parameters
    ----------
    results : sequence of LinearFit, LogisticFit or Ladder
        What to tell.
    title : str
        A heading.

    Returns
    -------
    bytes
        The contents.

    Raises
    ------
    FileError
        If the package that makes documents is not installed.
    """
    if not can_write_documents():
        raise FileError("A document needs the package python-docx; install it with: pip install 'markbase[docx]'.")
    import docx

    document = docx.Document()
    fixed = datetime.datetime(2000, 1, 1, tzinfo=datetime.UTC)
    document.core_properties.created = document.core_properties.modified = fixed
    document.core_properties.author = ""
    if title:
        document.add_heading(title, level=1)
    for place, result in enumerate(results, 1):
        heads, rows, note, caption = _steps_table(result) if isinstance(result, Ladder) else _model_table(result)
        _add(document, f"Table {place}. {caption}", heads, rows, note)
    buffer = io.BytesIO()
    document.save(buffer)
    return _undated(buffer.getvalue())


def _add(
    document: Any, caption: str, heads: Sequence[str], rows: Sequence[tuple[str, Sequence[str]]], note: str
) -> None:
    """Add a table with its caption above and its note below."""
    from docx.enum.text import WD_ALIGN_PARAGRAPH
    from docx.shared import Inches, Pt

    document.add_paragraph().add_run(caption).bold = True
    table = document.add_table(rows=1, cols=len(heads))
    table.autofit = False
    widest = [max(len(head), *(len(cells[k]) for _, cells in rows)) for k, head in enumerate(heads)]
    widths = [_WIDTH * n / sum(widest) for n in widest]
    for kind, cells in [("head", heads), *rows]:
        row = table.rows[0] if kind == "head" else table.add_row()
        for column, text in enumerate(cells):
            paragraph = row.cells[column].paragraphs[0]
            paragraph.paragraph_format.space_after = Pt(1)
            run = paragraph.add_run(text)
            run.font.size = Pt(9.5)
            run.bold = kind in ("head", "group")
            run.italic = kind == "base"
            if column:
                paragraph.alignment = WD_ALIGN_PARAGRAPH.RIGHT
            row.cells[column].width = Inches(widths[column])
    for cell in table.rows[0].cells:
        _rule(cell, "top", "bottom")
    for cell in table.rows[-1].cells:
        _rule(cell, "bottom")
    run = document.add_paragraph().add_run(f"Note. {note}")
    run.font.size = Pt(9)


def _rule(cell: Any, *edges: str) -> None:
    """Draw a line along some edges of a cell; a table for a manuscript has no others."""
    from docx.oxml import OxmlElement
    from docx.oxml.ns import qn

    borders = OxmlElement("w:tcBorders")
    for edge in edges:
        line = OxmlElement(f"w:{edge}")
        for key, value in (("val", "single"), ("sz", "6"), ("space", "0"), ("color", "000000")):
            line.set(qn(f"w:{key}"), value)
        borders.append(line)
    cell._tc.get_or_add_tcPr().append(borders)


def _model_table(fit: LinearFit | LogisticFit) -> tuple[list[str], list[tuple[str, list[str]]], str, str]:
    percent = f"{short(100 * fit.level, 4)}% interval"
    logistic = isinstance(fit, LogisticFit)
    heads = ["", "Odds ratio", percent, "Log odds", "SE", "p"] if logistic else ["", "Estimate", "SE", percent, "p"]
    rows: list[tuple[str, list[str]]] = []
    for r in _told(fit):
        name, kind = r["name"], r["kind"]
        if kind != "plain":
            rows.append((kind, [name, *(["base"] if kind == "base" else [""]), *[""] * (len(heads) - 2)]))
            continue
        row = r["row"]
        decimals = decimals_for(float(row.se))
        if logistic:
            ratios = [
                number(v, max(2, min(4, decimals_for(row.odds_ratio * row.se))))
                for v in (row.odds_ratio, row.odds_low, row.odds_high)
            ]
            cells = [ratios[0], f"{ratios[1]} to {ratios[2]}", number(row.estimate, decimals), number(row.se, decimals)]
        else:
            ends = clear_of_zero(row.low, row.high, decimals)
            cells = [
                number(row.estimate, decimals),
                number(row.se, decimals),
                f"{number(row.low, ends)} to {number(row.high, ends)}",
            ]
        rows.append(("plain", [name, *cells, p_value(row.p)]))
    return heads, rows, _note(fit), f"{fit.explained}: {'logistic' if logistic else 'linear'} regression"


def _told(fit: LinearFit | LogisticFit) -> list[dict[str, Any]]:
    """Return the rows of the coefficients with headings for groups."""
    found: list[dict[str, Any]] = []
    before = ""
    products = {t.name for t in fit.parts if t.parts}
    for row in rows_of(fit.coefficients):
        if row.level and row.term != before:
            found.append({"kind": "group", "name": str(row.term), "row": row})
        before = str(row.term)
        if row.base and row.term in products:
            continue
        kind = "base" if row.base else "plain"
        if math.isnan(row.estimate):
            continue
        found.append({"kind": kind, "name": f"    {row.level}" if row.level else str(row.term), "row": row})
    return found


def _note(fit: LinearFit | LogisticFit) -> str:
    test = fit.overall
    rows = f"n = {fit.sample.used:,} of {fit.sample.rows:,} rows"
    if isinstance(fit, LogisticFit):
        t = fit.strength
        whole = f"{test.kind.capitalize()} chi²({test.df}) = {number(test.statistic, 2)}, {p_phrase(test.p)}"
        return f"{rows}; event: {fit.event} ({fit.events:,}). {whole}; McFadden {without_zero(t.mcfadden)}, Tjur {without_zero(t.tjur)}. {_errors(fit)}."
    whole = f"F({test.df}, {test.df_rest:.0f}) = {number(test.statistic, 2)}, {p_phrase(test.p)}"
    shown = f"R² = {without_zero(fit.strength.r2)}, adjusted {without_zero(fit.strength.r2_adjusted)}"
    return f"{rows}. {whole}; {shown}. {_errors(fit)}."


def _errors(fit: LinearFit | LogisticFit) -> str:
    words = fit.errors.words.replace("`", "")
    return words[0].upper() + words[1:]


def _steps_table(ladder: Ladder) -> tuple[list[str], list[tuple[str, list[str]]], str, str]:
    fit, names = ladder.last, list(ladder.names)
    heads = ["", *names]
    values = ladder.moves.set_index(["term", "level"])
    errors = ladder.errors.set_index(["term", "level"])
    rows: list[tuple[str, list[str]]] = []
    for r in _told(fit):
        if r["kind"] == "group":
            rows.append(("group", [r["name"], *[""] * len(names)]))
            continue
        key = (r["row"].term, r["row"].level)
        cells = []
        for name in names:
            value, se = float(values[name].loc[[key]].iloc[0]), float(errors[name].loc[[key]].iloc[0])
            if math.isnan(value):
                cells.append("")
            elif r["kind"] == "base":
                cells.append("base")
            else:
                decimals = decimals_for(se)
                cells.append(f"{number(value, decimals)} ({number(se, decimals)})")
        rows.append((r["kind"], [r["name"], *cells]))
    steps = list(rows_of(ladder.steps))
    if ladder.logistic:
        rows.append(("group", ["Deviance", *(number(s.deviance, 1) for s in steps)]))
        rows.append(("plain", ["McFadden", *(without_zero(s.mcfadden) for s in steps)]))
    else:
        rows.append(("group", ["R²", *(without_zero(s.r2) for s in steps)]))
        rows.append(("plain", ["Change of R²", *(without_zero(s.r2_change) for s in steps)]))
    sign = "chi²" if ladder.logistic else "F"
    rows.append(("plain", [f"{sign} of the change", *(f"{number(s.statistic, 2)}" for s in steps)]))
    rows.append(
        ("plain", ["df", *(f"{s.df}" + ("" if math.isinf(s.df_rest) else f", {s.df_rest:.0f}") for s in steps)])
    )
    rows.append(("plain", ["p", *(p_value(s.p) for s in steps)]))
    kind = "Log odds" if ladder.logistic else "Estimates"
    note = f"{kind} with standard errors in brackets. All columns on the same {fit.sample.used:,} of {fit.sample.rows:,} rows. {_errors(fit)}."
    return heads, rows, note, f"{fit.explained}, block by block"


def _undated(content: bytes) -> bytes:
    """Return a zip file with the times of its parts set to one and the same."""
    buffer = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(content)) as old, zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as new:
        for name in old.namelist():
            part = zipfile.ZipInfo(name, _DATE)
            part.compress_type = zipfile.ZIP_DEFLATED
            new.writestr(part, old.read(name))
    return buffer.getvalue()
