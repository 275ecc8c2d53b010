"""What a penalised likelihood says of combinations of coefficients: p, and intervals that need not be even about the estimate."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
_SAME = 1e-9
"""Combinations whose roots differ by no more, in lengths of the root, are the same."""


class Profiled(NamedTuple):
    """The p and intervals of some combinations, each known by its root, from whichever base it is told."""

    roots: Array
    """Shape (k, 1 + p)."""
    p: Array
    """Shape (k,): of the likelihood ratio."""
    low: Array
    """Shape (k,): the lower end of the interval."""
    high: Array
    """Shape (k,): the upper end."""

    def of(self, roots: Array) -> tuple[NDArray[np.bool_], Profiled]:
        """Find other combinations among these, themselves or turned round.

        Parameters
        ----------
        roots : ndarray, shape (m, 1 + p)
            The root of each.

        Returns
        -------
        ndarray of bool, shape (m,)
            Which are among these.
        Profiled
            What is said of each; of the others it means nothing.
        """
        roots = np.nan_to_num(roots)
        if not len(self.roots):
            none = np.full(len(roots), np.nan)
            return np.zeros(len(roots), dtype=bool), Profiled(roots, none, none, none)
        across = roots @ self.roots.T / np.linalg.norm(self.roots, axis=1)
        place = np.argmax(np.abs(across), axis=1)
        turned = np.where(across[np.arange(len(roots)), place] < 0, -1.0, 1.0)
        length = np.linalg.norm(roots, axis=1)
        apart = np.linalg.norm(roots - turned[:, None] * self.roots[place], axis=1)
        ends = np.stack([self.low[place], self.high[place]]) * turned
        found = Profiled(roots, self.p[place], ends.min(axis=0), ends.max(axis=0))
        return (length > 0) & (apart <= _SAME * length), found
