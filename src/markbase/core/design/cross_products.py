"""Taking moments: one pass over the rows, a chunk at a time."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.chunks import joint_cells, joint_sets, row_chunks
from markbase.core.design.gathering import GATHERED_ROWS, Gathering, centres_and_scales, deviation_of
from markbase.core.design.moments import Moments
from markbase.core.design.terms import CodedColumns
from markbase.core.rows.parts import each_part
from markbase.core.rows.sums import totals_of


def gather(
    blocks: Sequence[CodedColumns],
    rows: int,
    used: NDArray[np.bool_] | None = None,
    weights: NDArray[np.float64] | None = None,
) -> Moments:
    """Take the moments of the rows used, in one pass; block 0 is the intercept, block k + 1 is ``blocks[k]``.

    Numeric columns must be finite and codes 0 or more in the rows used. Centres are the means of up to 4,096 rows spread
    evenly over them, so that deviations are summed and not the values; what remains of the means is swept out when the
    equations are solved. Memory grows with a chunk and with pairs of levels, not with rows.
    """
    plan = Gathering.of(blocks, rows, used)
    return plan.moments(totals_of(each_part(plan.sums, list(blocks), used, weights)))


def gather_sums(
    blocks: Sequence[CodedColumns], outcome: NDArray[np.float64], used: NDArray[np.bool_] | None
) -> Moments:
    """Take only the sums of the columns, and of their products with an outcome, which stands behind them.

    Numeric columns from their centres and not scaled. The products of the columns with one another were not taken: they are NaN.
    """
    plan = SumsPlan.of(blocks, used)
    return plan.moments(each_part(plan.sums, list(blocks), outcome, used))


@dataclass(frozen=True, eq=False)
class SumsPlan:
    """What sums of the columns are taken of, laid down before the first row."""

    sizes: tuple[int, ...]
    """Columns of each block: of the intercept, of those given, and of the outcome."""
    numerics: list[int]
    """Which blocks are numeric columns."""
    slopes: list[int]
    """Which are numeric columns within the levels of a group."""
    centres: NDArray[np.float64]
    """Shape (2 + blocks,): what is taken from numeric values."""
    sets: list[list[int]]
    """Groups that are counted together."""

    @classmethod
    def of(cls, blocks: Sequence[CodedColumns], used: NDArray[np.bool_] | None) -> SumsPlan:
        """Plan it for the rows used."""
        sizes = (1, *(b.levels for b in blocks), 1)
        numerics = [k for k, b in enumerate(blocks) if b.codes is None]
        slopes = [k for k, b in enumerate(blocks) if b.codes is not None and b.multiplier is not None]
        groups = [k for k, b in enumerate(blocks) if b.codes is not None and b.multiplier is None]
        centres, _ = centres_and_scales([*blocks, CodedColumns(1)], [*numerics, *slopes], used)
        return cls(sizes, numerics, slopes, centres, joint_sets(blocks, groups))

    @property
    def _starts(self) -> NDArray[np.intp]:
        return np.concatenate([[0], np.cumsum(self.sizes)[:-1]]).astype(np.intp)

    def sums(
        self, blocks: Sequence[CodedColumns], outcome: NDArray[np.float64], used: NDArray[np.bool_] | None
    ) -> tuple[NDArray[np.float64], ...]:
        """Return the sums over rows that are in memory: of columns, of their products with the outcome, and of both by joint cell."""
        sizes, starts, centres = self.sizes, self._starts, self.centres
        sums, products = np.zeros(sum(sizes)), np.zeros(sum(sizes))
        tables = [np.zeros((2, *(blocks[k].levels for k in joint))) for joint in self.sets]
        for chunk in row_chunks(len(outcome), used, GATHERED_ROWS):
            y = outcome[chunk]
            sums[0] += len(y)
            sums[-1] += y.sum()
            products[-1] += np.dot(y, y)
            for k in self.numerics:
                x = blocks[k].multiplier[chunk] - centres[k + 1]  # type: ignore[index]
                sums[starts[k + 1]] += x.sum()
                products[starts[k + 1]] += np.dot(x, y)
            codes = {k: blocks[k].codes[chunk] for k in self.slopes}  # type: ignore[index]
            for joint, table in zip(self.sets, tables, strict=True):
                cell, shape = joint_cells(blocks, joint, chunk), table.shape[1:]
                for row, weights in enumerate((None, y)):
                    table[row] += np.bincount(cell, weights=weights, minlength=math.prod(shape)).reshape(shape)
            for k in self.slopes:
                x, at = (
                    deviation_of(blocks[k], chunk, centres[k + 1], 1.0),
                    slice(starts[k + 1], starts[k + 1] + sizes[k + 1]),
                )
                sums[at] += np.bincount(codes[k], weights=x, minlength=sizes[k + 1])
                products[at] += np.bincount(codes[k], weights=x * y, minlength=sizes[k + 1])
        return sums, products, *tables

    def moments(self, found: Iterable[tuple[NDArray[np.float64], ...]]) -> Moments:
        """Return the moments that the sums over parts of the rows make."""
        sizes, starts = self.sizes, self._starts
        cross = np.full((sum(sizes), sum(sizes)), np.nan)
        sums, products, *tables = totals_of(found)
        for joint, table in zip(self.sets, tables, strict=True):
            for axis, k in enumerate(joint, 1):
                by_level = table.sum(axis=tuple(a for a in range(1, table.ndim) if a != axis))
                at = slice(starts[k + 1], starts[k + 1] + sizes[k + 1])
                sums[at], products[at] = by_level
        products[0] = sums[-1]
        cross[0], cross[:, 0], cross[-1], cross[:, -1] = sums, sums, products, products
        return Moments(sizes, self.centres, np.ones_like(self.centres), cross)
