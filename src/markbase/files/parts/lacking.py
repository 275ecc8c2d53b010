"""Columns that some of the files read together do not have, told by what the files are called."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from pathlib import Path

from markbase.core.errors import FileError, count_noun, near, quoted, remark, some_of


def names_for(files: Sequence[Path]) -> list[str]:
    """Return what files are called where their rows stand together: their names, with their folders where these are not all different."""
    names = [p.name for p in files]
    return names if len(set(names)) == len(names) else [p.as_posix() for p in files]


def refuse_strangers(called: Sequence[str], headers: Sequence[Iterable[str]]) -> None:
    """Refuse tables of which one has no column in common with the first."""
    first, *others = map(list, headers)
    for name, own in zip(called[1:], others, strict=True):
        if not set(own) & set(first):
            raise FileError(
                f"{name} has no column of {called[0]} ({some_of(quoted(first))} there, {some_of(quoted(own))} here): tables that are read together hold the same things."
            )


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
