"""The coefficients as an analyst reads them: what each is estimated at, with its error, and all of them as a table."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.design.coefficient_map import Coefficient, CoefficientMap
from markbase.core.inference.combinations import Combinations
from markbase.core.inference.distributions import p_of_t, t_quantile
from markbase.core.tables import table_of

Array = NDArray[np.float64]


def label_of(term: str, level: str) -> str:
    """Return what a coefficient is called: its term, with its level if it has one."""
    return f"{term}: {level}" if level else term


@dataclass(frozen=True, eq=False)
class CoefficientRows:
    """Every coefficient, a combination of the inner ones; NaN where the rows lack a combination of levels it rests on."""

    map: CoefficientMap
    """Which combination each is."""
    inner: Combinations
    """What combinations of the inner coefficients are."""

    @cached_property
    def estimates(self) -> Array:
        """Shape (coefficients,)."""
        return np.where(self.map.known, self.inner.estimates(self.map.chooser, self.map.starts), np.nan)

    @cached_property
    def roots(self) -> Array:
        """Shape (coefficients, 1 + p): the roots."""
        return self.inner.roots(self.map.chooser, self.map.starts)

    @cached_property
    def squares(self) -> Array:
        """Shape (coefficients,): the squared lengths of the roots."""
        squares: Array = np.einsum("ij,ij->i", self.roots, self.roots)
        return squares

    @cached_property
    def se(self) -> Array:
        """Shape (coefficients,): the standard errors."""
        return np.where(self.map.known, self.inner.se(self.roots, self.squares), np.nan)

    def table(self, statistic: str, level: float, df: float, counted: Callable[[Coefficient], int]) -> pd.DataFrame:
        """Lay the coefficients out, a row each.

        Parameters
        ----------
        statistic : str
            What the estimate over its standard error is called: ``t`` or ``z``.
        level : float
            Confidence level of the intervals.
        df : float
            Degrees of freedom; infinite for normal theory.
        counted : callable
            How many rows a coefficient is about.

        Returns
        -------
        pandas.DataFrame
            `term`, `level`, `against`, `base`, `n`, `estimate`, `se`, the statistic, `p`, `low`, `high`.
        """
        rows, estimates, se = self.map.rows, self.estimates, self.se
        base = np.array([told.compared.base for told in rows])
        with np.errstate(divide="ignore", invalid="ignore"):
            t = np.where(base, np.nan, estimates / se)
        half = t_quantile(level, df) * se
        return table_of(
            {
                "term": [told.term for told in rows],
                "level": [told.compared.level for told in rows],
                "against": [told.compared.against for told in rows],
                "base": base,
                "n": [counted(told) for told in rows],
                "estimate": estimates,
                "se": se,
                statistic: t,
                "p": p_of_t(t, df),
                "low": estimates - half,
                "high": estimates + half,
            }
        )

    def covariance(self) -> pd.DataFrame:
        """Return the covariance matrix, labelled ``term`` or ``term: level``."""
        labels = [label_of(t.term, t.compared.level) for t in self.map.rows]
        return pd.DataFrame(self.inner.covariance(self.roots), index=labels, columns=labels)
