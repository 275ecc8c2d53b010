"""Rows a chunk at a time, and the joint cells of groups in them."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.terms import CodedColumns

CHUNK_ROWS = 1 << 14
"""Rows taken at a time."""
_MOST_CELLS = 1 << 14
"""Groups are counted together while their joint cells are no more than this."""


def row_chunks(rows: int, used: NDArray[np.bool_] | None, size: int = CHUNK_ROWS) -> Iterator[slice | NDArray[np.intp]]:
    """Yield the rows used, a chunk at a time, as something that indexes an array of shape (rows,).

    A chunk has `size` rows before those not used are taken out.
    """
    for start in range(0, rows, size):
        stop = min(start + size, rows)
        if used is None:
            yield slice(start, stop)
        else:
            picked = np.flatnonzero(used[start:stop])
            if len(picked):
                yield picked + start


def rows_of(
    blocks: Sequence[CodedColumns],
    used: NDArray[np.bool_] | None,
    weights: NDArray[np.float64] | None,
    rows: int,
) -> int:
    """Return how many rows arrays have; where there are none, as many as are said."""
    arrays = [a for b in blocks for a in (b.codes, b.multiplier)]
    return next((len(a) for a in (*arrays, used, weights) if a is not None), rows)


def joint_sets(blocks: Sequence[CodedColumns], groups: Sequence[int]) -> list[list[int]]:
    """Put groups together while their joint cells are few: one pass of counting serves them all."""
    sets: list[list[int]] = []
    cells: list[int] = []
    for k in sorted(groups, key=lambda g: blocks[g].levels):
        for place, size in enumerate(cells):
            if size * blocks[k].levels <= _MOST_CELLS:
                sets[place].append(k)
                cells[place] = size * blocks[k].levels
                break
        else:
            sets.append([k])
            cells.append(blocks[k].levels)
    return sets


def joint_cells(
    blocks: Sequence[CodedColumns], joint: Sequence[int], chunk: slice | NDArray[np.intp]
) -> NDArray[np.intp]:
    """Return the joint cell of each row of a chunk, shape (rows of the chunk,); the codes of the first group count most."""
    codes = [blocks[k].codes[chunk] for k in joint]  # type: ignore[index]
    cell = codes[0]
    if math.prod(blocks[k].levels for k in joint) > np.iinfo(cell.dtype).max:
        cell = cell.astype(np.intp)
    for k, own in zip(joint[1:], codes[1:], strict=True):
        cell = cell * blocks[k].levels
        cell += own
    return cell.astype(np.intp, copy=False)
