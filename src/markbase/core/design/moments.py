"""What one pass over the rows leaves behind: counts, sums and cross-products of all terms.

The columns of a block are never laid out. The cross-product of two groups is a count of joint
codes, that of a group and a numeric column a sum of the numeric column by code, that of two numeric columns a dot product.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray


@dataclass(frozen=True, eq=False)
class Moments:
    """Sums of products of the columns of all blocks, full set of levels, intercept first.

    Numeric columns enter as ``(x - centre) / scale``; scales are powers of two, so scaling is exact.
    """

    sizes: tuple[int, ...]
    """Columns of each block; block 0 is the intercept."""
    centres: NDArray[np.float64]
    """Shape (blocks,): what was taken from each numeric column; 0 for the intercept and for groups."""
    scales: NDArray[np.float64]
    """Shape (blocks,): by what each numeric column was then divided; 1 for the intercept and for groups."""
    cross: NDArray[np.float64]
    """Shape (columns, columns): the sums of products over the rows."""

    @property
    def weight(self) -> float:
        """The sum of the weights; without weights, the rows."""
        return float(self.cross[0, 0])

    @property
    def rows(self) -> int:
        """How many rows went in, or stand for them by their weights."""
        return round(self.weight)

    @cached_property
    def starts(self) -> NDArray[np.intp]:
        """Shape (blocks,): where the columns of each block begin."""
        return np.concatenate([[0], np.cumsum(self.sizes)[:-1]]).astype(np.intp)

    def only(self, places: Sequence[int]) -> Moments:
        """Return the moments of some of the blocks, in the order given.

        Parameters
        ----------
        places : sequence of int
            Which blocks; 0, the intercept, first.

        Returns
        -------
        Moments
            The same sums, of those blocks.
        """
        columns = self.columns_of(places)
        sizes = tuple(self.sizes[k] for k in places)
        return Moments(
            sizes, self.centres[list(places)], self.scales[list(places)], self.cross[np.ix_(columns, columns)]
        )

    def columns_of(self, places: Sequence[int]) -> NDArray[np.intp]:
        """Return the columns of some of the blocks, in the order given, shape (columns,)."""
        return np.concatenate([np.arange(self.starts[k], self.starts[k] + self.sizes[k]) for k in places])
