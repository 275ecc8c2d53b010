"""The one look over all rows that comes before everything else: which columns are numbers, which values the others have."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from functools import partial
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from markbase.core.errors import FileError, count_noun, listed, quoted, remark
from markbase.core.rows.parts import InParts
from markbase.core.rows.processors import in_order
from markbase.core.rows.source import Part, RowSource
from markbase.core.rows.table import AllRows, KeptRows, TableInParts, TextsInParts
from markbase.core.study.codebook import Codebook, ColumnSpec
from markbase.core.study.column_types import no_column_of
from markbase.core.study.written_numbers import sets_thousands_apart
from markbase.files.parts.files_in_parts import FilesInParts, pieces_at_once
from markbase.files.parts.found_columns import MOST_TEXTS, Numbers, Texts
from markbase.files.parts.table_files import (
    NotNumbersError,
    Piece,
    TableFiles,
    as_texts,
    encoded,
)
from markbase.files.parts.text_blocks import Cut, TextBlock, UncutError, cut_into_blocks

if TYPE_CHECKING:
    import pyarrow as pa

Progress = Callable[[int, "int | None"], None]
PLACE_BITS = 40
"""No piece or file begins so far behind others that a number of so many bits does not tell it."""


@dataclass
class Look:
    """What a look over some rows leaves behind."""

    columns: Mapping[str, Numbers | Texts]
    """What was found in each column."""
    kept: Any = field(default_factory=KeptRows)
    """The rows that are kept: some (`KeptRows`), or all of them (`AllRows`)."""
    rows: int = 0
    """How many rows there were."""
    blank: int = 0
    """How many of them held no value, where blocks of text files were looked over."""
    sizes: list[int] = field(default_factory=list)
    """How many rows each piece had, where pieces were looked over."""
    cuts: tuple[Cut, ...] = ()
    """The blocks of text files, where they could be cut."""

    def over(self, batches: Iterable[pa.RecordBatch], written: bool, told: Callable[[int], None] | None = None) -> Look:
        """Look over batches of rows, several at the same time."""
        return self._over(in_order(partial(self._looked, written), batches), told)

    def over_piece(self, piece: Piece, as_text: Collection[str] | None = None, place: int = 0) -> Look:
        """Look over a piece, one batch after the other; its place tells it from others in what is kept at random."""
        batches = piece.batches(list(self.columns), self.columns if as_text is None else as_text)
        return self._over(map(partial(self._looked, piece.written), batches), None, place)

    def over_pieces(
        self, pieces: Iterable[tuple[Piece, int]], as_text: Collection[str], told: Callable[[int], None] | None = None
    ) -> Look:
        """Look over pieces, each with its place, several at the same time."""

        def over(given: tuple[Piece, int]) -> Look:
            piece, place = given
            found = self._emptied().over_piece(piece, as_text, place)
            if isinstance(piece, TextBlock):
                own = piece.table.in_file(list(found.columns), piece.table.files[piece.cut.file])
                if all(found.columns[name].has_gaps for name in own):
                    found.blank = piece.blank_rows()
            return found

        for found in in_order(over, pieces):
            self.merge(found)
            self.sizes.append(found.rows)
            if told is not None:
                told(self.rows)
        return self

    def _emptied(self) -> Look:
        return Look({n: c.emptied for n, c in self.columns.items()}, self.kept.emptied)

    def _looked(self, written: bool, batch: pa.RecordBatch) -> tuple[int, list[Any]]:
        import pyarrow as pa

        texts = [written and pa.types.is_dictionary(column.type) for column in batch.columns]
        columns = [as_texts(column) if text else column for column, text in zip(batch.columns, texts, strict=True)]
        seen: list[Any] = []
        for (name, look), column in zip(self.columns.items(), columns, strict=True):
            try:
                seen.append(look.look_at(column))
            except pa.ArrowInvalid:
                raise no_column_of(name, str(column.type)) from None
        return batch.num_rows, seen

    def _over(
        self, looked: Iterable[tuple[int, list[Any]]], told: Callable[[int], None] | None, place: int = 0
    ) -> Look:
        for size, seen in looked:
            values: dict[str, NDArray[Any]] = {}
            for (name, look), found in zip(self.columns.items(), seen, strict=True):
                taken = look.take(found, self.rows)
                if taken is not None:
                    values[name] = taken
            self.kept.take(self.rows, values, size, place)
            self.rows += size
            if told is not None:
                told(self.rows)
        return self

    def merge(self, other: Look) -> None:
        """Join it with that of the rows that follow."""
        places = {n: look.merge(other.columns[n], self.rows) for n, look in self.columns.items()}  # type: ignore[arg-type]
        values = {n: v if (at := places[n]) is None else at[v] for n, v in other.kept.columns.items()}
        self.kept.merge(other.kept, values, self.rows)
        self.rows, self.blank = self.rows + other.rows, self.blank + other.blank


def columns_to_look_at(names: Mapping[str, bool], book: Codebook, written: bool) -> dict[str, Numbers | Texts]:
    """Return what is to be found in each column: of those that may be numbers, numbers, if the codebook does not say otherwise."""
    specs = {name: book.columns.get(name, ColumnSpec(name)) for name in names}
    return {
        name: Numbers(written) if names[name] and not _is_grouped(spec) else Texts(written)
        for name, spec in specs.items()
    }


def fresh_columns(columns: Mapping[str, Numbers | Texts]) -> dict[str, Numbers | Texts]:
    """Return the same with nothing found yet."""
    return {n: type(c)(c.written) for n, c in columns.items()}


def _is_grouped(spec: ColumnSpec) -> bool:
    return spec.kind in ("categorical", "ordinal") or bool(spec.base or spec.levels)


def looked_twice(columns: Mapping[str, Numbers | Texts], look: Callable[[Mapping[str, Numbers | Texts]], Look]) -> Look:
    """Look, and once more at those columns that seemed to be numbers at first, and are not."""
    first = look(columns)
    again: dict[str, Numbers | Texts] = {
        name: Texts(found.written) for name, found in first.columns.items() if found.failed
    }
    if not again:
        return first
    second = look(again)
    first.columns = {**first.columns, **second.columns}
    first.kept.join(second.kept)
    return first


def table_of_look(look: Look, source_of: Callable[[Mapping[str, pa.Array], int, Part], RowSource]) -> TableInParts:
    """Return the table that a look has been over, of a source that is told the distinct values, how many rows there are, and those kept."""
    import pyarrow as pa

    full = [n for n, found in look.columns.items() if isinstance(found, Texts) and found.many]
    if full:
        remark(
            f"{listed(quoted(full))} {'has' if len(full) == 1 else 'have'} more than {MOST_TEXTS:,} different values, which are not held "
            f"where rows come in parts: left out of the study."
        )
    kinds = {n: found for n, found in look.columns.items() if n not in full}
    texts = {n: pa.array(list(found.places)) for n, found in kinds.items() if isinstance(found, Texts)}
    kept = {n: look.kept.columns.get(n, np.zeros(0)) for n in kinds}
    source = source_of(texts, look.rows, Part(0, len(look.kept.rows), kept, look.kept.rows))
    columns: dict[str, InParts | TextsInParts] = {}
    for name, found in kinds.items():
        if isinstance(found, Numbers):
            columns[name] = InParts.column(source, name, np.float64, found.facts)
        else:
            places = InParts.column(source, name, np.int32)
            columns[name] = TextsInParts(
                places, list(found.places), found.counts, found.firsts, found.categories, found.ordered
            )
    return TableInParts(
        source, columns, frozenset(n for n, found in kinds.items() if isinstance(found, Numbers) and found.durations)
    )


def _as_first_rows_have_it(table: TableFiles, columns: Mapping[str, Numbers | Texts]) -> dict[str, Numbers | Texts]:
    """Return what is to be found in each column, texts where the first rows hold what is no number."""
    names = list(columns)
    first = table.first_rows(names)
    if first is None:
        return fresh_columns(columns)
    seen = dict(zip(names, first.columns, strict=True))
    return {
        n: Numbers(True) if isinstance(c, Numbers) and _plain_numbers(c, seen[n]) else Texts(True)
        for n, c in columns.items()
    }


def _plain_numbers(look: Numbers, column: pa.Array) -> bool:
    """Return whether texts are numbers as programs write them, their points before decimals."""
    texts = [text for text in encoded(column).dictionary.to_pylist() if text]
    return look.look_at(column) is not None and not sets_thousands_apart(texts, ".")


def _look_over(
    table: TableFiles, columns: Mapping[str, Numbers | Texts], kept: Any, told: Callable[[int], None] | None = None
) -> Look:
    """Look over files: their pieces at the same time if they have some, otherwise one batch after the other."""
    names = list(columns)
    if not table.written:
        pieces = pieces_at_once(table)
        if not pieces:
            return Look(columns, kept).over(table.batches(names, columns), False, told)
        places = np.cumsum([0, *(piece.own_rows or 0 for piece in pieces[:-1])]).tolist()
        return Look(columns, kept).over_pieces(zip(pieces, places, strict=True), columns, told)
    if any(isinstance(found, Numbers) for found in columns.values()):
        try:  # what the first rows have as numbers is read as numbers, which is quicker
            hopeful = _as_first_rows_have_it(table, columns)
            texts = {name for name, found in hopeful.items() if isinstance(found, Texts)}
            return _over_text(table, hopeful, texts, kept, told)
        except NotNumbersError:
            columns = fresh_columns(columns)
    return _over_text(table, columns, columns, kept.emptied, told)


def _over_text(
    table: TableFiles,
    columns: Mapping[str, Numbers | Texts],
    as_text: Collection[str],
    kept: Any,
    told: Callable[[int], None] | None,
) -> Look:
    for broken_lines in (False, True):
        cuts: list[Cut] = []
        try:
            look = Look(fresh_columns(columns), kept.emptied)
            look.over_pieces(_blocks_with_places(table, broken_lines, cuts), as_text, told)
        except NotNumbersError:
            raise
        except UncutError:
            continue
        except FileError:  # of an error in a block it is not known in which row it is
            break
        look.cuts = tuple(replace(cut, rows=rows) for cut, rows in zip(cuts, look.sizes, strict=True))
        return look
    batches = table.batches(list(columns), as_text)
    return Look(fresh_columns(columns), kept.emptied).over(batches, True, told)


def _blocks_with_places(table: TableFiles, broken_lines: bool, cuts: list[Cut]) -> Iterator[tuple[Piece, int]]:
    """Yield the blocks of text files, each with its place, and write down where they were cut."""
    for block in cut_into_blocks(table, broken_lines):
        cuts.append(block.cut)
        yield block, (block.cut.file << PLACE_BITS) + block.cut.start


def table_in_memory(table: TableFiles, types: Mapping[str, bool], book: Codebook) -> TableInParts:
    """Read all rows of text files into memory, numbers as such and other columns by their distinct values."""
    found = looked_twice(
        columns_to_look_at(types, book, table.written), lambda columns: _look_over(table, columns, AllRows())
    )
    if not found.rows or any(isinstance(c, Texts) and c.many for c in found.columns.values()):
        raise FileError(f"`{table.told}` is not read at once.")  # it is told, or read, by what reads every file
    values = found.kept.columns
    columns: dict[str, NDArray[np.float64] | TextsInParts] = {
        name: values[name] if isinstance(c, Numbers) else TextsInParts(values[name], list(c.places), c.counts, c.firsts)
        for name, c in found.columns.items()
    }
    return TableInParts(None, columns)


def table_of_files(
    table: TableFiles, types: Mapping[str, bool], book: Codebook, progress: Progress | None
) -> TableInParts:
    """Look once over files that are then read a part at a time: numbers with what is known of them, other columns by distinct values.

    `types` says which columns may be numbers; of columns declared categorical, the distinct values are needed.
    """
    whole = table.known_rows() if progress is not None else None

    def look(columns: Mapping[str, Numbers | Texts]) -> Look:
        told = None if progress is None else lambda rows: progress(rows, whole)
        return _look_over(table, columns, KeptRows(len(types)), told)

    found = looked_twice(columns_to_look_at(types, book, table.written), look)
    if found.blank:
        remark(
            f"`{table.told}`: {count_noun(found.blank, 'row')} without any value; where rows come in parts such rows count, and steps that fill "
            f"blanks fill them: leave them out of the file."
        )
    return table_of_look(
        found,
        lambda texts, rows, kept: FilesInParts(
            name=table.told, rows=rows, kept=kept, table=table, texts=texts, cuts=found.cuts
        ),
    )
