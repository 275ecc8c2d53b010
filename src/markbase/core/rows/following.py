"""Arrays whose values rest on rows before them, where rows follow one another in an order that is known."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Generic, TypeVar

import numpy as np
from numpy.typing import NDArray

from markbase.core.rows.nodes import Begins
from markbase.core.rows.parts import InParts, arrays_in, over_parts, rows_at
from markbase.core.rows.row_functions import made_of

E = TypeVar("E")


def made_along(
    count: int,
    end_of: Callable[..., E | None],
    joined: Callable[[E | None, E | None], E | None],
    function: Callable[..., tuple[NDArray[Any], ...]],
    *trees: Any,
) -> tuple[Any, ...]:
    """Return `count` arrays in parts that a function makes of the rows of each part and of what the rows before them leave behind.

    `end_of` takes the trees of a part, and returns what its rows leave behind, None for nothing; `joined` joins what all
    rows before a part leave behind (None before the first) with what the part does, and may refuse; `function` takes what
    the rows before a part leave behind, and its trees.
    """
    first = arrays_in(trees)[0]
    begins = InParts(first.source, Begins(), np.dtype(np.intp), first.mask)

    def of_part(begin: NDArray[np.intp], *own: Any) -> tuple[int, E | None]:
        return int(begin[0]), end_of(*own)

    before: dict[int, E | None] = {}
    carried: E | None = None
    for start, end in over_parts(of_part, begins, *trees):
        before[start] = carried
        carried = joined(carried, end)
    along = _Along(function, before)
    found = made_of(count, along, begins, *trees)
    places = first.source.kept.places
    if places is not None:
        inside = places if first.mask is None else places[first.mask.kept]
        along.kept = tuple(rows_at(inside, *found)) if len(inside) else tuple(np.zeros(0) for _ in found)
    return found


class _Along(Generic[E]):
    """Makes arrays of the rows of a part, of which it knows what came before."""

    def __init__(self, function: Callable[..., tuple[NDArray[Any], ...]], before: dict[int, E | None]) -> None:
        self.function, self.before = function, before
        self.kept: tuple[NDArray[Any], ...] = ()
        """What was made of the rows that are kept in memory, which do not follow one another."""

    def __call__(self, begin: NDArray[np.intp], *own: Any) -> tuple[NDArray[Any], ...]:
        start = int(begin[0])
        return self.kept if start < 0 else self.function(self.before[start], *own)
