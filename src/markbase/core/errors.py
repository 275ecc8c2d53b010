"""What can go wrong, and how it is said.

::

    ValueError
    └── MarkbaseError          the user can mend it; one clear sentence
        ├── FileError          a data file, codebook or plan that cannot be read or written
        ├── CodebookError      a codebook that does not fit itself or the data
        ├── ColumnError        a column that is missing, doubled or of the wrong kind
        ├── LevelError         a level or base that is not there
        └── FitError           a model that cannot be estimated from these rows
            ├── CollinearityError   terms that are exact combinations of one another
            ├── NoRowsError      what a saved fit cannot tell, for it holds no rows
            └── SeparationError  terms that foretell an outcome without exception

    UserWarning
    └── MarkbaseWarning        a remark that needs no stop
"""

from __future__ import annotations

import difflib
import inspect
import warnings
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from contextvars import ContextVar
from pathlib import Path

_PACKAGE = str(Path(__file__).resolve().parent.parent)
_SILENT: ContextVar[bool] = ContextVar("silent", default=False)


class MarkbaseError(ValueError):
    """Something the user can mend: what, where, the value received, what would do."""


class FileError(MarkbaseError):
    """A file that cannot be read or written."""


class NoRoomError(FileError):
    """A file that does not fit into memory."""


class ThereAlreadyError(FileError):
    """A file is there already, and nobody agreed that it is written over."""


class CodebookError(MarkbaseError):
    """A codebook that does not fit itself or the data."""


class ColumnError(MarkbaseError):
    """A column that is missing, doubled or of the wrong kind for its use."""


class LevelError(MarkbaseError):
    """A level, or a base, that the group does not have."""


class FitError(MarkbaseError):
    """A model that cannot be estimated from the rows at hand."""


class CollinearityError(FitError):
    """Terms that are exact combinations of one another."""


class NoRowsError(FitError, AttributeError):
    """Something that needs rows, asked of a saved fit, which holds none: it has no such attribute."""


class SeparationError(FitError):
    """Terms that foretell a yes/no outcome without exception, so that no finite odds ratio fits best."""


class MarkbaseWarning(UserWarning):
    """A remark about the data or the result that needs no stop."""


@contextmanager
def without_remarks() -> Iterator[None]:
    """Make no remarks for a while: of fits that nobody asked for, nobody wants to hear them."""
    token = _SILENT.set(True)
    try:
        yield
    finally:
        _SILENT.reset(token)


def remark(message: str) -> None:
    """Warn with a `MarkbaseWarning` that points at the caller's line outside the package."""
    if _SILENT.get():
        return
    depth, frame = 1, inspect.currentframe()
    while frame is not None and str(Path(frame.f_code.co_filename).resolve()).startswith(_PACKAGE):
        depth, frame = depth + 1, frame.f_back
    warnings.warn(message, MarkbaseWarning, stacklevel=max(depth, 2))


def near(name: object, known: Iterable[str], most: int = 3) -> str:
    """Say, in a sentence that begins with a space, which known names come close to a misspelt one, or the first few if none does."""
    choices = list(known)
    folded: dict[str, str] = {}
    for choice in choices:
        folded.setdefault(choice.casefold(), choice)
    matches = [folded[m] for m in difflib.get_close_matches(str(name).casefold(), list(folded), most, 0.6)]
    if matches:
        return f" Did you mean {listed(quoted(matches), 'or')}?"
    if not choices:
        return ""
    if len(choices) <= 6:
        return (
            f" There is {listed(quoted(choices))}." if len(choices) == 1 else f" There are {listed(quoted(choices))}."
        )
    return f" There are {len(choices)}, {', '.join(quoted(choices[:4]))} among them."


def quoted(names: Iterable[str]) -> list[str]:
    """Put each name between backquotes."""
    return [f"`{name}`" for name in names]


def some_of(names: Sequence[str], most: int = 4) -> str:
    """Join the first names as a sentence does, and count the others: ``a, b and 7 more``."""
    return listed([*names[:most], *([f"{len(names) - most:,} more"] if len(names) > most else [])])


def listed(names: Sequence[str], word: str = "and") -> str:
    """Join names as a sentence does: ``a, b and c``."""
    if len(names) < 2:
        return "".join(names)
    return f"{', '.join(names[:-1])} {word} {names[-1]}"


def named(names: Iterable[str], most: int = 8) -> str:
    """Join names, quoted, as a sentence does; of more than `most` the first of them: ```a`, `b` and 290 more``."""
    every = quoted(names)
    return listed(every) if len(every) <= most else f"{', '.join(every[: most - 1])} and {len(every) - most + 1:,} more"


def count_noun(number: int, noun: str, plural: str = "") -> str:
    """Write a count with its noun: ``1 row``, ``1,204 rows``."""
    return f"{number:,} {noun if number == 1 else plural or noun + 's'}"
