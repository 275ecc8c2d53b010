"""Several files that hold one table, one below another: waves, countries, classes."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pandas as pd

from markbase.core.errors import ColumnError, FileError, count_noun, near, quoted, remark, some_of
from markbase.files.parts.folders import are_numbers, columns_of_folders, is_aside
from markbase.files.parts.paths import is_seen, like

_MOST_BYTES = 1 << 29
"""Files that are larger together are not taken into memory."""

Table = tuple[pd.DataFrame, dict[str, str]]
"""A table, and what its columns are called in full."""


@dataclass(frozen=True)
class Stacked:
    """The rows of several files."""

    frame: pd.DataFrame
    """The rows, those of a file together, in the order of the names of the files."""
    labels: dict[str, str]
    """What columns are called in full, where a file says so."""
    lacking: dict[str, dict[str, slice]]
    """Of each column that some files do not have, these files, each with its rows."""


def is_several(path: Path) -> bool:
    """Return whether a path is a folder, or a pattern of names."""
    try:
        return path.is_dir() or (any(mark in path.name for mark in "*?[") and not path.exists())
    except (OSError, ValueError):
        return False  # a name that no file can have is told where it is read


def files_of(path: Path, kinds: Sequence[str]) -> list[Path]:
    """Return the files of some kinds in a folder, or those whose names are like a pattern, in the order of their names.

    Raises
    ------
    FileError
        If there is none, or one of a pattern is of another kind.
    """
    if path.is_dir():
        meant = [p for p in path.rglob("*") if is_seen(p) and not is_aside(p, path)]
        found = sorted(p for p in meant if p.is_file() and p.suffix.lower() in kinds)
        if not found:
            raise FileError(f"The folder `{path}` holds no data file ({', '.join(kinds)}).")
        return found
    found = [Path(p) for p in like(path)]
    if not found:
        raise FileError(f"No file has a name like `{path}`.")
    other = [p for p in found if p.suffix.lower() not in kinds]
    if other:
        raise FileError(f"`{other[0]}` is not read with others; there are {', '.join(kinds)}: save it as one.")
    return found


def with_folders(path: Path, files: Sequence[Path], tables: Sequence[Table]) -> list[Table]:
    """Return the tables of files with the columns that the names of their folders tell, last; those that a file has count as they are."""
    found = [(frame.copy(deep=False), labels) for frame, labels in tables]
    for name, values in columns_of_folders(path, files).items():
        numbers = are_numbers(values)
        for (frame, _), value in zip(found, values, strict=True):
            if name not in frame.columns:
                frame[name] = value if not numbers else np.nan if value is None else float(value)
    return found


def bytes_of(files: Sequence[Path]) -> int:
    """Return how large files are together."""
    return sum(p.stat().st_size for p in files)


def refuse_if_large(path: Path, files: Sequence[Path]) -> None:
    """Refuse files that are so large together that they are hardly meant to be taken into memory."""
    size = bytes_of(files)
    if size > _MOST_BYTES:
        raise FileError(
            f"`{path}`: {count_noun(len(files), 'file')} of {size / 1e9:.1f} GB together are too large to be taken into memory at once: read them in parts."
        )


def stacked(
    tables: Sequence[Table], called: Sequence[str], told: Sequence[str], file_column: str | None = None
) -> Stacked:
    """Put the rows of tables one below another; columns are the same by their names, and lacking in tables that do not have them.

    `called` is what each table is called, and `told` what a column says of its rows, where one is named.

    Raises
    ------
    ColumnError
        If a table has no column in common with the first, or one of them is called as that column.
    """
    frames = [frame for frame, _ in tables]
    names = list(dict.fromkeys(name for frame in frames for name in frame.columns))
    first = list(frames[0].columns)
    for name, frame in zip(called, frames, strict=True):
        if not set(frame.columns) & set(first):
            raise ColumnError(
                f"{name} has no column of {called[0]} ({some_of(quoted(first))} there, {some_of(quoted(frame.columns))} here): tables that are read together hold the same things."
            )
    if file_column is not None and file_column in names:
        raise ColumnError(
            f"The files have a column `{file_column}` themselves; name the column that tells the file otherwise."
        )
    ends = np.cumsum([0, *map(len, frames)]).tolist()
    lacking: dict[str, dict[str, slice]] = {}
    for name in names:
        there = {p: slice(*ends[k : k + 2]) for k, p in enumerate(called) if name not in frames[k].columns}
        if there:
            lacking[name] = there
    if lacking:
        say_lacking(lacking, called)
    whole = pd.concat(frames, ignore_index=True)
    if file_column is not None:
        whole.insert(0, file_column, np.repeat(np.array(told, dtype=object), np.diff(ends)))
    labels = {name: label for _, own in reversed(tables) for name, label in own.items()}
    return Stacked(whole, labels, lacking)


def names_for(files: Sequence[Path]) -> list[str]:
    """Return what files are called where their rows stand together: their names, with their folders where these are not all different."""
    names = [p.name for p in files]
    return names if len(set(names)) == len(names) else [p.as_posix() for p in files]


def say_lacking(lacking: Mapping[str, Collection[str]], every: Sequence[str]) -> None:
    """Say which columns some of the files do not have, by the names of both, and as what they may have them."""
    told = [
        f"`{name}` (in {count_noun(len(every) - len(there), 'table')} of {len(every)})"
        for name, there in lacking.items()
    ]
    remark(f"Not all tables have {some_of(told)}: the rows of the others have gaps there.")
    for k, (name, there) in enumerate(lacking.items()):
        others = [own for own in list(lacking)[:k] if not _files_with(lacking[own], every) & _files_with(there, every)]
        hint = near(name, others) if others else ""
        if hint.startswith(" Did you mean"):
            other = hint.removeprefix(" Did you mean ").removesuffix("?")
            remark(
                f"`{name}` and {other} are in no table both: if they are the same, make them one by the step `coalesce`, or call them so in the files."
            )


def _files_with(lacking: Collection[str], every: Sequence[str]) -> set[str]:
    return {*every} - {*lacking}
