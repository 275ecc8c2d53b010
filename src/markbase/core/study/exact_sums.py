"""Numeric columns that are the exact total of other numeric columns."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from markbase.core.rows.row_functions import all_of, sample_of, sum_of
from markbase.core.study.column import Column

_ROWS = 4096
_MOST_COLUMNS = 200
_LARGEST = 1e150


def find_totals(columns: Sequence[Column]) -> dict[str, tuple[str, ...]]:
    """Find the numeric columns that are, in every row, the sum of two or more others, or equal to another, with these parts.

    An equality of two columns is told of the later one. Candidates are the combinations of the centred columns that are 0
    in up to 4,096 complete rows; each is then checked on all rows in which its members are present. Columns that do not
    vary are passed over.
    """
    varying = [c for c in columns if c.valid > 1 and c.span[0] < c.span[1]][:_MOST_COLUMNS]
    varying = [c for c in varying if np.abs(c.span).max() < _LARGEST]  # beyond it a square cannot be written
    if len(varying) < 2:
        return {}
    complete = all_of([sample_of(c.present) for c in varying])
    rows = np.flatnonzero(complete)
    if len(rows) <= len(varying):
        return {}
    rows = rows[np.linspace(0, len(rows) - 1, min(_ROWS, len(rows))).astype(np.intp)]
    block = np.column_stack([sample_of(c.values)[rows] for c in varying])
    block = block - block.mean(axis=0)
    size = np.linalg.norm(block, axis=0)
    if not size.all():
        return {}
    found: dict[str, tuple[str, ...]] = {}
    for weights in null_vectors(block / size):
        weights = weights / size
        members = np.flatnonzero(np.abs(weights * size) > 1e-9 * np.abs(weights * size).max())
        told = _as_total([varying[k] for k in members], weights[members])
        if told:
            found[told[0]] = told[1]
    return found


def null_vectors(block: NDArray[np.float64], small: float = 1e-12) -> list[NDArray[np.float64]]:
    """Return the combinations of columns of unit length that are 0, or as small as said, each with a column that no other has."""
    _, sizes, rotation = np.linalg.svd(np.linalg.qr(block, mode="r"))
    rest = rotation[sizes <= small * np.sqrt(block.shape[1])]
    for k in range(len(rest)):  # in echelon form, the largest entry first
        row, column = np.unravel_index(np.argmax(np.abs(rest[k:])), rest[k:].shape)
        rest[[k, k + row]] = rest[[k + row, k]]
        rest[k] /= rest[k, column]
        others = np.arange(len(rest)) != k
        rest[others] -= np.outer(rest[others, column], rest[k])
    return list(rest)


def _as_total(members: Sequence[Column], weights: NDArray[np.float64]) -> tuple[str, tuple[str, ...]] | None:
    """Read a dependence as `total = sum of parts`, verified on all rows; None if it is not one."""
    signs = np.round(weights / np.abs(weights).max())
    if not np.allclose(weights / np.abs(weights).max(), signs, atol=1e-7) or not signs.all():
        return None
    for sign in (1, -1):
        if np.sum(signs == sign) == 1:
            total = members[int(np.flatnonzero(signs == sign)[0])]
            if len(members) == 2:
                total = members[1]
            parts = [c for c in members if c is not total]
            if np.all(signs[[c is not total for c in members]] == -sign) and _holds(total, parts):
                return total.name, tuple(c.name for c in parts)
    return None


def _holds(total: Column, parts: Sequence[Column]) -> bool:
    rows = all_of([c.present for c in (total, *parts)])
    gap = np.abs(total.values - sum_of([c.values for c in parts]))[rows]
    size = max(float(np.abs(c.span).max()) for c in (total, *parts))
    return bool(np.all(gap <= 16 * np.finfo(float).eps * len(parts) * size))
