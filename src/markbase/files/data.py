"""Data files in: text, spreadsheets and Parquet, read without guessing at the values."""

from __future__ import annotations

import importlib.util
import io
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from markbase.core.arguments import checked
from markbase.core.errors import FileError
from markbase.core.study.codebook import Codebook, as_codebook
from markbase.core.study.steps.opened import lacking_in, opened_as
from markbase.core.study.study import Study
from markbase.files.chosen import Chosen, chosen_columns
from markbase.files.codebook import read_codebook
from markbase.files.layout import GivenLayout, Layout
from markbase.files.parts.folders import columns_of_folders
from markbase.files.parts.lacking import names_for
from markbase.files.parts.paths import names_of_files, told_of
from markbase.files.spreadsheets import SHEETS, read_sheet, sheets_like
from markbase.files.stacked import Several, Table, files_of, is_several, refuse_if_large, stacked
from markbase.files.text_data import read_text_table
from markbase.files.text_files import STANDARD, NoRowsError, no_room, read_bytes

TEXT_SUFFIXES = (".csv", ".tsv", ".tab", ".txt")
EXTRAS = {".parquet": ("pyarrow", "pyarrow"), ".xlsx": ("openpyxl", "openpyxl"), ".ods": ("odf", "odfpy")}
"""For each kind of file that needs an extra: what is imported for it, and by which name that is installed."""
_LARGE = 1 << 22
"""Bytes from which a file is read with Arrow, if it is installed."""
_ONLY_IN_PARTS = (".arrow", ".feather", ".gz", ".zip")


@checked
def open_study(
    path: str | Path,
    codebook: str | Path | Codebook | Mapping[str, Any] | None = None,
    *,
    missing: Sequence[object] = (),
    encoding: str = "utf-8",
    sheet: str | None = None,
    layout: GivenLayout | None = None,
    columns: Chosen | None = None,
    in_parts: bool = False,
    cluster: str | None = None,
    progress: Callable[[int, int | None], None] | None = None,
    file_column: str | None = None,
) -> Study:
    """Open a data file as a study.

    Parameters
    ----------
    path : str or Path
        ``-`` for standard input; a text file (``.csv``, ``.tsv``, ``.tab``, ``.txt``) with a line of column names and a line
        for each row, separated by commas, tabs, semicolons or bars (told by the first line); a
        spreadsheet (``.xlsx``, ``.ods``); or a ``.parquet`` file. The last three need an extra. Of a folder, or a pattern of names such as
        ``waves/*.csv``, the rows of all files stand one below another; columns are the same by their names, and where a file does not have one, its rows
        have gaps for that reason. What folders tell, as ``register/year=2019/land=north/part-0.parquet`` does, are columns too (`year`, `land`).
    codebook : str, Path, Codebook or mapping, optional
        What is known of the columns, or the file that says it, as `read_codebook` reads it.
    missing : sequence
        Codes that stand for a missing answer in every column. Empty cells always do; no other
        text does unless you or the codebook say so.
    encoding : str
        How the bytes of a text file stand for characters.
    sheet : str, optional
        Which sheet of a spreadsheet; by default the first. Of a pattern of names, such as ``*``, the rows of all such sheets stand one below another.
    layout : mapping of str to int, optional
        Where things stand in a file that does not begin with the names of its columns: ``header`` is the row of the names, ``labels`` a
        row that says what they are called in full, as survey platforms write it below the names, ``data`` the first row of the data and
        ``last`` the last; ``{"header": 3}`` skips two rows of title. Rows are counted as a spreadsheet counts them, from 1.
    columns : sequence of str, optional
        Read these columns alone, with those the codebook says they are made of: of a wide file that takes less time and memory. By
        default all of them.
    in_parts : bool
        Read the rows a part at a time, whenever they are needed, instead of taking all of them into memory: for data that are larger
        than it. The path may then also be a folder, or a pattern such as ``register/*.parquet``; text files may be packed
        (``.csv.gz``, ``.csv.zip``), and Arrow's own files (``.feather``, ``.arrow``) are read. Needs the package pyarrow.
    cluster : str, optional
        The address of a Dask scheduler, such as ``tcp://127.0.0.1:8786``: its workers read the parts and compute with them, and only
        small results travel. The files must have the same path on every worker. Needs the package ``dask[distributed]``.
    progress : callable, optional
        With `in_parts`: told how many rows of the first look are done, and of how many if that is known.
    file_column : str, optional
        Of several files, or sheets: what the column is called that tells which of them a row is from, by what is different in the names of
        files (``2019`` of ``wave_2019.csv``), or the name of the sheet. None for no such column.

    Returns
    -------
    Study
        The study; the file is not touched.

    Raises
    ------
    FileError
        If a file cannot be read, is empty, its lines do not hold the same number of cells, or the
        package that reads it is not installed.
    CodebookError
        If the codebook does not fit itself or the file.
    ColumnError
        For a column name that occurs twice (in parts), a header in which most names are lacking, one of `columns` that is not there or holds lists or records, or values
        that are neither numbers nor texts.

    Warns
    -----
    MarkbaseWarning
        For columns of lists or records, which are left out; columns without a name, or with that of another, which are called by their place; rows
        without a value, which are left out, and merged cells, which count for each of their rows; formulas without results; and a first
        or last row of the data that looks like more names, or a total.

    Examples
    --------
    >>> import markbase as mb
    >>> study = mb.open_study(mb.demo.path("choirs.csv"), codebook=mb.demo.path("choirs.codebook.toml"))
    >>> study
    <Study: choirs.csv, 2,003 rows, 18 columns>
    """
    path, places = Path(path), Layout.of(layout)
    book = read_codebook(codebook, path.name) if isinstance(codebook, (str, Path)) else codebook
    if in_parts or cluster is not None:
        need_extra(path, ".parquet", "files that are read in parts")
        if not places.is_plain:
            raise FileError(
                f"`{path}`: in parts, the names are read of the first row of a file; write the file anew from them on."
            )
        from markbase.files.parts.opening import table_in_parts

        table, book = table_in_parts(
            path,
            as_codebook(book),
            encoding=encoding,
            progress=progress,
            cluster=cluster,
            chosen=columns,
            file_column=file_column,
        )
        study = Study(table, book, missing=missing, name=table.source.name if table.source else path.name)
        return lacking_in(study, {name: there for name, there in table.lacking.items() if name in study})
    if only_in_parts(path):
        raise FileError(
            f"`{path}` is packed, or one of Arrow's own: such data are read in parts; open them with in_parts=True."
        )
    settings = (missing, encoding != "utf-8", sheet, layout, columns is not None)
    name = "standard input" if path == STANDARD else path.name
    several = _several(path, encoding, sheet, places)
    if several is not None:
        return _of_several(path, several, as_codebook(book), missing, columns, file_column)
    if file_column is not None:
        raise FileError(f"`{path}` is one file, and `{file_column}` would be the same in all rows; leave it out.")
    quick = _quickly_read(path, as_codebook(book), encoding, columns) if places.is_plain else None
    if quick is not None:
        return _told(Study(quick[0], quick[1], missing=missing, name=name), path, codebook, settings)
    frame, labels = _read(path, encoding, sheet, places)
    nested = {n for n in frame.columns if path.suffix.lower() == ".parquet" and _is_nested(frame[n])}
    names, known = chosen_columns(list(frame.columns), columns, as_codebook(book), name, nested)
    return _told(Study(frame[names], known.with_labels(labels), missing=missing, name=name), path, codebook, settings)


def _several(path: Path, encoding: str, sheet: str | None, layout: Layout) -> Several | None:
    """Read the tables that a folder, a pattern of names, or one of the sheets of a spreadsheet means; None where one table is meant."""
    if is_several(path):
        files = files_of(path, (*TEXT_SUFFIXES, *EXTRAS))
        refuse_if_large(path, files)
        tables = [_read_some(file, encoding, sheet, layout) for file in files]
        return Several(tables, names_for(files), names_of_files(files), columns_of_folders(path, files))
    if sheet is None or path.suffix.lower() not in SHEETS:
        return None
    need_extra(path, path.suffix.lower())
    sheets = sheets_like(path, sheet)
    if sheets is None:
        return None
    return Several([read_sheet(path, own, layout) for own in sheets], [f"sheet {own}" for own in sheets], sheets)


def _read_some(path: Path, encoding: str, sheet: str | None, layout: Layout) -> Table:
    """Read a file that stands among others, which may have no rows."""
    try:
        return _read(path, encoding, sheet, layout)
    except NoRowsError as none:
        return pd.DataFrame(columns=none.names, dtype=object), {}


def _of_several(
    path: Path,
    several: Several,
    book: Codebook,
    missing: Sequence[object],
    chosen: Chosen | None,
    file_column: str | None,
) -> Study:
    """Make a study of tables whose rows stand one below another."""
    found = stacked(several, file_column)
    nested = {n for n in found.frame.columns if _is_nested(found.frame[n])}
    told = told_of(path)
    names, known = chosen_columns(list(found.frame.columns), chosen, book, told, nested)
    study = Study(found.frame[names], known.with_labels(found.labels), missing=missing, name=told)
    return lacking_in(
        study,
        {n: {f"not in {p}": rows for p, rows in there.items()} for n, there in found.lacking.items() if n in study},
    )


def _told(study: Study, path: Path, codebook: object, settings: Sequence[object]) -> Study:
    """Return a study that knows its file, where that and a codebook are all that it takes to open it again."""
    if any(settings) or path == STANDARD or not isinstance(codebook, (str, Path, type(None))):
        return study
    return opened_as(study, {"file": str(path), **({"codebook": str(codebook)} if codebook is not None else {})})


def _is_nested(series: pd.Series[Any]) -> bool:
    """Return whether a column of a Parquet file holds lists or records."""
    first = next(iter(series.dropna()), None) if series.dtype.kind == "O" else None
    return isinstance(first, (list, dict, tuple, np.ndarray))


def is_large(path: Path) -> bool:
    """Return whether a file is so large that it is read with Arrow, if that is installed; what is not there is told where it is read."""
    try:
        return path.stat().st_size >= _LARGE
    except (OSError, ValueError):
        return False


def _quickly_read(path: Path, book: Codebook, encoding: str, columns: Chosen | None) -> tuple[Any, Codebook] | None:
    """Read a large file column by column; None for one that is small, or that only careful reading can say what is wrong with."""
    if path.suffix.lower() not in (".parquet", *TEXT_SUFFIXES) or not is_large(path):
        return None
    if importlib.util.find_spec("pyarrow") is None:
        return None
    from markbase.files.parts.opening import quickly_read

    return quickly_read(path, book, encoding, columns)


def only_in_parts(path: Path) -> bool:
    """Return whether data are read in parts alone: a packed file, or one of Arrow's own, or several of which one is so."""
    try:
        several = path.rglob("*") if path.is_dir() else [path] if path.is_file() or is_several(path) else []
        return any(p.suffix.lower() in _ONLY_IN_PARTS for p in several)
    except (OSError, ValueError):
        return False  # a name that no file can have is told where it is read


@checked
def read_table(
    path: str | Path, *, encoding: str = "utf-8", sheet: str | None = None, layout: GivenLayout | None = None
) -> pd.DataFrame:
    """Read a file as a table, as `open_study` does, without saying what its columns mean; of a text file every cell is a text."""
    return _read(Path(path), encoding, sheet, Layout.of(layout))[0]


def _read(path: Path, encoding: str, sheet: str | None, layout: Layout) -> tuple[pd.DataFrame, dict[str, str]]:
    """Read a file as a table, and what its columns are called in full where the file says so."""
    several = _several(path, encoding, sheet, layout)
    if several is not None:
        together = stacked(several)
        return together.frame, together.labels
    suffix = path.suffix.lower()
    if suffix == ".parquet":
        need_extra(path, suffix)
        if not layout.is_plain:
            raise FileError(f"`{path}` knows the names of its columns by itself; leave the layout out.")
        frame = _read_parquet(path)
        if not len(frame):
            raise NoRowsError(f"`{path}` has column names but no rows.", list(frame.columns))
        return frame, {}
    if suffix in EXTRAS:
        need_extra(path, suffix)
        return read_sheet(path, sheet, layout)
    if suffix in TEXT_SUFFIXES or path == STANDARD:
        return read_text_table(path, encoding, layout)
    read_bytes(path)  # what is not there is told as that
    raise FileError(
        f"`{path}` ends in `{path.suffix}`, which is not read; there are {', '.join([*TEXT_SUFFIXES, *EXTRAS])}: save it as one."
    )


def need_extra(path: Path, suffix: str, what: str = "") -> None:
    """Refuse a kind of file whose package is not installed, with what adds it."""
    package, named = EXTRAS[suffix]
    if importlib.util.find_spec(package) is None:
        raise FileError(
            f"`{path}`: {what or f'{suffix} files'} need the package {named}, which is not installed; python -m pip install {named} adds it."
        )


def _read_parquet(path: Path) -> pd.DataFrame:
    raw = read_bytes(path)
    try:
        frame = pd.read_parquet(io.BytesIO(raw), engine="pyarrow")
    except MemoryError:
        raise no_room(path) from None
    except Exception as problem:
        raise FileError(f"`{path}` cannot be read as Parquet: {str(problem).splitlines()[0]}") from None
    named = {name: frame.index.get_level_values(k) for k, name in enumerate(frame.index.names) if name is not None}
    if not named:
        return frame
    # what rows are called by is a column like others where it has a name, and stands last in the file
    more = {str(name): values for name, values in named.items() if name not in frame.columns}
    return frame.reset_index(drop=True).assign(**more)
