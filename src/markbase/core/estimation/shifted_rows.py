"""The rows of a logistic model with linear predictors that are further by the same numbers in every row."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.chunks import row_chunks
from markbase.core.estimation.event_rows import FARTHEST, PASS_ROWS, PASS_VALUES, EventRows
from markbase.core.estimation.likelihood_points import Theta
from markbase.core.rows.workspace import WORKSPACE

Array = NDArray[np.float64]
_SHIFTS_AT_ONCE = 32


class ShiftedRows(EventRows):
    """The rows of a logistic model, averaged at shifts of the linear predictor."""

    def averages_at(self, theta: Theta, asked: Sequence[tuple[tuple[int, ...], Array]]) -> tuple[Array, ...]:
        """Return Σw of rows in memory, and where some blocks stay, for shifts of what they add up to, Σ w p and Σ w p(1 − p) x.

        Shapes (), and for each set of blocks (shifts,) and (shifts, columns), the start's first; 0 for blocks that do not
        stay, which are groups.
        """
        weight, most = 0.0, max(len(shifts) for _, shifts in asked)
        some = [self._staying(stay) for stay, _ in asked]
        effects = [own._effects([theta]) for own in some]
        values = [np.zeros(len(shifts)) for _, shifts in asked]
        sums = [own._nothing(len(shifts)) for own, (_, shifts) in zip(some, asked, strict=True)]
        size = min(PASS_ROWS, PASS_VALUES // min(most, _SHIFTS_AT_ONCE))
        for chunk in row_chunks(len(self.event), self.used, size):
            w = np.ones(len(self.event[chunk])) if self.weights is None else self.weights[chunk]
            weight += float(w.sum())
            columns = self._stacked(chunk, len(w))
            for k, (own, (_, shifts)) in enumerate(zip(some, asked, strict=True)):
                cells = [cell[chunk].astype(np.intp) for cell in own._cells]
                still = own._predictors(effects[k], columns, cells, chunk)[0]
                for first in range(0, len(shifts), _SHIFTS_AT_ONCE):
                    at = slice(first, first + _SHIFTS_AT_ONCE)
                    p, curvature = _at_shifts(still, shifts[at])
                    values[k][at] += np.dot(p, w)
                    if self.weights is not None:
                        curvature *= w
                    own._add(sums[k][0][at], [cell[at] for cell in sums[k][1]], curvature, columns, cells, chunk)
        found = [own._share_out(*told) for own, told in zip(some, sums, strict=True)]
        return np.asarray(weight), *(array for both in zip(values, found, strict=True) for array in both)

    def _staying(self, stay: tuple[int, ...]) -> ShiftedRows:
        return ShiftedRows([self.blocks[k] for k in stay], self.event, self.used, self.weights, self.moments, stay)


def _at_shifts(still: Array, shifts: Array) -> tuple[Array, Array]:
    """Return p and p(1 − p) of linear predictors further by some shifts, shape (shifts, rows) each."""
    shape = len(shifts), len(still)
    growth, miss = WORKSPACE.array("growth", *shape), WORKSPACE.array("missed", *shape)
    reach = max(float(np.abs(still).max(initial=0.0)), float(np.abs(shifts).max(initial=0.0)))
    if reach < FARTHEST / 2:  # one exponential for all shifts
        np.multiply(np.exp(shifts)[:, None], np.exp(still), out=growth)
    else:
        np.add(still, shifts[:, None], out=growth)
        np.exp(np.clip(growth, -FARTHEST, FARTHEST, out=growth), out=growth)
    np.add(growth, 1, out=miss)
    np.divide(1, miss, out=miss)
    p = np.multiply(growth, miss, out=growth)
    return p, np.multiply(p, miss, out=miss)
