"""Columns under other names, in themselves and in what was made of them."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import replace

from markbase.core.errors import ColumnError, listed, quoted
from markbase.core.study.column import Column


def renamed(columns: Mapping[str, Column], names: Mapping[str, str]) -> dict[str, Column]:
    """Return columns in their order, some of them under other names (old to new, all of them there).

    Raises a `ColumnError` for a name that is blank, given twice, or that of a column which keeps it.
    """
    if not names:
        raise ColumnError('Say which columns are to be called what, for instance {"v23": "age"}.')
    blank = [old for old, new in names.items() if not new.strip()]
    if blank:
        raise ColumnError(f"A new name of {listed(quoted(blank))} is blank.")
    every = [names.get(name, name) for name in columns]
    twice = [name for name, times in Counter(every).items() if times > 1]
    if twice:
        raise ColumnError(
            f"Two columns would be called {listed(quoted(twice), 'or')}, and nothing is overwritten; choose another name."
        )
    done: dict[int, Column] = {}
    return dict(zip(every, (_called(column, names, done) for column in columns.values()), strict=True))


def _called(column: Column, names: Mapping[str, str], done: dict[int, Column]) -> Column:
    if id(column) not in done:
        made, base = column.made, column.base
        if made is not None:
            sources = tuple(_called(source, names, done) for source in made.sources)
            made = replace(made, of=tuple(names.get(name, name) for name in made.of), sources=sources)
        if base is not None and base.looked_at:
            base = replace(base, looked_at=names.get(base.looked_at, base.looked_at))
        done[id(column)] = replace(column, name=names.get(column.name, column.name), made=made, base=base)
    return done[id(column)]
