"""Exact linear dependences among columns."""

from __future__ import annotations

import numpy as np
import scipy.linalg
from numpy.typing import NDArray


def dependences(block: NDArray[np.float64], tolerance: float = 1e-12) -> list[NDArray[np.float64]]:
    """Find the exact linear dependences among columns of unit length, or a triangular factor of them, shape (rows, columns).

    Returns one combination of the columns that is zero for each whose remainder is below `tolerance`.
    """
    R, order = scipy.linalg.qr(block, mode="r", pivoting=True, check_finite=False)[-2:]
    diagonal = np.abs(np.diag(R))
    rank = int(np.sum(diagonal > tolerance * np.sqrt(block.shape[1])))
    found = []
    for k in range(rank, block.shape[1]):
        weights = np.zeros(block.shape[1])
        weights[order[k]] = 1.0
        if rank:
            weights[order[:rank]] = -scipy.linalg.solve_triangular(R[:rank, :rank], R[:rank, k], check_finite=False)
        found.append(weights)
    return found
