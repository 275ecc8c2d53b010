"""Taking moments in twice the working precision."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from markbase.core import extended_precision as twofold
from markbase.core.design.chunks import row_chunks, rows_of
from markbase.core.design.moments import Moments
from markbase.core.design.terms import CodedColumns
from markbase.core.rows.parts import over_parts


def gather_twofold(
    moments: Moments,
    blocks: Sequence[CodedColumns],
    used: NDArray[np.bool_] | None,
    rows: int,
    weights: NDArray[np.float64] | None = None,
) -> twofold.Twofold:
    """Take the same moments again in twice the working precision, shape (columns, columns).

    Centres, scales and counts are those of `moments`. The deviations of the values from their centres enter exactly.
    """
    starts, sizes = moments.starts, moments.sizes
    numerics = [k for k, b in enumerate(blocks, 1) if b.codes is None]
    groups = [k for k, b in enumerate(blocks, 1) if b.codes is not None and b.multiplier is None]
    slopes = [k for k, b in enumerate(blocks, 1) if b.codes is not None and b.multiplier is not None]
    shape = moments.cross.shape

    def summed(
        blocks: Sequence[CodedColumns], used: NDArray[np.bool_] | None, weights: NDArray[np.float64] | None
    ) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.bool_]]:
        total, taken = (np.zeros(shape), np.zeros(shape)), np.zeros(shape, dtype=bool)

        def put(row: int, columns: slice, sums: twofold.Twofold) -> None:
            for part, value in zip(total, twofold.add(_at(total, row, columns), sums), strict=True):
                part[row, columns] = value
                part[columns, row] = value
            taken[row, columns] = taken[columns, row] = True

        for chunk in row_chunks(rows_of(blocks, used, weights, rows), used):
            values, weighted = {}, {}
            w = None if weights is None else (weights[chunk], np.zeros_like(weights[chunk]))
            for k in (*numerics, *slopes):
                x = blocks[k - 1].multiplier
                assert x is not None
                x = x[chunk]
                high, low = twofold.two_sum(x, np.full(len(x), -moments.centres[k]))
                values[k] = (high / moments.scales[k], low / moments.scales[k])
                weighted[k] = values[k] if w is None else twofold.times(values[k], w)
            for k in numerics:
                put(starts[k], slice(0, 1), twofold.sums_by_code(None, weighted[k], 1))
            codes = {k: blocks[k - 1].codes[chunk].astype(np.intp) for k in (*groups, *slopes)}  # type: ignore[index]
            for k in slopes:
                columns = slice(starts[k], starts[k] + sizes[k])
                put(0, columns, twofold.sums_by_code(codes[k], weighted[k], sizes[k]))
                for m in numerics:
                    product = twofold.times(weighted[k], values[m])
                    put(starts[m], columns, twofold.sums_by_code(codes[k], product, sizes[k]))
                for g in (*groups, *(s for s in slopes if s >= k)):
                    product = weighted[k] if g in groups else twofold.times(weighted[k], values[g])
                    joint = twofold.sums_by_code(codes[k] * sizes[g] + codes[g], product, sizes[k] * sizes[g])
                    for level in range(sizes[k]):
                        part = slice(level * sizes[g], (level + 1) * sizes[g])
                        there = slice(starts[g], starts[g] + sizes[g])
                        put(starts[k] + level, there, (joint[0][part], joint[1][part]))
            for place, k in enumerate(numerics):
                for m in numerics[place:]:
                    sums = twofold.sums_by_code(None, twofold.times(weighted[k], values[m]), 1)
                    put(starts[k], slice(starts[m], starts[m] + 1), sums)
                for g in groups:
                    by_level = twofold.sums_by_code(codes[g], weighted[k], sizes[g])
                    put(starts[k], slice(starts[g], starts[g] + sizes[g]), by_level)
            if w is not None:  # without weights the counts are exact as they are
                put(0, slice(0, 1), twofold.sums_by_code(None, w, 1))
                for place, g in enumerate(groups):
                    by_level = twofold.sums_by_code(codes[g], w, sizes[g])
                    put(0, slice(starts[g], starts[g] + sizes[g]), by_level)
                    for level in range(sizes[g]):
                        own = slice(starts[g] + level, starts[g] + level + 1)
                        put(
                            starts[g] + level,
                            own,
                            (by_level[0][level : level + 1], by_level[1][level : level + 1]),
                        )
                    for h in groups[place + 1 :]:
                        joint = twofold.sums_by_code(codes[g] * sizes[h] + codes[h], w, sizes[g] * sizes[h])
                        for level in range(sizes[g]):
                            part = slice(level * sizes[h], (level + 1) * sizes[h])
                            columns = slice(starts[h], starts[h] + sizes[h])
                            put(starts[g] + level, columns, (joint[0][part], joint[1][part]))
        return *total, taken

    whole, taken = (np.zeros(shape), np.zeros(shape)), np.zeros(shape, dtype=bool)
    for high, low, here in over_parts(summed, list(blocks), used, weights):
        whole, taken = twofold.add(whole, (high, low)), taken | here
    return np.where(taken, whole[0], moments.cross), np.where(taken, whole[1], 0.0)  # counts are exact as they are


def _at(pair: twofold.Twofold, row: int, columns: slice) -> twofold.Twofold:
    return pair[0][row, columns], pair[1][row, columns]
