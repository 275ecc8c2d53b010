"""How results come to print well although the core draws nothing.

The core declares that a result can be shown; the room `show` says how. The package's
`__init__` hands over a loader, so that the drawing code is imported only when something is
printed, and the import points downward.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any, Protocol, TypeVar

F = TypeVar("F")


def suiting(result: object, by_type: Mapping[type, F]) -> F | None:
    """Return what a table has for the type of a result, or for the nearest it is one of; None for none."""
    return next((by_type[kind] for kind in type(result).__mro__ if kind in by_type), None)


class Renderer(Protocol):
    """What turns a result into text or HTML."""

    def text(self, result: object, short: bool = False) -> str:
        """Return the result as plain text; short: its numbers alone."""
        ...

    def html(self, result: object) -> str:
        """Return the result as an HTML fragment."""
        ...


_loader: Callable[[], Renderer] | None = None


def set_renderer(loader: Callable[[], Renderer]) -> None:
    """Say what returns the renderer, whenever something is shown."""
    global _loader
    _loader = loader


class Shown:
    """A result that prints well in a terminal and in a notebook."""

    def __str__(self) -> str:
        return object.__repr__(self) if _loader is None else _loader().text(self)

    def summary(self, *, short: bool = False) -> str:
        """Return the page that `print` shows.

        Parameters
        ----------
        short : bool
            Numbers alone: no sentences and no equation, and of a group of more than 12 levels its extremes.

        Returns
        -------
        str
            The text.
        """
        return object.__repr__(self) if _loader is None else _loader().text(self, short)

    def __repr__(self) -> str:
        """Return what stands for it in a list or a log: one short line, where `print` gives the page."""
        brief = self._brief
        return f"<{type(self).__name__}{f': {brief}' if brief else ''}>"

    @property
    def _brief(self) -> str:
        """What it is about, in a few words."""
        return ""

    def _repr_pretty_(self, printer: Any, cycle: bool) -> None:
        """Show the page where it stands alone, and one line inside of something else (as IPython asks for it)."""
        alone = not cycle and len(getattr(printer, "stack", [])) <= 1
        printer.text(str(self) if alone else repr(self))

    def _repr_html_(self) -> str | None:
        return None if _loader is None else _loader().html(self)


class ShownTables(Shown):
    """A result with tables among its fields, of which everybody who asks gets a copy: what is done to it changes no print."""

    def __getattribute__(self, name: str) -> Any:
        value = super().__getattribute__(name)
        return value.copy() if type(value).__name__ == "DataFrame" else value
