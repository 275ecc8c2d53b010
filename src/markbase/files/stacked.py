"""Several files that hold one table, one below another: waves, countries, classes."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import NamedTuple

import numpy as np
import pandas as pd

from markbase.core.errors import ColumnError, FileError, count_noun
from markbase.files.parts.folders import are_numbers
from markbase.files.parts.lacking import refuse_strangers, say_lacking
from markbase.files.parts.paths import files_below, like
from markbase.files.text_files import NoRowsError

_MOST_BYTES = 1 << 29
"""Files that are larger together are not taken into memory."""

Table = tuple[pd.DataFrame, dict[str, str]]
"""A table, and what its columns are called in full."""


class Several(NamedTuple):
    """Tables whose rows are to stand one below another."""

    tables: Sequence[Table]
    """Each with what its columns are called in full."""
    called: Sequence[str]
    """What each is called."""
    told: Sequence[str]
    """What a column says of the rows of each, where one is to tell them."""
    folders: Mapping[str, Sequence[str | None]] = {}
    """What the names of its folders tell of each, by column; None for a gap."""


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
        found = [p for p in files_below(path) if p.suffix.lower() in kinds]
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


def stacked(several: Several, file_column: str | None = None) -> Stacked:
    """Put the rows of tables one below another; columns are the same by their names, and lacking in tables that do not have them.

    Raises
    ------
    ColumnError
        If one of their columns is called as the column that is to tell them.
    FileError
        If a table has no column in common with the first, or none of them has a row.
    """
    called, frames = several.called, _alike([frame for frame, _ in several.tables])
    if not sum(map(len, frames)):
        told = f"{called[0]} has" if len(called) == 1 else f"{called[0]} and the others have"
        raise NoRowsError(f"{told} column names but no rows.")
    names = list(dict.fromkeys(name for frame in frames for name in frame.columns))
    refuse_strangers(called, [frame.columns for frame in frames])
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
    whole = pd.concat([frame for frame in frames if len(frame)], ignore_index=True).reindex(columns=names)
    for name, values in several.folders.items():  # those that a file has count as they are
        if name not in names:
            own: list[object] = [v and float(v) for v in values] if are_numbers(values) else list(values)
            whole[name] = np.repeat(np.array(own, dtype=np.float64 if are_numbers(values) else object), np.diff(ends))
    if file_column is not None:
        whole.insert(0, file_column, np.repeat(np.array(several.told, dtype=object), np.diff(ends)))
    labels = {name: label for _, own in reversed(several.tables) for name, label in own.items()}
    return Stacked(whole, labels, lacking)


def _alike(frames: Sequence[pd.DataFrame]) -> list[pd.DataFrame]:
    """Return tables in which what is true or false in some and something else in others is a text."""
    is_true = [{n for n in f.columns if pd.api.types.infer_dtype(f[n], skipna=True) == "boolean"} for f in frames]
    other = {
        n for f, own in zip(frames, is_true, strict=True) for n in f.columns if n not in own and f[n].notna().any()
    }
    words = {True: "True", False: "False"}
    return [
        f.assign(**{n: f[n].map(words) for n in own & other}) if own & other else f
        for f, own in zip(frames, is_true, strict=True)
    ]
