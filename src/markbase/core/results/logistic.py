"""A logistic regression, estimated: its tables, tests and sentences."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import ClassVar

import numpy as np
import pandas as pd
import scipy.special as sp
from numpy.typing import NDArray

from markbase.core.arguments import checked_methods
from markbase.core.design.options import Request
from markbase.core.design.terms import Term
from markbase.core.errors import FitError
from markbase.core.estimation.likelihood_points import Point, probability
from markbase.core.inference.distributions import p_of_f, t_quantile
from markbase.core.results.event_checks import EventChecks
from markbase.core.results.fit_statistics import LogisticStrength, OverallTest
from markbase.core.results.likelihood_ratios import LikelihoodRatios
from markbase.core.results.logistic_estimate import estimate
from markbase.core.results.profiled import Profiled
from markbase.core.study.column import Column
from markbase.core.tables import own_table, table_of

Array = NDArray[np.float64]
_MOST_PROFILED, _MOST_WORK = 2_000_000, 1e8
"""Of more comparisons times rows, or times the products of a fit with one coefficient held, a penalised likelihood is not asked."""


@checked_methods
@dataclass(frozen=True, eq=False, repr=False, kw_only=True)
class LogisticFit(EventChecks):
    """A logistic regression, estimated: the odds of one event.

    Tables are DataFrames at full precision; print the fit to read it.
    """

    _same_from_every_base: ClassVar[frozenset[str]] = frozenset(
        {
            "_bends",
            "_bent",
            "_fitted",
            "_left_out_apart",
            "_plain_shares",
            "_rises",
            "_sample",
            "left_out",
            "overall",
            "own_measures",
            "rate",
            "ratios",
            "rows_used",
            "strength",
        }
    )
    at_end: Point
    """The likelihood at the estimates."""
    objective: float
    """What was maximised: the log-likelihood, with the penalty if there is one."""
    status: str
    """``converged``, or ``stalled`` where rounding kept the last steps from gaining."""
    steps: int
    """Newton steps taken."""
    penalty: str
    """``firth``, or empty."""

    @property
    def loglik(self) -> float:
        """The log-likelihood at the estimates."""
        return self.at_end.loglik

    def _with_more(self, more: Sequence[Term]) -> LogisticFit:
        return self._refitted((*self.model_terms, *more))

    def _refitted(self, terms: tuple[Term, ...]) -> LogisticFit:
        """Fit other terms on the rows of this fit."""
        kind = self.errors.asked or "classical"
        rows = self.used, self.sample, self.weights, self.drawn_by
        hints = self.possible_cluster, self.possible_weights
        request = Request((), (), *rows, kind, self.level, self.identifier, *hints, self.index, self.repeating)
        request = replace(request, shared=self.shared)
        return fit_of(self.outcome, terms, request, self.data_name, bool(self.penalty))

    def _with_only(self, parts: tuple[Term, ...]) -> LogisticFit:
        return self._refitted(parts)

    @property
    def converged(self) -> bool:
        """Whether the steps ended where the slope of the likelihood is 0."""
        return self.status == "converged"

    @property
    def _sigma2(self) -> float:
        return 1.0

    @property
    def by_likelihood(self) -> bool:
        """Whether tests compare likelihoods; with robust or clustered errors or sampling weights they do not."""
        return self.errors.middle is None

    @cached_property
    def _fitted(self) -> Array:
        """The probability of the event for each row of the study, shape (rows,); NaN for a row not used."""
        return probability(self.likelihood.predictor_of(self.theta))

    @cached_property
    def strength(self) -> LogisticStrength:
        """How much: log-likelihoods, deviance, pseudo-R² by name, `aic`, `bic`."""
        happened, heavy = self._happened_and_weights()
        n = float(len(happened)) if heavy is None else float(heavy.sum())
        rate = self.rate
        null = n * float(sp.xlogy(rate, rate) + sp.xlog1py(1 - rate, -rate))
        missed = self.at_end.missed
        happening = n * rate
        cox_snell = -math.expm1(2 * (null - self.loglik) / n)
        k = len(self.solution.columns) + 1
        return LogisticStrength(
            loglik=self.loglik,
            loglik_null=null,
            deviance=-2 * self.loglik,
            mcfadden=1 - self.loglik / null,
            cox_snell=cox_snell,
            nagelkerke=cox_snell / -math.expm1(2 * null / n),
            tjur=1 - missed[0] / happening - missed[1] / (n - happening),
            brier=self.at_end.missed_squares / n,
            aic=-2 * self.loglik + 2 * k,
            bic=-2 * self.loglik + math.log(n) * k,
        )

    @cached_property
    def overall(self) -> OverallTest:
        """Does the model say anything: `statistic` (chi-squared), `df`, `p`, and which test it is."""
        p = len(self.solution.columns)
        if not self.by_likelihood:
            return self._as_overall(self.inner.joint(np.eye(p)))
        if self.penalty:
            (chi2,) = self.ratios.falls([np.hstack([np.zeros((p, 1)), np.eye(p)])])
        else:
            chi2 = 2 * (self.loglik - self.strength.loglik_null)
        return OverallTest(chi2, p, math.inf, float(p_of_f(chi2 / p, p, math.inf)), "likelihood ratio")

    @own_table
    def terms(self) -> pd.DataFrame:
        """The joint test of each term, given all the others.

        `term`, `df` (its coefficients), `df_rest`, `statistic`, `p`, and beside them `wald` and `wald_p`. The statistic is chi-squared, of the
        likelihood ratio, or with robust errors Wald's; with clustered errors Wald's F, on `df` and `df_rest` degrees of freedom.
        """
        each = self.term_tests.each
        df, wald = [test.df for test in each], np.array([test.statistic for test in each])
        rest = np.array([test.df_rest for test in each], dtype=np.float64)
        degrees = np.maximum(df, 1)
        wald_p = p_of_f(wald, degrees, rest)
        if math.isinf(self.df_rest):
            wald = wald * degrees
        statistic, p = wald, wald_p
        if self.by_likelihood:
            statistic = self.ratios.falls_of([self.term_tests.tested(term) for term in self.model_terms])
            p = p_of_f(statistic / degrees, degrees, math.inf)
        names = [t.name for t in self.model_terms]
        told = {"statistic": statistic, "p": p, "wald": wald, "wald_p": wald_p}
        return table_of({"term": names, "df": df, "df_rest": rest, **told})

    @property
    def _told(self) -> list[int]:
        """The places of the coefficients that were estimated, bases left out."""
        return self.coefficient_map.told

    def _combinations(self, rows: list[int]) -> Array:
        """Return some rows of the telling as combinations of the start and the inner coefficients."""
        coefficient_map = self.coefficient_map
        return np.hstack([coefficient_map.starts[rows][:, None].astype(np.float64), coefficient_map.chooser[rows]])

    @cached_property
    def ratios(self) -> LikelihoodRatios:
        """The fit beside the same model with some combinations of coefficients held."""
        reached = self.at_end, self.passed
        return LikelihoodRatios(
            self.likelihood, self.solution, self.theta, reached, self.objective, self.information, bool(self.penalty)
        )

    @own_table
    def coefficients(self) -> pd.DataFrame:
        """One row a coefficient, and one for the base of each group.

        As of a linear fit, in log odds of the event: `term`, `level`, `against`, `base`, `n`, `estimate`,
        `se`, `z` (with clusters `t`), `p`, `low`, `high`; and `odds_ratio`, `odds_low`, `odds_high`, their exponentials (of the
        intercept: odds). Under Firth's penalty `p`, `low` and `high` are those of the penalised likelihood.
        """
        table = self._table(self.coefficient_rows)
        if self.penalty:
            own = {name: table[name].to_numpy(copy=True) for name in ("p", "low", "high")}
            for name, values in own.items():
                values[self._told] = getattr(self.profiled, name)
            table = table.assign(**own)
        return self.family.with_ratios(table)

    @cached_property
    def profiled(self) -> Profiled:
        """What the likelihood says of every coefficient, bases left out: p of its ratio, and the ends of `profile`."""
        told = self._told
        return Profiled(self.coefficient_rows.roots[told], *self._likely(self._combinations(told), self._half))

    @property
    def _half(self) -> float:
        """By how many standard errors an interval would reach to either side, were the likelihood even."""
        return t_quantile(self.level, math.inf)

    def _likely(self, combinations: Array, half: float) -> tuple[Array, Array, Array]:
        """Return p and both ends of combinations by the likelihood, shape (m, 1 + p)."""
        falls = np.array(self.ratios.falls([row[None] for row in combinations]))
        ends = np.array([self.ratios.interval(row, half) for row in combinations]).reshape(-1, 2)
        return p_of_f(falls, 1, math.inf), ends[:, 0], ends[:, 1]

    def _by_likelihood(self, chooser: Array, roots: Array, half: float) -> tuple[NDArray[np.bool_], Profiled] | None:
        if not self.penalty or self._not_profiled(len(chooser)):
            return None
        told = np.asarray(chooser.any(axis=1))
        own = np.full((3, len(chooser)), np.nan)
        own[:, told] = self._likely(np.insert(chooser[told], 0, 0.0, axis=1), half)
        return told, Profiled(roots, *own)

    def _not_profiled(self, count: int) -> str:
        rows, columns = self.sample.used, len(self.solution.columns) + 1
        of_a_fit = rows * columns**2 + columns**3
        if not self.penalty or (count * rows <= _MOST_PROFILED and count * of_a_fit <= _MOST_WORK):
            return ""
        return "p and intervals of so many comparisons are Wald's: by penalised likelihood they would take long"

    @cached_property
    def outcome_sd(self) -> float:
        """Standard deviation of the outcome, taken as 0 and 1."""
        return math.sqrt(self.rate * (1 - self.rate))

    def _on(self, used: NDArray[np.bool_], parts: tuple[Term, ...]) -> LogisticFit:
        weights = self.weights.on(used) if self.weights else None
        return replace(self, used=used, sample=self.sample.cut_to(used), weights=weights)._refitted(parts)

    @property
    def observed_numbers(self) -> Array:
        """The outcome of all rows as numbers, shape (rows,): 1 for the event."""
        return self.likelihood.event

    def expected(self, rows: NDArray[np.intp] | None) -> Array:
        """Return the probability the model gives to some rows, whether it used them or not.

        Parameters
        ----------
        rows : ndarray of int, or None
            Which rows of the study; None for all.

        Returns
        -------
        ndarray
            NaN for a row with a gap, or with a level the model has not seen.
        """
        return probability(self._predictor_at(rows))

    def profile(self) -> pd.DataFrame:
        """Compute profile-likelihood intervals, which need not be even about the estimate.

        Returns
        -------
        pandas.DataFrame
            `term`, `level`, `estimate`, `low`, `high`, `odds_ratio`, `odds_low`, `odds_high`: for each
            coefficient all values its likelihood-ratio test would not reject. NaN where no end was found.

        Raises
        ------
        FitError
            With robust or clustered errors or sampling weights, which have no likelihood to profile.

        References
        ----------
        Venzon & Moolgavkar (1988), Applied Statistics 37(1), 87-94, doi:10.2307/2347496.

        Examples
        --------
        >>> import markbase as mb
        >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
        >>> fit = mb.fit_logistic(study, "stays", ["age", "voice"], event="yes")
        >>> fit.profile()[["term", "low", "high"]].round(3).head(2)
                  term    low   high
        0  (intercept) -0.261  0.399
        1          age  0.009  0.021
        """
        if not self.by_likelihood:
            raise FitError(
                "Profile intervals compare likelihoods; robust or clustered errors and sampling weights have none."
            )
        records = []
        for k in self._told:
            told = self.coefficient_map.rows[k]
            low, high = self.ratios.interval(self._combinations([k])[0], self._half)
            estimate = self.coefficient_rows.estimates[k]
            records.append(
                {"term": told.term, "level": told.compared.level, "estimate": estimate, "low": low, "high": high}
            )
        return self.family.with_ratios(pd.DataFrame(records))


def fit_of(target: Column, terms: tuple[Term, ...], request: Request, name: str, firth: bool) -> LogisticFit:
    """Estimate a logistic regression and make the fit of it; raises as `fit_logistic`."""
    found = estimate(target, terms, request, firth)
    return LogisticFit(
        outcome=target,
        model_terms=terms,
        sample=request.sample,
        level=request.level,
        data_name=name,
        moments=found.moments,
        solution=found.solution,
        used=request.used,
        errors=found.errors,
        **request.drawn_by._asdict(),
        weights=request.weights,
        possible_cluster=None if firth else request.possible_cluster,
        possible_weights="" if firth else request.possible_weights,
        repeating=() if firth else request.repeating,
        timed_by=() if firth else request.timed_by,
        shared=request.shared,
        stacked=request.stacked,
        plausible=request.plausible,
        identifier=request.identifier,
        index=request.index,
        theta=found.theta,
        at_end=found.at_end,
        passed=found.passed,
        objective=found.objective,
        status=found.status,
        steps=found.steps,
        penalty="firth" if firth else "",
        likelihood=found.likelihood,
        information=found.information,
    )
