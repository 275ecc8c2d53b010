"""What every fit has in common: coefficients told against chosen bases, their errors, and tests of them."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import ClassVar, Self

import numpy as np
import pandas as pd
import scipy.linalg
from numpy.typing import NDArray

from markbase.core import extended_precision as twofold
from markbase.core.design.coefficient_map import Coefficient, CoefficientMap, map_coefficients
from markbase.core.design.complete_cases import CompleteCases
from markbase.core.design.moments import Moments
from markbase.core.design.requested_terms import Slope
from markbase.core.design.terms import Term
from markbase.core.display import Shown
from markbase.core.errors import ColumnError, FitError, MarkbaseError, near
from markbase.core.estimation.least_squares_solution import Solution
from markbase.core.inference.covariance import Errors, Weights
from markbase.core.inference.distributions import p_of_f, p_of_t, t_quantile
from markbase.core.inference.multiplicity import corrected
from markbase.core.results.fit_statistics import OverallTest
from markbase.core.study.column import Column
from markbase.core.tables import table_of

Array = NDArray[np.float64]


@dataclass(frozen=True, eq=False, repr=False)
class Estimated(Shown):
    """A regression, estimated: what does not depend on its kind.

    Inside, coefficients are those of inner columns (see `solve`). Everything an analyst is told is a
    combination of them: an estimate is the combination itself, its variance σ² times the squared length of
    its root, or what robust errors make of it.
    """

    outcome: Column
    """The outcome."""
    parts: tuple[Term, ...]
    """The terms of the model, in the order given."""
    sample: CompleteCases
    """Which rows were used, and why others were not: `rows`, `used`, `lost`."""
    level: float
    """Confidence level of the intervals."""
    data_name: str
    """What the data are called."""
    moments: Moments
    """What one pass over the rows left behind: intercept, terms, outcome."""
    solution: Solution
    """The inner solution, from which everything below follows."""
    used: NDArray[np.bool_] | None
    """Shape (rows,): which rows were used; None for all."""
    errors: Errors
    """What the standard errors rest on: classical, HC0 to HC3, or clustered."""
    cluster: Column | None = None
    """The column of the clusters; None for none."""
    weights: Weights | None = None
    """With how much each row counts; None if all count alike."""
    possible_cluster: str = ""
    """A column with the role of a cluster by which the errors are not clustered; empty for none."""

    identifier: Column | None = None
    """The column that names the cases; None if the data have none."""
    retold: str = ""
    """That the fit is told again from another base, with what was verified; empty if it is not."""
    convention: float | None = None
    """Below which p counts as clear evidence in sentences; None for one less the confidence level."""

    _statistic: ClassVar[str] = "t"

    @property
    def df_rest(self) -> float:
        """Degrees of freedom of t and of the denominator of F; infinite where normal theory is used."""
        return self.errors.df

    @property
    def absorbed(self) -> tuple[str, ...]:
        """The columns whose levels were taken out; empty for none."""
        return ()

    @property
    def exact(self) -> bool:
        """Whether the terms reproduce the outcome to within rounding, so that errors mean nothing."""
        return False

    @property
    def alpha(self) -> float:
        """Below which p counts as clear evidence in sentences."""
        return 1 - self.level if self.convention is None else self.convention

    def corrected_p(self, p: Sequence[float]) -> list[float]:
        """Correct p values of several comparisons after Holm.

        Parameters
        ----------
        p : sequence of float
            The p values, each by itself.

        Returns
        -------
        list of float
            The corrected ones, in the same order.
        """
        values = np.asarray(p, dtype=np.float64)
        return [float(v) for v in corrected(values, "holm", values, len(values), self.df_rest)]

    def _convention(self, alpha: float | None) -> Self:
        if alpha is None:
            return self
        if not isinstance(alpha, (int, float)) or not 0 < alpha < 1:
            raise MarkbaseError(f"The convention for p is {alpha!r}; it must lie between 0 and 1, for instance 0.05.")
        return replace(self, convention=float(alpha))

    @property
    def errors_words(self) -> str:
        """What the standard errors rest on, in a few words."""
        return self.errors.words.removeprefix("errors ")

    @property
    def explained(self) -> str:
        """What the equation gives."""
        return self.outcome.name

    @property
    def _sigma2(self) -> float:
        """What the products of the roots are multiplied with under classical errors."""
        raise NotImplementedError

    @cached_property
    def coefficients(self) -> pd.DataFrame:
        """One row a coefficient, and one for the base of each group.

        `term` (``(intercept)`` first), `level` (empty for a numeric column; the name of the trend under
        trend coding), `against` (what the level is compared with), `base` (true for the row of a
        base, whose estimate is 0 by definition), `n` (rows used at that level, or all rows used),
        `estimate`, `se`, `t`, `p` (two-sided; NaN for a base), `low` and `high` (the interval at
        `level`), all in units of the outcome per unit of the term.
        """
        return self._table(self._map)

    @cached_property
    def equation_rows(self) -> pd.DataFrame:
        """The coefficients of the equation, as `coefficients`, with a row a level for every group.

        A group that is not coded by indicators is told by the effects of its levels, from their mean.
        """
        if all(t.column.scheme == "indicator" for t in self._groups):
            return self.coefficients
        return self._table(self._map_coefficients(level_form=True))

    def coefficients_at(self, at: Mapping[str, float]) -> pd.DataFrame:
        """Tell the coefficients where some numeric columns have a value of their own instead of 0.

        Parameters
        ----------
        at : mapping of str to float
            Numeric columns that are part of a slope by group, and where to hold them.

        Returns
        -------
        pandas.DataFrame
            As `coefficients`; the differences between groups, and the start, are those at these values.

        Raises
        ------
        ColumnError
            If the model has no such numeric column.
        """
        for name in at:
            self.spread(name)
        return self._table(self._map_coefficients(at=at))

    @cached_property
    def covariance(self) -> pd.DataFrame:
        """The covariance matrix of the rows of `coefficients`, labelled ``term`` or ``term: level``."""
        V = self._covariance_of(self._roots)
        labels = [f"{t.term}: {t.compared.level}" if t.compared.level else t.term for t in self._map.rows]
        return pd.DataFrame(V, index=labels, columns=labels)

    def equal_slopes(self, numeric: str, *, by: str) -> OverallTest:
        """Test whether the slope of a numeric column is the same in every level of a group.

        Parameters
        ----------
        numeric : str
            The numeric column.
        by : str
            The group.

        Returns
        -------
        OverallTest
            F on the levels less one, and its p. Large slopes do not matter here, unequal ones do.

        Raises
        ------
        FitError
            If the model does not let that slope differ by that group.
        """
        name = Slope(numeric, by).name
        own = [k for k, told in enumerate(self._map.rows) if told.term == name and not told.compared.base]
        if not own:
            raise FitError(
                f"The model has no slope of `{numeric}` that differs by `{by}`; add slope({numeric!r}, by={by!r}) to its terms."
            )
        roots, estimates = self._roots[own], self._estimates[own]
        part = next(t for t in self.parts if t.name == name).parts[1]
        if numeric not in {t.name for t in self.parts} or part.column.scheme == "effect":
            roots, estimates = roots[1:] - roots[0], estimates[1:] - estimates[0]
        F = self._wald(roots, estimates)
        return self._test_of(F, len(estimates))

    def spread(self, term: str) -> tuple[float, float, float]:
        """Describe a numeric column in the rows used.

        Parameters
        ----------
        term : str
            The name of a term that is numeric.

        Returns
        -------
        low, high, sd : float
            Its lowest and highest value and its standard deviation (n − 1).

        Raises
        ------
        ColumnError
            If there is no such term, or it is categorical.
        """
        single = {p.name: p for t in self.parts for p in (t.parts or (t,)) if p.kind == "numeric"}
        part = single.get(term)
        if part is None:
            numerics = list(single)
            raise ColumnError(f"The model has no numeric column `{term}`.{near(term, numerics)}")
        values = part.column.values if self.used is None else part.column.values[self.used]
        return float(values.min()), float(values.max()), float(values.std(ddof=1))

    def middle(self, numeric: str) -> float:
        """Return the mean of a numeric column in the rows used, each counted by its weight.

        Parameters
        ----------
        numeric : str
            The name of a numeric column in the model.

        Returns
        -------
        float
            The mean.

        Raises
        ------
        ColumnError
            If the model has no such numeric column.
        """
        self.spread(numeric)
        part = next(p for t in self.parts for p in (t.parts or (t,)) if p.name == numeric)
        values = part.column.values if self.used is None else part.column.values[self.used]
        if self.weights is None:
            return float(values.mean())
        heavy = self.weights.values if self.used is None else self.weights.values[self.used]
        return float(np.average(values, weights=heavy))

    def _test_of(self, F: float, df: int) -> OverallTest:
        """Put F and its degrees of freedom into words of a test: F, or Wald's chi-squared where normal theory is used."""
        p = float(p_of_f(F, df, self.df_rest))
        if math.isinf(self.df_rest):
            return OverallTest(F * df, df, math.inf, p, "Wald")
        return OverallTest(F, df, self.df_rest, p)

    def _table(self, coefficient_map: CoefficientMap) -> pd.DataFrame:
        if coefficient_map is self._map:
            estimates, roots, squares = self._estimates, self._roots, self._squares
        else:
            estimates, roots = (
                self._estimates_of(coefficient_map),
                self._roots_of(coefficient_map.chooser, coefficient_map.starts),
            )
            squares = np.einsum("ij,ij->i", roots, roots)
        se = np.where(coefficient_map.known, self._se(roots, squares), np.nan)
        base = np.array([told.compared.base for told in coefficient_map.rows])
        with np.errstate(divide="ignore", invalid="ignore"):
            t = np.where(base, np.nan, estimates / se)
        half = t_quantile(self.level, self.df_rest) * se
        return table_of(
            {
                "term": [told.term for told in coefficient_map.rows],
                "level": [told.compared.level for told in coefficient_map.rows],
                "against": [told.compared.against for told in coefficient_map.rows],
                "base": base,
                "n": [self._rows_of(told) for told in coefficient_map.rows],
                "estimate": estimates,
                "se": se,
                self._statistic: t,
                "p": p_of_t(t, self.df_rest),
                "low": estimates - half,
                "high": estimates + half,
            }
        )

    def _roots_of(self, chooser: Array, starts: NDArray[np.bool_]) -> Array:
        """Return the roots of combinations, shape (m, 1 + p): what falls to the start, and to the columns."""
        roots = np.empty((len(chooser), chooser.shape[1] + 1))
        roots[:, 0] = starts / math.sqrt(self.solution.weight)
        roots[:, 1:] = self.solution.roots_of(chooser, starts)
        return roots

    def _se(self, roots: Array, squares: Array | None = None) -> Array:
        """Return the standard errors of combinations, by their roots."""
        if self.errors.middle is None:
            lengths = np.einsum("ij,ij->i", roots, roots) if squares is None else squares
            se: Array = np.sqrt(self._sigma2 * lengths)
            return se
        robust: Array = np.sqrt(np.einsum("ij,jk,ik->i", roots, self.errors.middle, roots, optimize=True))
        return robust

    def _covariance_of(self, roots: Array) -> Array:
        """Return the covariance of combinations, by their roots."""
        if self.errors.middle is None:
            return roots @ roots.T * self._sigma2
        covariance: Array = roots @ self.errors.middle @ roots.T
        return covariance

    def _wald(self, roots: Array, b: Array) -> float:
        """Return F = bᵀV⁻¹b/df of some combinations, by their roots."""
        if self.errors.middle is not None:
            if len(b) > self.errors.df:
                return math.nan
            V = roots @ self.errors.middle @ roots.T
            scale = np.sqrt(np.diag(V))
            if not scale.all():
                return math.inf
            z = b / scale
            return float(z @ np.linalg.solve(V / np.outer(scale, scale), z)) / len(b)
        if not self._sigma2 > 0:
            return math.inf
        if len(b) == 1:
            return float(b[0] ** 2 / (roots[0] @ roots[0]) / self._sigma2)
        # bᵀ(AAᵀ)⁻¹b by a QR factorisation of Aᵀ: no inverse is formed
        R = scipy.linalg.lapack.dgeqrf(roots.T)[0][: len(b)]  # what lies below the diagonal is not looked at
        z = scipy.linalg.lapack.dtrtrs(R, b, trans=1)[0]
        return float(z @ z / len(b) / self._sigma2)

    @cached_property
    def _own_rows(self) -> list[list[int]]:
        """For each term, the rows of the telling that together say all of it: none twice, none a base."""
        coefficient_map = self._map
        rows: dict[str, list[int]] = {t.name: [] for t in self.parts}
        for k, told in enumerate(coefficient_map.rows[1:], 1):
            if not told.compared.base and coefficient_map.known[k]:
                rows[told.term].append(k)
        for term in self.parts:
            last = (term.parts or (term,))[-1]
            if term.kind in ("categorical", "slope") and last.column.scheme == "effect" and len(rows[term.name]) > 1:
                rows[term.name].pop()  # the effects sum to 0, so the last follows from the others
        return [rows[t.name] for t in self.parts]

    def _wald_by_term(self) -> tuple[list[int], list[float]]:
        """Return the degrees of freedom and F of each term, given all the others."""
        estimates = self._estimates
        with np.errstate(divide="ignore", invalid="ignore"):
            single = estimates**2 / self._squares / self._sigma2
        F = []
        for own in self._own_rows:
            if len(own) == 1 and self.errors.middle is None:
                F.append(float(single[own[0]]))
            else:
                F.append(self._wald(self._roots[own], estimates[own]) if own else math.nan)
        return [len(own) for own in self._own_rows], F

    @property
    def _groups(self) -> list[Term]:
        """The groups in the model, alone or in a slope or a crossing."""
        return [p for t in self.parts for p in (t.parts or (t,)) if p.is_categorical]

    @property
    def _term_columns(self) -> NDArray[np.bool_]:
        """Shape (p,): which inner columns are those of terms; those of a second column taken out stand behind them."""
        told: NDArray[np.bool_] = self.solution.columns < 1 + sum(t.size for t in self.parts)
        return told

    @cached_property
    def _roots(self) -> Array:
        """Shape (coefficients, 1 + p): the roots of all coefficients."""
        return self._roots_of(self._map.chooser, self._map.starts)

    @cached_property
    def _squares(self) -> Array:
        """Shape (coefficients,): the squared lengths of the roots."""
        squares: Array = np.einsum("ij,ij->i", self._roots, self._roots)
        return squares

    @cached_property
    def _place(self) -> dict[str, int]:
        """The block of each term."""
        return {t.name: k for k, t in enumerate(self.parts, 1)}

    @cached_property
    def _map(self) -> CoefficientMap:
        return self._map_coefficients()

    def _map_coefficients(self, level_form: bool = False, at: Mapping[str, float] | None = None) -> CoefficientMap:
        coefficient_map = map_coefficients(self.parts, self.moments, self.solution.columns, level_form, at)
        hidden = ~self._term_columns
        if hidden.any():  # the start is that of the mean over the levels taken out
            coefficient_map.chooser[0, hidden] = self.solution.means[hidden]
        return coefficient_map

    @cached_property
    def _estimates(self) -> Array:
        return self._estimates_of(self._map)

    def _estimates_of(self, coefficient_map: CoefficientMap) -> Array:
        """Return the estimates of all coefficients, NaN where the rows lack a combination they rest on."""
        return np.where(coefficient_map.known, self._combined(coefficient_map.chooser, coefficient_map.starts), np.nan)

    def _combined(self, chooser: Array, starts: NDArray[np.bool_]) -> Array:
        """Return combinations of the inner coefficients, with the start where it belongs to them."""
        s = self.solution
        estimates: Array = chooser @ s.coefficients + chooser @ s.lower
        for k in np.flatnonzero(starts):
            high, low = twofold.two_product(chooser[k], s.coefficients)
            estimates[k] = math.fsum([*s.at_centres, *high, *low, *(chooser[k] * s.lower)])
        return estimates

    def _rows_of(self, told: Coefficient) -> int:
        """Count the rows used that a coefficient is about, which weights do not change."""
        if not told.levels:
            return self.sample.used
        k = self._place[told.term]
        term = self.parts[k - 1]
        place = told.levels[0]
        if len(told.levels) == 2:
            place = told.levels[0] * term.parts[1].size + told.levels[1]
        if self.weights is None and term.kind != "slope":
            return int(self.moments.cross[0, self.moments.starts[k] + place])
        codes = term.block().codes
        assert codes is not None
        return int(np.count_nonzero((codes if self.used is None else codes[self.used]) == place))
