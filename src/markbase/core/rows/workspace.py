"""Arrays that are filled anew for every chunk of rows: memory that is asked for each time costs more than what is done with it."""

from __future__ import annotations

import math
import threading

import numpy as np
from numpy.typing import NDArray

_MOST_HELD = 1 << 22
"""Larger arrays are not held."""


class Workspace(threading.local):
    """Memory that one thread uses again and again, by the name of what it is for."""

    def __init__(self) -> None:
        self._held: dict[str, NDArray[np.float64]] = {}

    def array(self, name: str, *shape: int) -> NDArray[np.float64]:
        """Return an array of that shape, its values left to fill; it is good until the same name is asked for again."""
        size = math.prod(shape)
        if size > _MOST_HELD:
            return np.empty(shape)
        held = self._held.get(name)
        if held is None or held.size < size:
            held = self._held[name] = np.empty(size)
        return held[:size].reshape(shape)


WORKSPACE = Workspace()


def in_one_piece(name: str, values: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return some columns of a matrix in one piece of memory: a product would copy them into memory of its own."""
    if values.flags.c_contiguous:
        return values
    room = WORKSPACE.array(name, *values.shape)
    np.copyto(room, values)
    return room
