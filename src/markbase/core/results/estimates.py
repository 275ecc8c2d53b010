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

from markbase.core.design.coefficient_map import Coefficient, CoefficientMap, components_of, map_coefficients
from markbase.core.design.complete_cases import CompleteCases
from markbase.core.design.drawn import DrawnBy
from markbase.core.design.mean_columns import Sample, Setting
from markbase.core.design.moments import Moments
from markbase.core.design.shared import Shared
from markbase.core.design.shared_changes import Beginning
from markbase.core.design.terms import Component, Term, Variable, variable_of, variables_of
from markbase.core.design.weights import Weighting, Weights
from markbase.core.display import Shown
from markbase.core.errors import FitError, MarkbaseError, count_noun
from markbase.core.estimation.least_squares_solution import Solution
from markbase.core.inference.combinations import Combinations
from markbase.core.inference.distributions import p_of_f, t_quantile
from markbase.core.inference.joint_tests import JointTest
from markbase.core.inference.multiplicity import corrected
from markbase.core.inference.standard_errors import Errors
from markbase.core.results.coefficient_rows import CoefficientRows
from markbase.core.results.family import LINEAR, Family
from markbase.core.results.fit_statistics import OverallTest
from markbase.core.results.overstated_tests import judged_p
from markbase.core.results.profiled import Profiled
from markbase.core.results.rows_used import RowsUsed
from markbase.core.results.term_tests import TermTests
from markbase.core.study.column import Column
from markbase.core.study.imputed import Stacked
from markbase.core.tables import own_table

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
    crossed: Column | None = None
    """A second one, whose clusters cut through those of the first; None for none."""
    strata: Column | None = None
    """The column of the strata within which clusters, or rows, were drawn; None for none."""
    time: Column | None = None
    """The periods that errors allow to follow one another (HAC); None for none."""
    weights: Weights | None = None
    """With how much each row counts; None if all count alike."""
    possible_cluster: Column | None = None
    """A column with the role of a cluster by which the errors are not clustered; None for none."""
    possible_weights: str = ""
    """A column with the role of weights, of which no use is made; empty for none."""
    repeating: tuple[Column, ...] = ()
    """Columns outside the model whose rows may go together, by their names or the numbers of their rows."""
    timed_by: tuple[Column, ...] = ()
    """Columns that may tell when rows were measured: dates, and whole numbers called year, month, wave and the like."""
    shared: tuple[Shared, ...] = ()
    """What columns of the model have in common with the outcome by construction, though nobody says so."""
    began: Beginning | None = None
    """What the outcome began from, where it is a change of a column outside the model."""
    stacked: Stacked | None = None
    """Imputations of the same cases that the rows hold one below another; None for none."""
    plausible: tuple[str, ...] = ()
    """Plausible values of which the outcome, or a term, is one, or the mean of several; empty for none."""

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
        """Degrees of freedom of t; infinite where normal theory is used. Those of F are told with each test."""
        return self.errors.df

    @property
    def drawn_by(self) -> DrawnBy:
        """The columns that errors allow for."""
        return DrawnBy(self.cluster, self.crossed, self.strata, self.time)

    @property
    def weighting(self) -> Weighting | None:
        """By what rows count; None where they count alike."""
        return self.weights

    @property
    def statistic_name(self) -> str:
        """What an estimate over its standard error is called: t, or z where normal theory is used."""
        return "z" if math.isinf(self.df_rest) else "t"

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

    @property
    def _overstated(self) -> Mapping[str, JointTest]:
        """The terms, and all together by the name "", whose joint test is clear only as the rows are few for its errors, each with another test."""
        return {}

    def _by_likelihood(self, chooser: Array, roots: Array, half: float) -> tuple[NDArray[np.bool_], Profiled] | None:
        """Return what a penalised likelihood says of combinations of the inner coefficients, and of which; None where there is none.

        `chooser` holds the combinations, shape (m, p), and `roots` their roots; intervals reach `half` standard errors in a likelihood that is even.
        """
        del chooser, roots, half
        return None

    def _not_profiled(self, count: int) -> str:
        """Say that p and intervals of so many combinations, or of some, are Wald's in a fit whose likelihood is penalised; empty where they are not."""
        del count
        return ""

    def _overstated_among(self, wald: Sequence[tuple[Array, JointTest]]) -> list[JointTest | None]:
        """Return another test of those that robust errors overstate, None of each other; `wald` has each with its combinations of the inner coefficients."""
        return [None] * len(wald)

    def _judged(self, term: str, p: float) -> float:
        """Return the p by which sentences judge a term, or all together by the name "", from that of its test; 1 where none can be told."""
        test = self._overstated.get(term)
        return p if test is None else judged_p(test)

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
        return [float(v) for v in corrected(np.asarray(p, dtype=np.float64), "holm")]

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
        return self.family.explained(self.outcome)

    @property
    def _brief(self) -> str:
        return f"{self.explained} on {count_noun(len(self.model_terms), 'term')}, {self.sample.used:,} rows"

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
        return self._table(self.coefficient_rows)

    @own_table
    def equation_rows(self) -> pd.DataFrame:
        """The coefficients of the equation, as `coefficients`, with a row a level for every group.

        A group that is not coded by indicators is told by the effects of its levels, from their mean.
        """
        if self.equation_map is self.coefficient_map:
            return self.coefficients
        return self._table(CoefficientRows(self.equation_map, self.inner))

    @cached_property
    def equation_map(self) -> CoefficientMap:
        """What the rows of `equation_rows` are."""
        if all(v.column.scheme == "indicator" for v in self._groups):
            return self.coefficient_map
        return self._map_coefficients(level_form=True)

    def _equation_at(self, group: str, level: int) -> CoefficientRows:
        """Return the coefficients of the equation at one of the levels of a group that occur, without those of the group."""
        own = variable_of(self.model_terms, group, "categorical")
        changed = {group: replace(own, base=level, column=replace(own.column, scheme="indicator"))}
        terms = tuple(t.with_variables(changed) for t in self.model_terms)
        return CoefficientRows(self._map_coefficients(True, terms=terms, without=group), self.inner)

    def coefficients_at(self, at: Mapping[str, float]) -> pd.DataFrame:
        """Tell the coefficients where some numeric columns have a value of their own instead of 0.

        Parameters
        ----------
        at : mapping of str to float
            Numeric columns that are part of a slope by group, and where to hold them.

        Returns
        -------
        pandas.DataFrame
            As `coefficients`; the differences between groups, and the start, are those at these values. Of a logistic fit
            intervals and p values are of Wald's kind.

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
            self.variable(name, "numeric")
        return self.family.with_ratios(self._table(CoefficientRows(self._map_coefficients(at=at), self.inner)))

    @own_table
    def covariance(self) -> pd.DataFrame:
        """The covariance matrix of the rows of `coefficients`, labelled ``term`` or ``term: level``."""
        return self.coefficient_rows.covariance()

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
        return self._as_overall(self.inner.joint(self.term_tests.tested(term)))

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
        return variable_of(self.model_terms, name, kind)

    @cached_property
    def rows_used(self) -> RowsUsed:
        """What the rows used are: how many they stand for, how many at which levels, how their numbers spread."""
        return RowsUsed(self.model_terms, self.sample, self.moments, self.used, self.weights)

    @cached_property
    def _sample(self) -> Sample:
        heavy = self.weights.values if self.weights else None
        return Sample(self.model_terms, self.moments, self.used, heavy, self._column_means)

    @property
    def _column_means(self) -> Array:
        """Shape (columns of the moments,): the mean of every column, numeric columns from their centres."""
        scale = np.repeat(self.moments.scales, self.moments.sizes)
        means: Array = self.moments.cross[0] / self.moments.weight * scale
        return means

    def _wide(self, wide: Array, start: bool) -> tuple[float, Array]:
        """Return the estimate and the root of one combination of the columns."""
        chooser, starts = wide[self.solution.columns][None, :], np.array([start])
        return float(self.inner.estimates(chooser, starts)[0]), self.inner.roots(chooser, starts)[0]

    def _adjusted(self, settings: Sequence[Setting]) -> tuple[Array, Array, Array, Array]:
        """Return what the model expects with some variables set in all rows, its errors and the ends of its intervals."""
        chooser = self._sample.rows(settings)[:, self.solution.columns]
        starts = np.ones(len(settings), dtype=bool)
        hidden = ~self._term_columns  # levels taken out, at their mean
        chooser[:, hidden] = self.solution.means[hidden]
        value, se = self.inner.estimates(chooser, starts), self.inner.se(self.inner.roots(chooser, starts))
        half = t_quantile(self.level, self.df_rest) * se
        return value, se, value - half, value + half

    def _as_overall(self, test: JointTest) -> OverallTest:
        """Put a joint test into words of a test: F, or Wald's chi-squared where normal theory is used."""
        df = max(test.df, 1)
        p = float(p_of_f(test.statistic, df, test.df_rest))
        if math.isinf(self.df_rest):
            return OverallTest(test.statistic * df, test.df, math.inf, p, "Wald", test.untested)
        return OverallTest(test.statistic, test.df, test.df_rest, p, untested=test.untested)

    def _table(self, rows: CoefficientRows) -> pd.DataFrame:
        return rows.table(self.statistic_name, self.level, self.df_rest, self._rows_of)

    @cached_property
    def term_tests(self) -> TermTests:
        """The terms as combinations of the inner coefficients, and the Wald test of each."""
        return TermTests(self.model_terms, self.moments, self.coefficient_map, self.inner)

    @cached_property
    def variables(self) -> tuple[Variable, ...]:
        """The columns of the model, each once."""
        return tuple(variables_of(self.model_terms).values())

    @cached_property
    def _derived(self) -> tuple[Variable, ...]:
        """The numeric columns of the model that were derived from others."""
        return tuple(v for v in self.variables if v.column.made is not None and not v.is_categorical)

    @property
    def untested(self) -> dict[str, str]:
        """The terms that have no joint test, each with the reason."""
        return self.term_tests.untested

    @property
    def _groups(self) -> list[Variable]:
        """The groups in the model, alone or in an interaction."""
        return [v for v in variables_of(self.model_terms).values() if v.is_categorical]

    @cached_property
    def components(self) -> list[Component]:
        """The pieces of the terms, in order; piece k is block k + 1 of the moments."""
        return components_of(self.model_terms)

    @property
    def _term_columns(self) -> NDArray[np.bool_]:
        """Shape (p,): which inner columns are those of terms; those of a second column taken out stand behind them."""
        told: NDArray[np.bool_] = self.solution.columns < 1 + sum(t.size for t in self.model_terms)
        return told

    @cached_property
    def coefficient_map(self) -> CoefficientMap:
        """What each row of `coefficients` is, as a combination of the inner coefficients."""
        return self._map_coefficients()

    @cached_property
    def coefficient_rows(self) -> CoefficientRows:
        """What each row of `coefficients` is estimated at, and its error."""
        return CoefficientRows(self.coefficient_map, self.inner)

    def _map_coefficients(
        self,
        level_form: bool = False,
        at: Mapping[str, float] | None = None,
        terms: tuple[Term, ...] | None = None,
        without: str = "",
    ) -> CoefficientMap:
        told = (self.moments, self.solution.columns, level_form, at, without)
        coefficient_map = map_coefficients(terms or self.model_terms, *told)
        hidden = ~self._term_columns
        if hidden.any():  # the start is that of the mean over the levels taken out
            coefficient_map.chooser[0, hidden] = self.solution.means[hidden]
        return coefficient_map

    def _rows_of(self, told: Coefficient) -> int:
        """Count the rows used that a coefficient is about, each as often as a frequency weight says."""
        if not told.levels:
            return self.rows_used.counted
        counts = self.rows_used.counts_at(tuple(name for name, _ in told.levels))
        return int(counts[tuple(level for _, level in told.levels)])
