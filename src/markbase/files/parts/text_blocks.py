"""Text files cut into blocks of whole rows, which are parsed at the same time."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass
from itertools import groupby
from typing import IO, TYPE_CHECKING

import numpy as np

from markbase.core.rows.source import PART_ROWS
from markbase.files.parts.table_files import TableFiles, opened

if TYPE_CHECKING:
    import pyarrow as pa

_BLOCK_BYTES = 1 << 22
_MOST_BYTES = 1 << 26
"""A row that has not ended after so many bytes is looked for no further."""
_QUOTE, _MARK = b'"', b"\xef\xbb\xbf"
_PLAIN = ("utf8", "ascii", "latin1", "iso88591", "cp1252", "windows1252")
"""In these, the bytes of a separator, a quote and a line end stand for nothing else."""


class UncutError(Exception):
    """The rows of a file can only be told apart by parsing it from its start."""


@dataclass(frozen=True)
class Cut:
    """Where a block is, as it was found."""

    file: int
    """In which of the files."""
    start: int
    """How many bytes of the file come before."""
    size: int
    """How many bytes it has."""
    rows: int = 0
    """How many rows."""


@dataclass(frozen=True)
class TextBlock:
    """Whole rows of a text file."""

    table: TableFiles
    """What the file is one of."""
    cut: Cut
    """Where it is."""
    data: pa.Buffer
    """The rows, without the line of the names."""

    @property
    def written(self) -> bool:
        """Every cell is a text."""
        return True

    def batches(self, names: Sequence[str], as_text: Collection[str]) -> Iterator[pa.RecordBatch]:
        """Yield the rows, at most `PART_ROWS` at a time."""
        import pyarrow as pa
        from pyarrow import csv as pacsv

        raw = list(self.table.names.values())
        with self.table.as_they_were():
            read, parse, convert = self.table.csv_options(names or [next(iter(self.table.names))], as_text)
            read.use_threads, read.block_size, read.column_names = False, self.data.size + 1, raw
            whole = pacsv.read_csv(pa.BufferReader(self.data), read, parse, convert)
        yield from whole.to_batches(PART_ROWS)


def cut_into_blocks(table: TableFiles) -> Iterator[TextBlock]:
    """Cut text files into blocks of whole rows.

    Parameters
    ----------
    table : TableFiles
        The files.

    Yields
    ------
    TextBlock
        The next rows. Every quote in them begins or ends a cell, or stands for itself within one: then a line end is that of a row
        if as many quotes have opened as have closed before it.

    Raises
    ------
    UncutError
        If the files cannot be cut: a quote stands elsewhere, or bytes of the encoding stand for more than one character.
    """
    import pyarrow as pa

    if table.encoding.lower().replace("-", "").replace("_", "") not in _PLAIN:
        raise UncutError
    with table.as_they_were():
        for number, mark in enumerate(table.files):
            with opened(mark.path) as stream:
                start = 0
                for rows in _whole_rows(stream):
                    skipped = len(_MARK) if not start and rows.startswith(_MARK) else 0
                    _check_quotes(rows[skipped:], table.separator.encode())
                    if not start:
                        skipped = _row_end(rows, skipped)
                        names = rows[:skipped].strip()
                        if not names or b"\r" in names:  # line ends of another kind
                            raise UncutError
                    if len(rows) > skipped:
                        cut = Cut(number, start + skipped, len(rows) - skipped)
                        yield TextBlock(table, cut, pa.py_buffer(rows).slice(skipped))
                    start += len(rows)


def blocks_at(table: TableFiles, cuts: Sequence[Cut]) -> Iterator[TextBlock]:
    """Yield the same blocks once more."""
    import pyarrow as pa

    with table.as_they_were():
        for number, own in groupby(cuts, key=lambda cut: cut.file):
            with opened(table.files[number].path) as stream:
                at = 0
                for cut in own:
                    stream.read(cut.start - at)
                    yield TextBlock(table, cut, pa.py_buffer(stream.read(cut.size)))
                    at = cut.start + cut.size


def _whole_rows(stream: IO[bytes]) -> Iterator[bytes]:
    rest = b""
    while more := stream.read(_BLOCK_BYTES):
        rest += more
        end = _last_row_end(rest)
        if end:
            yield rest[:end]
            rest = rest[end:]
        elif len(rest) > _MOST_BYTES:
            raise UncutError
    if rest:
        yield rest


def _row_end(rows: bytes, start: int) -> int:
    """Return where the first row ends."""
    end = rows.find(b"\n", start) + 1
    while end and rows.count(_QUOTE, start, end) % 2:
        end = rows.find(b"\n", end) + 1
    return end or len(rows)


def _last_row_end(rows: bytes) -> int:
    """Return where the last whole row ends, 0 if none does."""
    end = rows.rfind(b"\n") + 1
    quotes = rows.count(_QUOTE, 0, end)
    while end and quotes % 2:
        before = rows.rfind(b"\n", 0, end - 1) + 1
        quotes -= rows.count(_QUOTE, before, end)
        end = before
    return end


def _check_quotes(rows: bytes, separator: bytes) -> None:
    own = np.frombuffer(rows, dtype=np.uint8)
    quotes = np.flatnonzero(own == ord(_QUOTE))
    if len(quotes) % 2:
        raise UncutError
    beside = np.zeros(256, dtype=bool)
    beside[list(separator + _QUOTE + b"\r\n")] = True
    opening, closing = quotes[::2], quotes[1::2]
    opens = beside[own[np.maximum(opening - 1, 0)]] | (opening == 0)
    closes = beside[own[np.minimum(closing + 1, len(own) - 1)]]
    if not (opens.all() and closes.all()):
        raise UncutError
