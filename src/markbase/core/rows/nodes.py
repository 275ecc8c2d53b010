"""How the values of a part are made: of columns as the source hands them over, or of one another."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

from markbase.core.rows.source import Part

Memo = dict[int, NDArray[Any]]
"""What has been made of a part already, by the node that made it."""


class Node(ABC):
    """How the values of a part are made."""

    leaves: frozenset[str]

    def at(self, part: Part, memo: Memo) -> NDArray[Any]:
        """Return the values of a part; each is made once a part."""
        if id(self) not in memo:
            memo[id(self)] = self.made(part, memo)
        return memo[id(self)]

    @abstractmethod
    def made(self, part: Part, memo: Memo) -> NDArray[Any]:
        """Make the values of a part."""


class Leaf(Node):
    """A column as the source hands it over."""

    def __init__(self, name: str) -> None:
        self.name, self.leaves = name, frozenset([name])

    def made(self, part: Part, memo: Memo) -> NDArray[Any]:  # noqa: ARG002 - needs no others
        """Make the values of a part."""
        return part.columns[self.name]


class Applied(Node):
    """A function of others, element by element."""

    def __init__(self, function: Callable[..., Any], arguments: tuple[Any, ...], settings: Mapping[str, Any]) -> None:
        self.function, self.arguments, self.settings = function, arguments, settings
        self.leaves = frozenset().union(*(a.leaves for a in arguments if isinstance(a, Node)))

    def made(self, part: Part, memo: Memo) -> NDArray[Any]:
        """Make the values of a part."""
        values = [a.at(part, memo) if isinstance(a, Node) else a for a in self.arguments]
        with np.errstate(all="ignore"):
            found: NDArray[Any] = self.function(*values, **self.settings)
        return found


class Picked(Node):
    """The rows of another where a mask is true."""

    def __init__(self, node: Node, mask: Node) -> None:
        self.node, self.mask, self.leaves = node, mask, node.leaves | mask.leaves

    def made(self, part: Part, memo: Memo) -> NDArray[Any]:
        """Make the values of a part."""
        found: NDArray[Any] = self.node.at(part, memo)[self.mask.at(part, memo)]
        return found


class Spread(Node):
    """The rows of a mask with their values, all others NaN."""

    def __init__(self, node: Node, mask: Node) -> None:
        self.node, self.mask, self.leaves = node, mask, node.leaves | mask.leaves

    def made(self, part: Part, memo: Memo) -> NDArray[Any]:
        """Make the values of a part."""
        inside = self.mask.at(part, memo)
        found = np.full(len(inside), np.nan)
        found[inside] = self.node.at(part, memo)
        return found


class Places(Node):
    """The places of the rows of a part."""

    leaves = frozenset[str]()

    def made(self, part: Part, memo: Memo) -> NDArray[Any]:  # noqa: ARG002 - needs no others
        """Make the values of a part."""
        return np.arange(part.start, part.start + part.rows) if part.places is None else part.places


class Begins(Node):
    """How many rows come before a part, as an array of one number; −1 for a sample."""

    leaves = frozenset[str]()

    def made(self, part: Part, memo: Memo) -> NDArray[Any]:  # noqa: ARG002 - needs no others
        """Make the number."""
        return np.array([part.start if part.places is None else -1])
