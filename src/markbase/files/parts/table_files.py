"""Files that hold one table, read with Arrow: their batches, and the pieces that can be read apart."""

from __future__ import annotations

import gzip
import zipfile
from collections.abc import Collection, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol

import numpy as np
from numpy.typing import NDArray

from markbase.core.errors import FileError, count_noun
from markbase.core.rows.source import PART_ROWS
from markbase.core.study.codebook import code_text
from markbase.files.text_tables import ESCAPED

if TYPE_CHECKING:
    import pyarrow as pa

_BLOCK_BYTES = 1 << 23
_BUFFER_BYTES = 1 << 20
_FIRST_BYTES = 1 << 18
_AHEAD: dict[str, Any] = {"batch_size": PART_ROWS, "batch_readahead": 2, "fragment_readahead": 1}
"""How much is read ahead of what is computed with, which memory has to hold."""
_PIECE_ROWS = 1 << 20
"""Row groups are read together while they have no more rows."""
TEXT = (".csv", ".tsv", ".tab", ".txt")
FORMATS = {".parquet": "parquet", ".feather": "feather", ".arrow": "feather", **dict.fromkeys(TEXT, "csv")}
"""What each kind of file is read as."""
PACKED = (".gz", ".zip")
"""How a text file may be packed."""


class Piece(Protocol):
    """Rows that can be read apart from others."""

    @property
    def written(self) -> bool:
        """Whether every cell is a text."""

    def batches(self, names: Sequence[str], as_text: Collection[str]) -> Iterator[pa.RecordBatch]:
        """Yield the rows, at most `PART_ROWS` at a time."""


class NotNumbersError(FileError):
    """A cell of a text file that was to be a number is none."""


@dataclass(frozen=True)
class FileMark:
    """A file as it was when it was opened."""

    path: str
    """Where it is."""
    bytes: int
    """Its size."""
    changed: int
    """When it was last changed, in nanoseconds."""
    told: tuple[str | None, ...] = ()
    """What it tells of all its rows, in the order of `TableFiles.told_by_file`; None for a gap."""
    lacks: frozenset[str] = frozenset()
    """The columns of the table that it does not have, in which its rows have gaps."""
    header: tuple[str, ...] = ()
    """Of a text file its first line, the names of its columns as they stand there; empty where it has those of the table."""

    def check(self) -> None:
        """Refuse a file that is gone, or is another one now."""
        try:
            now = Path(self.path).stat()
        except OSError:
            raise FileError(
                f"`{self.path}` is not there any more; its rows are needed again, so put it back."
            ) from None
        if (now.st_size, now.st_mtime_ns) != (self.bytes, self.changed):
            raise FileError(
                f"`{self.path}` was changed after it was opened, so its rows are not the same; open it again."
            )


@dataclass(frozen=True)
class TableFiles:
    """Files of one kind that hold one table, one after the other."""

    files: tuple[FileMark, ...]
    """The files, in the order of their rows."""
    kind: str
    """``parquet``, ``feather`` or ``csv``."""
    told: str
    """What they are called."""
    names: Mapping[str, str]
    """The name in the files of each column."""
    separator: str = ","
    """What parts the cells of a text file."""
    encoding: str = "utf-8"
    """How the bytes of a text file stand for characters."""
    row_groups: tuple[int, ...] | None = None
    """Which row groups of a single Parquet file; None for all."""
    own_rows: int | None = None
    """How many rows these have."""
    nested: frozenset[str] = frozenset()
    """Columns that hold lists or records, which are not read."""
    told_by_file: tuple[str, ...] = ()
    """The columns that the files do not have: what tells a file from others, and what its folders tell."""
    whole_numbers: frozenset[str] = frozenset()
    """Those of them that are whole numbers."""
    mixed: frozenset[str] = frozenset()
    """The columns that hold numbers in some files and something else in others, which are texts."""

    @property
    def written(self) -> bool:
        """Whether every cell is a text."""
        return self.kind == "csv"

    def check(self, *marks: FileMark) -> None:
        """Refuse files that are gone, or were changed: some of them, or all."""
        for mark in marks or self.files:
            mark.check()

    def pieces(self, most: int = _PIECE_ROWS) -> list[TableFiles]:
        """Return tables that can be read apart from one another: files, and of Parquet row groups, together while their rows are no more than that."""
        alone = [replace(self, files=(mark,)) for mark in self.files]
        if self.kind != "parquet":
            return alone
        import pyarrow.parquet as pq

        found = []
        for piece in alone:
            with piece.as_they_were():
                groups = _groups_of(pq.read_metadata(piece.files[0].path))
            some: list[int] = []
            held = 0
            for k, group in enumerate(groups):
                if some and held + group.num_rows > most:
                    found.append(replace(piece, row_groups=tuple(some), own_rows=held))
                    some, held = [], 0
                some.append(k)
                held += group.num_rows
            found.append(replace(piece, row_groups=tuple(some), own_rows=held))
        return found

    @contextmanager
    def as_they_were(self, *marks: FileMark) -> Iterator[None]:
        """Refuse files that cannot be read, or are not those that were opened: some of them, or all."""
        import pyarrow as pa

        self.check(*marks)
        try:
            yield
        except MemoryError:  # Arrow's own as well
            raise
        except (pa.ArrowException, OSError, EOFError, zipfile.BadZipFile) as problem:
            self.check(*marks)
            kind = NotNumbersError if "conversion error" in str(problem) else FileError
            raise kind(f"`{self.told}` cannot be read: {plain_words(problem)}.") from None
        self.check(*marks)

    def known_rows(self) -> int | None:
        """Return how many rows there are, if the files say so."""
        if self.kind != "parquet":
            return None
        import pyarrow.parquet as pq

        return sum(int(pq.read_metadata(mark.path).num_rows) for mark in self.files)

    def rows_of_files(self) -> list[int] | None:
        """Return how many rows each file has, if the files say so."""
        if self.written:
            return None
        import pyarrow.dataset as ds

        with self.as_they_were():
            return [int(ds.dataset(mark.path, format=self.kind).count_rows()) for mark in self.files]

    def batches(self, names: Sequence[str], as_text: Collection[str]) -> Iterator[pa.RecordBatch]:
        """Yield the rows as Arrow has them, at most `PART_ROWS` at a time, with the columns in the order of the names."""
        alike = not (self.told_by_file or self.mixed or any(mark.lacks for mark in self.files))
        alone = [self] if alike else [replace(self, files=(mark,)) for mark in self.files]
        with self.as_they_were():
            for table in alone:
                own = table.in_file(names, table.files[0])
                read_as = as_text if own else self.names  # of the one that is read all the same nothing is asked
                for batch in table._batches(own, read_as):
                    whole = self.with_file(batch, names, table.files[0], as_text)
                    for at in range(0, batch.num_rows, PART_ROWS):
                        yield whole.slice(at, PART_ROWS)

    def in_file(self, names: Sequence[str], mark: FileMark) -> list[str]:
        """Return those of some columns that a file has."""
        return [name for name in names if name not in self.told_by_file and name not in mark.lacks]

    def header_of(self, mark: FileMark) -> list[str]:
        """Return the names of the columns as they stand in the first line of a text file."""
        return list(mark.header or self.names.values())

    def with_file(
        self, batch: pa.RecordBatch, names: Sequence[str], mark: FileMark, as_text: Collection[str]
    ) -> pa.RecordBatch:
        """Return rows of a file with the columns that it tells, and gaps in those that it lacks, where they are among those asked for."""
        import pyarrow as pa

        told = dict(zip(self.told_by_file, mark.told, strict=True)) | dict.fromkeys(mark.lacks)
        if (told.keys() | self.mixed).isdisjoint(names):
            return batch
        own = iter(batch.columns)  # where no other is asked for, one is read all the same
        columns = [
            (written_as_text(next(own)) if name in self.mixed else next(own)) if name not in told
            else pa.nulls(batch.num_rows) if name in mark.lacks
            else pa.repeat(self._scalar(name, told[name], as_text), batch.num_rows)
            for name in names
        ]  # fmt: skip
        return pa.RecordBatch.from_arrays(columns, names=list(names))

    def _scalar(self, name: str, value: str | None, as_text: Collection[str]) -> pa.Scalar:
        import pyarrow as pa

        if name not in self.whole_numbers or (self.written and name in as_text):
            return pa.scalar(value, pa.string())
        return pa.scalar(None if value is None else int(value), pa.int64())

    def _batches(self, names: Sequence[str], as_text: Collection[str]) -> Iterator[pa.RecordBatch]:
        import pyarrow.dataset as ds
        import pyarrow.parquet as pq
        from pyarrow import csv as pacsv

        packed = any(mark.path.lower().endswith(PACKED) for mark in self.files)
        if packed:
            read, parse, convert = self.csv_options(names, as_text)
            for mark in self.files:
                with opened(mark.path) as stream, pacsv.open_csv(stream, read, parse, convert) as reader:
                    yield from reader
            return
        paths = [mark.path for mark in self.files]
        there = names or self.in_file(list(self.names), self.files[0])[:1]
        wanted = [self.names[n] for n in there]
        if self.kind == "parquet":
            for path in paths:
                with pq.ParquetFile(path, buffer_size=_BUFFER_BYTES, pre_buffer=False) as file:  # little has to be held
                    alone = self.row_groups is not None  # then others are read at the same time
                    yield from file.iter_batches(PART_ROWS, self.row_groups, wanted, use_threads=not alone)
            return
        form: Any = self.kind
        if self.written:
            others = self.names.keys() - set(names)  # which may be anything, and are looked at as well
            read, parse, convert = self.csv_options((), {*as_text, *others})  # what is read is for the scanner to say
            form = ds.CsvFileFormat(parse, None, convert, read)
        yield from ds.dataset(paths, format=form).scanner(columns=wanted, **_AHEAD).to_batches()

    def first_rows(self, names: Sequence[str], size: int = _FIRST_BYTES) -> pa.RecordBatch | None:
        """Return the first rows of text files as texts, about so many bytes of them; None if there are none."""
        from pyarrow import csv as pacsv

        read, parse, convert = self.csv_options(self.in_file(names, self.files[0]), names)
        read.block_size = size
        try:
            with (
                self.as_they_were(),
                opened(self.files[0].path) as stream,
                pacsv.open_csv(stream, read, parse, convert) as reader,
            ):
                first = next(iter(reader), None)
        except FileError:  # a row that is longer than that, or what is said of where all rows are read
            first = None
        if first is not None and first.num_rows:
            return self.with_file(first, names, self.files[0], names)
        batches = self.batches(names, names)
        first = next(batches, None)
        batches.close()  # type: ignore[attr-defined]  # it is a generator
        return first

    def csv_options(self, names: Sequence[str], as_text: Collection[str]) -> tuple[Any, Any, Any]:
        """Return how a text file is read, parsed, and made numbers and texts of: of those columns only, or of all."""
        import pyarrow as pa
        from pyarrow import csv as pacsv

        coded = pa.dictionary(pa.int32(), pa.string())  # each text once a block, which is what is looked at
        types = {raw: coded if n in as_text else pa.float64() for n, raw in self.names.items()}
        read = pacsv.ReadOptions(block_size=_BLOCK_BYTES, encoding=self.encoding)
        parse = pacsv.ParseOptions(delimiter=self.separator, newlines_in_values=True)
        convert = pacsv.ConvertOptions(
            column_types=types,
            null_values=[""],
            strings_can_be_null=True,
            include_columns=[self.names[n] for n in names],
        )
        return read, parse, convert


def _groups_of(metadata: Any) -> list[Any]:
    return [metadata.row_group(k) for k in range(metadata.num_row_groups)]


def plain_words(problem: BaseException) -> str:
    """Return what a package says of a problem, in one line."""
    text = str(problem).splitlines()[0].strip().rstrip(".") if str(problem).strip() else "for an unknown reason"
    return text if len(text) < 300 else f"{text[:300]}…"


def opened(path: str) -> Any:
    """Open a text file, or the only one in a packed file, as bytes."""
    if path.lower().endswith(".gz"):
        return gzip.open(path, "rb")
    if not path.lower().endswith(".zip"):
        return Path(path).open("rb")
    packed = zipfile.ZipFile(path)
    inside = [n for n in packed.namelist() if n.lower().endswith(TEXT)]
    if len(inside) != 1:
        raise FileError(f"`{path}` holds {count_noun(len(inside), 'table')}; one CSV or TSV file in it is read.")
    return packed.open(inside[0])


def numbers_of(column: pa.Array) -> NDArray[np.float64]:
    """Return a column of numbers as floats, NaN where blank."""
    import pyarrow as pa

    if pa.types.is_duration(column.type):
        seconds: NDArray[np.float64] = column.to_numpy(zero_copy_only=False) / np.timedelta64(1, "s")
        return seconds
    if not pa.types.is_float64(column.type):
        column = column.cast(pa.float64(), safe=False)
    found: NDArray[np.float64] = column.to_numpy(zero_copy_only=False)
    return found


def written_as_text(column: pa.Array) -> pa.Array:
    """Return a column as texts, numbers as a file of text would have them."""
    import pyarrow as pa

    if pa.types.is_null(column.type):
        return column
    coded = encoded(column)
    values = plain_values(coded.dictionary)
    if pa.types.is_floating(values.type):
        values = pa.array([code_text(value) for value in values.to_pylist()], pa.string())
    return values.take(coded.indices)


def as_texts(column: pa.Array) -> pa.Array:
    """Return texts without what was written to keep them from being taken for formulas, their line ends as those of any system."""
    import pyarrow as pa
    import pyarrow.compute as pc

    if pa.types.is_null(column.type):
        return column
    if pa.types.is_dictionary(column.type):
        return pa.DictionaryArray.from_arrays(column.indices, as_texts(column.dictionary))
    marked = "^'([" + "".join(f"\\{mark}" if mark in "+-=@" else mark for mark in ESCAPED) + "])"
    if pc.any(pc.match_substring(column, "\r")).as_py():
        column = pc.replace_substring_regex(column, "\r\n?", "\n")
    if not pc.any(pc.starts_with(column, "'")).as_py():
        return column
    return pc.replace_substring_regex(column, marked, r"\1")


def places_in(column: pa.Array, distinct: pa.Array) -> NDArray[np.int32]:
    """Return which of some distinct values each row has, −1 where blank."""
    import pyarrow as pa
    import pyarrow.compute as pc

    if pa.types.is_null(column.type):
        return np.full(len(column), -1, dtype=np.int32)
    coded = encoded(column)
    codes = codes_of(coded).astype(np.int32, copy=False)
    values = plain_values(coded.dictionary)
    if values.equals(distinct) or not len(values):
        return codes
    known = pc.index_in(values, distinct).fill_null(-1).to_numpy(zero_copy_only=False)
    return np.append(known, -1).astype(np.int32)[codes]


def encoded(column: pa.Array) -> pa.DictionaryArray:
    """Return a column by its distinct values, of which what is no number is none."""
    import pyarrow as pa
    import pyarrow.compute as pc

    if pa.types.is_floating(column.type):
        column = pc.if_else(pc.is_nan(column), pa.scalar(None, column.type), column)
    return column if pa.types.is_dictionary(column.type) else column.dictionary_encode()


def codes_of(coded: pa.DictionaryArray) -> NDArray[np.integer]:
    """Return which of its distinct values each row has, −1 where blank."""
    indices = coded.indices if not coded.indices.null_count else coded.indices.fill_null(-1)
    codes: NDArray[np.integer] = indices.to_numpy(zero_copy_only=False)
    return codes


def plain_values(values: pa.Array) -> pa.Array:
    """Return distinct values as texts, or as the real numbers they are; whole ones have all their digits as texts only."""
    import pyarrow as pa

    kind = values.type
    if pa.types.is_duration(kind):
        return pa.array(numbers_of(values))
    if pa.types.is_floating(kind):  # those of fewer digits are what these say, not what they are rounded to
        own = values.to_numpy(zero_copy_only=False)
        return values if pa.types.is_float64(kind) else pa.array([float(str(v)) for v in own], pa.float64())
    if pa.types.is_boolean(kind):
        import pyarrow.compute as pc

        return pc.if_else(values, pa.scalar("True"), pa.scalar("False"))
    if pa.types.is_timestamp(kind) or pa.types.is_time(kind):
        return _moments(values.cast(pa.string()))
    return values.cast(pa.string())


_MOMENTS = (
    (r"(\.\d*[1-9])0+(Z|[+-]\d{4})?$", r"\1\2"),
    (r"\.0+(Z|[+-]\d{4})?$", r"\1"),
    (r"Z$", "+0000"),
    (r"([+-]\d{2})(\d{2})$", r"\1:\2"),
    (r" 00:00:00$", ""),
    (r"^(\S+) ", r"\1T"),
)
"""What makes of moments as Arrow writes them those of ISO 8601 that `code_text` writes."""


def _moments(texts: pa.Array) -> pa.Array:
    import pyarrow.compute as pc

    for pattern, replacement in _MOMENTS:
        texts = pc.replace_substring_regex(texts, pattern, replacement)
    return texts
