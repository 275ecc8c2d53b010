"""How output is wished for, and where rows are held: the options that every command has."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import rich_click as click

_KEY = "markbase.wishes"
_LARGE = "Data larger than memory"


@dataclass(frozen=True)
class Wishes:
    """What was asked of a command, whatever it is."""

    short: bool = False
    """Numbers alone."""
    quiet: bool = False
    """No remarks."""
    width: int | None = None
    """Letters a line."""
    in_parts: bool = False
    """Rows are read a part at a time."""
    in_memory: bool = False
    """Rows are all taken into memory, whatever the size of the file."""
    cluster_address: str | None = None
    """The scheduler whose workers read the rows."""


def wishes() -> Wishes:
    """Return what was asked of the command that runs."""
    ctx = click.get_current_context(silent=True)
    found: Wishes = ctx.meta.get(_KEY, Wishes()) if ctx else Wishes()
    return found


def with_wishes(command: click.Command) -> click.Command:
    """Return a command with the options that every command has."""
    if not any(param.name == "quiet" for param in command.params):
        command.params += [
            _option("--short", is_flag=True, help="Numbers alone; of a group of many levels its extremes."),
            _option("--quiet", is_flag=True, help="No remarks on standard error."),
            _option(
                "--width", type=click.IntRange(40, 400), metavar="N", help="Letters a line.  [default: the terminal]"
            ),
            _option("--in-parts", is_flag=True, help="Read the rows a part at a time.", panel=_LARGE),
            _option(
                "--in-memory", is_flag=True, help="Take all rows into memory, however large the file.", panel=_LARGE
            ),
            _option(
                "--cluster-address",
                metavar="ADDRESS",
                help="Let the workers of this Dask scheduler read the rows: tcp://127.0.0.1:8786.",
                panel=_LARGE,
            ),
        ]
    return command


def _option(name: str, **more: Any) -> click.Option:
    more = {"panel": "Printing", **more}
    return click.RichOption([name], expose_value=False, is_eager=True, callback=_noted, **more)


def _noted(ctx: click.Context, param: click.Parameter, value: Any) -> Any:
    if value:
        ctx.meta[_KEY] = replace(wishes(), **{str(param.name): value})
    return value
