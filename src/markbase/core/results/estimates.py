"""What every fit has in common: coefficients told against chosen bases, their errors, and tests of them."""

from __future__ import annotations

import math
from abc import ABC, abstractmethod
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any, ClassVar, Self

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.design.coefficient_map import (
    Coefficient,
    CoefficientMap,
    cell_counts,
    components_of,
    map_coefficients,
)
from markbase.core.design.complete_cases import CompleteCases
from markbase.core.design.moments import Moments
from markbase.core.design.terms import Component, Term, Variable, joint_codes, variables_of
from markbase.core.design.weights import Weights
from markbase.core.display import Shown
from markbase.core.errors import ColumnError, FitError, MarkbaseError, near
from markbase.core.estimation.least_squares_solution import Solution
from markbase.core.inference.combinations import Combinations
from markbase.core.inference.covariance import Errors
from markbase.core.inference.distributions import p_of_f, p_of_t, t_quantile
from markbase.core.inference.joint_tests import JointTest
from markbase.core.inference.multiplicity import corrected
from markbase.core.results.family import LINEAR, Family
from markbase.core.results.fit_statistics import OverallTest
from markbase.core.rows.row_functions import sd_of
from markbase.core.study.column import Column
from markbase.core.tables import own_table, table_of

Array = NDArray[np.float64]


@dataclass(frozen=True, eq=False, repr=False)
class Estimated(Shown, ABC):
    """A regression, estimated: what does not depend on its kind.

    Inside, coefficients are those of inner columns (see `solve`). Everything an analyst is told is a
    combination of them: an estimate is the combination itself, its variance σ² times the squared length of
    its root, or what robust errors make of it.
    """

    outcome: Column
    """The outcome."""
    model_terms: tuple[Term, ...]
    """The terms of the model, in the order given; each interaction has its lower terms."""
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
    index: pd.Index[Any] | None = None
    """The index of the rows of the study."""
    retold: str = ""
    """That the fit is told again from another base, with what was verified; empty if it is not."""
    convention: float | None = None
    """Below which p counts as clear evidence in sentences; None for one less the confidence level."""

    family: ClassVar[Family] = LINEAR
    """Its kind: which statistic a coefficient has, on which scale it is told, what a prediction holds."""

    @property
    def df_rest(self) -> float:
        """Degrees of freedom of t and of the denominator of F; infinite where normal theory is used."""
        return self.errors.df

    @property
    def fixed_effect_names(self) -> tuple[str, ...]:
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
    def times(self) -> Array | None:
        """Shape (rows,): for how many rows each stands by its frequency; None where each stands for itself."""
        return self.weights.values if self.weights is not None and self.weights.kind == "frequency" else None

    @property
    def counted(self) -> int:
        """Rows used, each as often as a frequency weight says."""
        if self.times is None:
            return self.sample.used
        return round(float(self.times.sum() if self.used is None else self.times[self.used].sum()))

    def repeated(self, *values: Array) -> tuple[Array, ...]:
        """Return values of the rows used, each as often as a frequency weight says."""
        if self.times is None:
            return values
        inside = slice(None) if self.used is None else self.used
        often = np.round(self.times[inside]).astype(np.intp)
        return tuple(np.repeat(v, often) for v in values)

    @property
    def errors_words(self) -> str:
        """What the standard errors rest on, in a few words."""
        return self.errors.words.removeprefix("errors ")

    @property
    def explained(self) -> str:
        """What the equation gives."""
        return self.family.explained(self.outcome)

    @property
    @abstractmethod
    def _sigma2(self) -> float:
        """What the products of the roots are multiplied with under classical errors."""

    @cached_property
    def inner(self) -> Combinations:
        """Combinations of the inner coefficients: what they are estimated at, their errors, and joint tests of them."""
        return Combinations(self.solution, self.errors, self._sigma2)

    @own_table
    def coefficients(self) -> pd.DataFrame:
        """One row a coefficient, and one for the base of each group.

        `term` (``(intercept)`` first), `level` (empty for a numeric column; the name of the trend under
        trend coding), `against` (what the level is compared with), `base` (true for the row of a
        base, whose estimate is 0 by definition), `n` (rows used at that level, or all rows used),
        `estimate`, `se`, `t`, `p` (two-sided; NaN for a base), `low` and `high` (the interval at
        `level`), all in units of the outcome per unit of the term.
        """
        return self._table(self.coefficient_map)

    @own_table
    def equation_rows(self) -> pd.DataFrame:
        """The coefficients of the equation, as `coefficients`, with a row a level for every group.

        A group that is not coded by indicators is told by the effects of its levels, from their mean.
        """
        return self.coefficients if self.equation_map is self.coefficient_map else self._table(self.equation_map)

    @cached_property
    def equation_map(self) -> CoefficientMap:
        """What the rows of `equation_rows` are."""
        if all(v.column.scheme == "indicator" for v in self._groups):
            return self.coefficient_map
        return self._map_coefficients(level_form=True)

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

        Examples
        --------
        >>> import markbase as mb
        >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
        >>> fit = mb.fit_linear(study, "belonging", ["age", "voice", mb.interaction("age", "voice")])
        >>> fit.coefficients_at({"age": 40})[["term", "level", "estimate"]].round(1).head(4)
                  term    level  estimate
        0  (intercept)               59.0
        1          age                0.2
        2        voice  soprano      -1.8
        3        voice     alto       0.0
        """
        for name in at:
            self.spread(name)
        return self._table(self._map_coefficients(at=at))

    @own_table
    def covariance(self) -> pd.DataFrame:
        """The covariance matrix of the rows of `coefficients`, labelled ``term`` or ``term: level``."""
        V = self.inner.covariance(self._roots)
        labels = [f"{t.term}: {t.compared.level}" if t.compared.level else t.term for t in self.coefficient_map.rows]
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
            F on the levels less one (times the powers of the column), and its p: that every part of the model in which the two
            are multiplied with each other alone is 0. Large slopes do not matter here, unequal ones do.

        Raises
        ------
        FitError
            If the model does not let that slope differ by that group.

        Examples
        --------
        >>> import markbase as mb
        >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
        >>> fit = mb.fit_linear(study, "belonging", ["age", "voice", mb.interaction("age", "voice")])
        >>> fit.equal_slopes("age", by="voice").df
        3
        """
        term = next((t for t in self.model_terms if set(t.names) == {numeric, by} and len(t.groups) == 1), None)
        if term is None:
            raise FitError(
                f"The model has no interaction of `{numeric}` and `{by}`; add it to the terms to let the slope differ."
            )
        return self._as_overall(self.inner.joint(self._tested(term)))

    def variable(self, name: str, kind: str) -> Variable:
        """Return a variable of the model.

        Parameters
        ----------
        name : str
            The name of a column.
        kind : str
            ``numeric`` or ``categorical``.

        Returns
        -------
        Variable
            With its column and the levels that occur.

        Raises
        ------
        ColumnError
            If the model has no such column of that kind.
        """
        alike = {v.name: v for v in variables_of(self.model_terms).values() if v.kind == kind}
        if name not in alike:
            word = "group" if kind == "categorical" else "numeric column"
            raise ColumnError(f"The model has no {word} `{name}`.{near(str(name), list(alike))}")
        return alike[name]

    def spread(self, numeric: str) -> tuple[float, float, float]:
        """Describe a numeric column in the rows used.

        Parameters
        ----------
        numeric : str
            The name of a numeric column of the model.

        Returns
        -------
        low, high, sd : float
            Its lowest and highest value and its standard deviation (n − 1), rows counted by frequency weights.

        Raises
        ------
        ColumnError
            If the model has no such column.
        """
        if numeric not in self._spreads:
            self._spreads[numeric] = self._spread_of(numeric)
        return self._spreads[numeric]

    @cached_property
    def _spreads(self) -> dict[str, tuple[float, float, float]]:
        return {}

    def _spread_of(self, numeric: str) -> tuple[float, float, float]:
        values, heavy = self._values_of(numeric)
        if heavy is None or (self.weights is not None and self.weights.kind == "sampling"):
            return float(values.min()), float(values.max()), sd_of(values)
        mean = np.average(values, weights=heavy)
        variance = float(heavy @ (values - mean) ** 2) / (float(heavy.sum()) - 1)
        return float(values.min()), float(values.max()), math.sqrt(variance)

    def middle(self, numeric: str) -> float:
        """Return the mean of a numeric column in the rows used, each counted by its weight.

        Parameters
        ----------
        numeric : str
            The name of a numeric column of the model.

        Returns
        -------
        float
            The mean.

        Raises
        ------
        ColumnError
            If the model has no such column.
        """
        values, heavy = self._values_of(numeric)
        return float(values.mean() if heavy is None else np.average(values, weights=heavy))

    def _values_of(self, numeric: str) -> tuple[Array, Array | None]:
        """Return the values of a numeric column in the rows used, and their weights."""
        inside = slice(None) if self.used is None else self.used
        heavy = self.weights.values[inside] if self.weights else None
        return self.variable(numeric, "numeric").column.values[inside], heavy

    def _as_overall(self, test: JointTest) -> OverallTest:
        """Put a joint test into words of a test: F, or Wald's chi-squared where normal theory is used."""
        df = max(test.df, 1)
        p = float(p_of_f(test.statistic, df, self.df_rest))
        if math.isinf(self.df_rest):
            return OverallTest(test.statistic * df, test.df, math.inf, p, "Wald", test.untested)
        return OverallTest(test.statistic, test.df, self.df_rest, p, untested=test.untested)

    def _table(self, coefficient_map: CoefficientMap) -> pd.DataFrame:
        if coefficient_map is self.coefficient_map:
            estimates, roots, squares = self._estimates, self._roots, self._squares
        else:
            estimates, roots = (
                self._estimates_of(coefficient_map),
                self.inner.roots(coefficient_map.chooser, coefficient_map.starts),
            )
            squares = np.einsum("ij,ij->i", roots, roots)
        se = np.where(coefficient_map.known, self.inner.se(roots, squares), np.nan)
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
                self.family.statistic: t,
                "p": p_of_t(t, self.df_rest),
                "low": estimates - half,
                "high": estimates + half,
            }
        )

    def _tested(self, term: Term) -> Array:
        """Return what the joint test of a term is about, as combinations of the inner coefficients, shape (m, p).

        What no higher term contains is told by its own inner columns, whatever its coding. A term that a higher one contains
        is tested where the others are at their reference, by the rows that the analyst reads.
        """
        if not any(set(term.names) < set(t.names) for t in self.model_terms):
            return self._selector([term])
        redundant = {v.name: v.size - 1 for v in term.groups if v.column.scheme == "effect"}
        own = [
            k
            for k, told in enumerate(self.coefficient_map.rows)
            if told.term == term.name
            and not told.compared.base
            and self.coefficient_map.known[k]
            and not any(redundant.get(group) == level for group, level in told.levels)
        ]
        return self.coefficient_map.chooser[own]

    def _selector(self, terms: Sequence[Term]) -> Array:
        """Return the inner coefficients of some terms as combinations, shape (m, p)."""
        return np.asarray(np.eye(len(self.solution.columns))[self._inner_places(terms)])

    @cached_property
    def _tests(self) -> list[JointTest]:
        """The Wald test of each term, given all the others."""
        lower = [any(set(term.names) < set(t.names) for t in self.model_terms) for term in self.model_terms]
        return [
            self.inner.joint(self._tested(term)) if contained else self._joint_of_columns([term])
            for term, contained in zip(self.model_terms, lower, strict=True)
        ]

    def _joint_of_columns(self, terms: Sequence[Term]) -> JointTest:
        """Test whether the inner coefficients of some terms are all zero."""
        return self.inner.columns(self._inner_places(terms))

    def _inner_places(self, terms: Sequence[Term]) -> NDArray[np.intp]:
        """Return which of the inner coefficients are those of some terms."""
        inside = np.zeros(self.moments.cross.shape[0], dtype=bool)
        for term in terms:
            for columns in self._columns_of(term):
                inside[columns] = True
        return np.flatnonzero(inside[self.solution.columns])

    @property
    def variables(self) -> tuple[Variable, ...]:
        """The columns of the model, each once."""
        return tuple(variables_of(self.model_terms).values())

    @property
    def untested(self) -> dict[str, str]:
        """The terms that have no joint test, each with the reason."""
        return {t.name: test.untested for t, test in zip(self.model_terms, self._tests, strict=True) if test.untested}

    @property
    def _groups(self) -> list[Variable]:
        """The groups in the model, alone or in an interaction."""
        return [v for v in variables_of(self.model_terms).values() if v.is_categorical]

    @cached_property
    def components(self) -> list[Component]:
        """The pieces of the terms, in order; piece k is block k + 1 of the moments."""
        return components_of(self.model_terms)

    def _columns_of(self, term: Term) -> list[slice]:
        """Return where the columns of each component of a term stand among those of the moments."""
        first = 1 + sum(len(t.components) for t in self.model_terms[: self.model_terms.index(term)])
        starts = self.moments.starts
        return [slice(int(starts[first + k]), int(starts[first + k]) + c.size) for k, c in enumerate(term.components)]

    @property
    def _term_columns(self) -> NDArray[np.bool_]:
        """Shape (p,): which inner columns are those of terms; those of a second column taken out stand behind them."""
        told: NDArray[np.bool_] = self.solution.columns < 1 + sum(t.size for t in self.model_terms)
        return told

    @cached_property
    def _roots(self) -> Array:
        """Shape (coefficients, 1 + p): the roots of all coefficients."""
        return self.inner.roots(self.coefficient_map.chooser, self.coefficient_map.starts)

    @cached_property
    def _squares(self) -> Array:
        """Shape (coefficients,): the squared lengths of the roots."""
        squares: Array = np.einsum("ij,ij->i", self._roots, self._roots)
        return squares

    @cached_property
    def coefficient_map(self) -> CoefficientMap:
        """What each row of `coefficients` is, as a combination of the inner coefficients."""
        return self._map_coefficients()

    def _map_coefficients(self, level_form: bool = False, at: Mapping[str, float] | None = None) -> CoefficientMap:
        coefficient_map = map_coefficients(self.model_terms, self.moments, self.solution.columns, level_form, at)
        hidden = ~self._term_columns
        if hidden.any():  # the start is that of the mean over the levels taken out
            coefficient_map.chooser[0, hidden] = self.solution.means[hidden]
        return coefficient_map

    @cached_property
    def _estimates(self) -> Array:
        return self._estimates_of(self.coefficient_map)

    def _estimates_of(self, coefficient_map: CoefficientMap) -> Array:
        """Return the estimates of all coefficients, NaN where the rows lack a combination they rest on."""
        return np.where(
            coefficient_map.known, self.inner.estimates(coefficient_map.chooser, coefficient_map.starts), np.nan
        )

    def _rows_of(self, told: Coefficient) -> int:
        """Count the rows used that a coefficient is about, each as often as a frequency weight says."""
        if not told.levels:
            return self.counted
        counts = self._counts_at(tuple(name for name, _ in told.levels))
        return int(counts[tuple(level for _, level in told.levels)])

    def _counts_at(self, groups: tuple[str, ...]) -> NDArray[np.int64]:
        """Count the rows used at each joint level of some groups, each as often as a frequency weight says."""
        if groups not in self._counted:
            variables = [self.variable(name, "categorical") for name in groups]
            told = next(
                (k for k, c in enumerate(self.components) if not c.numerics and c.names == frozenset(groups)), None
            )
            if self.weights is None and told is not None:  # the moments have counted already
                sums = cell_counts(told, self.components, self.moments)
                own = self.components[told].groups
                counted = sums.reshape([g.size for g in own]).transpose(
                    [[g.name for g in own].index(n) for n in groups]
                )
                self._counted[groups] = np.round(counted).astype(np.int64)
                return self._counted[groups]
            codes = joint_codes(variables)
            inside = slice(None) if self.used is None else self.used
            times = self.times
            counts = np.bincount(
                codes[inside],
                weights=None if times is None else times[inside],
                minlength=math.prod(v.size for v in variables),
            )
            self._counted[groups] = np.round(counts).astype(np.int64).reshape([v.size for v in variables])
        return self._counted[groups]

    @cached_property
    def _counted(self) -> dict[tuple[str, ...], NDArray[np.int64]]:
        return {}
