"""Columns of a model that have the order of the outcome in every row, as what was rounded, ranked or cut out of it has."""

from __future__ import annotations

import math
from collections.abc import Iterable

import numpy as np
import scipy.special as sp
from numpy.typing import NDArray

from markbase.core.design.shared import Shared
from markbase.core.rows.parts import in_parts
from markbase.core.study.column import Column

Array = NDArray[np.float64]
_CHANCE, _FEWEST_ROWS, _MOST_ROWS, _GLANCE = 1e-6, 30, 2_000_000, 12
"""Less likely where the two have nothing in common; of no fewer rows, which may be in order as they go together, and no more; rows that are looked at before all are."""


def by_order(outcome: Column, terms: Iterable[Column]) -> list[Shared]:
    """Say that a column has the order of the outcome in every row: a numeric one never falls where the outcome rises, or levels hold values of it that do not overlap.

    Of columns that a preparing step made it is known how. Rows in parts, and very many, are not looked at.
    """
    if outcome.is_categorical or in_parts(outcome.values) or len(outcome.values) > _MOST_ROWS:
        return []
    more = np.flatnonzero(outcome.present[: 8 * _GLANCE])[: 4 * _GLANCE]
    rows = more[:_GLANCE]
    asked = [t for t in terms if t.made is None]
    if not asked:
        return []
    agree = _agree(outcome.values[rows], np.array([t.values[rows] for t in asked]))
    by_outcome = more[np.argsort(outcome.values[more])]
    likely = [
        t
        for t, fits in zip(asked, agree, strict=True)
        if (_in_runs(t.values[by_outcome].astype(np.intp)) if t.is_categorical else fits)
    ]
    return [Shared(term.name, _words(outcome, term)) for term in likely if _in_order(outcome, term)]


def _words(outcome: Column, term: Column) -> str:
    what = (
        f"The levels of `{term.name}` hold values of `{outcome.name}` that do not overlap"
        if term.is_categorical
        else f"`{term.name}` has the order of `{outcome.name}` in every row"
    )
    return (
        f"{what}: was it made of it (cut, rounded, ranked), or is it an old prediction? What it explains then says nothing, and what the other terms tell says little "
        "about the outcome."
    )


def _agree(y: Array, columns: Array) -> NDArray[np.bool_]:
    """Return with which columns, shape (columns, rows), no two rows have opposite orders, or none the same one; of missing values nothing is known."""
    with np.errstate(invalid="ignore"):
        both = ((y[:, None] - y) * (columns[:, :, None] - columns[:, None])).reshape(len(columns), -1)
    return np.logical_not((both > 0).any(axis=1) & (both < 0).any(axis=1))


def _in_order(outcome: Column, term: Column) -> bool:
    there = outcome.present & term.present
    y, x = outcome.values[there], term.values[there]
    if len(y) < _FEWEST_ROWS:
        return False
    counts = np.unique(x, return_counts=True)[1]
    if len(counts) < 2 or not (_apart(y, x, len(counts)) if term.is_categorical else _rises(y, x) or _rises(-y, x)):
        return False
    ties = np.unique(y, return_counts=True)[1]
    ways = sp.gammaln(len(y) + 1) - max(float(sp.gammaln(c + 1).sum()) for c in (counts, ties))
    orders = sp.gammaln(len(counts) + 1) if term.is_categorical else math.log(2)
    return bool(orders - ways < math.log(_CHANCE))


def _in_runs(codes: NDArray[np.integer]) -> bool:
    """Return whether the rows of each level stand together, those without one left aside."""
    codes = codes[codes >= 0]
    return int(np.count_nonzero(codes[1:] != codes[:-1])) < len(np.unique(codes))


def _apart(y: Array, codes: NDArray[np.generic], levels: int) -> bool:
    """Return whether the values of levels do not overlap, nor touch."""
    order = np.argsort(y, kind="stable")
    changes = codes[order][1:] != codes[order][:-1]
    return int(np.count_nonzero(changes)) + 1 == levels and bool(np.all(np.diff(y[order])[changes] > 0))


def _rises(y: Array, x: Array) -> bool:
    """Return whether one never falls where the other rises."""
    return bool(np.all(np.diff(y[np.lexsort((y, x))]) >= 0))
