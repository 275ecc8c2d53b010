"""What a shell offers while a command is typed: columns, levels and fits of the file that was named."""

from __future__ import annotations

import csv
from collections.abc import Callable, Iterable
from pathlib import Path

import rich_click as click
from click.shell_completion import CompletionItem

from markbase.core.errors import MarkbaseError
from markbase.files.data import TEXT_SUFFIXES, open_study, read_table
from markbase.files.plan import Plan, read_plan

_MOST_BYTES = 50_000_000
"""Of a file in which levels are looked for while somebody is typing."""


def teach(command: click.Command) -> None:
    """Let every option and argument of a command offer what its metavar says it takes."""
    for param in command.params:
        metavar = str(getattr(param, "metavar", None) or "").strip("[]")
        offered = _fits_offered if param.name == "names" else _OFFERED.get(metavar) or _OFFERED.get(str(param.name))
        if offered:
            setattr(param, "shell_complete", offered)  # noqa: B010 - a method of one object


def _columns_offered(ctx: click.Context, incomplete: str) -> list[CompletionItem]:
    """Offer columns, also behind a comma."""
    before, comma, begun = incomplete.rpartition(",")
    named = (f'"{column}"' if "," in column else column for column in _columns(ctx))
    return _items(named, before + comma, begun)


def _values_offered(ctx: click.Context, incomplete: str) -> list[CompletionItem]:
    """Offer columns, then behind ``=`` the levels of that column."""
    name, mark, begun = incomplete.partition("=")
    if not mark:
        return _items((f"{column}=" for column in _columns(ctx)), "", name)
    return _items(_levels(ctx, name), f"{name}=", begun)


def _fits_offered(ctx: click.Context, incomplete: str) -> list[CompletionItem]:
    """Offer the fits of a plan, and columns."""
    plan = _plan(ctx)
    names = [entry.name for entry in (*plan.analysis.fits, *plan.analysis.imputations)] if plan else []
    return _items([*names, *_columns(ctx)], "", incomplete)


_OFFERED: dict[str, Callable[[click.Context, str], list[CompletionItem]]] = {
    **dict.fromkeys(("COLUMN", "COLUMNS", "GROUP", "column", "outcome"), _columns_offered),
    **dict.fromkeys(("GROUP=LEVEL", "COLUMN=DEGREE", "COLUMN=KIND", "COLUMN=VALUES"), _values_offered),
}
"""By what a metavar, or else a name, says."""


def _items(names: Iterable[str], before: str, begun: str) -> list[CompletionItem]:
    return [CompletionItem(before + name) for name in names if name.casefold().startswith(begun.casefold())]


def _file(ctx: click.Context) -> Path | None:
    """Return the file that was named: as an argument, or left over behind an option whose value is being typed."""
    named = ctx.params.get("file") or next((a for a in ctx.args if not a.startswith("-")), None)
    return Path(named) if named else None


def _plan(ctx: click.Context) -> Plan | None:
    file = _file(ctx)
    try:
        return read_plan(file) if file is not None and file.suffix.lower() == ".toml" else None
    except MarkbaseError:
        return None


def _data(ctx: click.Context) -> Path | None:
    plan = _plan(ctx)
    found = plan.file if plan else _file(ctx)
    return found if found is not None and found.is_file() else None


def _columns(ctx: click.Context) -> list[str]:
    path = _data(ctx)
    if path is None:
        return []
    try:
        if path.suffix.lower() not in TEXT_SUFFIXES:
            return [str(name) for name in read_table(path).columns] if path.stat().st_size <= _MOST_BYTES else []
        with path.open(encoding="utf-8-sig", errors="replace", newline="") as lines:
            first = next(lines, "")
    except (MarkbaseError, OSError):
        return []
    return next(csv.reader([first], delimiter=max(",;\t|", key=first.count)), [])


def _levels(ctx: click.Context, name: str) -> list[str]:
    path, plan = _data(ctx), _plan(ctx)
    if path is None or path.stat().st_size > _MOST_BYTES:
        return []
    book = ctx.params.get("codebook") or (plan.codebook if plan else None)
    try:
        column = open_study(path, book)[name]
    except MarkbaseError:
        return []
    return [level.label for level in column.levels]
