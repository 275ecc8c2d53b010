"""What text tables have in common: what parts their cells, and what their columns may be called."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence
from mmap import mmap
from pathlib import Path

from markbase.core.errors import ColumnError, FileError, listed, quoted, remark

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


def checked_names(
    raw: Sequence[str], path: Path, hint: Callable[[], str] = lambda: "", in_parts: bool = False
) -> tuple[list[str], list[str]]:
    """Return the names of columns without outer blanks, and those of them that were made up.

    A column without a name is called by its place; so are those that have the same name, which is said, or refused in parts. Where
    most have none the first row is not that of the names, and is refused, with a hint where they may stand.
    """
    if len(raw) > MOST_COLUMNS:
        raise FileError(
            f"`{path}` has {len(raw):,} columns, and at most {MOST_COLUMNS:,} are read; keep the columns you need."
        )
    names = [" ".join(name.split()) for name in raw]
    empty = [k for k, name in enumerate(names) if not name]
    if len(empty) > (min(len(names) / 2, 1) if in_parts else len(names) / 2):
        places = listed([str(k + 1) for k in empty[:6]] + ([f"{len(empty) - 6} more"] if len(empty) > 6 else []))
        what = f"column {places} has no name" if len(empty) == 1 else f"columns {places} have no name"
        raise ColumnError(f"`{path}`: {what} in the header; give each column one.{hint()}")
    for k in empty:
        names[k] = f"column_{k + 1}"
    twice = sorted(name for name, times in Counter(names).items() if times > 1)
    apart = [f"{name}_column_{k + 1}" if name in twice else name for k, name in enumerate(names)]
    if twice and (in_parts or len(set(apart)) < len(apart)):
        verb = "occurs" if len(twice) == 1 else "occur"
        raise ColumnError(
            f"`{path}`: {listed(quoted(twice))} {verb} more than once among the column names; give each column its own name."
        )
    for name in twice:
        own = [told for told, doubled in zip(apart, names, strict=True) if doubled == name]
        remark(f"`{path.name}` has {len(own)} columns called `{name}`; they are told apart as {listed(quoted(own))}.")
    names = apart
    return names, [names[k] for k in empty]


def blank_rows(data: bytes | mmap, separator: str, columns: int) -> int:
    """Count the lines of a text, as bytes, that hold separators and no value."""
    found = 0
    for cell in ("", '""') if columns > 1 else ():
        row = separator.join([cell] * columns).encode()
        at = 0
        while True:
            after = at + len(row)
            found += data[at:after] == row and data[after : after + 1] in (b"", b"\r", b"\n")
            at = data.find(b"\n" + row, at) + 1
            if not at:
                break
    return found


def said_of_unnamed(told: str, names: Sequence[str]) -> str:
    """Say what columns without a name are called."""
    if len(names) == 1:
        return f"{told} has a column without a name; it is called `{names[0]}`."
    return f"{told} has {len(names)} columns without a name; they are called {listed(quoted(names))}."
