"""A linear regression, estimated: its tables, tests and sentences."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import pandas as pd
import scipy.linalg
from numpy.typing import NDArray

from markbase.core.display import Shown
from markbase.core.errors import ColumnError, FitError, near
from markbase.core.model import twofold
from markbase.core.model.covariance import Errors, Weights, errors_of
from markbase.core.model.distributions import p_of_f, p_of_t, t_quantile
from markbase.core.model.moments import Moments
from markbase.core.model.results import LinearStrength, OverallTest
from markbase.core.model.sample import SampleAccount
from markbase.core.model.solve import Solution, solve
from markbase.core.model.telling import Telling, Told, design_columns, tell
from markbase.core.model.terms import Block, Slope, Term
from markbase.core.model.within import Within
from markbase.core.reading.equation import make_equation
from markbase.core.reading.sentences import make_reading
from markbase.core.reading.told import Equation, Reading
from markbase.core.study.column import Column
from markbase.core.wording import short

Array = NDArray[np.float64]

INTERCEPT = "(intercept)"
_EXACT = 1e-24


@dataclass(frozen=True, eq=False, repr=False)
class LinearFit(Shown):
    """A linear regression, estimated.

    Tables are DataFrames at full precision; print the fit to read it.
    """

    outcome: Column
    """The outcome."""
    parts: tuple[Term, ...]
    """The terms of the model, in the order given."""
    sample: SampleAccount
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
    within: Within | None = None
    """The levels that were taken out; None for none."""

    @property
    def df_rest(self) -> int:
        """Degrees of freedom of t and of the denominator of F.

        Rows used less coefficients, the intercept among them; with clustered errors, clusters less one.
        """
        return self.errors.df

    @property
    def rows_over(self) -> int:
        """Rows used, or stood for by frequencies, less coefficients, the intercept among them."""
        return self.moments.rows - len(self.solution.columns) - (self.within.levels if self.within else 1)

    @property
    def taken_out(self) -> tuple[str, ...]:
        """The columns whose levels were taken out; empty for none."""
        return self.within.names if self.within else ()

    @cached_property
    def exact(self) -> bool:
        """Whether the terms reproduce the outcome to within rounding, so that errors mean nothing."""
        return self.solution.residual <= _EXACT * (self.solution.residual + self.solution.explained)

    @cached_property
    def strength(self) -> LinearStrength:
        """How much: `r2`, `r2_adjusted`, `typical_miss` and likelihood measures."""
        n, residual = self.moments.rows, self.solution.residual
        k = n - self.rows_over + 1
        total = residual + self.solution.explained
        r2_within = None
        if self.within is not None:
            r2_within = 1 - residual / self.within.outcome_ss
            total = float(self.moments.cross[-1, -1] - self.moments.cross[0, -1] ** 2 / self.moments.weight)
            total *= float(self.moments.scales[-1]) ** 2
        explained = self.solution.explained if self.within is None else total - residual
        loglik = -n / 2 * (math.log(2 * math.pi * residual / n) + 1) if residual > 0 else math.inf
        return LinearStrength(
            r2=explained / total,
            r2_adjusted=1 - (residual / self.rows_over) / (total / (n - 1)),
            typical_miss=math.sqrt(residual / self.rows_over),
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
        df, rest = len(self.solution.columns), self.df_rest
        if self.errors.middle is None and not (self.within and self.within.second):
            F = self._classical_f()
        else:
            df = int(np.count_nonzero(self._told_columns))
            F = self._wald(self.solution.root[:df], self.solution.coefficients[:df])
        return OverallTest(float(F), df, rest, float(p_of_f(F, df, rest)))

    @property
    def _told_columns(self) -> NDArray[np.bool_]:
        """Shape (p,): which inner columns are those of terms; those of a second column taken out stand behind them."""
        told: NDArray[np.bool_] = self.solution.columns < 1 + sum(t.size for t in self.parts)
        return told

    def _classical_f(self) -> float:
        residual, df = self.solution.residual, len(self.solution.columns)
        return self.solution.explained / df / (residual / self.rows_over) if residual > 0 else math.inf

    @cached_property
    def terms(self) -> pd.DataFrame:
        """The joint test of each term, given all the others.

        `term`, `df` (its coefficients), `statistic` (F on `df` and `df_rest` degrees of freedom),
        `p`. A group is tested as a whole; its test does not depend on the base. Robust and clustered
        errors make it a Wald test; with fewer clusters than coefficients there is none (NaN).
        """
        telling, estimates = self._telling, self._told_estimates
        rows_of_term: dict[str, list[int]] = {t.name: [] for t in self.parts}
        for k, told in enumerate(telling.rows[1:], 1):
            if not told.compared.base and telling.known[k]:
                rows_of_term[told.term].append(k)
        with np.errstate(divide="ignore", invalid="ignore"):
            single = estimates**2 / self._squares / self.strength.typical_miss**2
        F, df = [], []
        for term in self.parts:
            own = rows_of_term[term.name]
            if (
                term.kind in ("group", "slope")
                and (term.parts or (term,))[-1].column.scheme == "effect"
                and len(own) > 1
            ):
                own = own[:-1]  # the effects sum to 0, so the last follows from the others
            df.append(len(own))
            if len(own) == 1 and self.errors.middle is None:
                F.append(single[own[0]])
            else:
                F.append(self._wald(self._roots[own], estimates[own]) if own else math.nan)
        return pd.DataFrame(
            {
                "term": [t.name for t in self.parts],
                "df": df,
                "statistic": F,
                "p": p_of_f(F, np.maximum(df, 1), self.df_rest),
            }
        )

    @cached_property
    def _roots(self) -> Array:
        """Shape (coefficients, p): the roots of all coefficients, of which s² times their products is the covariance."""
        return self.solution.roots_of(self._telling.chooser)

    @cached_property
    def _squares(self) -> Array:
        """Shape (coefficients,): the squared lengths of the roots."""
        squares: Array = np.einsum("ij,ij->i", self._roots, self._roots)
        return squares

    def _wald(self, root: Array, b: Array) -> float:
        """Return F = bᵀV⁻¹b/df of some combinations of the inner coefficients, by their roots."""
        if self.errors.middle is not None:
            if len(b) > self.errors.df:
                return math.nan
            V = root @ self.errors.middle[1:, 1:] @ root.T
            scale = np.sqrt(np.diag(V))
            if not scale.all():
                return math.inf
            z = b / scale
            return float(z @ np.linalg.solve(V / np.outer(scale, scale), z)) / len(b)
        sigma2 = self.strength.typical_miss**2
        if not sigma2 > 0:
            return math.inf
        if len(b) == 1:
            return float(b[0] ** 2 / (root[0] @ root[0]) / sigma2)
        # bᵀ(AAᵀ)⁻¹b by a QR factorisation of Aᵀ: no inverse is formed
        R = np.linalg.qr(root.T, mode="r")
        z = scipy.linalg.lapack.dtrtrs(R, b, trans=1)[0]
        return float(z @ z / len(b) / sigma2)

    def parallel_lines(self, amount: str, *, by: str) -> OverallTest:
        """Test whether the slope of an amount is the same in every level of a group.

        Parameters
        ----------
        amount : str
            The amount.
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
        name = Slope(amount, by).name
        own = [k for k, told in enumerate(self._telling.rows) if told.term == name and not told.compared.base]
        if not own:
            raise FitError(
                f"The model has no slope of `{amount}` that differs by `{by}`; add slope({amount!r}, by={by!r}) to its terms."
            )
        roots, estimates = self._roots[own], self._told_estimates[own]
        part = next(t for t in self.parts if t.name == name).parts[1]
        if amount not in {t.name for t in self.parts} or part.column.scheme == "effect":
            roots, estimates = roots[1:] - roots[0], estimates[1:] - estimates[0]
        F = self._wald(roots, estimates)
        return OverallTest(F, len(estimates), self.df_rest, float(p_of_f(F, len(estimates), self.df_rest)))

    @cached_property
    def coefficients(self) -> pd.DataFrame:
        """One row a coefficient, and one for the base of each group.

        `term` (``(intercept)`` first), `level` (empty for an amount; the name of the trend under
        trend coding), `against` (what the level is compared with), `base` (true for the row of a
        base, whose estimate is 0 by definition), `n` (rows used at that level, or all rows used),
        `estimate`, `se`, `t`, `p` (two-sided; NaN for a base), `low` and `high` (the interval at
        `level`), all in units of the outcome per unit of the term.
        """
        return self._table(self._telling)

    @cached_property
    def equation_rows(self) -> pd.DataFrame:
        """The coefficients of the equation, as `coefficients`, with a row a level for every group.

        A group that is not coded by indicators is told by the effects of its levels, from their mean.
        """
        if all(t.column.scheme == "indicator" for t in self._groups):
            return self.coefficients
        return self._table(self._tell(level_form=True))

    @property
    def _groups(self) -> list[Term]:
        """The groups in the model, alone or in a slope or a crossing."""
        return [p for t in self.parts for p in (t.parts or (t,)) if p.is_group]

    def _table(self, telling: Telling) -> pd.DataFrame:
        estimates = self._told_estimates if telling is self._telling else self._estimates(telling)
        root = self._roots if telling is self._telling else self.solution.roots_of(telling.chooser)
        if self.errors.middle is None:
            main = telling is self._telling
            variance = self._squares.copy() if main else np.einsum("ij,ij->i", root, root)
            variance[0] += 1 / self.moments.weight
            se = self.strength.typical_miss * np.sqrt(variance)
        else:
            full = self._with_intercept(root)
            se = np.sqrt(np.einsum("ij,jk,ik->i", full, self.errors.middle, full, optimize=True))
        base = np.array([told.compared.base for told in telling.rows])
        se = np.where(telling.known, se, np.nan)
        with np.errstate(divide="ignore", invalid="ignore"):
            t = np.where(base, np.nan, estimates / se)
        half = t_quantile(self.level, self.df_rest) * se
        return pd.DataFrame(
            {
                "term": [told.term for told in telling.rows],
                "level": [told.compared.level for told in telling.rows],
                "against": [told.compared.against for told in telling.rows],
                "base": base,
                "n": [self._rows_of(told) for told in telling.rows],
                "estimate": estimates,
                "se": se,
                "t": t,
                "p": p_of_t(t, self.df_rest),
                "low": estimates - half,
                "high": estimates + half,
            }
        )

    @cached_property
    def standardised(self) -> pd.DataFrame:
        """The coefficients in standard deviations of the outcome.

        `term`, `level`, `against`, `base`, `step` (what the difference is for), `estimate`, `low`, `high`.
        An amount is told for one standard deviation of its own. A level is told as its difference:
        an indicator has no standard deviation anybody steps by, so it is not standardised itself.
        """
        table = self.coefficients.iloc[1:]
        sds = {t.name: self.spread(t.variables[0])[2] for t in self.parts if t.kind in ("amount", "slope")}
        factor = np.array([sds.get(term, 1.0) for term in table["term"]]) / self.outcome_sd
        step = [
            f"one standard deviation of {term} ({short(sds[term])})" if term in sds else "difference"
            for term in table["term"]
        ]
        kept = table[["term", "level", "against", "base"]].assign(step=step)
        return kept.assign(**{k: table[k] * factor for k in ("estimate", "low", "high")}).reset_index(drop=True)

    @cached_property
    def covariance(self) -> pd.DataFrame:
        """The covariance matrix of the rows of `coefficients`, labelled ``term`` or ``term: level``."""
        root = self._roots
        if self.errors.middle is None:
            V = root @ root.T * self.strength.typical_miss**2
            V[0, 0] += self.strength.typical_miss**2 / self.moments.weight
        else:
            full = self._with_intercept(root)
            V = full @ self.errors.middle @ full.T
        labels = [f"{t.term}: {t.compared.level}" if t.compared.level else t.term for t in self._telling.rows]
        return pd.DataFrame(V, index=labels, columns=labels)

    def _with_intercept(self, root: Array) -> Array:
        """Put the whitened intercept in front: 1/√n for the first row, 0 for the others."""
        first = np.zeros((len(root), 1))
        first[0] = 1 / math.sqrt(self.moments.weight)
        return np.hstack([first, root])

    @cached_property
    def outcome_sd(self) -> float:
        """Standard deviation (n − 1) of the outcome in the rows used: the typical miss of no model at all."""
        return math.sqrt(self.strength.total_ss / (self.moments.rows - 1))

    def spread(self, term: str) -> tuple[float, float, float]:
        """Describe an amount in the rows used.

        Parameters
        ----------
        term : str
            The name of a term that is an amount.

        Returns
        -------
        low, high, sd : float
            Its lowest and highest value and its standard deviation (n − 1).

        Raises
        ------
        ColumnError
            If there is no such term, or it is a group.
        """
        single = {p.name: p for t in self.parts for p in (t.parts or (t,)) if p.kind == "amount"}
        part = single.get(term)
        if part is None:
            amounts = list(single)
            raise ColumnError(f"The model has no amount `{term}`.{near(term, amounts)}")
        values = part.column.values if self.used is None else part.column.values[self.used]
        return float(values.min()), float(values.max()), float(values.std(ddof=1))

    def middle(self, amount: str) -> float:
        """Return the mean of an amount in the rows used, each counted by its weight.

        Parameters
        ----------
        amount : str
            The name of an amount in the model.

        Returns
        -------
        float
            The mean.

        Raises
        ------
        ColumnError
            If the model has no such amount.
        """
        self.spread(amount)
        part = next(p for t in self.parts for p in (t.parts or (t,)) if p.name == amount)
        values = part.column.values if self.used is None else part.column.values[self.used]
        if self.weights is None:
            return float(values.mean())
        heavy = self.weights.values if self.used is None else self.weights.values[self.used]
        return float(np.average(values, weights=heavy))

    def without(self, term: str) -> LinearFit:
        """Fit the same model without one of its terms, on the same rows.

        With classical errors the rows are not touched.

        Parameters
        ----------
        term : str
            The name of a term.

        Returns
        -------
        LinearFit
            The smaller fit.

        Raises
        ------
        ColumnError
            If the model has no such term.
        FitError
            If it is the only one.
        """
        names = [t.name for t in self.parts]
        if term not in names:
            raise ColumnError(f"The model has no term `{term}`.{near(term, names)}")
        if len(names) == 1:
            raise FitError(f"`{term}` is the only term, so nothing would be left to fit.")
        kept = [k for k, name in enumerate(names) if name != term]
        parts = tuple(self.parts[k] for k in kept)
        hidden = self.within.hidden if self.within else ()
        places = [0, *(k + 1 for k in kept), *range(len(names) + 1, len(self.moments.sizes))]
        moments = self.moments.only(places)
        within = self.within.only(self.moments.columns_of(places)) if self.within else None
        blocks = [*(t.block() for t in (*parts, *hidden)), Block(1, multiplier=self.outcome.values)]
        heavy = self.weights.values if self.weights else None
        columns = design_columns(parts, moments)
        if within is not None:
            columns = np.concatenate([columns, within.free_levels(moments, len(parts) + 1)])
        solution = solve(moments, blocks, self.used, self.sample.rows, columns, heavy, within)
        kind = "classical" if self.cluster is not None else self.errors.kind
        errors = errors_of(kind, self.cluster, moments, blocks, solution, self.used, self.weights, within)
        return replace(self, parts=parts, moments=moments, solution=solution, errors=errors, within=within)

    def equation(self) -> Equation:
        """Write the fitted equation, complete; print it, or take its `text`.

        Returns
        -------
        Equation
            The intercept and every coefficient that is not a base, and the bases.
        """
        return make_equation(self)

    def reading(self) -> Reading:
        """Say what each coefficient means, with the cautions that belong to it.

        Returns
        -------
        Reading
            A sentence a coefficient; print it, or take its `statements`.
        """
        return make_reading(self)

    @cached_property
    def fitted(self) -> Array:
        """What the model gives for each row of the study, shape (rows,); NaN for a row not used."""
        s, starts = self.solution, self.moments.starts
        fitted = np.full(self.sample.rows, s.at_centres[0] + s.at_centres[1])
        if self.within is not None:
            columns, outcome = self.within.means(self.moments)
            own = self.moments.centres[-1] + outcome - columns[s.columns].T @ s.coefficients
            fitted = own[self.within.codes]
        by_column = np.zeros(self.moments.cross.shape[0])
        by_column[s.columns] = s.coefficients
        for k, term in enumerate((*self.parts, *(self.within.hidden if self.within else ())), 1):
            block = term.block()
            values = np.ones(1) if block.multiplier is None else block.multiplier - self.moments.centres[k]
            if block.codes is None:
                fitted += by_column[starts[k]] * values
            else:
                effects = np.append(by_column[starts[k] : starts[k] + block.levels], np.nan)
                fitted += effects[block.codes] * values
        if self.used is not None:
            fitted[~self.used] = np.nan
        return fitted

    @cached_property
    def _place(self) -> dict[str, int]:
        """The block of each term."""
        return {t.name: k for k, t in enumerate(self.parts, 1)}

    @cached_property
    def _telling(self) -> Telling:
        return self._tell()

    def coefficients_at(self, at: Mapping[str, float]) -> pd.DataFrame:
        """Tell the coefficients where some amounts have a value of their own instead of 0.

        Parameters
        ----------
        at : mapping of str to float
            Amounts that are part of a slope by group, and where to hold them.

        Returns
        -------
        pandas.DataFrame
            As `coefficients`; the differences between groups, and the start, are those at these values.

        Raises
        ------
        ColumnError
            If the model has no such amount.
        """
        for name in at:
            self.spread(name)
        return self._table(self._tell(at=at))

    def _tell(self, level_form: bool = False, at: Mapping[str, float] | None = None) -> Telling:
        telling = tell(self.parts, self.moments, self.solution.columns, level_form, at)
        hidden = ~self._told_columns
        if hidden.any():  # the start is that of the mean over the levels taken out
            telling.chooser[0, hidden] = self.solution.means[hidden]
        return telling

    @cached_property
    def _told_estimates(self) -> Array:
        return self._estimates(self._telling)

    def _estimates(self, telling: Telling) -> Array:
        """Return the estimates of all coefficients, NaN where the rows lack a combination they rest on."""
        s, C = self.solution, telling.chooser
        estimates: Array = C @ s.coefficients + C @ s.lower
        high, low = twofold.two_product(C[0], s.coefficients)
        estimates[0] = math.fsum([*s.at_centres, *high, *low, *(C[0] * s.lower)])
        return np.where(telling.known, estimates, np.nan)

    def _rows_of(self, told: Told) -> int:
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
