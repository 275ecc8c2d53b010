"""What cross-products are summed of, chunk by chunk and part by part."""

from __future__ import annotations

import itertools
import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.chunks import joint_cells, joint_sets, row_chunks, rows_of
from markbase.core.design.moments import Moments
from markbase.core.design.terms import CodedColumns
from markbase.core.rows.row_functions import learn, sample_of
from markbase.core.rows.workspace import WORKSPACE, in_one_piece

GATHERED_ROWS = 1 << 16
"""Rows taken at a time, where many products are taken of them."""
_WEIGHTED_ROWS = 1 << 15
"""And where these are weighted, so that there are twice as many numbers."""
_PRODUCT_ROWS = 1 << 13
"""At most so many rows of one matrix product, where there are more: few columns of more rows take twice as long for each."""
_LEAST_PRODUCT_ROWS = 1 << 10
_MULTIPLICATIONS = 1_000_000
"""At most so many of one: larger products are first brought into an order that pays for more columns only."""
_SAMPLE_ROWS = 4096


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
        centres, scales = centres_and_scales(blocks, [*numerics, *slopes], used)
        levels = tuple(b.levels for b in blocks)
        return cls(levels, rows, numerics, groups, slopes, centres, scales, joint_sets(blocks, groups))

    @property
    def _sizes(self) -> tuple[int, ...]:
        return (1, *self.levels)

    @cached_property
    def _starts(self) -> NDArray[np.intp]:
        return np.concatenate([[0], np.cumsum(self._sizes)[:-1]]).astype(np.intp)

    @cached_property
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
        widest = min(rows, GATHERED_ROWS if weights is None else _WEIGHTED_ROWS)
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
        several = 2 * len(self.sets)
        tables, pairs = rest[:several], dict(zip(self._apart, rest[several:], strict=True))
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
        self._pairs: dict[tuple[int, int], NDArray[Any]] = {  # without weights they stay whole numbers
            (g, h): np.zeros(plan.levels[g] * plan.levels[h], dtype=np.int64) for g, h in plan._apart
        }
        self._weighted = False
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
        self._weighted |= w is not None
        self._products[0, 0] += values.shape[1] if w is None else w.sum()
        here, size = values.shape[1], max(_LEAST_PRODUCT_ROWS, _MULTIPLICATIONS // len(values) ** 2)
        size = here if here <= _PRODUCT_ROWS else min(_PRODUCT_ROWS, size)
        for start in range(0, here, size):
            some = slice(start, start + size)
            # as everywhere in a pass over chunks not by @, which keeps other threads waiting while it multiplies
            left, right = in_one_piece("left", weighted[1:, some]), in_one_piece("right", values[:, some])
            self._products[1:] += np.dot(left, right.T)
        for place, (joint, table) in enumerate(zip(plan.sets, self._tables, strict=True)):
            cell = joint_cells(blocks, joint, chunk) if cells is None else cells[place]
            size = table.shape[1]
            table[0] += np.bincount(cell, weights=w, minlength=size)
            for row in range(1, len(values)):
                table[row] += np.bincount(cell, weights=weighted[row], minlength=size)
        for (g, h), pair in self._pairs.items():
            more = np.bincount(joint_cells(blocks, (g, h), chunk), weights=w, minlength=len(pair))
            self._pairs[g, h] = pair + more
        for place, k in enumerate(plan.slopes):
            x = deviation_of(blocks[k], chunk, plan.centres[k + 1], plan.scales[k + 1])
            weighted_x = x if w is None else x * w
            _add_by_code(self._cross, places, starts[k + 1], codes[k], plan.levels[k], weighted_x * values)
            for other in (*plan.groups, *plan.slopes[place:]):
                z = weighted_x
                if other not in plan.groups:
                    z = weighted_x * deviation_of(blocks[other], chunk, plan.centres[other + 1], plan.scales[other + 1])
                shape = plan.levels[k], plan.levels[other]
                sums = np.bincount(joint_cells(blocks, (k, other), chunk), weights=z, minlength=shape[0] * shape[1])
                rows_at = slice(starts[k + 1], starts[k + 1] + shape[0])
                self._cross[rows_at, starts[other + 1] : starts[other + 1] + shape[1]] += sums.reshape(shape)

    @property
    def sums(self) -> Sums:
        """What was summed: of slopes, of numeric columns, of each set of groups by joint cell and by level, and of pairs of groups."""
        levels, found = self.plan.levels, [self._cross, self._products]
        for joint, table in zip(self.plan.sets, self._tables, strict=True):
            shape = tuple(levels[k] for k in joint)
            counts, by_cell = table[0].reshape(shape), table[1:].reshape(-1, *shape)
            by_level = [
                by_cell.sum(axis=tuple(a for a in range(1, by_cell.ndim) if a != k)) for k in range(1, by_cell.ndim)
            ]
            found += [counts if self._weighted else counts.astype(np.int64), np.hstack(by_level)]
        return *found, *self._pairs.values()


def deviation_of(
    block: CodedColumns, chunk: slice | NDArray[np.intp], centre: float, scale: float
) -> NDArray[np.float64]:
    """Return the multipliers of a chunk from their centre, in units of their scale."""
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


def centres_and_scales(
    blocks: Sequence[CodedColumns], numerics: Sequence[int], used: NDArray[np.bool_] | None
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Return from where numeric columns are counted, and by what power of two they are divided, shape (1 + blocks,) each."""
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


def _fill_groups(
    cross: NDArray[np.float64],
    levels: Sequence[int],
    starts: NDArray[np.intp],
    places: NDArray[np.intp],
    sets: Sequence[Sequence[int]],
    tables: Sequence[NDArray[np.float64]],
    pairs: dict[tuple[int, int], NDArray[np.float64]],
) -> None:
    """Read counts by level, and of pairs of levels, out of the joint counts, and put sums by level where they belong."""

    def columns(k: int) -> slice:
        return slice(starts[k + 1], starts[k + 1] + levels[k])

    for joint, cells, by_level in zip(sets, tables[::2], tables[1::2], strict=True):
        own = np.split(by_level, np.cumsum([levels[k] for k in joint])[:-1], axis=1)
        for axis, (g, sums) in enumerate(zip(joint, own, strict=True)):
            counts = cells.sum(axis=tuple(a for a in range(cells.ndim) if a != axis))
            cross[places, columns(g)] = np.vstack([counts, sums])
            cross[columns(g), places] = cross[places, columns(g)].T
            cross[columns(g), columns(g)] = np.diag(counts)
            for other, h in enumerate(joint[axis + 1 :], axis + 1):
                both = cells.sum(axis=tuple(a for a in range(cells.ndim) if a not in (axis, other)))
                cross[columns(g), columns(h)] = both
                cross[columns(h), columns(g)] = both.T
    for (g, h), pair in pairs.items():
        counts = pair.reshape(levels[g], levels[h])
        cross[columns(g), columns(h)] = counts
        cross[columns(h), columns(g)] = counts.T
