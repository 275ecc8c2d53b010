"""A linear regression, estimated: its tables, tests and sentences."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import TYPE_CHECKING, Any, ClassVar

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.arguments import checked_methods
from markbase.core.design.coefficient_map import components_of, design_columns
from markbase.core.design.cross_products import gather
from markbase.core.design.mean_columns import Setting
from markbase.core.design.moments import Moments
from markbase.core.design.options import check_room
from markbase.core.design.terms import Term, Variable, keys_of
from markbase.core.errors import FitError, listed, quoted
from markbase.core.estimation.collinearity import collinearity_error
from markbase.core.estimation.fixed_effects import FixedEffects
from markbase.core.estimation.least_squares import solve
from markbase.core.estimation.least_squares_solution import Dependent, Swept
from markbase.core.inference.covariance import errors_of, scored_rows
from markbase.core.inference.distributions import p_of_f, t_quantile
from markbase.core.inference.joint_tests import JointTest
from markbase.core.inference.unnamed_variance import UnnamedVariance
from markbase.core.results.adjusted_means import adjusted_means
from markbase.core.results.fit_statistics import LinearStrength, OverallTest
from markbase.core.results.linear_rows import LinearRows
from markbase.core.results.new_rows import NewRows
from markbase.core.results.outcome_ends import Ends, ends_of
from markbase.core.results.overstated_tests import overstated_among
from markbase.core.results.prediction_coverage import Held, held_by_fitted
from markbase.core.results.predictions import predicted_columns
from markbase.core.results.readers import readers
from markbase.core.results.standardised import standardised_table
from markbase.core.rows.parts import in_parts
from markbase.core.rows.row_functions import sample_of
from markbase.core.tables import own_table, table_of

if TYPE_CHECKING:
    from markbase.core.diagnostics.residuals import Checks, Spread, Views

Array = NDArray[np.float64]

_EXACT = 1e-24
_MOST_ROWS = 200_000
"""So many rows in memory are gone through again for what is said of errors and joint tests; checks look at any number."""
_MOST_WORK = 1e9
"""So many products of two columns in a row are summed for it, which takes about as long as to print the fit."""


@checked_methods
@dataclass(frozen=True, eq=False, repr=False)
class LinearFit(LinearRows):
    """A linear regression, estimated.

    Tables are DataFrames at full precision; print the fit to read it.
    """

    _same_from_every_base: ClassVar[frozenset[str]] = frozenset(
        {
            "_bends",
            "_bent",
            "_deviations",
            "_ends",
            "_fitted",
            "_held",
            "_left_out_apart",
            "_looked_over",
            "_passing",
            "_residuals",
            "_sample",
            "_spread",
            "_unnamed",
            "left_out",
            "own_measures",
            "rows_used",
        }
    )

    @cached_property
    def exact(self) -> bool:
        """Whether the terms reproduce the outcome to within rounding, so that errors mean nothing."""
        return self.solution.residual <= _EXACT * (self.solution.residual + self.solution.explained)

    @cached_property
    def strength(self) -> LinearStrength:
        """How much: `r2`, `r2_adjusted`, `residual_sd` and likelihood measures."""
        n, residual = self.moments.rows, self.solution.residual
        k = n - self.rows_over + 1
        total = residual + self.solution.explained
        r2_within = None
        if self.fixed_effects is not None:
            r2_within = 1 - residual / self.fixed_effects.outcome_ss
            total = float(self.moments.cross[-1, -1] - self.moments.cross[0, -1] ** 2 / self.moments.weight)
            total *= float(self.moments.scales[-1]) ** 2
        explained = self.solution.explained if self.fixed_effects is None else total - residual
        loglik = -n / 2 * (math.log(2 * math.pi * residual / n) + 1) if residual > 0 else math.inf
        return LinearStrength(
            r2=explained / total,
            r2_adjusted=1 - (residual / self.rows_over) / (total / (n - 1)),
            residual_sd=math.sqrt(residual / self.rows_over),
            residual_ss=residual,
            total_ss=total,
            loglik=loglik,
            aic=-2 * loglik + 2 * k,
            bic=-2 * loglik + math.log(n) * k,
            r2_within=r2_within,
        )

    @cached_property
    def overall(self) -> OverallTest:
        """Does the model say anything: `statistic`, `df`, `df_rest`, `p`."""
        if self.errors.middle is None and not (self.fixed_effects and self.fixed_effects.second):
            df, F = len(self.solution.columns), self._classical_f()
            return OverallTest(F, df, self.df_rest, float(p_of_f(F, df, self.df_rest)))
        return self._as_overall(self.inner.joint(np.eye(len(self.solution.columns))[self._term_columns]))

    def _classical_f(self) -> float:
        residual, df = self.solution.residual, len(self.solution.columns)
        return self.solution.explained / df / (residual / self.rows_over) if residual > 0 else math.inf

    @own_table
    def terms(self) -> pd.DataFrame:
        """The joint test of each term, given all the others.

        `term`, `df` (its coefficients), `df_rest`, `statistic` (F on these two degrees of freedom),
        `p`. A group is tested as a whole; its test does not depend on the base. A term that an interaction contains is
        tested where the other columns of the interaction are at their reference (0, the base, or the mean of the levels). Robust
        and clustered errors make it a Wald test; where these cannot carry one there is none (NaN; `untested` says why).
        `part_r2` is by how much R² falls without the term (the squared semipartial correlation of a term of one coefficient),
        `partial_r2` the same as a share of what the other terms leave unexplained (partial eta squared); NaN for a term that
        an interaction contains. Where levels are taken out both are of the variation within these levels.
        """
        df, F = [test.df for test in self.term_tests.each], np.array([test.statistic for test in self.term_tests.each])
        rest = np.array([test.df_rest for test in self.term_tests.each], dtype=np.float64)
        p = p_of_f(F, np.maximum(df, 1), rest)
        whole = self.strength.total_ss if self.fixed_effects is None else self.fixed_effects.outcome_ss
        squares = np.full(len(df), np.nan) if self.exact else self.term_tests.squares
        part = {"part_r2": squares / whole, "partial_r2": squares / (squares + self.solution.residual)}
        return table_of(
            {"term": [t.name for t in self.model_terms], "df": df, "df_rest": rest, "statistic": F, "p": p, **part}
        )

    @own_table
    def standardised(self) -> pd.DataFrame:
        """The coefficients in standard deviations of the outcome.

        `term`, `level`, `against`, `base`, `step` (what the difference is for), `estimate`, `low`, `high`.
        A numeric column is told for one standard deviation of its own, one of two values for the difference between them. A level is told as its difference:
        an indicator has no standard deviation anybody steps by, so it is not standardised itself.
        """
        return standardised_table(self, self.outcome_sd)

    @cached_property
    def outcome_sd(self) -> float:
        """Standard deviation (n − 1) of the outcome in the rows used: the residual standard deviation of no model at all."""
        return math.sqrt(self.strength.total_ss / (self.moments.rows - 1))

    def _with_only(self, terms: tuple[Term, ...]) -> LinearFit:
        kept = keys_of(terms)
        places = [k for k, c in enumerate(self.components, 1) if c.key in kept]
        places = [0, *places, *range(len(self.components) + 1, len(self.moments.sizes))]
        fixed_effects = self.fixed_effects.only(self.moments.columns_of(places)) if self.fixed_effects else None
        return self._refitted(terms, self.moments.only(places), fixed_effects)

    @cached_property
    def _bends(self) -> pd.DataFrame:
        """The test of the square of each numeric column, added to the model: whether its line is straight."""
        return readers().bends(self)

    @cached_property
    def _bent(self) -> Mapping[str, Any]:
        return readers().bent(self)

    @cached_property
    def _spread(self) -> Spread:
        """The test whether residuals spread more for some values of the terms than for others."""
        return readers().spread(self)

    @cached_property
    def _overstated(self) -> Mapping[str, JointTest]:
        if not self._may_overstate:
            return {}
        own = np.eye(len(self.solution.columns))[self._term_columns]
        tests = zip(self.model_terms, self.term_tests.each, strict=True)
        wald = {"": (own, self.inner.joint(own))} | {t.name: (self.term_tests.tested(t), test) for t, test in tests}
        found = self._overstated_among(list(wald.values()))
        return {name: test for name, test in zip(wald, found, strict=True) if test is not None}

    @property
    def _many_rows(self) -> bool:
        """Whether rows are too many, or come in parts, to go through them again for what is said unasked of errors and tests."""
        rows, columns = self.sample.rows, len(self.solution.columns)
        return rows > _MOST_ROWS or rows * columns**2 > _MOST_WORK or in_parts(self.outcome.values)

    @property
    def _may_overstate(self) -> bool:
        """Whether tests by robust errors are looked at, which of few rows apart overstate."""
        apart = self.errors.middle is not None and not (self.errors.rest_on_few or self.errors.strata)
        return apart and not self.exact and not self._many_rows

    def _overstated_among(self, wald: Sequence[tuple[Array, JointTest]]) -> list[JointTest | None]:
        """Return Hotelling's test of those that robust errors overstate; None of each other, and of all where rows are many or drawn together."""
        if not self._may_overstate:
            return [None] * len(wald)
        blocks, fixed = self._blocks(self.model_terms), self.fixed_effects
        over = scored_rows(self.moments, blocks, self.solution, self.used, self.weights, fixed)
        return overstated_among(self.solution, self.errors, over, self.alpha, wald)

    def checks(self, *, most: int = 10, order: Any = None) -> Checks:
        """Check the fit: shape and spread of the residuals, straight lines, cases, and serial order.

        Parameters
        ----------
        most : int
            How many cases to list, those that weigh most.
        order : Column or array_like, shape (rows,), optional
            What puts the rows of the study in order: times, dates, or levels in their order. By default a column of dates, or of whole numbers called
            year, month and the like, that tells rows apart, all of them or those within levels taken out or clusters; none where there is no such column.

        Returns
        -------
        Checks
            Each figure with what it means here and what would do; print it, or take its `findings`.

        Raises
        ------
        FitError
            If the outcome is reproduced exactly.
        MarkbaseError
            If the order has not a value for each row, or rows come in parts and one is given.
        ColumnError
            If nothing puts the levels of the order in order of time.

        References
        ----------
        Durbin & Watson (1951), Biometrika 38(1-2), 159-177, doi:10.1093/biomet/38.1-2.159, for the serial correlation.

        Examples
        --------
        >>> import markbase as mb
        >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
        >>> fit = mb.fit_linear(study, "belonging", ["age", "voice"])
        >>> fit.checks()
        <Checks>
        """
        return readers().checks(self, most, order)

    def residual_views(self) -> Views:
        """Return what a figure of the residuals draws, a value a row used.

        Returns
        -------
        Views
            Fitted values, standardised residuals, leverages, and what a normal shape would give.
        """
        return readers().residual_views(self)

    def _on(self, used: NDArray[np.bool_], parts: tuple[Term, ...]) -> LinearFit:
        if self.fixed_effects is not None:
            raise FitError("A fit with levels taken out is not fitted again on other rows; fit it on them.")
        weights = self.weights.on(used) if self.weights else None
        other = replace(self, used=used, sample=self.sample.cut_to(used), weights=weights)
        heavy = weights.values if weights else None
        blocks = other._blocks(parts)
        moments = gather(blocks, self.sample.rows, used, heavy)
        check_room(other.sample.used, 1 + len(design_columns(parts, moments)))
        try:
            return other._refitted(parts, moments, None)
        except Dependent as finding:
            raise collinearity_error(finding, moments, parts) from None

    @property
    def observed_numbers(self) -> Array:
        """The outcome of all rows as numbers, shape (rows,)."""
        return self.outcome.values

    def expected(self, rows: NDArray[np.intp] | None) -> Array:
        """Return what the model gives for some rows, whether it used them or not.

        Parameters
        ----------
        rows : ndarray of int, or None
            Which rows of the study; None for all.

        Returns
        -------
        ndarray
            NaN for a row with a gap, or with a level the model has not seen.
        """
        return self._predictor_at(rows)

    def _with_more(self, more: Sequence[Term]) -> LinearFit:
        parts = (*self.model_terms, *more)
        blocks = self._blocks(parts)
        heavy = self.weights.values if self.weights else None
        moments = gather(blocks, self.sample.rows, self.used, heavy)
        fixed_effects = self.fixed_effects.gathered(moments, blocks, self.used) if self.fixed_effects else None
        try:
            return self._refitted(parts, moments, fixed_effects)
        except (Dependent, Swept):
            names = listed(quoted(term.name for term in more))
            raise FitError(f"With {names} as well the terms cannot be told apart in these rows.") from None

    def _with_each(self, more: Sequence[Term]) -> list[LinearFit | None]:
        """Fit the same model with one more numeric term, for each of several that vary, in one pass over the rows; None where they cannot tell it apart."""
        whole = (*self.model_terms, *more)
        blocks, heavy = self._blocks(whole), self.weights.values if self.weights else None
        moments = gather(blocks, self.sample.rows, self.used, heavy)
        fixed_effects = self.fixed_effects.gathered(moments, blocks, self.used) if self.fixed_effects else None
        own, found = len(self.components), list[LinearFit | None]()
        for k, term in enumerate(more, own + 1):
            places = [*range(own + 1), k, *range(own + len(more) + 1, len(moments.sizes))]
            fixed = None if fixed_effects is None else fixed_effects.only(moments.columns_of(places))
            if self.rows_over < 2:  # rows carry no coefficient more
                found.append(None)
                continue
            try:
                found.append(self._refitted((*self.model_terms, term), moments.only(places), fixed))
            except (Dependent, Swept, FitError):
                found.append(None)
        return found

    def _refitted(self, parts: tuple[Term, ...], moments: Moments, fixed_effects: FixedEffects | None) -> LinearFit:
        """Fit other terms on the same rows, from their moments."""
        blocks, heavy = self._blocks(parts), self.weights.values if self.weights else None
        columns = design_columns(parts, moments)
        if fixed_effects is not None:
            columns = np.concatenate([columns, fixed_effects.free_levels(moments, len(components_of(parts)) + 1)])
        solution = solve(moments, blocks, self.used, self.sample.rows, columns, heavy, fixed_effects)
        kind = self.errors.asked or "classical"
        errors = errors_of(kind, self.drawn_by, moments, blocks, solution, self.used, self.weights, fixed_effects)
        return replace(
            self, model_terms=parts, moments=moments, solution=solution, errors=errors, fixed_effects=fixed_effects
        )

    def groups(self, group: str, *, at: Mapping[str, float] | None = None) -> pd.DataFrame:
        """Tell every level of a group: its rows, its mean, its adjusted mean, its difference from the base.

        Parameters
        ----------
        group : str
            A group of the model.
        at : mapping of str to float, optional
            Where numeric columns are held; by default as in the sample.

        Returns
        -------
        pandas.DataFrame
            One row a level, the base among them: `level`, `base`, `n`, `plain` (mean of the outcome in these rows), `adjusted`
            (mean the model expects if all rows had this level and were otherwise as they are) with `adjusted_low` and
            `adjusted_high`, `difference` from the base with `se`, `low`, `high` and `p` (NaN for the base).

        Raises
        ------
        ColumnError
            If the model has no such group.

        Examples
        --------
        >>> import markbase as mb
        >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
        >>> fit = mb.fit_linear(study, "belonging", ["age", "voice"])
        >>> fit.groups("voice")[["level", "base", "n", "adjusted", "difference"]].round(1)
             level   base    n  adjusted  difference
        0  soprano  False  653      59.2        -1.4
        1     alto   True  674      60.5         0.0
        2    tenor  False  244      64.5         3.9
        3     bass  False  346      62.2         1.7
        """
        return adjusted_means(self, group, at, self._plain)

    def _plain(self, group: Variable) -> Array:
        """Return the mean of the outcome at each level."""
        centre, scale = float(self.moments.centres[-1]), float(self.moments.scales[-1])
        own = next((k for k, c in enumerate(self.components, 1) if c.groups == (group,) and not c.numerics), None)
        if own is not None:  # the moments have summed already
            columns = slice(self.moments.starts[own], self.moments.starts[own] + group.size)
            known: Array = centre + scale * self.moments.cross[columns, -1] / self.moments.cross[0, columns]
            return known
        inside = slice(None) if self.used is None else self.used
        codes, deviation = group.codes[inside], self.outcome.values[inside] - centre
        heavy = None if self.weights is None else self.weights.values[inside]
        deviation = deviation if heavy is None else deviation * heavy
        sums = np.bincount(codes, weights=deviation, minlength=group.size)
        means: Array = centre + sums / np.bincount(codes, weights=heavy, minlength=group.size)
        return means

    def _of_rows(self, rows: NewRows) -> pd.DataFrame:
        spread = None if self.fixed_effects else self.strength.residual_sd
        half = t_quantile(self.level, self.df_rest)
        return predicted_columns(self, rows, lambda eta, se, y: self.family.predictions(eta, se, half, spread, y))

    @cached_property
    def _unnamed(self) -> UnnamedVariance:
        by_column = np.zeros(self.moments.cross.shape[0])
        by_column[self.solution.columns] = self.solution.coefficients
        return UnnamedVariance(self._sample, by_column)

    def _predicted(self, settings: Sequence[Setting]) -> dict[str, Array]:
        chooser = self._sample.rows(settings)[:, self.solution.columns]
        if self.fixed_effects is not None:
            chooser[:, ~self._term_columns] = self.solution.means[~self._term_columns]
        starts = np.ones(len(settings), dtype=bool)
        estimate, se = self.inner.estimates(chooser, starts), self.inner.se(self.inner.roots(chooser, starts))
        variance = self.strength.residual_sd**2 + self._unnamed.each(settings)
        spread = None if self.fixed_effects else np.sqrt(variance)
        return self.family.predictions(estimate, se, t_quantile(self.level, self.df_rest), spread, None)

    @cached_property
    def _looked_over(self) -> Any:
        """What the checks find in the residuals, whatever the bases."""
        return readers().looked_over(self)

    @cached_property
    def _ends(self) -> Ends:
        return ends_of(self.outcome.values, self.rows_used.inside)

    @cached_property
    def _passing(self) -> tuple[float, float]:
        """The shares of rows used with fitted values below and above the ends of the outcome; of very many rows, of some thousand."""
        times = self.rows_used.times
        if in_parts(self.outcome.values):  # those that are in memory
            return self._ends.shares_passed(sample_of(self._fitted), None if times is None else sample_of(times))
        left, heavy, outcome = self._some_residuals
        return self._ends.shares_passed(outcome - left, None if times is None else heavy)

    @cached_property
    def _held(self) -> tuple[Held, ...]:
        if self.exact or not self.rows_over > 0:
            return ()
        # a residual is less than what would be missed by as much as the coefficients took up, on average √(df/n)
        less = math.sqrt(self.rows_over / self.moments.rows)
        reach = t_quantile(self.level, self.df_rest) * self.strength.residual_sd * less
        left, heavy, outcome = self._some_residuals
        sampled = self.weights is not None and self.weights.kind == "sampling"
        return held_by_fitted(outcome, left, heavy, sampled, reach)
