"""The cross-products of the rows of each cluster, for samples of whole clusters."""

from __future__ import annotations

import itertools
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.chunks import row_chunks
from markbase.core.design.moments import Moments
from markbase.core.design.terms import CodedColumns
from markbase.core.rows.parts import each_part

Array = NDArray[np.float64]


def cluster_products(
    blocks: Sequence[CodedColumns],
    moments: Moments,
    used: NDArray[np.bool_] | None,
    weights: Array | None,
    codes: NDArray[np.intp],
    clusters: int,
) -> Array:
    """Take the cross-products of the rows of each cluster in one pass, shape (clusters, columns, columns).

    The outcome is the last block; `weights` has a value for each row, `codes` for each row used. Centres and scales are
    those of `moments`, so the products of all clusters sum to ``moments.cross``.
    """
    width, starts, centres, scales = moments.cross.shape[0], moments.starts, moments.centres, moments.scales

    def laid_out(blocks: Sequence[CodedColumns], rows: NDArray[np.intp]) -> Array:
        columns = np.zeros((len(rows), width))
        columns[:, 0] = 1.0
        for k, block in enumerate(blocks, 1):
            values = 1.0 if block.multiplier is None else (block.multiplier[rows] - centres[k]) / scales[k]
            level = 0 if block.codes is None else block.codes[rows].astype(np.intp)
            columns[np.arange(len(rows)), starts[k] + level] = values
        return columns

    def summed(
        blocks: Sequence[CodedColumns],
        used: NDArray[np.bool_] | None,
        weights: Array | None,
        codes: NDArray[np.intp],
    ) -> dict[int, Array]:
        found: dict[int, Array] = {}
        for chunk in row_chunks(len(codes), used):
            rows = np.arange(len(codes))[chunk]
            rows = rows[np.argsort(codes[rows], kind="stable")]
            columns, own = laid_out(blocks, rows), codes[rows]
            weighted = columns if weights is None else columns * weights[rows][:, None]
            starts_at = np.flatnonzero(np.diff(own, prepend=-1))
            for start, end in itertools.pairwise([*starts_at.tolist(), len(own)]):
                products = np.dot(columns[start:end].T, weighted[start:end])
                cluster = int(own[start])
                found[cluster] = found[cluster] + products if cluster in found else products
        return found

    products = np.zeros((clusters, width, width))
    for part in each_part(summed, list(blocks), used, weights, codes):
        for cluster, own in part.items():
            products[cluster] += own
    return products
