"""Opening data whose rows come in parts: on this machine, or on a cluster."""

from __future__ import annotations

from pathlib import Path

from markbase.core.errors import FileError, MarkbaseError
from markbase.core.rows.table import TableInParts
from markbase.core.study.codebook import Codebook
from markbase.files.parts.first_look import Progress, table_in_memory, table_of_files
from markbase.files.parts.paths import described
from markbase.files.parts.table_files import plain_words


def quickly_read(path: Path, book: Codebook, encoding: str) -> TableInParts | None:
    """Read a large text file into memory with Arrow; None where that is not possible, so that it is read, or refused, cell by cell."""
    try:
        table, types = described(path, encoding)
        return table_in_memory(table, types, book)
    except (MarkbaseError, ImportError):  # a pyarrow that does not go with this NumPy is as good as none
        return None


def table_in_parts(
    path: str | Path,
    book: Codebook,
    *,
    encoding: str = "utf-8",
    progress: Progress | None = None,
    cluster: str | None = None,
) -> TableInParts:
    """Look once over files whose rows are then read a part at a time.

    Parameters
    ----------
    path : str or Path
        A file, a pattern of names such as ``register/*.parquet``, or a folder.
    book : Codebook
        What is known of the columns.
    encoding : str
        How the bytes of a text file stand for characters.
    progress : callable, optional
        Told how many rows are done, and of how many if that is known.
    cluster : str, optional
        The address of a scheduler whose workers read the parts.

    Returns
    -------
    TableInParts
        To make a study of.

    Raises
    ------
    FileError
        If there is no such file, files differ in kind or columns, one cannot be read, or the cluster does not answer.
    """
    try:
        table, types = described(path, encoding)
    except ImportError as problem:
        raise FileError(f"`{path}` cannot be read in parts: {plain_words(problem)}.") from None
    if cluster is None:
        found = table_of_files(table, types, book, progress)
    else:
        from markbase.files.parts.cluster import table_of_files_on_cluster

        found = table_of_files_on_cluster(table, types, book, cluster, progress)
    if found.source is not None and not found.source.rows:
        raise FileError(f"`{table.told}` has column names but no rows.")
    return found
