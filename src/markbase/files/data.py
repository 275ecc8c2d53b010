"""Data files in: comma- or tab-separated text, read without guessing at the values."""

from __future__ import annotations

import csv
import io
import warnings
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import pandas as pd

from markbase.core.errors import ColumnError, FileError, count_noun, listed, quoted
from markbase.core.study.codebook import Codebook
from markbase.core.study.study import Study
from markbase.files.codebook import read_codebook
from markbase.files.reading import read_text

_SEPARATORS = {",": "commas", ";": "semicolons", "\t": "tabs", "|": "bars"}
_TEXT_SUFFIXES = (".csv", ".tsv", ".tab", ".txt")


def open_study(
    path: str | Path,
    codebook: str | Path | Codebook | Mapping[str, Any] | None = None,
    *,
    missing: Sequence[object] = (),
    encoding: str = "utf-8",
) -> Study:
    """Open a data file as a study.

    Parameters
    ----------
    path : str or Path
        A text file with a line of column names and a line for each row, separated by commas,
        tabs, semicolons or bars (told by the first line).
    codebook : str, Path, Codebook or mapping, optional
        What is known of the columns, or the TOML file that says it.
    missing : sequence
        Codes that stand for a missing answer in every column. Empty cells always do; no other
        text does unless you or the codebook say so.
    encoding : str
        How the file's bytes stand for characters.

    Returns
    -------
    Study
        The study; the file is not touched.

    Raises
    ------
    FileError
        If a file cannot be read, is empty, or its lines do not hold the same number of cells.
    CodebookError
        If the codebook does not fit itself or the file.
    ColumnError
        For a column name that occurs twice or is empty.
    """
    path = Path(path)
    book = read_codebook(codebook) if isinstance(codebook, (str, Path)) else codebook
    return Study(_read_table(path, encoding), book, missing=missing, name=path.name)


def _read_table(path: Path, encoding: str) -> pd.DataFrame:
    if path.suffix.lower() not in _TEXT_SUFFIXES and path.is_file():
        raise FileError(
            f"`{path}` ends in `{path.suffix}`, which is not read; save it as CSV ({', '.join(_TEXT_SUFFIXES)} are read)."
        )
    text = read_text(path, encoding)
    separator = _separator(text)
    header = _header(text, separator, path)
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("error", pd.errors.ParserWarning)
            frame = pd.read_csv(
                io.StringIO(text),
                sep=separator,
                dtype=object,
                keep_default_na=False,
                na_values=[""],
                index_col=False,
            )
    except (pd.errors.ParserError, pd.errors.ParserWarning) as problem:
        raise FileError(
            _ragged(text, separator, len(header), path) or f"`{path}` cannot be read as a table: {problem}."
        ) from None
    frame.columns = pd.Index(header)
    if not len(frame):
        raise FileError(f"`{path}` has column names but no rows.")
    if frame.iloc[:, -1].isna().any():  # a line cut short looks like empty cells
        short = _ragged(text, separator, len(header), path)
        if short:
            raise FileError(short)
    return frame


def _separator(text: str) -> str:
    first = text.lstrip("\n\r").split("\n", 1)[0]
    return max(_SEPARATORS, key=lambda mark: (first.count(mark), mark == ","))


def _header(text: str, separator: str, path: Path) -> list[str]:
    names = [
        " ".join(name.split())
        for name in next(row for row in csv.reader(io.StringIO(text), delimiter=separator) if row)
    ]
    empty = [str(k) for k, name in enumerate(names, 1) if not name]
    if empty:
        raise ColumnError(f"`{path}`: column {listed(empty)} has no name in the first line; give each column one.")
    twice = sorted({name for name in names if names.count(name) > 1})
    if twice:
        verb = "occurs" if len(twice) == 1 else "occur"
        raise ColumnError(
            f"`{path}`: {listed(quoted(twice))} {verb} more than once among the column names; give each column its own name."
        )
    return names


def _ragged(text: str, separator: str, cells: int, path: Path) -> str:
    """Name the first line that does not hold as many cells as there are columns; empty if all do."""
    reader = csv.reader(io.StringIO(text), delimiter=separator, strict=True)
    wrong, opened = 0, 0
    first = (0, 0)
    try:
        for row in reader:
            opened = reader.line_num
            if row and len(row) != cells:
                wrong += 1
                first = first if wrong > 1 else (reader.line_num, len(row))
    except csv.Error as problem:
        what = "a quotation mark is opened and never closed" if "end of data" in str(problem) else str(problem)
        return f"`{path}`, line {opened + 1}: {what}; mend the quotation marks there."
    if not wrong:
        return ""
    return (
        f"`{path}`, line {first[0]}: {count_noun(first[1], 'cell')} where the first line names {count_noun(cells, 'column')} "
        f"(separated by {_SEPARATORS[separator]}; {count_noun(wrong, 'such line')}); mend the line, or put quotes around a "
        f"text that holds the separator."
    )
