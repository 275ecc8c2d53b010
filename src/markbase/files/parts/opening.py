"""Opening data whose rows come in parts: on this machine, or on a cluster."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import replace
from mmap import ACCESS_READ, mmap
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from markbase.core.errors import ColumnError, FileError, MarkbaseError, remark
from markbase.core.rows.parts import InParts
from markbase.core.rows.table import TableInParts, TextsInParts
from markbase.core.study.codebook import Codebook
from markbase.files.chosen import Chosen, chosen_columns
from markbase.files.layout import TOP, names_again
from markbase.files.parts.files_in_parts import FilesInParts
from markbase.files.parts.first_look import Progress, table_in_memory, table_of_files
from markbase.files.parts.lacking import names_for, say_lacking
from markbase.files.parts.paths import described, names_of_files, telling
from markbase.files.parts.table_files import TableFiles, plain_words
from markbase.files.text_tables import blank_rows, said_of_unnamed

_TOP_BYTES = 1 << 16
"""Where the first rows alone are asked for, more is read only if none of them ends."""


def quickly_read(
    path: Path, book: Codebook, encoding: str, chosen: Chosen | None = None
) -> tuple[TableInParts, Codebook] | None:
    """Read a large file of text or Parquet into memory with Arrow; None where that is not possible, so that it is read, or refused, cell by cell."""
    try:
        table, types = described(path, encoding)
        names, book = chosen_columns(list(types), chosen, book, table.told)
        if not table.written and not _are_plain(path, names):
            return None
        if _row_of_names(table, names) or (table.written and _has_blank_rows(path, table)):
            return None  # it is told where every file is read
        return _with_unnamed(table_in_memory(table, {name: types[name] for name in names}, book), table), book
    except (MarkbaseError, ImportError):  # a pyarrow that does not go with this NumPy is as good as none
        return None


def _has_blank_rows(path: Path, table: TableFiles) -> bool:
    with path.open("rb") as file, mmap(file.fileno(), 0, access=ACCESS_READ) as data:
        return blank_rows(data, table.separator, len(table.names)) > 0


def _are_plain(path: Path, names: Sequence[str]) -> bool:
    """Return whether columns of a Parquet file are numbers and texts that mean nothing more, and its rows have no names of their own."""
    import pyarrow as pa
    import pyarrow.parquet as pq

    schema = pq.read_schema(path)
    said = json.loads((schema.metadata or {}).get(b"pandas", b"{}"))
    counted = all(
        isinstance(index, dict) and (index.get("start"), index.get("step")) == (0, 1)
        for index in said.get("index_columns", [])
    )
    plain = (pa.types.is_integer, pa.types.is_floating, pa.types.is_string, pa.types.is_large_string)
    known = counted and set(names) <= set(schema.names)
    return known and all(any(is_so(schema.field(name).type) for is_so in plain) for name in names)


def table_in_parts(
    path: str | Path,
    book: Codebook,
    *,
    encoding: str = "utf-8",
    progress: Progress | None = None,
    cluster: str | None = None,
    chosen: Chosen | None = None,
    file_column: str | None = None,
) -> tuple[TableInParts, Codebook]:
    """Look once over files whose rows are then read a part at a time, here or by the workers of a cluster.

    The path is that of a file, a folder, or a pattern of names such as ``register/*.parquet``. Raises a `FileError` if
    there is no such file, files differ in kind or columns, one cannot be read, or the cluster does not answer.
    """
    try:
        table, types = described(path, encoding)
    except ImportError as problem:
        raise FileError(f"`{path}` cannot be read in parts: {plain_words(problem)}.") from None
    if file_column is not None:
        table, types = _telling_files(table, types, file_column)
    names, book = chosen_columns(list(types), chosen, book, table.told, table.nested)
    types = {name: types[name] for name in names}
    if cluster is None:
        found = table_of_files(table, types, book, progress)
    else:
        from markbase.files.parts.cluster import table_of_files_on_cluster

        found = table_of_files_on_cluster(table, types, book, cluster, progress)
    if found.source is not None and not found.source.rows:
        raise FileError(f"`{table.told}` has column names but no rows.")
    called = names_for([Path(mark.path) for mark in table.files])
    marks = list(zip(called, table.files, strict=True))
    lacking = {name: there for name in names if (there := [p for p, mark in marks if name in mark.lacks])}
    if lacking:
        say_lacking(lacking, called)
        found = replace(found, lacking=_reasons(table, found, lacking, called))
    told = _row_of_names(table, table.in_file(names, table.files[0]))
    if told:
        remark(f"`{table.told}`: {told}")
    return _with_unnamed(found, table), book


def _reasons(
    table: TableFiles, found: TableInParts, lacking: Mapping[str, Sequence[str]], called: Sequence[str]
) -> dict[str, dict[str, slice]]:
    """Return why rows have no value in columns that their file does not have, where it is known how many rows each file has."""
    rows = table.rows_of_files()
    if rows is None and isinstance(found.source, FilesInParts) and found.source.cuts:
        sizes = Counter[int]()
        for cut in found.source.cuts:
            sizes[cut.file] += cut.rows
        rows = [sizes[k] for k in range(len(called))]
    if rows is None:
        return {}
    ends = np.cumsum([0, *rows]).tolist()
    stretches = {name: slice(*ends[k : k + 2]) for k, name in enumerate(called)}
    return {name: {f"not in {p}": stretches[p] for p in there} for name, there in lacking.items()}


def _telling_files(table: TableFiles, types: dict[str, bool], name: str) -> tuple[TableFiles, dict[str, bool]]:
    """Return files, and whether each column may be numbers, with a column more that tells the file."""
    if len(table.files) < 2:
        raise FileError(f"`{table.told}` is one file, and `{name}` would be the same in all rows; leave it out.")
    if name in types:
        raise ColumnError(
            f"The files have a column `{name}` themselves; name the column that tells the file otherwise."
        )
    told = telling(table, name, names_of_files([Path(mark.path) for mark in table.files]))
    return replace(told, whole_numbers=told.whole_numbers - {name}), {name: False, **types}


def _row_of_names(table: TableFiles, names: Sequence[str]) -> str:
    """Say that the first row of text files looks like a row of names; empty if it does not."""
    first = table.first_rows(names, _TOP_BYTES) if table.written and names else None
    if first is None:
        return ""
    cells = [
        ["" if cell is None else str(cell) for cell in column.to_pylist()] for column in first.slice(0, TOP).columns
    ]
    return names_again(
        list(zip(*cells, strict=True)),
        names,
        2,
        lambda several: f"leave {'it' if several == 1 else 'them'} out of the file",
    )


def _is_empty(column: TextsInParts | InParts | NDArray[np.float64]) -> bool:
    if isinstance(column, TextsInParts):
        return not len(column.distinct)
    return not column.facts.valid if isinstance(column, InParts) else bool(np.isnan(column).all())


def _with_unnamed(found: TableInParts, table: TableFiles) -> TableInParts:
    """Say what a column without a name is called; with neither a name nor a value it is none."""
    unnamed = [n for n in found.columns if not table.names.get(n, n).strip()]
    empty = [n for n in unnamed if _is_empty(found.columns[n])]
    if called := [n for n in unnamed if n not in empty]:
        remark(said_of_unnamed(f"`{table.told}`", called))
    return replace(found, columns={n: c for n, c in found.columns.items() if n not in empty}) if empty else found
