"""Columns that the names of folders tell: ``register/year=2019/land=north/part-0.parquet`` holds rows of 2019 in the north, and no such columns."""

from __future__ import annotations

import re
from collections.abc import Sequence
from pathlib import Path
from urllib.parse import unquote

_TOLD = re.compile(r"([^=]+)=(.*)")
_GAP = "__HIVE_DEFAULT_PARTITION__"
"""What stands for a gap in the names of such folders."""
_WHOLE = re.compile(r"-?(0|[1-9]\d{0,14})")


def columns_of_folders(path: Path, files: Sequence[Path]) -> dict[str, list[str | None]]:
    """Return, of each column that folders below a folder or a pattern of names tell, what it holds in each file; None for a gap.

    A folder of another name tells nothing, and a column that some files are in no folder of has gaps there.
    """
    home = path if path.is_dir() else _fixed(path)
    told = [_told_by(file.parent.relative_to(home)) for file in files]
    names = dict.fromkeys(name for own in told for name in own)
    return {name: [own.get(name) for own in told] for name in names}


def are_numbers(values: Sequence[str | None]) -> bool:
    """Return whether all that is told are whole numbers, written without zeros in front."""
    some = [value for value in values if value is not None]
    return bool(some) and all(_WHOLE.fullmatch(value) for value in some)


def is_aside(file: Path, home: Path) -> bool:
    """Return whether a file lies in a folder that holds no rows of the table: one that is hidden, or begins with a line, as logs do."""
    return any(part[0] in "._" for part in file.parent.relative_to(home).parts)


def _fixed(pattern: Path) -> Path:
    """Return the folders of a pattern that stand before any sign for any name."""
    parts = pattern.parts
    first = next((k for k, part in enumerate(parts) if any(mark in part for mark in "*?[")), len(parts) - 1)
    return Path(*parts[:first]) if first else Path()


def _told_by(folders: Path) -> dict[str, str | None]:
    found: dict[str, str | None] = {}
    for part in folders.parts:
        if told := _TOLD.fullmatch(part):
            found[unquote(told[1])] = None if told[2] in (_GAP, "") else unquote(told[2])
    return found
