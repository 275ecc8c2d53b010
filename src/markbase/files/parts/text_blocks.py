"""Text files cut into blocks of whole rows, which are parsed at the same time."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass
from itertools import groupby
from typing import TYPE_CHECKING, Any

import numpy as np

from markbase.core.rows.source import PART_ROWS
from markbase.files.parts.table_files import TableFiles, opened
from markbase.files.text_tables import blank_rows

if TYPE_CHECKING:
    import pyarrow as pa

_BLOCK_BYTES, _COLUMNS, _MOST_TIMES = 1 << 22, 200, 8
"""How large a block is: of more columns so many times as much, since what each block tells of a column is joined with the others."""
_MOST_BYTES = 1 << 26
"""A row that has not ended after so many bytes is looked for no further."""
_TAIL_BYTES = 1 << 16
"""The end of the last row is looked for here first."""
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
    known: bool = True
    """Whether its line ends are known to be those of rows; if not, this is made sure of."""
    broken_lines: bool = False
    """Whether line ends stand within cells."""

    @property
    def written(self) -> bool:
        """Every cell is a text."""
        return True

    def batches(self, names: Sequence[str], as_text: Collection[str]) -> Iterator[pa.RecordBatch]:
        """Yield the rows, at most `PART_ROWS` at a time."""
        import pyarrow as pa
        from pyarrow import csv as pacsv

        mark, rows = self.table.files[self.cut.file], 0
        try:
            with self.table.as_they_were(mark):
                own = self.table.in_file(names, mark)
                kinds = as_text if own else self.table.names
                there = own or self.table.in_file(list(self.table.names), mark)[:1]
                read, parse, convert = self.table.csv_options(there, kinds)
                read.use_threads, read.block_size = False, self.data.size + 1
                read.column_names = self.table.header_of(mark)
                whole = pacsv.read_csv(pa.BufferReader(self.data), read, parse, convert)
            rows = whole.num_rows
        finally:
            if not self.known:
                _check_quotes(_unsure(self.data, rows), self.table.separator.encode())
        for batch in whole.to_batches(PART_ROWS):
            yield self.table.with_file(batch, names, mark, as_text)

    def blank_rows(self) -> int:
        """Count the rows that hold no value; none are where lines are broken."""
        data = b"" if self.broken_lines else self.data.to_pybytes()
        return blank_rows(data, self.table.separator, len(self.table.header_of(self.table.files[self.cut.file])))


def cut_into_blocks(table: TableFiles, broken_lines: bool = False) -> Iterator[TextBlock]:
    """Cut text files into blocks of whole rows; every quote in them is to begin or end a cell, or stand for itself within one.

    With `broken_lines` a line end is that of a row if as many quotes have opened as have closed before it: line ends stand
    within cells. Where none do every line end is that of a row, and the block before the first that is not has an odd
    number of quotes. Raises an `UncutError` if the files cannot be cut: a quote stands elsewhere (told by the block, when
    its rows are asked for), or bytes of the encoding stand for more than one character.
    """
    if table.encoding.lower().replace("-", "").replace("_", "") not in _PLAIN:
        raise UncutError
    size = _BLOCK_BYTES * min(max(len(table.names) // _COLUMNS, 1), _MOST_TIMES)
    with table.as_they_were():
        for number, mark in enumerate(table.files):
            with opened(mark.path) as stream:
                start = 0
                for rows, end in _whole_rows(stream, broken_lines, size):
                    skipped = 0
                    if not start:
                        skipped = _names_end(rows.slice(0, end).to_pybytes(), table.separator.encode())
                    if end > skipped:
                        cut = Cut(number, start + skipped, end - skipped)
                        data = rows.slice(skipped, cut.size)
                        yield TextBlock(table, cut, data, known=False, broken_lines=broken_lines)
                    start += end


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


def _whole_rows(stream: Any, broken_lines: bool, block: int) -> Iterator[tuple[pa.Buffer, int]]:
    """Yield about so many bytes, and where the last whole row in them ends."""
    import pyarrow as pa

    rest = b""
    while True:
        rows = pa.allocate_buffer(len(rest) + block)  # Arrow gives the same memory again
        room = memoryview(rows).cast("B")
        size = len(rest)
        room[:size] = rest
        while size < len(room) and (more := stream.readinto(room[size:])):
            size += more
        if size == len(rest):
            break
        end = _last_row_end(room[:size], broken_lines)
        if end:
            yield rows, end
        elif size > _MOST_BYTES:
            raise UncutError
        rest = bytes(room[end:size])
    if rest:
        yield pa.py_buffer(rest), len(rest)


def _names_end(rows: bytes, separator: bytes) -> int:
    """Return where the line of the names ends."""
    start = len(_MARK) if rows.startswith(_MARK) else 0
    end = rows.find(b"\n", start) + 1
    while end and rows.count(_QUOTE, start, end) % 2:
        end = rows.find(b"\n", end) + 1
    names = rows[start : end or len(rows)]
    if not names.strip() or b"\r" in names.strip():  # line ends of another kind
        raise UncutError
    _check_quotes(names, separator)
    return end or len(rows)


def _last_row_end(room: memoryview, broken_lines: bool) -> int:
    """Return where the last whole row ends, 0 if none does."""
    rows = bytes(room if broken_lines else room[-_TAIL_BYTES:])
    if b"\n" not in rows:
        rows = bytes(room)
    end = rows.rfind(b"\n") + 1
    quotes = rows.count(_QUOTE, 0, end) if broken_lines else 0
    while end and quotes % 2:
        before = rows.rfind(b"\n", 0, end - 1) + 1
        quotes -= rows.count(_QUOTE, before, end)
        end = before
    return end + len(room) - len(rows) if end else 0


def _unsure(data: pa.Buffer, rows: int) -> pa.Buffer:
    """Return what has to be looked at to know that every line end ended one of so many rows.

    As many rows as line ends of one byte: none of these is within a cell, but the last may be, if the data end there.
    """
    own = np.frombuffer(data, dtype=np.uint8)
    lines = int(np.count_nonzero(own <= ord("\r"))) + int(own[-1] != ord("\n"))
    if lines != rows:
        return data
    tail = bytes(own[-_TAIL_BYTES:])
    before = tail.rfind(b"\n", 0, -1)
    return data.slice(len(own) - len(tail) + before + 1) if before >= 0 else data


def _check_quotes(rows: Any, separator: bytes) -> None:
    own = np.frombuffer(rows, dtype=np.uint8)
    quotes = np.flatnonzero(own == ord(_QUOTE))
    if len(quotes) % 2:
        raise UncutError
    if not len(quotes):
        return
    beside = np.zeros(256, dtype=bool)
    beside[list(separator + _QUOTE + b"\r\n")] = True
    opens = beside.take(own.take(quotes[::2] - 1, mode="clip"))  # what opens or closes all of them stands beside itself
    closes = beside.take(own.take(quotes[1::2] + 1, mode="clip"))
    if not (opens.all() and closes.all()):
        raise UncutError
