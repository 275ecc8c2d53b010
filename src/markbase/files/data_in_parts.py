"""Data files of any size, read a part at a time with Arrow: a file, a pattern of names or a folder."""

from __future__ import annotations

import csv
import glob
import gzip
import io
import zipfile
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import numpy as np
from numpy.typing import NDArray

from markbase.core.errors import ColumnError, FileError, count_noun, listed, near, quoted
from markbase.core.rows.facts import NumberFacts
from markbase.core.rows.parts import InParts
from markbase.core.rows.source import PART_ROWS, Part, RowSource
from markbase.core.rows.table import KeptRows, TableInParts, TextsInParts
from markbase.core.study.codebook import Codebook, ColumnSpec
from markbase.files.data import ESCAPED, checked_names, separator_of
from markbase.files.whole_files import note_input

if TYPE_CHECKING:
    import pyarrow as pa
    import pyarrow.dataset as ds

T = TypeVar("T")
Progress = Callable[[int, "int | None"], None]
MOST_TEXTS = 1_000_000
"""A column with more distinct texts is not held."""
_BLOCK_BYTES = 1 << 23
_TEXT = (".csv", ".tsv", ".tab", ".txt")
_FORMATS = {".parquet": "parquet", ".feather": "feather", ".arrow": "feather", **dict.fromkeys(_TEXT, "csv")}
_PACKED = (".gz", ".zip")


@dataclass(frozen=True)
class FileMark:
    """A file as it was when it was opened."""

    path: str
    """Where it is."""
    bytes: int
    """Its size."""
    changed: int
    """When it was last changed, in nanoseconds."""

    def check(self) -> None:
        """Refuse a file that is gone, or is another one now."""
        try:
            now = Path(self.path).stat()
        except OSError:
            raise FileError(f"`{self.path}` is not there any more; its rows are needed again, so put it back.") from None
        if (now.st_size, now.st_mtime_ns) != (self.bytes, self.changed):
            raise FileError(f"`{self.path}` was changed after it was opened, so its rows are not the same; open it again.")


@dataclass(frozen=True)
class FilesInParts(RowSource):
    """Files of one kind, read a part at a time."""

    files: tuple[FileMark, ...]
    """The files, in the order of their rows."""
    kind: str
    """``parquet``, ``feather`` or ``csv``."""
    told: str
    """What they are called."""
    separator: str = ","
    """What parts the cells of a text file."""
    encoding: str = "utf-8"
    """How the bytes of a text file stand for characters."""
    raw_names: Mapping[str, str] = field(default_factory=dict)
    """The name in the files of each column."""
    texts: Mapping[str, pa.Array] = field(default_factory=dict)
    """The distinct values of each column that is told by them."""
    count: int = 0
    """How many rows there are."""
    sample: Part | None = None
    """The rows kept in memory."""

    @property
    def name(self) -> str:
        """What the data are called."""
        return self.told

    @property
    def rows(self) -> int:
        """How many rows there are."""
        return self.count

    @property
    def kept(self) -> Part:
        """The rows kept in memory."""
        assert self.sample is not None
        return self.sample

    def run(self, function: Callable[[Part], T], names: Sequence[str]) -> Iterator[T]:
        """Apply a function to every part, in order."""
        for part in self.parts(names):
            yield function(part)
        for mark in self.files:
            mark.check()

    def parts(self, names: Sequence[str], chosen: Sequence[int] | None = None, start: int = 0) -> Iterator[Part]:
        """Yield the parts of the files, or of some of them, with some of the columns."""
        for batch in self.batches(names, chosen):
            columns = {name: self._values(name, batch.column(k)) for k, name in enumerate(names)}
            yield Part(start, batch.num_rows, columns)
            start += batch.num_rows

    def _values(self, name: str, column: pa.Array) -> NDArray[Any]:
        if name not in self.texts:
            return numbers_of(column)
        return places_in(as_texts(column) if self.kind == "csv" else column, self.texts[name])

    def batches(
        self, names: Sequence[str], chosen: Sequence[int] | None = None, as_text: Sequence[str] | None = None
    ) -> Iterator[pa.RecordBatch]:
        """Yield the rows as Arrow has them, at most `PART_ROWS` at a time, with the columns in the order of the names."""
        import pyarrow as pa

        marks = self.files if chosen is None else [self.files[k] for k in chosen]
        for mark in marks:
            mark.check()
        try:
            if any(mark.path.lower().endswith(_PACKED) for mark in marks):
                for mark in marks:
                    yield from self._unpacked(mark, names, as_text)
                return
            wanted = [self.raw_names[n] for n in names]
            data = self._dataset([m.path for m in marks], names, as_text)
            scanner = data.scanner(columns=wanted or [self.raw_names[next(iter(self.raw_names))]], batch_size=PART_ROWS)
            for batch in scanner.to_batches():
                for at in range(0, batch.num_rows, PART_ROWS):
                    yield batch.slice(at, PART_ROWS)
        except (pa.ArrowException, OSError) as problem:
            for mark in marks:
                mark.check()
            raise FileError(f"`{self.told}` cannot be read: {_plain(problem)}.") from None

    def _dataset(self, paths: list[str], names: Sequence[str], as_text: Sequence[str] | None) -> ds.Dataset:
        import pyarrow.dataset as ds

        if self.kind != "csv":
            return ds.dataset(paths, format=self.kind)
        read, parse, convert = self._csv((), as_text)  # which columns are read is for the scanner to say
        return ds.dataset(paths, format=ds.CsvFileFormat(parse, None, convert, read))

    def _csv(self, names: Sequence[str], as_text: Sequence[str] | None) -> tuple[Any, Any, Any]:
        import pyarrow as pa
        from pyarrow import csv as pacsv

        texts = self.texts if as_text is None else as_text
        types = {raw: pa.string() if n in texts else pa.float64() for n, raw in self.raw_names.items()}
        read = pacsv.ReadOptions(block_size=_BLOCK_BYTES, encoding=self.encoding)
        parse = pacsv.ParseOptions(delimiter=self.separator, newlines_in_values=True)
        convert = pacsv.ConvertOptions(
            column_types=types,
            null_values=[""],
            strings_can_be_null=True,
            include_columns=[self.raw_names[n] for n in names],
        )
        return read, parse, convert

    def _unpacked(
        self, mark: FileMark, names: Sequence[str], as_text: Sequence[str] | None
    ) -> Iterator[pa.RecordBatch]:
        from pyarrow import csv as pacsv

        read, parse, convert = self._csv(names, as_text)
        with opened(mark.path) as stream, pacsv.open_csv(stream, read, parse, convert) as reader:
            for batch in reader:
                for at in range(0, batch.num_rows, PART_ROWS):
                    yield batch.slice(at, PART_ROWS)


def _plain(problem: BaseException) -> str:
    text = str(problem).splitlines()[0].strip().rstrip(".") if str(problem).strip() else "for an unknown reason"
    return text if len(text) < 300 else f"{text[:300]}…"


def opened(path: str) -> Any:
    """Open a text file, or the only one in a packed file, as bytes."""
    if path.lower().endswith(".gz"):
        return gzip.open(path, "rb")
    if not path.lower().endswith(".zip"):
        return Path(path).open("rb")
    packed = zipfile.ZipFile(path)
    inside = [n for n in packed.namelist() if n.lower().endswith(_TEXT)]
    if len(inside) != 1:
        raise FileError(f"`{path}` holds {count_noun(len(inside), 'table')}; one CSV or TSV file in it is read.")
    return packed.open(inside[0])


def numbers_of(column: pa.Array) -> NDArray[np.float64]:
    """Return a column of numbers as floats, NaN where blank."""
    import pyarrow as pa

    if not pa.types.is_float64(column.type):
        column = column.cast(pa.float64(), safe=False)
    found: NDArray[np.float64] = column.to_numpy(zero_copy_only=False)
    return found


def as_texts(column: pa.Array) -> pa.Array:
    """Return texts without what was written to keep them from being taken for formulas."""
    import pyarrow.compute as pc

    marked = "^'([" + "".join(f"\\{mark}" if mark in "+-=@" else mark for mark in ESCAPED) + "])"
    if not pc.any(pc.starts_with(column, "'")).as_py():
        return column
    return pc.replace_substring_regex(column, marked, r"\1")


def places_in(column: pa.Array, distinct: pa.Array) -> NDArray[np.int32]:
    """Return which of some distinct values each row has, −1 where blank."""
    import pyarrow as pa
    import pyarrow.compute as pc

    coded = column if pa.types.is_dictionary(column.type) else column.dictionary_encode()
    known = pc.index_in(plain_values(coded.dictionary), distinct).to_numpy(zero_copy_only=False)
    table = np.append(np.nan_to_num(known.astype(np.float64), nan=-1.0), -1.0).astype(np.int32)
    codes = coded.indices.fill_null(-1).to_numpy(zero_copy_only=False)
    found: NDArray[np.int32] = table[codes]
    return found


def plain_values(values: pa.Array) -> pa.Array:
    """Return distinct values as texts, or as the numbers they are."""
    import pyarrow as pa

    kind = values.type
    if pa.types.is_integer(kind) or pa.types.is_floating(kind):
        return values.cast(pa.float64(), safe=False)
    if pa.types.is_boolean(kind):
        import pyarrow.compute as pc

        return pc.if_else(values, pa.scalar("True"), pa.scalar("False"))
    return values.cast(pa.string())


class _Numbers:
    """What the first pass finds in a column of numbers."""

    def __init__(self) -> None:
        self.facts, self.failed = NumberFacts(), False

    def take(self, column: pa.Array, start: int) -> NDArray[Any] | None:
        import pyarrow as pa
        import pyarrow.compute as pc

        if self.failed:
            return None
        try:
            values = numbers_of(pc.cast(column, pa.float64()) if pa.types.is_string(column.type) else column)
        except pa.ArrowInvalid:
            self.failed = True
            return None
        if pa.types.is_string(column.type) and int(np.isnan(values).sum()) > column.null_count:
            self.failed = True  # a text such as nan is no number
            return None
        self.facts = self.facts.merge(NumberFacts.of(values))
        return values


class _Texts:
    """What the first pass finds in a column that is told by its distinct values."""

    def __init__(self) -> None:
        self.places: dict[Any, int] = {}
        self.counts = np.zeros(0, dtype=np.int64)
        self.firsts = np.zeros(0, dtype=np.int64)
        self.many, self.categories, self.failed = False, False, False

    def take(self, column: pa.Array, start: int) -> NDArray[Any] | None:
        import pyarrow as pa

        if self.many:
            return None
        self.categories |= pa.types.is_dictionary(column.type)
        coded = column if pa.types.is_dictionary(column.type) else column.dictionary_encode()
        values = plain_values(coded.dictionary).to_pylist()
        codes = coded.indices.fill_null(-1).to_numpy(zero_copy_only=False)
        at = np.array([self.places.setdefault(v, len(self.places)) for v in values] + [-1], dtype=np.int32)
        grown = len(self.places) - len(self.counts)
        if grown:
            self.counts = np.append(self.counts, np.zeros(grown, dtype=np.int64))
            self.firsts = np.append(self.firsts, np.full(grown, np.iinfo(np.int64).max))
        places = at[codes]
        here, first = np.unique(places, return_index=True)
        self.firsts[here[here >= 0]] = np.minimum(self.firsts[here[here >= 0]], first[here >= 0] + start)
        self.counts += np.bincount(places[places >= 0], minlength=len(self.counts))
        self.many = len(self.places) > MOST_TEXTS
        return None if self.many else places


def table_in_parts(
    path: str | Path,
    book: Codebook,
    *,
    encoding: str = "utf-8",
    progress: Progress | None = None,
) -> TableInParts:
    """Look once over files that are then read a part at a time.

    Parameters
    ----------
    path : str or Path
        A file, a pattern of names such as ``register/*.parquet``, or a folder.
    book : Codebook
        What is known of the columns: of those declared categorical, the distinct values are needed.
    encoding : str
        How the bytes of a text file stand for characters.
    progress : callable, optional
        Told how many rows are done, and of how many if that is known.

    Returns
    -------
    TableInParts
        Numbers with what is known of them, other columns by their distinct values.

    Raises
    ------
    FileError
        If there is no such file, files differ in kind or columns, or one cannot be read.
    """
    source, types = _described(path, encoding)
    specs = {name: book.columns.get(name, ColumnSpec(name)) for name in source.raw_names}
    looks: dict[str, _Numbers | _Texts] = {
        name: _Numbers() if types[name] and not _is_grouped(spec) else _Texts() for name, spec in specs.items()
    }
    total = _known_rows(source)
    kept = KeptRows()
    rows = _look_over(source, looks, kept, progress, total)
    again: dict[str, _Numbers | _Texts] = {name: _Texts() for name, look in looks.items() if look.failed}
    if again:  # what looked like numbers at first, and was not
        second = KeptRows()
        _look_over(source, again, second, progress, rows)
        looks |= again
        kept.columns |= second.columns
    if not rows:
        raise FileError(f"`{source.told}` has column names but no rows.")
    import pyarrow as pa

    full = [n for n, look in looks.items() if isinstance(look, _Texts) and look.many]
    looks = {n: look for n, look in looks.items() if n not in full}
    texts = {n: pa.array(list(look.places)) for n, look in looks.items() if isinstance(look, _Texts)}
    columns = {n: kept.columns.get(n, np.zeros(0)) for n in looks}
    source = replace(
        source,
        texts=texts,
        count=rows,
        raw_names={n: raw for n, raw in source.raw_names.items() if n not in full},
        sample=Part(0, len(kept.rows), columns),
    )
    found: dict[str, InParts | TextsInParts] = {}
    for name, look in looks.items():
        if isinstance(look, _Numbers):
            found[name] = InParts.column(source, name, np.float64, look.facts)
        else:
            places = InParts.column(source, name, np.int32)
            found[name] = TextsInParts(places, list(look.places), look.counts, look.firsts, look.categories)
    if full:
        from markbase.core.errors import remark

        remark(
            f"{listed(quoted(full))} {'has' if len(full) == 1 else 'have'} more than {MOST_TEXTS:,} different texts, which are not held "
            f"where rows come in parts: left out of the study."
        )
    return TableInParts(source, found)


def _is_grouped(spec: ColumnSpec) -> bool:
    return spec.kind in ("categorical", "ordinal") or bool(spec.base or spec.levels)


def _look_over(
    source: FilesInParts,
    looks: Mapping[str, _Numbers | _Texts],
    kept: KeptRows,
    progress: Progress | None,
    total: int | None,
) -> int:
    rows, names = 0, list(looks)
    for batch in source.batches(names, as_text=names):
        values: dict[str, NDArray[Any]] = {}
        for k, name in enumerate(names):
            column = batch.column(k)
            taken = looks[name].take(as_texts(column) if source.kind == "csv" else column, rows)
            if taken is not None:
                values[name] = taken
        for name in set(kept.columns) - set(values):
            del kept.columns[name]
        kept.take(rows, values, batch.num_rows)
        rows += batch.num_rows
        if progress is not None:
            progress(rows, total)
    return rows


def _known_rows(source: FilesInParts) -> int | None:
    if source.kind != "parquet":
        return None
    import pyarrow.parquet as pq

    return sum(int(pq.read_metadata(mark.path).num_rows) for mark in source.files)


def _described(path: str | Path, encoding: str) -> tuple[FilesInParts, dict[str, bool]]:
    """Find the files, and the names and types (whether numbers, or perhaps) of their columns."""
    import pyarrow as pa
    import pyarrow.dataset as ds

    paths = _paths(str(path))
    kinds = {_suffix(p) for p in paths}
    told = Path(path).name or str(path)
    if len({_FORMATS.get(k) for k in kinds}) > 1:
        raise FileError(f"`{path}` holds files of different kinds ({listed(sorted(kinds))}); name those of one kind, for instance `{path}/*.parquet`.")
    kind = _FORMATS[kinds.pop()]
    marks = []
    for p in paths:
        there = Path(p).stat()
        marks.append(FileMark(p, there.st_size, there.st_mtime_ns))
        note_input(Path(p))
    if kind == "csv":
        return _described_texts(marks, told, encoding)
    try:
        schemas = [ds.dataset(p, format=kind).schema for p in paths]
    except (pa.ArrowException, OSError) as problem:
        raise FileError(f"`{told}` cannot be read: {_plain(problem)}.") from None
    names = checked_names(schemas[0].names, Path(path))
    for p, schema in zip(paths, schemas, strict=True):
        if schema.names != schemas[0].names:
            raise FileError(f"`{p}` has other columns than `{paths[0]}`; files that are read together have the same ones.")
    types = {}
    for name, part in zip(names, schemas[0], strict=True):
        nested = pa.types.is_nested(part.type) and not pa.types.is_dictionary(part.type)
        if nested:
            raise ColumnError(f"`{told}`: `{name}` holds lists or records ({part.type}); keep columns of numbers and texts.")
        types[name] = pa.types.is_integer(part.type) or pa.types.is_floating(part.type) or pa.types.is_decimal(part.type) or pa.types.is_null(part.type)
    raw = dict(zip(names, schemas[0].names, strict=True))
    return FilesInParts(tuple(marks), kind, told, raw_names=raw), types


def _described_texts(marks: Sequence[FileMark], told: str, encoding: str) -> tuple[FilesInParts, dict[str, bool]]:
    header: list[str] = []
    separator = ","
    for mark in marks:
        try:
            with opened(mark.path) as stream, io.TextIOWrapper(stream, encoding=encoding, newline="") as text:
                first = next((line for line in text if line.strip()), "")
        except (OSError, UnicodeDecodeError, LookupError, EOFError, zipfile.BadZipFile) as problem:
            raise FileError(f"`{mark.path}` cannot be read: {_plain(problem)}.") from None
        if not first:
            raise FileError(f"`{mark.path}` is empty; a line with the column names and a line for each row are needed.")
        own = separator_of(first.lstrip("\ufeff"))
        names = next(csv.reader([first.lstrip("\ufeff")], delimiter=own))
        if header and (names, own) != (header, separator):
            raise FileError(f"`{mark.path}` has another first line than `{marks[0].path}`; files that are read together have the same one.")
        header, separator = names, own
    clean = checked_names(header, Path(told))
    raw = dict(zip(clean, header, strict=True))
    return FilesInParts(tuple(marks), "csv", told, separator, encoding, raw), dict.fromkeys(clean, True)


def _suffix(path: str) -> str:
    suffixes = [s.lower() for s in Path(path).suffixes]
    return suffixes[-2] if suffixes and suffixes[-1] in _PACKED and len(suffixes) > 1 else (suffixes or [""])[-1]


def _paths(path: str) -> list[str]:
    """Return the files that a path, a pattern or a folder names, in the order of their names."""
    place = Path(path)
    if place.is_dir():
        found = sorted(str(p) for p in place.rglob("*") if p.is_file() and _suffix(str(p)) in _FORMATS)
        if not found:
            raise FileError(f"The folder `{path}` holds no data file ({', '.join(_FORMATS)}).")
        return found
    if any(mark in path for mark in "*?[") and not place.exists():
        found = sorted(p for p in glob.glob(path, recursive=True) if Path(p).is_file())
        if not found:
            raise FileError(f"No file has a name like `{path}`.")
    else:
        found = [path]
        if not place.exists():
            beside = [p.name for p in place.parent.iterdir() if p.is_file()] if place.parent.is_dir() else []
            close = near(place.name, beside) if beside else ""
            raise FileError(f"There is no file `{path}`.{close if close.startswith(' Did') else ''}")
    for p in found:
        if _suffix(p) not in _FORMATS:
            raise FileError(f"`{p}` is not read in parts; there are {', '.join([*_FORMATS, '.csv.gz', '.csv.zip'])}: save it as one.")
    return found


