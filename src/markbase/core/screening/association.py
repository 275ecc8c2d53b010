"""How strongly two columns go together, whatever their kinds.

Two numeric columns: Pearson's r, or Spearman's on ranks. A numeric column and a yes/no group: the point-biserial r,
which is Pearson's with 0 and 1. Two yes/no groups: phi, the same. A numeric column and a group of more
levels: the correlation ratio, the root of the share of variation between the levels. Two groups
otherwise: Cramér's V. The last two have no sign.

References
----------
Pearson (1905), Drapers' Company Research Memoirs, Biometric Series II (the correlation ratio).
Cramér (1946), Mathematical Methods of Statistics, ch. 21 (V).
Steiger & Hakstian (1982), British Journal of Mathematical and Statistical Psychology 35(2), 208-215,
doi:10.1111/j.2044-8317.1982.tb00653.x (how r varies, whatever the distribution).
Borkowf (2002), Computational Statistics & Data Analysis 39(3), 271-286, doi:10.1016/S0167-9473(01)00081-0 (how Spearman's does).
"""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
import scipy.special
from numpy.typing import NDArray

from markbase.core.design.cross_products import gather
from markbase.core.design.moments import Moments
from markbase.core.design.terms import CodedColumns, Term
from markbase.core.design.weights import Weights
from markbase.core.rows.row_functions import refuse_in_parts
from markbase.core.study.column import Column

Array = NDArray[np.float64]
ROWS_LOOKED_AT = 1 << 14
"""Rows that tell by how much single ones move a figure: of more, so many, evenly spread, tell it to some percent."""
_PRODUCT_MOMENT = ("r", "point-biserial r", "phi")
"""The measure of two columns that are single numbers, by how many of them are yes/no groups."""


def associations(moments: Moments, terms: Sequence[Term]) -> tuple[Array, list[list[str]]]:
    """Compute all associations of terms from one set of moments, and name the measure of each, both of shape (terms, terms).

    1 on the diagonal; NaN where a column does not vary.
    """
    n, starts, sizes = moments.weight, moments.starts.tolist(), moments.sizes
    cross, sums, count = moments.cross, moments.cross[0], len(terms)
    plain = [not t.is_categorical or len(t.variables[0].places) == 2 for t in terms]
    # the second of two levels is the 1 of a yes/no group
    at = [starts[k] + (1 if t.is_categorical and plain[k - 1] else 0) for k, t in enumerate(terms, 1)]
    centred = cross[np.ix_(at, at)] - np.outer(sums[at], sums[at]) / n
    variation = np.diag(centred).copy()
    with np.errstate(divide="ignore", invalid="ignore"):
        size = np.sqrt(np.outer(variation, variation))
        values = np.where(size > 0, np.clip(centred / size, -1, 1), np.nan)
    np.fill_diagonal(values, 1.0)
    measures = [[_PRODUCT_MOMENT[s.is_categorical + t.is_categorical] for t in terms] for s in terms]
    singles = np.flatnonzero([not t.is_categorical for t in terms])
    wide = [k for k in range(count) if not plain[k]]
    for a in wide:
        rows = slice(starts[a + 1], starts[a + 1] + sizes[a + 1])
        values[a, singles] = values[singles, a] = _correlation_ratios(
            cross[rows][:, np.asarray(at)[singles]], sums[rows], sums[np.asarray(at)[singles]], variation[singles], n
        )
        for b in range(count):
            measures[a][b] = measures[b][a] = "Cramér's V" if terms[b].is_categorical else "correlation ratio"
            if terms[b].is_categorical and (b > a or plain[b]):
                columns = slice(starts[b + 1], starts[b + 1] + sizes[b + 1])
                values[a, b] = values[b, a] = _cramer(cross[rows, columns], n)
    for k in range(count):
        measures[k][k] = ""
    return values, measures


def _correlation_ratios(by_level: Array, counts: Array, sums: Array, variation: Array, n: float) -> Array:
    """Return the correlation ratio of each of some numeric columns, by their sums in the levels of a group."""
    between = np.sum((by_level - np.outer(counts, sums) / n) ** 2 / counts[:, None], axis=0)
    with np.errstate(divide="ignore", invalid="ignore"):
        ratios: Array = np.where(variation > 0, np.sqrt(np.minimum(between / variation, 1.0)), np.nan)
    return ratios


def _cramer(table: Array, n: float) -> float:
    expected = np.outer(table.sum(axis=1), table.sum(axis=0)) / n
    chi2 = float(np.sum((table - expected) ** 2 / expected))
    return float(np.sqrt(min(chi2 / (n * (min(table.shape) - 1)), 1.0)))


def interval_of_r(r: float, rows: int, level: float, stretch: float = 1.0) -> tuple[float, float]:
    """Return the interval of a correlation by Fisher's z (1921, Metron 1, 3-32), so many times as wide on that scale.

    NaN with fewer than 4 rows, or where r is 1 in size.
    """
    if rows < 4 or not abs(r) < 1:
        return float("nan"), float("nan")
    half = stretch * float(scipy.special.ndtri((1 + level) / 2)) / np.sqrt(rows - 3)
    return float(np.tanh(np.arctanh(r) - half)), float(np.tanh(np.arctanh(r) + half))


def stretch_of_z(x: Array, y: Array, heavy: Array | None) -> float:
    """Return by how much further Fisher's z of two columns varies over samples of rows than it would of normal ones, at least 1.

    A row moves r by uv − r(u² + v²)/2, with u and v the columns from their means in standard deviations.
    """
    u, v = (_standard(own, heavy) for own in (x, y))
    sign = math.copysign(1.0, float(np.average(u * v, weights=heavy)))
    apart = (u - sign * v) ** 2
    short = min(float(np.average(apart, weights=heavy)) / 2, 1.0)  # 1 − |r|, of which nothing cancels
    if not short > 0:
        return 1.0
    moved = (short * (u * u + v * v) - apart) / 2
    return max(1.0, math.sqrt(float(np.average(moved**2, weights=heavy))) / (short * (2 - short)))


def stretch_of_rank_z(x: Array, y: Array) -> float:
    """Return the same of ranks: a row moves them by its own, and by one for every row that it comes before.

    With u and v the mean ranks over n from their means, and c(x, v) the mean of v over the rows above a row's x (half of those at it), a row moves the
    mean of uv by uv + c(x, v) + c(y, u) and that of u² by u² + 2c(x, u), each from its mean, and so r.
    """
    n = len(x)
    u, v = (_mean_ranks(own) / n - (n + 1) / (2 * n) for own in (x, y))
    both, own, other = float(u @ v) / n, float(u @ u) / n, float(v @ v) / n
    r = both / math.sqrt(own * other) if own * other > 0 else 1.0
    if not abs(r) < 1:
        return 1.0
    of_both = u * v + _above(x, v) + _above(y, u)
    of_own, of_other = u * u + 2 * _above(x, u), v * v + 2 * _above(y, v)
    moved = of_both / math.sqrt(own * other) - r / 2 * (of_own / own + of_other / other)
    return max(1.0, float(np.std(moved)) / (1 - r * r))


def _above(x: Array, values: Array) -> Array:
    """Return the mean over all rows of some values where x is above a row's own, half of them where it is the same."""
    order = np.argsort(x, kind="stable")
    sums, sorted_x = np.concatenate([[0.0], np.cumsum(values[order])]), x[order]
    below, upto = (sums[np.searchsorted(sorted_x, x, side)] for side in ("left", "right"))
    found: Array = (sums[-1] - (below + upto) / 2) / len(x)
    return found


def _standard(x: Array, heavy: Array | None) -> Array:
    """Return numbers from their mean in standard deviations; 0 where they do not vary."""
    away = x - x.mean()  # first roughly, so that nothing is lost far from 0
    away = away - np.average(away, weights=heavy)
    found: Array = away / (float(np.max(np.abs(away), initial=0.0)) or 1.0)
    return found / (math.sqrt(np.average(found * found, weights=heavy)) or 1.0)


def ranked(column: Column, used: NDArray[np.bool_] | None) -> Array:
    """Return the mean ranks of a numeric column among the rows used, shape (rows,); 0 elsewhere."""
    refuse_in_parts(
        column.values, "Spearman's correlation, which is of ranks,", "ask for Pearson's, or take a sample of the rows"
    )
    where = np.arange(len(column.values)) if used is None else np.flatnonzero(used)
    ranks = np.zeros(len(column.values))
    ranks[where] = _mean_ranks(column.values[where])
    return ranks


def _mean_ranks(values: Array) -> Array:
    _, places, counts = np.unique(values, return_inverse=True, return_counts=True)
    ranks: Array = (np.cumsum(counts) - (counts - 1) / 2)[places]
    return ranks


def pairwise(
    columns: Sequence[Column], make: object, spearman: bool, weights: Weights | None = None
) -> tuple[Array, NDArray[np.int64]]:
    """Compute each association on all rows that have both columns, and count these, both of shape (columns, columns).

    `make` makes a term of a column on some rows; `weights` are of every row, 0 where there is none. NaN where fewer than 3 rows
    have both, or one does not vary there.
    """
    count, heavy = len(columns), weights.values if weights else None
    values, rows = np.eye(count), np.zeros((count, count), dtype=np.int64)
    for a in range(count):
        for b in range(a, count):
            both = columns[a].present & columns[b].present
            both = both if heavy is None else both & (heavy > 0)
            found = int(np.count_nonzero(both))
            rows[a, b] = rows[b, a] = weights.counted(both) if weights else found
            if a == b:
                continue
            values[a, b] = values[b, a] = np.nan
            if found < 3 or any(_constant(c, both) for c in (columns[a], columns[b])):
                continue
            terms = [make(c, both) for c in (columns[a], columns[b])]  # type: ignore[operator]
            blocks = [_block(t, both, spearman) for t in terms]
            values[a, b] = values[b, a] = associations(gather(blocks, len(both), both, heavy), terms)[0][0, 1]
    return values, rows


def _constant(column: Column, rows: NDArray[np.bool_]) -> bool:
    values = column.values[rows]
    return bool(values.min() == values.max())


def _block(term: Term, used: NDArray[np.bool_] | None, spearman: bool) -> CodedColumns:
    return (
        CodedColumns(1, multiplier=ranked(term.column, used))
        if spearman and not term.is_categorical
        else term.coded()[0]
    )
