"""Tables for a manuscript in a file: an Office Open XML document or workbook, Markdown, HTML or LaTeX."""

from __future__ import annotations

import importlib.util
import io
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from markbase.core.arguments import checked
from markbase.core.errors import FileError, MarkbaseError, listed
from markbase.files.whole_files import refuse_to_replace, write_whole
from markbase.reports.manuscript import Result, manuscript_table, table_in
from markbase.reports.manuscript_texts import TEXTS
from markbase.reports.undated import FIXED, undated
from markbase.reports.workbook import can_write_workbooks, workbook_bytes
from markbase.show.page import LEVEL_INDENT, Section

_MANY_COLUMNS = 7
_MARGIN = 3
"""Letters of room in every cell."""
_FIRM = "\u00a0"
"""A space at which no line ends."""
_SUFFIX, _BOOK = ".docx", ".xlsx"
_WIDTH = 6.2
"""Inches of text on a page."""


@checked
def write_document(
    results: Result | Sequence[Result],
    path: str | Path,
    *,
    title: str = "",
    labels: bool = False,
    standardised: bool = False,
    replace: bool = False,
) -> None:
    """Write tables of fits for a manuscript.

    Parameters
    ----------
    results : LinearFit, LogisticFit, Blocks, CoefficientSamples, Comparison, Description, Dominance, Imputations, Reliability, Screen, Subgroups or tuple of a fit and a group, or a list of these
        A table each: one model with estimate, standard error, interval and p, or its coefficients in samples; of a blockwise entry the blocks side by side, of a comparison the
        fits; of a dominance analysis what each term adds; of a scale its items; of a sample its columns, by the levels of a group if there is one; of a screening means, standard deviations and
        associations; of a model in subgroups its levels side by side; of a group in a fit, ``(fit, "voice")``, its levels with
        adjusted means or probabilities. The base of every group has its row; rows used, fit and errors stand in the note.
    path : str or Path
        A file that ends in ``.docx``, ``.xlsx`` (a workbook, a sheet a table, its numbers as numbers), ``.md`` (Markdown), ``.html`` (a fragment without style) or ``.tex`` (LaTeX, with the
        package booktabs).
    title : str
        A heading for the document.
    labels : bool
        Whether columns are called by their labels, of a codebook, where they have some: in rows and captions; notes keep their names.
    standardised : bool
        Whether coefficients of linear regressions stand there in standard deviations of the outcome (β) as well.
    replace : bool
        Whether a file that is there may be written over.

    Raises
    ------
    FileError
        If the file ends in something else, is there already, cannot be written, or the package that makes documents is not
        installed.
    MarkbaseError
        If there is nothing to write.

    Examples
    --------
    >>> import markbase as mb
    >>> import tempfile
    >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
    >>> fit = mb.fit_linear(study, "belonging", ["age", "voice"])
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     mb.write_document([fit, (fit, "voice")], f"{folder}/tables.md")
    """
    path = Path(path)
    suffix = path.suffix.lower()
    kinds = [_SUFFIX, _BOOK, *TEXTS]
    if suffix not in kinds:
        raise FileError(f"`{path}` does not end in {listed(kinds, 'or')}; tables for a manuscript are written as such.")
    several: list[Any] = results if isinstance(results, list) else [results]
    if not several:
        raise MarkbaseError("Give at least one fit to write a table of.")
    refuse_to_replace(path, replace)
    write_whole(path, manuscript_bytes(several, suffix, title, labels, standardised))


def manuscript_bytes(
    results: Sequence[Result], suffix: str, title: str = "", labels: bool = False, standardised: bool = False
) -> bytes:
    """Return tables of fits as the contents of a file that ends in `suffix`; raises as `write_document`."""
    tables = [manuscript_table(result, labels, standardised) for result in results]
    if suffix == _SUFFIX:
        return document_bytes(tables, title)
    return workbook_bytes(tables, title) if suffix == _BOOK else TEXTS[suffix](tables, title).encode()


def written_kinds() -> list[str]:
    """Return what files of tables end in that can be written with the packages that are installed."""
    return [
        *TEXTS,
        *([_SUFFIX] if _can_write_documents() else []),
        *([_BOOK] if can_write_workbooks() else []),
    ]


def _can_write_documents() -> bool:
    return importlib.util.find_spec("docx") is not None


def document_bytes(tables: Sequence[Section], title: str = "") -> bytes:
    """Return tables as the contents of a document, the same bytes every time."""
    if not _can_write_documents():
        raise FileError(
            "A document needs the package python-docx, which is not installed; python -m pip install python-docx adds it."
        )
    import docx

    document = docx.Document()
    document.core_properties.created = document.core_properties.modified = FIXED
    document.core_properties.author = ""
    if title:
        document.add_heading(title, level=1)
    for place, table in enumerate(tables, 1):
        _add(document, f"Table {place}. {table.title}", table)
    buffer = io.BytesIO()
    document.save(buffer)
    return undated(buffer.getvalue())


def _add(document: Any, caption: str, told: Section) -> None:
    """Add a table with its caption above and its note below."""
    heads, body = table_in(told).heads, table_in(told).rows
    from docx.enum.text import WD_ALIGN_PARAGRAPH
    from docx.shared import Inches, Pt

    above = document.add_paragraph()
    above.add_run(caption).bold = True
    above.paragraph_format.keep_with_next = True
    table = document.add_table(rows=1, cols=len(heads))
    table.autofit = False
    words = [max(map(len, head.split()), default=0) for head in heads]
    widest = [max(words[k], *(len(row.cells[k]) for row in body)) + _MARGIN for k in range(len(heads))]
    widths = [_WIDTH * n / sum(widest) for n in widest]
    for column, width in zip(table.columns, widths, strict=True):
        column.width = Inches(width)
    size = 9.5 if len(heads) <= _MANY_COLUMNS else 8
    for kind, cells in [("head", heads), *((row.kind, row.cells) for row in body)]:
        row = table.rows[0] if kind == "head" else table.add_row()
        for column, text in enumerate(cells):
            paragraph = row.cells[column].paragraphs[0]
            paragraph.paragraph_format.space_after = Pt(1)
            paragraph.paragraph_format.line_spacing = Pt(1.3 * size)  # an empty cell is no taller than a full one
            paragraph.paragraph_format.keep_with_next = True  # a table stands on one page with its note, if it can
            if text.startswith(LEVEL_INDENT):
                paragraph.paragraph_format.left_indent = Pt(9)
            label = text.strip()
            run = paragraph.add_run(label.replace(" ", _FIRM) if column and kind != "head" else label)
            run.font.size = Pt(size)
            run.bold = kind == "head" or (kind == "group" and not column)
            run.italic = kind == "base"
            if column:
                paragraph.alignment = WD_ALIGN_PARAGRAPH.RIGHT
            row.cells[column].width = Inches(widths[column])
    for cell in table.rows[0].cells:
        _rule(cell, "top", "bottom")
    for cell in table.rows[-1].cells:
        _rule(cell, "bottom")
    below = document.add_paragraph()
    below.paragraph_format.keep_together = True
    below.add_run(f"Note. {told.note}").font.size = Pt(9)


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
