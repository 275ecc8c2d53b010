"""What hands over rows a part at a time."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray

T = TypeVar("T")

PART_ROWS = 1 << 17
"""At most so many rows are in a part."""


@dataclass(frozen=True, eq=False)
class Part:
    """Some rows: those that follow one another, or those of a sample."""

    start: int
    """How many rows come before them."""
    rows: int
    """How many they are."""
    columns: Mapping[str, NDArray[Any]]
    """The columns asked for, each of shape (rows,)."""
    places: NDArray[np.int64] | None = None
    """Shape (rows,): the place of each among all rows, where they do not follow one another."""


@dataclass(frozen=True, kw_only=True)
class RowSource(ABC):
    """Where the rows of a study come from, if they are not in memory."""

    name: str
    """What the data are called."""
    rows: int
    """How many rows there are."""
    kept: Part
    """Rows of every column that are kept in memory, taken at random from all of them; their order is kept."""

    @abstractmethod
    def run(self, function: Callable[[Part], T], names: Sequence[str]) -> Iterator[T]:
        """Apply a function to every part, with some of the columns, and yield what it returns in the order of the parts.

        The parts are the same ones every time: what rests on the rows before a part is kept by where it begins.

        Raises
        ------
        MarkbaseError
            If the rows cannot be read any more, or are not those that were opened.
        """

    def held(self, function: Callable[[Part], T], names: Sequence[str]) -> Iterator[T]:
        """Do the same where what the function returns is as large as a part: few of them wait to be taken."""
        return self.run(function, names)
