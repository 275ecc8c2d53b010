"""How strongly two columns go together, whatever their kinds.

Two amounts: Pearson's r, or Spearman's on ranks. An amount and a yes/no group: the point-biserial r,
which is Pearson's with 0 and 1. Two yes/no groups: phi, the same. An amount and a group of more
levels: the correlation ratio, the root of the share of variation between the levels. Two groups
otherwise: Cramér's V. The last two have no sign.

References
----------
Pearson (1905), Drapers' Company Research Memoirs, Biometric Series II (the correlation ratio).
Cramér (1946), Mathematical Methods of Statistics, ch. 21 (V).
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pandas as pd
import scipy.special
from numpy.typing import NDArray

from markbase.core.model.gathering import gather
from markbase.core.model.moments import Moments
from markbase.core.model.terms import Block, Term
from markbase.core.study.column import Column

Array = NDArray[np.float64]


def associations(moments: Moments, terms: Sequence[Term]) -> tuple[Array, list[list[str]]]:
    """Compute all associations from one set of moments.

    Parameters
    ----------
    moments : Moments
        Block k + 1 is ``terms[k]``.
    terms : sequence of Term
        Amounts and groups.

    Returns
    -------
    values : ndarray, shape (terms, terms)
        The associations, 1 on the diagonal; NaN where a column does not vary.
    measures : list of list of str
        The name of each.
    """
    n, starts, sizes = moments.weight, moments.starts, moments.sizes
    sums = moments.cross[0]
    centred = moments.cross - np.outer(sums, sums) / n
    count = len(terms)
    values, measures = np.eye(count), [["" for _ in terms] for _ in terms]
    for a in range(count):
        for b in range(a + 1, count):
            rows = slice(starts[a + 1], starts[a + 1] + sizes[a + 1])
            columns = slice(starts[b + 1], starts[b + 1] + sizes[b + 1])
            value, name = _pair(terms[a], terms[b], centred, moments.cross, rows, columns, n)
            values[a, b] = values[b, a] = value
            measures[a][b] = measures[b][a] = name
    return values, measures


def _pair(
    first: Term, second: Term, centred: Array, cross: Array, rows: slice, columns: slice, n: float
) -> tuple[float, str]:
    plain = [not t.is_group or len(t.places) == 2 for t in (first, second)]
    if all(plain):
        # the second of two levels is the 1 of a yes/no group
        a = rows.start + (1 if first.is_group else 0)
        b = columns.start + (1 if second.is_group else 0)
        groups = first.is_group + second.is_group
        name = ("r", "point-biserial r", "phi")[groups]
        size = np.sqrt(centred[a, a] * centred[b, b])
        return (float(np.clip(centred[a, b] / size, -1, 1)) if size > 0 else np.nan), name
    if first.is_group and second.is_group:
        return _cramer(cross[rows, columns], n), "Cramér's V"
    group, amount = (rows, columns.start) if first.is_group else (columns, rows.start)
    total = centred[amount, amount]
    if not total > 0:
        return np.nan, "correlation ratio"
    counts = np.diag(cross[group, group])
    between = float(np.sum(centred[group, amount] ** 2 / counts))
    return float(np.sqrt(min(between / total, 1.0))), "correlation ratio"


def _cramer(table: Array, n: float) -> float:
    expected = np.outer(table.sum(axis=1), table.sum(axis=0)) / n
    chi2 = float(np.sum((table - expected) ** 2 / expected))
    return float(np.sqrt(min(chi2 / (n * (min(table.shape) - 1)), 1.0)))


def interval_of_r(r: float, rows: int, level: float) -> tuple[float, float]:
    """Return the interval of a correlation by Fisher's z.

    Parameters
    ----------
    r : float
        Pearson's r or one of its kind.
    rows : int
        Rows it was computed from.
    level : float
        Confidence level.

    Returns
    -------
    low, high : float
        NaN with fewer than 4 rows, or where r is 1 in size.

    References
    ----------
    Fisher (1921), Metron 1, 3-32.
    """
    if rows < 4 or not abs(r) < 1:
        return float("nan"), float("nan")
    half = float(scipy.special.ndtri((1 + level) / 2)) / np.sqrt(rows - 3)
    return float(np.tanh(np.arctanh(r) - half)), float(np.tanh(np.arctanh(r) + half))


def ranked(column: Column, used: NDArray[np.bool_] | None) -> Array:
    """Return the mean ranks of an amount among the rows used, shape (rows,); 0 elsewhere."""
    where = np.arange(len(column.values)) if used is None else np.flatnonzero(used)
    values = column.values[where]
    _, places, counts = np.unique(values, return_inverse=True, return_counts=True)
    last = np.cumsum(counts)
    ranks = np.zeros(len(column.values))
    ranks[where] = (last - (counts - 1) / 2)[places]
    return ranks


def pairwise(columns: Sequence[Column], make: object, spearman: bool) -> tuple[Array, NDArray[np.int64]]:
    """Compute each association on all rows that have both columns.

    Parameters
    ----------
    columns : sequence of Column
        The columns.
    make : callable
        Makes a term of a column on some rows.
    spearman : bool
        Whether amounts enter by their ranks.

    Returns
    -------
    values : ndarray, shape (columns, columns)
        The associations; NaN where fewer than 3 rows have both, or one does not vary there.
    rows : ndarray of int, shape (columns, columns)
        Rows that have both.
    """
    count = len(columns)
    values, rows = np.eye(count), np.zeros((count, count), dtype=np.int64)
    for a in range(count):
        rows[a, a] = columns[a].valid
        for b in range(a + 1, count):
            both = columns[a].present & columns[b].present
            rows[a, b] = rows[b, a] = int(both.sum())
            values[a, b] = values[b, a] = np.nan
            if rows[a, b] < 3 or any(_constant(c, both) for c in (columns[a], columns[b])):
                continue
            terms = [make(c, both) for c in (columns[a], columns[b])]  # type: ignore[operator]
            blocks = [_block(t, both, spearman) for t in terms]
            values[a, b] = values[b, a] = associations(gather(blocks, len(both), both), terms)[0][0, 1]
    return values, rows


def _constant(column: Column, rows: NDArray[np.bool_]) -> bool:
    values = column.values[rows]
    return bool(values.min() == values.max())


def _block(term: Term, used: NDArray[np.bool_] | None, spearman: bool) -> Block:
    return Block(1, multiplier=ranked(term.column, used)) if spearman and not term.is_group else term.block()


def square(values: Array, names: Sequence[str]) -> pd.DataFrame:
    """Return a square table with names as labels."""
    return pd.DataFrame(values, index=list(names), columns=list(names))
