"""The same model in each of several imputations, or for each of several plausible values: its coefficients and tests, combined.

References
----------
Rubin (1987), Multiple Imputation for Nonresponse in Surveys, doi:10.1002/9780470316696; others in `core/inference/imputation_rules`.
Mislevy (1991), Psychometrika 56(2), 177-196, doi:10.1007/BF02294457, for plausible values.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.comparison.combined_tables import combined_table
from markbase.core.comparison.combined_tests import joint_of
from markbase.core.comparison.imputed_rows import Imputed
from markbase.core.design.terms import Term, keys_of
from markbase.core.display import ShownTables
from markbase.core.errors import ColumnError, near
from markbase.core.inference.distributions import p_of_f
from markbase.core.inference.imputation_rules import combined_share
from markbase.core.inference.joint_tests import JointTest
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.family import Family
from markbase.core.results.fit_statistics import OverallTest
from markbase.core.results.linear import LinearFit
from markbase.core.results.logistic import LogisticFit
from markbase.core.tables import own_table

Array = NDArray[np.float64]


@dataclass(frozen=True, eq=False, repr=False)
class CombinedModel(ShownTables):
    """One model, fitted in each imputation by itself: its coefficients and tests, combined by Rubin's rules."""

    by: str
    """The column that numbers the imputations; empty for plausible values."""
    fits: Mapping[str, AnyFit]
    """A fit for each imputation, in their order; of plausible values by the names of the outcomes."""
    imputed: Imputed
    """What differs between the imputations, as the rows say."""
    bases: Mapping[str, str]
    """The bases that nobody chose, by the names of their groups: the largest level of all rows, the same in every imputation."""

    @cached_property
    def fit(self) -> AnyFit:
        """The first of the fits, from which is taken what is the same in all of them: terms, bases, units; plausible values are called by the first and the last."""
        first, *others = self.fits.values()
        if self.by:
            return first
        return replace(first, outcome=replace(first.outcome, name=f"{first.outcome.name} to {others[-1].outcome.name}"))

    @cached_property
    def _curved(self) -> list[AnyFit]:
        """The fits with the errors of their curvature: those of penalised likelihoods need not be profiled to be combined."""
        return [replace(f, penalty="") if isinstance(f, LogisticFit) and f.penalty else f for f in self.fits.values()]

    @property
    def level(self) -> float:
        """Confidence level of the intervals."""
        return self.fit.level

    @property
    def model_terms(self) -> tuple[Term, ...]:
        """The terms of the model, in the order given."""
        return self.fit.model_terms

    @property
    def family(self) -> Family:
        """The kind of the fits."""
        return self.fit.family

    @property
    def exact(self) -> bool:
        """Whether the terms reproduce the outcome in an imputation to within rounding, so that errors mean nothing."""
        return any(fit.exact for fit in self.fits.values())

    @own_table
    def samples(self) -> pd.DataFrame:
        """One row an imputation: `imputation`, `rows`, `used`."""
        rows = [(label, fit.sample.rows, fit.sample.used) for label, fit in self.fits.items()]
        return pd.DataFrame(rows, columns=["imputation", "rows", "used"])

    @own_table
    def coefficients(self) -> pd.DataFrame:
        """One row a coefficient, and one for the base of each group, combined.

        `term`, `level`, `against`, `base`, `n` (rows at that level, the mean over imputations), `estimate`, `se`, `t`, `df` (its degrees of freedom),
        `p`, `low`, `high`, `missing_information` (the share of what the data would tell without gaps that is lost to them), `simulation_error` (by how
        much the estimate differs by chance if as many imputations are made anew); of logistic fits also `odds_ratio`, `odds_low`, `odds_high`.
        """
        table = self._combined([fit.coefficients for fit in self._curved], "estimate")
        return self.family.with_ratios(table)

    @own_table
    def terms(self) -> pd.DataFrame:
        """The joint test of each term, given all the others: `term`, `df`, `df_rest`, `statistic` (F), `p`.

        Of the coefficients combined, as Wald's test, of logistic fits as well; `untested` says why there is none where it is NaN.
        """
        tests = self._tests
        df, F = [test.df for test in tests], np.array([test.statistic for test in tests])
        rest = np.array([test.df_rest for test in tests], dtype=np.float64)
        p = [float(p_of_f(test.statistic, max(test.df, 1), test.df_rest)) for test in tests]
        names = [term.name for term in self.model_terms]
        return pd.DataFrame({"term": names, "df": df, "df_rest": rest, "statistic": F, "p": p})

    @property
    def untested(self) -> dict[str, str]:
        """The terms that have no joint test, each with the reason."""
        names = [term.name for term in self.model_terms]
        return {name: test.untested for name, test in zip(names, self._tests, strict=True) if test.untested}

    @cached_property
    def overall(self) -> OverallTest:
        """Does the model say anything: `statistic` (F), `df`, `df_rest`, `p`."""
        return self._as_overall(self._joint([t.name for t in self.model_terms], self._reasons("")))

    def _as_overall(self, test: JointTest) -> OverallTest:
        p = float(p_of_f(test.statistic, max(test.df, 1), test.df_rest))
        return OverallTest(test.statistic, test.df, test.df_rest, p, untested=test.untested)

    def joint_test(self, terms: Sequence[str]) -> OverallTest:
        """Test whether the coefficients of several terms are all zero, given the others: what a block of them adds.

        Parameters
        ----------
        terms : sequence of str
            Names of terms of the model.

        Returns
        -------
        OverallTest
            F on as many coefficients, and its p.

        Raises
        ------
        ColumnError
            If the model has no such term.
        """
        names = [term.name for term in self.model_terms]
        for name in terms:
            if name not in names:
                raise ColumnError(f"The model has no term `{name}`.{near(str(name), names)}")
        return self._as_overall(self._joint(list(terms), (None, "")))

    @own_table
    def strength(self) -> pd.DataFrame:
        """How much: `measure`, `combined`, `lowest`, `highest` (of the single imputations).

        Of linear fits `r2` (by Fisher's z of its root), `r2_adjusted` (of that) and `residual_sd` (the root of the mean variance); of logistic ones
        the means of `mcfadden`, `nagelkerke`, `tjur` and `brier`.
        """
        fits = list(self.fits.values())
        rows = []
        linear = [fit for fit in fits if isinstance(fit, LinearFit)]
        if linear:
            every = {
                name: np.array([getattr(f.strength, name) for f in linear])
                for name in ("r2", "r2_adjusted", "residual_sd")
            }
            r2 = combined_share(every["r2"])
            left = (1 - every["r2_adjusted"]) / (1 - every["r2"])
            together = {
                "r2": r2,
                "r2_adjusted": 1 - (1 - r2) * float(left.mean()),
                "residual_sd": float(np.sqrt(np.mean(every["residual_sd"] ** 2))),
            }
        else:
            every = {
                name: np.array([getattr(f.strength, name) for f in fits])
                for name in ("mcfadden", "nagelkerke", "tjur", "brier")
            }
            together = {name: float(own.mean()) for name, own in every.items()}
        for name, value in together.items():
            rows.append((name, value, float(every[name].min()), float(every[name].max())))
        return pd.DataFrame(rows, columns=["measure", "combined", "lowest", "highest"])

    @own_table
    def marginal(self) -> pd.DataFrame:
        """Average marginal effects of logistic fits, combined: as `LogisticFit.marginal`, with `df` and `missing_information`; empty of linear ones."""
        fits = [fit for fit in self._curved if isinstance(fit, LogisticFit)]
        return self._combined([f.marginal for f in fits], "effect") if fits else pd.DataFrame(columns=["term"])

    def _judged(self, term: str, p: float) -> float:
        """Return the p by which a term is judged: that of its combined test."""
        del term
        return p

    def not_averaged(self, group: str) -> str:
        """Say why the levels of a group cannot be averaged over others, an interaction of which no row of an imputation has some combinations; empty where they can.

        Parameters
        ----------
        group : str
            A group of the model.

        Returns
        -------
        str
            A clause.
        """
        return next((why for fit in self.fits.values() if (why := fit.not_averaged(group))), "")

    @property
    def _df(self) -> float:
        """Degrees of freedom of t in one imputation: the fewest."""
        return min(fit.df_rest for fit in self.fits.values())

    def _combined(self, tables: Sequence[pd.DataFrame], estimate: str, level: float | None = None) -> pd.DataFrame:
        return combined_table(tables, estimate, self._df, self.level if level is None else level)

    @cached_property
    def _tests(self) -> list[JointTest]:
        return [self._joint([term.name], self._reasons(term.name)) for term in self.model_terms]

    def _reasons(self, term: str) -> tuple[int | None, str]:
        """Return how many coefficients the test of a term has in one imputation, None for all together, and why there is none; empty where there is."""
        if not term:
            why = next((f.overall.untested for f in self.fits.values() if f.overall.untested), "")
            return self.fit.overall.df if why else None, why
        place = [t.name for t in self.model_terms].index(term)
        tests = [fit.term_tests.each[place] for fit in self.fits.values()]
        return tests[0].df, next((test.untested for test in tests if test.untested), "")

    def _joint(self, terms: Sequence[str], known: tuple[int | None, str]) -> JointTest:
        """Test whether the coefficients of some terms are all zero."""
        return joint_of(self._curved, self.coefficients["term"].isin(terms).to_numpy(), *known)

    def _beyond(self, smaller: Sequence[Term]) -> JointTest:
        """Test whether the coefficients are all zero that the terms of a smaller model lack: what a block adds."""
        known, fits = keys_of(smaller), list(self.fits.values())
        more = np.array([row.key not in known for row in self.fit.coefficient_map.rows])
        more[0] = False  # the intercept is in both
        tests = [fit.inner.columns(fit.term_tests.beyond(smaller)) for fit in fits]
        return joint_of(self._curved, more, tests[0].df, next((test.untested for test in tests if test.untested), ""))
