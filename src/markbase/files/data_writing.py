"""Data files out."""

from __future__ import annotations

import io
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path
from typing import IO, Any

import pandas as pd

from markbase.core.arguments import checked
from markbase.core.errors import FileError
from markbase.core.rows.parts import in_parts
from markbase.core.study.frames import frame_of, holds_whole_numbers
from markbase.core.study.study import Study
from markbase.files.data import EXTRAS, TEXT_SUFFIXES, need_extra
from markbase.files.text_tables import ESCAPED
from markbase.files.whole_files import Content, refuse_to_replace, write_whole

_CELLS = 2_000_000
"""So many cells are written as text at a time."""


@checked
def write_data(study: Study, path: str | Path, *, codes: bool = False, replace: bool = False) -> None:
    """Write the columns of a study to a file, for use elsewhere.

    Parameters
    ----------
    study : Study
        The study.
    path : str or Path
        The file; its ending says the kind: ``.csv``, ``.txt`` (commas), ``.tsv``, ``.tab`` (tabs), ``.xlsx``,
        ``.ods`` or ``.parquet``.
    codes : bool
        Whether groups are written by their codes instead of their labels.
    replace : bool
        Whether a file that is there may be written over.

    Raises
    ------
    FileError
        If the kind is unknown, needs an extra that is not installed, the file is there already, or
        cannot be written.

    Notes
    -----
    Numbers are written so that they read back to the last bit (``.xlsx``, as its writer has it, to 16
    digits); missing is an empty cell. A text
    that a spreadsheet would take for a formula is written behind an apostrophe in text files, which
    `open_study` takes off again, and as plain text in spreadsheets.

    Examples
    --------
    >>> import markbase as mb
    >>> import tempfile
    >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     mb.write_data(study, f"{folder}/prepared.csv", codes=True)
    """
    path = Path(path)
    refuse_to_replace(path, replace)
    write_whole(path, study_content(study, path, codes=codes))


@checked
def write_table(frame: pd.DataFrame, path: str | Path, *, replace: bool = False) -> None:
    """Write a table to a file, as `write_data` does."""
    path = Path(path)
    refuse_to_replace(path, replace)
    write_whole(path, table_content(frame, path))


def study_content(study: Study, path: Path, *, codes: bool = False) -> Content:
    """Return what a file of that name holds of a study, or what writes it there, where rows come in parts; raises as `table_content`."""
    columns = [study[name] for name in study.columns]
    if not in_parts([c.values for c in columns]):
        return table_content(study.frame(codes=codes), path)
    whole = {c.name for c in columns if not c.is_categorical and holds_whole_numbers(c)}

    def tables() -> Iterator[pd.DataFrame]:
        for part in study.parts():
            yield frame_of([part[name] for name in part.columns], codes, whole)

    return tables_content(tables, path)


def tables_content(tables: Callable[[], Iterable[pd.DataFrame]], path: Path) -> Content:
    """Return what writes tables with the same columns into a file of that name, one after the other.

    Raises
    ------
    FileError
        If that kind of file cannot be written in parts.
    """
    suffix = path.suffix.lower()
    if suffix not in (*TEXT_SUFFIXES, ".parquet"):
        raise FileError(
            f"`{path}` ends in `{path.suffix}`, which is not written in parts; there are {', '.join([*TEXT_SUFFIXES, '.parquet'])}."
        )

    def texts(stream: IO[bytes]) -> None:
        for place, table in enumerate(tables()):
            content = table_bytes(table, suffix)
            stream.write(content if place == 0 else content.partition(b"\n")[2])

    def parquet(stream: IO[bytes]) -> None:
        import pyarrow as pa
        import pyarrow.parquet as pq

        writer = None
        for table in tables():
            texts = {str(n): object for n, kind in table.dtypes.items() if not pd.api.types.is_numeric_dtype(kind)}
            made = pa.Table.from_pandas(table.astype(texts), schema=writer and writer.schema, preserve_index=False)
            if writer is None:
                writer = pq.ParquetWriter(stream, made.schema)
            writer.write_table(made)
        if writer is not None:
            writer.close()

    return texts if suffix in TEXT_SUFFIXES else parquet


def table_content(frame: pd.DataFrame, path: Path) -> bytes:
    """Return what a file of that name holds of a table; raises FileError if its kind is unknown or needs an extra that is not installed."""
    suffix = path.suffix.lower()
    if suffix not in TEXT_SUFFIXES and suffix not in EXTRAS:
        raise FileError(
            f"`{path}` ends in `{path.suffix}`, which is not written; there are {', '.join([*TEXT_SUFFIXES, *EXTRAS])}."
        )
    if suffix in EXTRAS:
        need_extra(path, suffix)
    return table_bytes(frame, suffix)


def table_bytes(frame: pd.DataFrame, suffix: str) -> bytes:
    """Return a table as the contents of a file of that kind."""
    texts = [str(name) for name, kind in frame.dtypes.items() if not pd.api.types.is_numeric_dtype(kind)]
    plain = frame.astype(dict.fromkeys(texts, object))
    if suffix in TEXT_SUFFIXES:
        plain = plain.assign(**{name: plain[name].map(_guarded, na_action="ignore") for name in texts})
        plain.columns = pd.Index([_guarded(str(name)) for name in plain.columns])
        mark = "\t" if suffix in (".tsv", ".tab") else ","
        rows = max(1_000, _CELLS // max(1, plain.shape[1]))  # of many columns pandas takes hardly any at a time
        return plain.to_csv(index=False, sep=mark, lineterminator="\n", chunksize=rows).encode()
    buffer = io.BytesIO()
    if suffix == ".parquet":
        plain.to_parquet(buffer, index=False, engine="pyarrow")
        return buffer.getvalue()
    engine: Any = "odf" if suffix == ".ods" else "openpyxl"
    with pd.ExcelWriter(buffer, engine=engine) as writer:
        plain.to_excel(writer, index=False, sheet_name="data")
        if engine == "openpyxl":
            for row in writer.sheets["data"].iter_rows():
                for cell in row:
                    if isinstance(cell.value, str):
                        cell.data_type = "s"  # a text stays a text, though it begin like a formula
    return buffer.getvalue()


def _guarded(text: Any) -> Any:
    if not isinstance(text, str) or text[:1] not in ESCAPED:
        return text
    try:
        float(text)
    except ValueError:
        return f"'{text}"
    return text
