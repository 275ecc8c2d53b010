"""Which files are meant, and what their columns are called."""

from __future__ import annotations

import csv
import io
import itertools
import json
import re
import zipfile
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from markbase.core.errors import FileError, listed, near
from markbase.core.study.long_form import what_differs
from markbase.files.parts.folders import are_numbers, columns_of_folders, is_aside
from markbase.files.parts.lacking import refuse_strangers
from markbase.files.parts.table_files import FORMATS, PACKED, FileMark, TableFiles, opened, plain_words
from markbase.files.text_tables import checked_names, separator_of
from markbase.files.whole_files import note_input

if TYPE_CHECKING:
    import pyarrow as pa

_ROW_NAMES = re.compile(r"__index_level_\d+__")


def described(path: str | Path, encoding: str) -> tuple[TableFiles, dict[str, bool]]:
    """Find the files, and the names and types (whether numbers, or perhaps) of their columns, with those that their folders tell."""
    table, types = _described(path, encoding)
    return told_by_folders(table, types, Path(path))


def _described(path: str | Path, encoding: str) -> tuple[TableFiles, dict[str, bool]]:
    import pyarrow as pa
    import pyarrow.dataset as ds

    paths = _paths(str(path))
    kinds = {_suffix(p) for p in paths}
    told = told_of(Path(path))
    if len({FORMATS.get(k) for k in kinds}) > 1:
        raise FileError(
            f"`{path}` holds files of different kinds ({listed(sorted(kinds))}); name those of one kind, for instance `{path}/*.parquet`."
        )
    kind = FORMATS[kinds.pop()]
    marks = []
    for p in paths:
        there = Path(p).stat()
        marks.append(FileMark(p, there.st_size, there.st_mtime_ns))
        note_input(Path(p))
    if kind == "csv":
        return _described_texts(marks, told, encoding)
    try:
        schemas = [ds.dataset(p, format=kind).schema for p in paths]
    except MemoryError:
        raise
    except (pa.ArrowException, OSError) as problem:
        raise FileError(f"`{told}` cannot be read: {plain_words(problem)}.") from None
    schemas = [_without_row_names(schema) for schema in schemas]
    marks, raw = _lacking(marks, [schema.names for schema in schemas], Path(path))
    names = list(raw)
    kinds_of_numbers = (
        pa.types.is_integer,
        pa.types.is_floating,
        pa.types.is_decimal,
        pa.types.is_null,
        pa.types.is_duration,
    )
    fields = [{field.name: field.type for field in schema} for schema in schemas]
    parts = {name: [own[raw[name]] for own in fields if raw[name] in own] for name in names}
    told_types = {name: [part for part in own if not pa.types.is_null(part)] or own for name, own in parts.items()}
    numbers = {name: [any(is_so(t) for is_so in kinds_of_numbers) for t in own] for name, own in told_types.items()}
    types = {name: all(own) for name, own in numbers.items()}
    mixed = frozenset(name for name, own in numbers.items() if any(own) and not all(own))
    nested = frozenset(name for name, own in parts.items() if any(map(pa.types.is_nested, own)))
    return TableFiles(tuple(marks), kind, told, raw, nested=nested, mixed=mixed), types


def _without_row_names(schema: pa.Schema) -> pa.Schema:
    """Return the columns of a file without those that hold names of its rows and are called nothing, as tables in memory have them."""
    said = json.loads((schema.metadata or {}).get(b"pandas", b"{}")).get("index_columns", [])
    unnamed = [k for k, name in enumerate(schema.names) if name in said and _ROW_NAMES.fullmatch(name)]
    for k in reversed(unnamed):
        schema = schema.remove(k)
    return schema


def _lacking(
    marks: Sequence[FileMark], headers: Sequence[Sequence[str]], path: Path
) -> tuple[list[FileMark], dict[str, str]]:
    """Return files with the columns that each lacks, and the name in the files of every column that one of them has."""
    for mark, own in zip(marks, headers, strict=True):
        checked_names(own, Path(mark.path), in_parts=True)
    refuse_strangers([f"`{mark.path}`" for mark in marks], headers)
    whole = list(dict.fromkeys(itertools.chain(*headers)))
    names, _ = checked_names(whole, path, in_parts=True)
    raw = dict(zip(names, whole, strict=True))
    lacks = [frozenset(name for name in names if raw[name] not in own) for own in map(set, headers)]
    return [replace(mark, lacks=own) for mark, own in zip(marks, lacks, strict=True)], raw


def told_by_folders(table: TableFiles, types: dict[str, bool], path: Path) -> tuple[TableFiles, dict[str, bool]]:
    """Return files, and whether each column may be numbers, with the columns that the names of folders tell, last; those that the files have count as they are."""
    for name, values in columns_of_folders(path, [Path(mark.path) for mark in table.files]).items():
        if name not in types:
            table, types = telling(table, name, values), {**types, name: are_numbers(values)}
    return table, types


def telling(table: TableFiles, name: str, values: Sequence[str | None]) -> TableFiles:
    """Return files with a column more that each of them tells of all its rows."""
    marks = tuple(replace(mark, told=(*mark.told, own)) for mark, own in zip(table.files, values, strict=True))
    numbers = table.whole_numbers | ({name} if are_numbers(values) else set())
    return replace(table, files=marks, told_by_file=(*table.told_by_file, name), whole_numbers=numbers)


def told_of(path: Path) -> str:
    """Return what files are called: their name, of a pattern for any names with the folder."""
    return (
        f"{path.parent.name}/{path.name}" if path.name.startswith("*") and path.parent.name else path.name or str(path)
    )


def _described_texts(marks: Sequence[FileMark], told: str, encoding: str) -> tuple[TableFiles, dict[str, bool]]:
    headers: list[list[str]] = []
    first_of: dict[str, str] = {}
    for mark in marks:
        try:
            with opened(mark.path) as stream, io.TextIOWrapper(stream, encoding=encoding, newline="") as text:
                first = next((line for line in text if line.strip()), "").lstrip("\ufeff")
                own = separator_of(first)
                names = next(csv.reader(itertools.chain([first], text), delimiter=own))  # one may go over several lines
        except csv.Error:  # a name that does not end
            raise FileError(
                f"`{mark.path}`, line 1: a quotation mark is opened and never closed; mend the quotation marks there."
            ) from None
        except (OSError, UnicodeDecodeError, LookupError, EOFError, zipfile.BadZipFile) as problem:
            raise FileError(f"`{mark.path}` cannot be read: {plain_words(problem)}.") from None
        if not first:
            raise FileError(f"`{mark.path}` is empty; a line with the column names and a line for each row are needed.")
        if len(names) > 1:  # one column has no sign there
            first_of.setdefault(own, mark.path)
        if len(first_of) > 1:
            (one, there), (other, here) = first_of.items()
            raise FileError(
                f"`{here}` parts its cells by {other!r}, and `{there}` by {one!r}; files that are read together have the same sign there."
            )
        headers.append(names)
    separator = next(iter(first_of), ",")
    marks, raw = _lacking(marks, headers, Path(told))
    marks = [replace(mark, header=tuple(names)) for mark, names in zip(marks, headers, strict=True)]
    return TableFiles(tuple(marks), "csv", told, raw, separator, encoding), dict.fromkeys(raw, True)


def like(pattern: Path) -> list[str]:
    """Return the files whose names are like a pattern; ``**`` stands for any folders that are meant to be read."""
    parts = pattern.parts
    first = next(k for k, part in enumerate(parts) if any(mark in part for mark in "*?["))
    home = Path(*parts[:first]) if first else Path()
    found = (p for p in home.glob(str(Path(*parts[first:]))) if p.is_file())
    return sorted(str(p) for p in found if "**" not in parts or not is_aside(p, home))


def files_below(home: Path) -> list[Path]:
    """Return the files in a folder that are meant, in the order of their names: not hidden ones, those that programs leave beside an open one, and logs."""
    return sorted(p for p in home.rglob("*") if p.name[0] not in ".~" and not is_aside(p, home) and p.is_file())


def names_of_files(files: Sequence[Path]) -> list[str]:
    """Return what tells files apart: what is different in their names, with their folders where the names are the same; or the whole of these."""
    names = [p.stem for p in files]
    if len(set(names)) < len(names):
        names = [p.with_suffix("").as_posix() for p in files]
    if len(set(names)) < len(names):
        names = [p.as_posix() for p in files]
    different = what_differs(names) if len(names) > 1 else names
    return different if all(different) else names


def _suffix(path: str) -> str:
    suffixes = [s.lower() for s in Path(path).suffixes]
    return suffixes[-2] if suffixes and suffixes[-1] in PACKED and len(suffixes) > 1 else (suffixes or [""])[-1]


def _paths(path: str) -> list[str]:
    """Return the files that a path, a pattern or a folder names, in the order of their names."""
    place = Path(path)
    if place.is_dir():
        found = [str(p) for p in files_below(place) if _suffix(str(p)) in FORMATS]
        if not found:
            raise FileError(f"The folder `{path}` holds no data file ({', '.join(FORMATS)}).")
        return found
    if any(mark in path for mark in "*?[") and not place.exists():
        found = like(place)
        if not found:
            raise FileError(f"No file has a name like `{path}`.")
    else:
        found = [path]
        if not place.exists():
            beside = [p.name for p in place.parent.iterdir() if p.is_file()] if place.parent.is_dir() else []
            close = near(place.name, beside) if beside else ""
            raise FileError(f"There is no file `{path}`.{close if close.startswith(' Did') else ''}")
    for p in found:
        if _suffix(p) not in FORMATS:
            raise FileError(
                f"`{p}` is not read in parts; there are {', '.join([*FORMATS, '.csv.gz', '.csv.zip'])}: save it as one."
            )
    return found
