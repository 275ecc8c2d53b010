"""Taking moments: one pass over the rows, a chunk at a time."""

from __future__ import annotations

import itertools
import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.moments import Moments
from markbase.core.design.terms import CodedColumns
from markbase.core.rows.parts import each_part
from markbase.core.rows.row_functions import learn, sample_of
from markbase.core.rows.sums import totals_of
from markbase.core.rows.workspace import WORKSPACE

CHUNK_ROWS = 1 << 14
"""Rows taken at a time."""
_GATHERED_ROWS = 1 << 16
"""The same where many products are taken of them."""
_WEIGHTED_ROWS = 1 << 15
"""And where these are weighted, so that there are twice as many numbers."""
_PRODUCT_ROWS = 1 << 13
"""Rows of one matrix product: few columns of more rows take twice as long for each."""
_MOST_CELLS = 1 << 14
"""Groups are counted together while their joint cells are no more than this."""
_SAMPLE_ROWS = 4096


def row_chunks(rows: int, used: NDArray[np.bool_] | None, size: int = CHUNK_ROWS) -> Iterator[slice | NDArray[np.intp]]:
    """Yield the rows used, a chunk at a time, as something that indexes an array.

    Parameters
    ----------
    rows : int
        Rows of the data.
    used : ndarray of bool, shape (rows,), or None
        The rows used; None for all.
    size : int
        Rows of a chunk, before those not used are taken out.

    Yields
    ------
    slice or ndarray
        Which rows.
    """
    for start in range(0, rows, size):
        stop = min(start + size, rows)
        if used is None:
            yield slice(start, stop)
        else:
            picked = np.flatnonzero(used[start:stop])
            if len(picked):
                yield picked + start


def gather(
    blocks: Sequence[CodedColumns],
    rows: int,
    used: NDArray[np.bool_] | None = None,
    weights: NDArray[np.float64] | None = None,
) -> Moments:
    """Take the moments of the rows used, in one pass.

    Parameters
    ----------
    blocks : sequence of CodedColumns
        Numeric columns and groups over all rows; the intercept is added in front.
    rows : int
        Rows of the data, used or not.
    used : ndarray of bool, shape (rows,), or None
        The rows used; None for all. Numeric columns must be finite and codes 0 or more there.
    weights : ndarray, shape (rows,), optional
        With how much each row counts.

    Returns
    -------
    Moments
        CodedColumns 0 is the intercept, block k + 1 is ``blocks[k]``.

    Notes
    -----
    Centres are the means of up to 4,096 rows spread evenly over the rows used, so that
    deviations are summed and not the values; what remains of the means is swept out when the
    equations are solved. Memory grows with a chunk and with pairs of levels, not with rows.
    """
    plan = Gathering.of(blocks, rows, used)
    return plan.moments(totals_of(each_part(plan.sums, list(blocks), used, weights)))


Sums = tuple[NDArray[np.float64], ...]


@dataclass(frozen=True, eq=False)
class Gathering:
    """What moments are summed of, laid down before the first row: the sums of parts then add up."""

    levels: tuple[int, ...]
    """The levels of each block; 1 for a numeric column."""
    rows: int
    """Rows of the data."""
    numerics: list[int]
    """Which blocks are numeric columns."""
    groups: list[int]
    """Which are groups."""
    slopes: list[int]
    """Which are numeric columns within the levels of a group."""
    centres: NDArray[np.float64]
    """Shape (1 + blocks,): what is taken from numeric values."""
    scales: NDArray[np.float64]
    """By what powers of two they are then divided."""
    sets: list[list[int]]
    """Groups that are counted together."""

    @classmethod
    def of(cls, blocks: Sequence[CodedColumns], rows: int, used: NDArray[np.bool_] | None) -> Gathering:
        """Plan it for the rows used."""
        numerics = [k for k, b in enumerate(blocks) if b.codes is None]
        groups = [k for k, b in enumerate(blocks) if b.codes is not None and b.multiplier is None]
        slopes = [k for k, b in enumerate(blocks) if b.codes is not None and b.multiplier is not None]
        centres, scales = _centres_and_scales(blocks, [*numerics, *slopes], used)
        levels = tuple(b.levels for b in blocks)
        return cls(levels, rows, numerics, groups, slopes, centres, scales, joint_sets(blocks, groups))

    @property
    def _sizes(self) -> tuple[int, ...]:
        return (1, *self.levels)

    @property
    def _starts(self) -> NDArray[np.intp]:
        return np.concatenate([[0], np.cumsum(self._sizes)[:-1]]).astype(np.intp)

    @property
    def _places(self) -> NDArray[np.intp]:
        """Where the intercept and the numeric columns are."""
        return np.concatenate([[0], self._starts[1:][self.numerics]]).astype(np.intp)

    @property
    def _apart(self) -> list[tuple[int, int]]:
        """Pairs of groups that are not counted together."""
        return [(g, h) for a, b in itertools.combinations(self.sets, 2) for g in a for h in b]

    def sums(
        self,
        blocks: Sequence[CodedColumns],
        used: NDArray[np.bool_] | None,
        weights: NDArray[np.float64] | None,
    ) -> Sums:
        """Return the sums over rows that are in memory: of slopes, of numeric columns, by joint cell, and of pairs of groups."""
        rows = rows_of(blocks, used, weights, self.rows)
        running = Running(self)
        widest = min(rows, _GATHERED_ROWS if weights is None else _WEIGHTED_ROWS)
        own = WORKSPACE.array("numeric columns", 1 + len(self.numerics), widest)
        room = None if weights is None else WORKSPACE.array("weighted", *own.shape)
        own[0] = 1.0
        for chunk in row_chunks(rows, used, max(widest, 1)):
            values = _deviations(blocks, self.numerics, chunk, self.centres, self.scales, own, rows)
            w = None if weights is None else weights[chunk]
            weighted = values if w is None or room is None else np.multiply(values, w, out=room[:, : len(w)])
            running.add(blocks, chunk, values, weighted, w)
        return running.sums

    def moments(self, sums: Sums) -> Moments:
        """Return the moments that the sums over all rows make."""
        starts, places = self._starts, self._places
        cross, products, *rest = sums
        if not self.slopes:
            cross = np.zeros((sum(self._sizes), sum(self._sizes)))
        tables, pairs = rest[: len(self.sets)], dict(zip(self._apart, rest[len(self.sets) :], strict=True))
        for k in self.slopes:  # what was summed on one side of the diagonal stands on the other as well
            at = slice(starts[k + 1], starts[k + 1] + self.levels[k])
            for other in (*self.groups, *(s for s in self.slopes if s > k)):
                there = slice(starts[other + 1], starts[other + 1] + self.levels[other])
                cross[there, at] = cross[at, there].T
            cross[np.ix_(places, np.arange(at.start, at.stop))] = cross[at, places].T
        products[0] = products[:, 0]
        cross[np.ix_(places, places)] = products
        _fill_groups(cross, self.levels, starts, places, self.sets, tables, pairs)
        return Moments(self._sizes, self.centres, self.scales, cross)


class Running:
    """The sums of a gathering, taken chunk by chunk."""

    def __init__(self, plan: Gathering) -> None:
        self.plan, self._starts, self._places = plan, plan._starts, plan._places
        width, own = sum(plan._sizes), len(self._places)
        self._cross = np.zeros((width, width) if plan.slopes else (1, 1))
        self._products = np.zeros((own, own))
        self._tables = [np.zeros((own, math.prod(plan.levels[k] for k in joint))) for joint in plan.sets]
        self._pairs = {(g, h): np.zeros(plan.levels[g] * plan.levels[h]) for g, h in plan._apart}
        self._looked_up = [k for k in (*plan.groups, *plan.slopes) if plan.slopes or self._pairs]

    def add(
        self,
        blocks: Sequence[CodedColumns],
        chunk: slice | NDArray[np.intp],
        values: NDArray[np.float64],
        weighted: NDArray[np.float64],
        w: NDArray[np.float64] | None,
        cells: Sequence[NDArray[np.intp]] | None = None,
    ) -> None:
        """Add a chunk of rows.

        Parameters
        ----------
        blocks : sequence of CodedColumns
            The blocks over all rows.
        chunk : slice or ndarray of int
            Which rows.
        values : ndarray, shape (1 + numeric columns, rows of the chunk)
            Ones, and the numeric columns from their centres.
        weighted : ndarray, same shape
            The same times the weights; the first row is not looked at.
        w : ndarray, shape (rows of the chunk,), optional
            The weights.
        cells : sequence of ndarray of int, optional
            The joint cells of the rows, a set of groups each, if they are known.
        """
        plan, starts, places = self.plan, self._starts, self._places
        codes = {k: blocks[k].codes[chunk] for k in self._looked_up}  # type: ignore[index]
        self._products[0, 0] += values.shape[1] if w is None else w.sum()
        for start in range(0, values.shape[1], _PRODUCT_ROWS):
            some = slice(start, start + _PRODUCT_ROWS)
            self._products[1:] += weighted[1:, some] @ values[:, some].T
        for place, (joint, table) in enumerate(zip(plan.sets, self._tables, strict=True)):
            cell = joint_cells(blocks, joint, chunk) if cells is None else cells[place]
            size = table.shape[1]
            table[0] += np.bincount(cell, weights=w, minlength=size)
            for row in range(1, len(values)):
                table[row] += np.bincount(cell, weights=weighted[row], minlength=size)
        for (g, h), pair in self._pairs.items():
            pair += np.bincount(joint_cells(blocks, (g, h), chunk), weights=w, minlength=len(pair))
        for place, k in enumerate(plan.slopes):
            x = _deviation(blocks[k], chunk, plan.centres[k + 1], plan.scales[k + 1])
            weighted_x = x if w is None else x * w
            _add_by_code(self._cross, places, starts[k + 1], codes[k], plan.levels[k], weighted_x * values)
            for other in (*plan.groups, *plan.slopes[place:]):
                z = weighted_x
                if other not in plan.groups:
                    z = weighted_x * _deviation(blocks[other], chunk, plan.centres[other + 1], plan.scales[other + 1])
                shape = plan.levels[k], plan.levels[other]
                sums = np.bincount(joint_cells(blocks, (k, other), chunk), weights=z, minlength=shape[0] * shape[1])
                rows_at = slice(starts[k + 1], starts[k + 1] + shape[0])
                self._cross[rows_at, starts[other + 1] : starts[other + 1] + shape[1]] += sums.reshape(shape)

    @property
    def sums(self) -> Sums:
        """What was summed: of slopes, of numeric columns, by joint cell, and of pairs of groups."""
        levels, own = self.plan.levels, len(self._places)
        shaped = [
            table.reshape(own, *(levels[k] for k in joint))
            for joint, table in zip(self.plan.sets, self._tables, strict=True)
        ]
        return self._cross, self._products, *shaped, *self._pairs.values()


def gather_sums(
    blocks: Sequence[CodedColumns], outcome: NDArray[np.float64], used: NDArray[np.bool_] | None
) -> Moments:
    """Take only the sums of the columns, and of their products with an outcome.

    Parameters
    ----------
    blocks : sequence of CodedColumns
        The terms.
    outcome : ndarray, shape (rows,)
        The outcome, which stands behind them.
    used : ndarray of bool, shape (rows,), or None
        The rows used; None for all.

    Returns
    -------
    Moments
        Numeric columns from their centres and not scaled. The products of the columns with one another were not taken: they are NaN.
    """
    sizes = (1, *(b.levels for b in blocks), 1)
    starts = np.concatenate([[0], np.cumsum(sizes)[:-1]]).astype(np.intp)
    numerics = [k for k, b in enumerate(blocks) if b.codes is None]
    slopes = [k for k, b in enumerate(blocks) if b.codes is not None and b.multiplier is not None]
    groups = [k for k, b in enumerate(blocks) if b.codes is not None and b.multiplier is None]
    centres, scales = _centres_and_scales([*blocks, CodedColumns(1)], [*numerics, *slopes], used)
    cross = np.full((sum(sizes), sum(sizes)), np.nan)
    sets = joint_sets(blocks, groups)

    def summed(
        blocks: Sequence[CodedColumns], outcome: NDArray[np.float64], used: NDArray[np.bool_] | None
    ) -> tuple[NDArray[np.float64], ...]:
        sums, products = np.zeros(sum(sizes)), np.zeros(sum(sizes))
        tables = [np.zeros((2, *(blocks[k].levels for k in joint))) for joint in sets]
        for chunk in row_chunks(len(outcome), used, _GATHERED_ROWS):
            y = outcome[chunk]
            sums[0] += len(y)
            sums[-1] += y.sum()
            products[-1] += y @ y
            for k in numerics:
                x = blocks[k].multiplier[chunk] - centres[k + 1]  # type: ignore[index]
                sums[starts[k + 1]] += x.sum()
                products[starts[k + 1]] += x @ y
            codes = {k: blocks[k].codes[chunk] for k in slopes}  # type: ignore[index]
            for joint, table in zip(sets, tables, strict=True):
                cell, shape = joint_cells(blocks, joint, chunk), table.shape[1:]
                for row, weights in enumerate((None, y)):
                    table[row] += np.bincount(cell, weights=weights, minlength=math.prod(shape)).reshape(shape)
            for k in slopes:
                x, at = (
                    _deviation(blocks[k], chunk, centres[k + 1], 1.0),
                    slice(starts[k + 1], starts[k + 1] + sizes[k + 1]),
                )
                sums[at] += np.bincount(codes[k], weights=x, minlength=sizes[k + 1])
                products[at] += np.bincount(codes[k], weights=x * y, minlength=sizes[k + 1])
        return sums, products, *tables

    sums, products, *tables = totals_of(each_part(summed, list(blocks), outcome, used))
    for joint, table in zip(sets, tables, strict=True):
        for axis, k in enumerate(joint, 1):
            by_level = table.sum(axis=tuple(a for a in range(1, table.ndim) if a != axis))
            at = slice(starts[k + 1], starts[k + 1] + sizes[k + 1])
            sums[at], products[at] = by_level
    products[0] = sums[-1]
    cross[0], cross[:, 0], cross[-1], cross[:, -1] = sums, sums, products, products
    return Moments(sizes, centres, np.ones_like(scales), cross)


def rows_of(
    blocks: Sequence[CodedColumns],
    used: NDArray[np.bool_] | None,
    weights: NDArray[np.float64] | None,
    rows: int,
) -> int:
    """Return how many rows arrays have; where there are none, as many as are said."""
    arrays = [a for b in blocks for a in (b.codes, b.multiplier)]
    return next((len(a) for a in (*arrays, used, weights) if a is not None), rows)


def _deviation(
    block: CodedColumns, chunk: slice | NDArray[np.intp], centre: float, scale: float
) -> NDArray[np.float64]:
    assert block.multiplier is not None
    deviation: NDArray[np.float64] = (block.multiplier[chunk] - centre) / scale
    return deviation


def _add_by_code(
    cross: NDArray[np.float64],
    places: NDArray[np.intp],
    start: int,
    codes: NDArray[np.integer],
    levels: int,
    products: NDArray[np.float64],
) -> None:
    """Add the sums by code of each row of products to the columns of the numeric columns."""
    for column, product in zip(places, products, strict=True):
        cross[start : start + levels, column] += np.bincount(codes, weights=product, minlength=levels)


def _centres_and_scales(
    blocks: Sequence[CodedColumns], numerics: Sequence[int], used: NDArray[np.bool_] | None
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    centres, scales = np.zeros(len(blocks) + 1), np.ones(len(blocks) + 1)
    if not numerics:
        return centres, scales
    columns = [sample_of(blocks[k].multiplier) for k in numerics]
    inside, rows = None if used is None else sample_of(used), len(columns[0])
    sample: slice | NDArray[np.intp] = slice(None)
    if inside is not None or rows > _SAMPLE_ROWS:
        here = np.arange(rows) if inside is None else np.flatnonzero(inside)
        sample = here[np.linspace(0, len(here) - 1, min(_SAMPLE_ROWS, len(here))).astype(np.intp)]
    values = np.array([x[sample] for x in columns])
    if not values.size:  # of rows in parts, none of those kept in memory is used
        learn([blocks[k].multiplier[used] for k in numerics])  # type: ignore[index]
        facts = [blocks[k].multiplier[used].facts for k in numerics]  # type: ignore[index, union-attr]
        values = np.array([[f.low, f.high, f.mean] for f in facts])
    low, high = values.min(axis=1), values.max(axis=1)
    with np.errstate(over="ignore"):
        means = values.sum(axis=1) / values.shape[1]
    for row in np.flatnonzero(~np.isfinite(means)):  # the sum was too large for a float
        size = max(-low[row], high[row])
        means[row] = size * np.mean(values[row] / size)
    reach = np.maximum(high - means, means - low)
    at = np.asarray(numerics) + 1
    centres[at] = means
    scales[at] = 2.0 ** np.clip(np.round(np.log2(np.where(reach > 0, reach, 1.0))), -1000, 1000)
    return centres, scales


def _deviations(
    blocks: Sequence[CodedColumns],
    numerics: Sequence[int],
    chunk: slice | NDArray[np.intp],
    centres: NDArray[np.float64],
    scales: NDArray[np.float64],
    room: NDArray[np.float64],
    rows: int,
) -> NDArray[np.float64]:
    """Shape (1 + numeric columns, rows of the chunk): a row of ones, which is in the room already, then each numeric column centred and scaled."""
    size = len(range(*chunk.indices(rows))) if isinstance(chunk, slice) else len(chunk)
    values = room[:, :size]
    for row, k in enumerate(numerics, 1):
        x = blocks[k].multiplier
        assert x is not None
        np.subtract(x[chunk], centres[k + 1], out=values[row])
        values[row] *= 1 / scales[k + 1]  # a power of two, so this is exact
    return values


def joint_sets(blocks: Sequence[CodedColumns], groups: Sequence[int]) -> list[list[int]]:
    """Put groups together while their joint cells are few: one pass of counting serves them all.

    Parameters
    ----------
    blocks : sequence of CodedColumns
        The blocks.
    groups : sequence of int
        Which of them are categorical.

    Returns
    -------
    list of list of int
        The groups, set by set.
    """
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
    """Return the joint cell of each row of a chunk.

    Parameters
    ----------
    blocks : sequence of CodedColumns
        The blocks.
    joint : sequence of int
        Which of them are looked up together.
    chunk : slice or ndarray of int
        Which rows.

    Returns
    -------
    ndarray of int, shape (rows,)
        The codes of the first count most.
    """
    codes = [blocks[k].codes[chunk] for k in joint]  # type: ignore[index]
    cell = codes[0]
    if math.prod(blocks[k].levels for k in joint) > np.iinfo(cell.dtype).max:
        cell = cell.astype(np.intp)
    for k, own in zip(joint[1:], codes[1:], strict=True):
        cell = cell * blocks[k].levels
        cell += own
    return cell.astype(np.intp, copy=False)


def _fill_groups(
    cross: NDArray[np.float64],
    levels: Sequence[int],
    starts: NDArray[np.intp],
    places: NDArray[np.intp],
    sets: Sequence[Sequence[int]],
    tables: Sequence[NDArray[np.float64]],
    pairs: dict[tuple[int, int], NDArray[np.float64]],
) -> None:
    """Read counts and sums by level out of the joint tables."""

    def columns(k: int) -> slice:
        return slice(starts[k + 1], starts[k + 1] + levels[k])

    for joint, table in zip(sets, tables, strict=True):
        for axis, g in enumerate(joint, 1):
            rest = tuple(a for a in range(1, table.ndim) if a != axis)
            sums = table.sum(axis=rest)
            cross[places, columns(g)] = sums
            cross[columns(g), places] = sums.T
            cross[columns(g), columns(g)] = np.diag(sums[0])
            for other, h in enumerate(joint[axis:], axis + 1):
                others = tuple(a - 1 for a in range(1, table.ndim) if a not in (axis, other))
                counts = table[0].sum(axis=others)
                cross[columns(g), columns(h)] = counts
                cross[columns(h), columns(g)] = counts.T
    for (g, h), pair in pairs.items():
        counts = pair.reshape(levels[g], levels[h])
        cross[columns(g), columns(h)] = counts
        cross[columns(h), columns(g)] = counts.T
