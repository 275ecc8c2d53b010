"""What text tables have in common: what parts their cells, and what their columns may be called."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from pathlib import Path

from markbase.core.errors import ColumnError, FileError, listed, quoted

SEPARATORS = {",": "commas", ";": "semicolons", "\t": "tabs", "|": "bars"}
"""What may part the cells of a line."""
MOST_COLUMNS = 5_000
"""A file with more columns is not read."""
ESCAPED = ("=", "+", "-", "@", "\t", "\r")
"""A spreadsheet takes a text that begins so for a formula; such a text is written behind an apostrophe."""


def separator_of(text: str) -> str:
    """Return what parts the cells of a text, told by its first line."""
    first = text.lstrip("\n\r").split("\n", 1)[0]
    return max(SEPARATORS, key=lambda mark: (first.count(mark), mark == ","))


def checked_names(raw: Sequence[str], path: Path) -> list[str]:
    """Return the names of columns without outer blanks, or refuse names that are lacking or doubled."""
    if len(raw) > MOST_COLUMNS:
        raise FileError(
            f"`{path}` has {len(raw):,} columns, and at most {MOST_COLUMNS:,} are read; keep the columns you need."
        )
    names = [" ".join(name.split()) for name in raw]
    empty = [str(k) for k, name in enumerate(names, 1) if not name]
    if empty:
        raise ColumnError(f"`{path}`: column {listed(empty)} has no name in the first line; give each column one.")
    twice = sorted(name for name, times in Counter(names).items() if times > 1)
    if twice:
        verb = "occurs" if len(twice) == 1 else "occur"
        raise ColumnError(
            f"`{path}`: {listed(quoted(twice))} {verb} more than once among the column names; give each column its own name."
        )
    return names
