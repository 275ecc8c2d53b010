"""What the columns of a model are on average, when some variables are set and the others are as in the sample."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.moments import Moments
from markbase.core.design.terms import Term

Array = NDArray[np.float64]
Setting = Mapping[str, "float | Array"]
"""Values of numeric columns, and shares of the levels of groups."""


@dataclass(frozen=True, eq=False)
class Sample:
    """The rows of a fit, as averages need them."""

    parts: tuple[Term, ...]
    """The terms."""
    moments: Moments
    """For sizes and centres."""
    used: NDArray[np.bool_] | None
    """Shape (rows,): the rows used; None for all."""
    weights: Array | None
    """Shape (rows,): with how much each row counts."""
    means: Array
    """Shape (columns of the moments,): the mean of every column over the rows, numeric columns from their centres."""

    def shares(self, group: Term) -> Array:
        """Return the share of each level of a group, shape (levels,)."""
        codes = group.block().codes
        assert codes is not None
        inside = slice(None) if self.used is None else self.used
        heavy = None if self.weights is None else self.weights[inside]
        counts = np.bincount(codes[inside], weights=heavy, minlength=group.size)
        shares: Array = counts / counts.sum()
        return shares

    def mean(self, numeric: Term) -> float:
        """Return the mean of a numeric column."""
        inside = slice(None) if self.used is None else self.used
        heavy = None if self.weights is None else self.weights[inside]
        return float(np.average(numeric.column.values[inside], weights=heavy))

    def row(self, setting: Setting) -> Array:
        """Return the mean columns with some variables set.

        Parameters
        ----------
        setting : mapping
            A value for a numeric column; for a group the shares of its levels, shape (levels,), 1 for the level it is set to.

        Returns
        -------
        ndarray, shape (columns of the moments,)
            Numeric columns from their centres. A product of two variables of which one is set is that value times the
            mean of the other over all rows.
        """
        wide = self.means.copy()
        for k, term in enumerate(self.parts, 1):
            if not any(name in setting for name in term.variables):
                continue
            start, centre = int(self.moments.starts[k]), float(self.moments.centres[k])
            if term.kind == "numeric":
                wide[start] = float(setting[term.name]) - centre
            elif term.kind == "categorical":
                wide[start : start + term.size] = setting[term.name]
            else:
                first, second = term.parts
                share = np.asarray(setting[second.name] if second.name in setting else self.shares(second))
                if term.kind == "slope":
                    value = setting[first.name] if first.name in setting else self.mean(first)
                    wide[start : start + term.size] = share * (float(value) - centre)
                else:
                    other = np.asarray(setting[first.name] if first.name in setting else self.shares(first))
                    wide[start : start + term.size] = np.outer(other, share).ravel()
        return wide
