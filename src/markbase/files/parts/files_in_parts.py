"""The rows of files of any size, a part at a time."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property, partial
from typing import TYPE_CHECKING, TypeVar

import numpy as np

from markbase.core.rows.processors import PROCESSORS, in_order
from markbase.core.rows.source import PART_ROWS, Part, RowSource
from markbase.files.parts.table_files import Piece, TableFiles, as_texts, numbers_of, places_in
from markbase.files.parts.text_blocks import Cut, blocks_at

if TYPE_CHECKING:
    import pyarrow as pa

S = TypeVar("S")
T = TypeVar("T")
_MOST_AT_ONCE = 1 << 21
"""Row groups with more rows than this are read one after the other."""
_FEW_ROWS = 1 << 14
"""Rows that are read sooner than threads are started."""


@dataclass(frozen=True, kw_only=True)
class FilesInParts(RowSource):
    """The rows of files, read one part after the other."""

    table: TableFiles
    """The files."""
    texts: Mapping[str, pa.Array]
    """The distinct values of each column that is told by them."""
    cuts: tuple[Cut, ...] = ()
    """The blocks of text files; none where they are not cut."""

    def run(self, function: Callable[[Part], T], names: Sequence[str]) -> Iterator[T]:
        """Apply a function to every part; pieces are read, and computed with, at the same time where there are several."""
        sizes = self._sizes
        if not sizes:
            yield from self.held(function, names)
            return
        make = self._maker(names)

        def over(given: tuple[Piece, int]) -> list[T]:
            piece, start = given
            return [function(make(batch)) for batch in placed(piece.batches(names, self.texts), start)]

        pieces: Iterable[Piece] = blocks_at(self.table, self.cuts) if self.cuts else self._pieces
        starts = np.cumsum([0, *sizes[:-1]]).tolist()
        for results in self._each(over, zip(pieces, starts, strict=True)):
            yield from results

    def held(self, function: Callable[[Part], T], names: Sequence[str]) -> Iterator[T]:
        """Apply a function to every part, which are read one after the other; they are the same parts."""
        make = self._maker(names)
        pieces: Iterable[Piece] = blocks_at(self.table, self.cuts) if self.cuts else self._pieces or [self.table]
        batches = (batch for piece in pieces for batch in piece.batches(names, self.texts))
        yield from self._each(lambda given: function(make(given)), placed(batches))

    @property
    def _each(self) -> Callable[[Callable[[S], T], Iterable[S]], Iterator[T]]:
        return map if self.rows <= _FEW_ROWS else in_order

    def _maker(self, names: Sequence[str]) -> Callable[[tuple[int, pa.RecordBatch]], Part]:
        return partial(part_of, names=names, texts=self.texts, written=self.table.written)

    @cached_property
    def _pieces(self) -> list[TableFiles]:
        return pieces_at_once(self.table)

    @property
    def _sizes(self) -> tuple[int, ...]:
        """The rows of each piece; empty where pieces are not read at the same time."""
        return tuple(cut.rows for cut in self.cuts) or tuple(piece.own_rows or 0 for piece in self._pieces)


def pieces_at_once(table: TableFiles) -> list[TableFiles]:
    """Return the pieces of Parquet files; none where they are too few, or so large that many results would wait."""
    pieces = table.pieces(PART_ROWS) if table.kind == "parquet" else []
    few = len(pieces) < 2 * PROCESSORS or max(piece.own_rows or 0 for piece in pieces) > _MOST_AT_ONCE
    return [] if few else pieces


def placed(batches: Iterable[pa.RecordBatch], start: int = 0) -> Iterator[tuple[int, pa.RecordBatch]]:
    """Yield batches, each with how many rows come before it."""
    for batch in batches:
        yield start, batch
        start += batch.num_rows


def part_of(
    given: tuple[int, pa.RecordBatch], names: Sequence[str], texts: Mapping[str, pa.Array], written: bool
) -> Part:
    """Return a batch as a part: numbers as they are, other columns as places among their distinct values."""
    start, batch = given
    columns = {
        name: places_in(as_texts(column) if written else column, texts[name]) if name in texts else numbers_of(column)
        for name, column in zip(names, batch.columns, strict=False)
    }
    return Part(start, batch.num_rows, columns)
