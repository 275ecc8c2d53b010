"""Taking moments: one pass over the rows, a chunk at a time."""

from __future__ import annotations

import math
from collections.abc import Sequence

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
    sizes = (1, *(b.levels for b in blocks), 1)
    starts = np.concatenate([[0], np.cumsum(sizes)[:-1]]).astype(np.intp)
    numerics = [k for k, b in enumerate(blocks) if b.codes is None]
    slopes = [k for k, b in enumerate(blocks) if b.codes is not None and b.multiplier is not None]
    groups = [k for k, b in enumerate(blocks) if b.codes is not None and b.multiplier is None]
    centres, scales = centres_and_scales([*blocks, CodedColumns(1)], [*numerics, *slopes], used)
    cross = np.full((sum(sizes), sum(sizes)), np.nan)
    sets = joint_sets(blocks, groups)

    def summed(
        blocks: Sequence[CodedColumns], outcome: NDArray[np.float64], used: NDArray[np.bool_] | None
    ) -> tuple[NDArray[np.float64], ...]:
        sums, products = np.zeros(sum(sizes)), np.zeros(sum(sizes))
        tables = [np.zeros((2, *(blocks[k].levels for k in joint))) for joint in sets]
        for chunk in row_chunks(len(outcome), used, GATHERED_ROWS):
            y = outcome[chunk]
            sums[0] += len(y)
            sums[-1] += y.sum()
            products[-1] += np.dot(y, y)
            for k in numerics:
                x = blocks[k].multiplier[chunk] - centres[k + 1]  # type: ignore[index]
                sums[starts[k + 1]] += x.sum()
                products[starts[k + 1]] += np.dot(x, y)
            codes = {k: blocks[k].codes[chunk] for k in slopes}  # type: ignore[index]
            for joint, table in zip(sets, tables, strict=True):
                cell, shape = joint_cells(blocks, joint, chunk), table.shape[1:]
                for row, weights in enumerate((None, y)):
                    table[row] += np.bincount(cell, weights=weights, minlength=math.prod(shape)).reshape(shape)
            for k in slopes:
                x, at = (
                    deviation_of(blocks[k], chunk, centres[k + 1], 1.0),
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
