"""Which columns of a file are read, where not all of them are."""

from __future__ import annotations

from collections.abc import Collection, Container, Sequence
from dataclasses import replace

from markbase.core.errors import ColumnError, listed, near, quoted, remark
from markbase.core.study.codebook import Codebook

Chosen = Container[str]
"""Names of columns; of a list or tuple every one has to be there."""


def chosen_columns(
    names: Sequence[str], chosen: Chosen | None, book: Codebook, told: str, nested: Collection[str] = ()
) -> tuple[list[str], Codebook]:
    """Choose the columns to be read, in the order of the file, with those that the codebook says they are made of.

    The codebook is that of these, and of columns that the file does not have as well, which is refused where it is used.
    `nested` columns hold lists or records and are left out, which is said where they may have been meant. Raises a
    `ColumnError` if one of a list of names is not there or nested, or none is asked for, or left.
    """
    if chosen is None:
        return _without_nested(list(names), book, told, nested)
    if isinstance(chosen, str):
        raise ColumnError(f"Name the columns of {told} to read as a list, for instance [{chosen!r}].")
    for name in chosen if isinstance(chosen, (list, tuple)) else ():
        if name not in names:
            raise ColumnError(f"`{told}` has no column `{name}`.{near(str(name), names)}")
        if name in nested:
            raise ColumnError(f"`{told}`: `{name}` holds lists or records; choose columns of numbers and texts.")
    wanted = {name for name in names if name in chosen}
    waiting = list(wanted)
    while waiting:
        spec = book.columns.get(waiting.pop())
        sources = spec.made[1] if spec is not None and spec.made is not None else ()
        more = [name for name in sources if name in names and name not in wanted]
        wanted.update(more)
        waiting += more
    if not wanted:
        raise ColumnError(f"Name at least one column of `{told}` to read.")
    left_out = set(names) - wanted
    known = {name: spec for name, spec in book.columns.items() if name not in left_out}
    return _without_nested([name for name in names if name in wanted], replace(book, columns=known), told, nested)


def _without_nested(names: list[str], book: Codebook, told: str, nested: Collection[str]) -> tuple[list[str], Codebook]:
    """Leave columns of lists and records out, and say so."""
    here = [name for name in names if name in nested]
    if not here:
        return names, book
    kept = [name for name in names if name not in nested]
    holds = f"{listed(quoted(here))} {'holds' if len(here) == 1 else 'hold'} lists or records"
    if not kept:
        raise ColumnError(f"`{told}`: {holds}, and no other column is there; numbers and texts are needed.")
    remark(f"`{told}`: {holds}: left out of the study.")
    return kept, replace(book, columns={n: spec for n, spec in book.columns.items() if n not in here})
