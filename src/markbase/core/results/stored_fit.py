"""A fit without its rows: what is needed to predict, to tell another base, and to compare groups."""

from __future__ import annotations

import itertools
import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import NoReturn, Self

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.arguments import checked_methods
from markbase.core.design.mean_columns import Sample, Setting
from markbase.core.design.terms import Variable, variable_of, variables_of
from markbase.core.design.weights import Weighting
from markbase.core.errors import FitError, MarkbaseError, NoRowsError
from markbase.core.inference.distributions import t_quantile
from markbase.core.inference.joint_tests import JointTest
from markbase.core.inference.marginal_effects import known_profile
from markbase.core.results.adjusted_means import adjusted_means
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.coefficient_rows import label_of
from markbase.core.results.family import LINEAR, Family
from markbase.core.results.fit_statistics import LinearStrength, LogisticStrength, OverallTest
from markbase.core.results.group_comparisons import Grouped
from markbase.core.results.level_probabilities import AveragedLevels, adjusted_probabilities
from markbase.core.results.linear import LinearFit
from markbase.core.results.logistic import LogisticFit
from markbase.core.results.new_rows import NewRows
from markbase.core.results.outcome_ends import NO_ENDS, Ends
from markbase.core.results.predicting import Predicting
from markbase.core.results.prediction_coverage import Held
from markbase.core.results.predictions import predicted_columns
from markbase.core.results.profiled import Profiled
from markbase.core.results.rows_used import RowsUsed
from markbase.core.results.simple_slopes import Probed
from markbase.core.tables import own_table

Array = NDArray[np.float64]
_MOST_AVERAGED = 60
"""Of groups of more levels adjusted probabilities are not kept: each has a derivative by every coefficient."""
_NO_ROWS = "A saved fit holds no rows of the data"


@dataclass(frozen=True, eq=False)
class DescribedRows(RowsUsed):
    """What the rows of a saved fit were."""

    described: Mapping[str, tuple[float, float, float, float]] = field(default_factory=dict)
    """Of each numeric column its lowest and highest value, standard deviation and mean."""
    joint_counts: Mapping[tuple[str, ...], NDArray[np.int64]] = field(default_factory=dict)
    """How many rows at the joint levels of groups."""
    rows_counted: int = 0
    """How many they stood for."""

    @property
    def counted(self) -> int:
        """Rows that were used, each as often as a frequency weight said."""
        return self.rows_counted

    def _described(self, numeric: str) -> tuple[float, float, float, float]:
        return self.described[variable_of(self.terms, numeric, "numeric").name]

    def spread(self, numeric: str) -> tuple[float, float, float]:
        """Tell the lowest and highest value of a numeric column, and its standard deviation."""
        low, high, sd, _ = self._described(numeric)
        return low, high, sd

    def middle(self, numeric: str) -> float:
        """Tell the mean of a numeric column."""
        return self._described(numeric)[3]

    def middle_and_around(self, numeric: str) -> list[float]:
        """Tell the mean of a numeric column and a standard deviation below and above, those inside the rows used."""
        low, high, sd, mean = self._described(numeric)
        return [v for v in (mean - sd, mean, mean + sd) if low <= v <= high]

    def values(self, numeric: str) -> Array:
        """Refuse to give values: there are no rows."""
        raise FitError(f"{_NO_ROWS}, so `{numeric}` has no values here.")

    def counted_between(self, numeric: str, edges: Sequence[float]) -> list[int | None]:
        """Tell that nothing can be counted."""
        del numeric
        return [None] * (len(edges) - 1)

    def counts_at(self, groups: tuple[str, ...]) -> NDArray[np.int64]:
        """Tell how many rows there were at each joint level of some groups."""
        for order in itertools.permutations(groups):
            if order in self.joint_counts:
                return np.transpose(self.joint_counts[order], [order.index(g) for g in groups])
        raise FitError(f"{_NO_ROWS}, so the joint levels of {', '.join(groups)} cannot be counted.")


class _Averages(Sample):
    """What the columns of a saved fit are on average; of what was not averaged before it was saved there is none."""

    def open_means(self, several: Sequence[tuple[Sequence[Array], Sequence[Variable]]]) -> list[Array]:
        """Refuse it: there are no rows."""
        del several
        raise FitError(f"{_NO_ROWS}, and this is an average over them; give every numeric column a value.")


@checked_methods
@dataclass(frozen=True, eq=False, repr=False)
class StoredFit(Grouped, Probed, Predicting):
    """A fit that was saved: its tables, predictions, bases and comparisons, without a row of the data."""

    family: Family = LINEAR  # type: ignore[misc]  # of the kind it was
    """Its kind."""
    strength: LinearStrength | LogisticStrength | None = None
    """How much the model says."""
    overall: OverallTest | None = None
    """The test of all terms together."""
    terms: pd.DataFrame = field(default_factory=pd.DataFrame)
    """The joint test of each term."""
    spreads: Mapping[str, tuple[float, float, float, float]] = field(default_factory=dict)
    """Of each numeric column its lowest and highest value, standard deviation and mean in the rows used."""
    counts: Mapping[tuple[str, ...], NDArray[np.int64]] = field(default_factory=dict)
    """Rows used at the joint levels of groups that occur together in the model, and of each two groups."""
    plain: Mapping[str, Array] = field(default_factory=dict)
    """The mean of the outcome, or the share of the event, at each level of each group."""
    part_means: Mapping[tuple[int, frozenset[str]], Array] = field(default_factory=dict)
    """Means of parts of products over the rows."""
    column_means: Array = field(default_factory=lambda: np.zeros(0))
    """The mean of every column."""
    fixed_names: tuple[str, ...] = ()
    """The columns whose levels were taken out; empty for none."""
    counted: int = 0
    """Rows that were used, each as often as a frequency weight said."""
    weighted_by: Weighting | None = None
    """By what rows counted; None where they counted alike, and of a fit saved before it was kept."""
    own_mean: float = math.nan
    """The mean of the outcome in the rows that were used, or the share of the event; NaN of a fit saved before it was kept."""
    own_measures: Mapping[str, float] = field(default_factory=dict)
    """How far its predictions were off in the rows used, by name; empty with fixed effects, and of a fit saved before they were kept."""

    overstated: Mapping[str, JointTest] = field(default_factory=dict)
    """The terms, and all together by the name "", whose joint test robust errors overstate, each with Hotelling's."""

    held: tuple[Held, ...] = ()
    """How many rows used lie outside their intervals for one, by fitted value; empty of a fit saved before it was kept."""

    averaged: Mapping[str, AveragedLevels] = field(default_factory=dict)
    """Of a logistic fit, for groups of at most 60 levels, the probability averaged over the rows as if all had each level; empty of a fit saved before it was kept."""

    ends: Ends = NO_ENDS
    """The ends of a numeric outcome in the rows used; infinite of a fit saved before they were kept."""

    profiled: Profiled | None = None
    """What a penalised likelihood says of each coefficient; None without a penalty, and of a fit saved before it was kept."""

    @property
    def _held(self) -> tuple[Held, ...]:
        return self.held

    def _averages_levels(self, group: str) -> bool:
        """Return whether adjusted means, or probabilities, of a group are known."""
        return self.kind == "linear" or group in self.averaged

    @property
    def _ends(self) -> Ends:
        return self.ends

    @property
    def _overstated(self) -> Mapping[str, JointTest]:
        return self.overstated

    def __getattr__(self, name: str) -> NoReturn:
        known = any(hasattr(kind, name) or name in kind.__dataclass_fields__ for kind in (LinearFit, LogisticFit))
        if name.startswith("_") or not known:
            raise AttributeError(f"a saved fit has no `{name}`")
        raise NoRowsError(f"{_NO_ROWS}, so it has no `{name}`: take it of the fit before it is saved.")

    @property
    def weighting(self) -> Weighting | None:
        """By what rows counted."""
        return self.weighted_by

    @property
    def kind(self) -> str:
        """``linear`` or ``logistic``."""
        return self.family.name

    @property
    def event(self) -> str:
        """The event whose odds are modelled, of a logistic fit."""
        if self.kind != "logistic":
            raise AttributeError("a linear fit has no event")
        return self.outcome.levels[1].label

    @property
    def _sigma2(self) -> float:
        return self.strength.residual_sd**2 if isinstance(self.strength, LinearStrength) else 1.0

    @own_table
    def coefficients(self) -> pd.DataFrame:
        """As of the fit that was saved; with Firth's penalty, p and intervals of what is told from other bases alone are Wald's."""
        return self.family.with_ratios(self._told_coefficients[0])

    @cached_property
    def _told_coefficients(self) -> tuple[pd.DataFrame, NDArray[np.bool_]]:
        """The coefficients, and of which of them the penalised likelihood is known."""
        table = self._table(self.coefficient_rows)
        if self.profiled is None:
            return table, np.zeros(len(table), dtype=bool)
        known, own = self.profiled.of(self.coefficient_rows.roots)
        told = {name: np.where(known, getattr(own, name), table[name]) for name in ("p", "low", "high")}
        return table.assign(**told), known

    @property
    def by_wald(self) -> list[str]:
        """The coefficients of a penalised fit whose p and interval are Wald's, since their likelihood was not kept."""
        if self.profiled is None:
            return []
        table, known = self._told_coefficients
        rows = table[~(known | table["base"].to_numpy(dtype=bool) | table["se"].isna())]
        return [label_of(str(r.term), str(r.level)) for r in rows.itertuples()]

    def _by_likelihood(self, chooser: Array, roots: Array, half: float) -> tuple[NDArray[np.bool_], Profiled] | None:
        del chooser
        each_by_itself = math.isclose(half, t_quantile(self.level, math.inf))
        return self.profiled.of(roots) if self.profiled is not None and each_by_itself else None

    def _not_profiled(self, count: int) -> str:
        del count
        if self.profiled is None:
            return ""
        return "p and intervals of what is no coefficient of the saved fit are Wald's, since its penalised likelihood needs the rows"

    @property
    def penalty(self) -> str:
        """``firth`` where the likelihood was penalised; else empty."""
        return "firth" if self.profiled is not None else ""

    @cached_property
    def _sample(self) -> Sample:
        return _Averages(self.model_terms, self.moments, None, None, self.column_means, dict(self.part_means))

    @cached_property
    def rows_used(self) -> DescribedRows:
        """What the rows were that the fit used."""
        facts = self.model_terms, self.sample, self.moments, None, None
        return DescribedRows(*facts, described=self.spreads, joint_counts=self.counts, rows_counted=self.counted)

    def _tested_again(self, terms: Sequence[str]) -> Self:
        """Return the same with Wald's tests of some terms at the bases there are now; ratios of likelihoods, and whether robust errors overstate a test, are not known."""
        table, tests = self.terms.copy(), dict(zip(self.terms["term"], self.term_tests.each, strict=True))
        for row, term in zip(table.index, table["term"], strict=True):
            if term not in terms:
                continue
            told = self._as_overall(tests[term])
            by_likelihood = (
                self.kind == "logistic" and self.overall is not None and self.overall.kind == "likelihood ratio"
            )
            own = (
                {"statistic": math.nan, "p": math.nan} if by_likelihood else {"statistic": told.statistic, "p": told.p}
            )
            beside = {"wald": told.statistic, "wald_p": told.p} if "wald" in table else {}
            for name, value in {"df": told.df, "df_rest": told.df_rest, **own, **beside}.items():
                table.loc[row, name] = value
        kept = {name: test for name, test in self.overstated.items() if name not in terms}
        return replace(self, terms=table, overstated=kept)

    def _plain(self, group: Variable) -> Array:
        return self.plain[group.name]

    def groups(self, group: str, *, at: Mapping[str, float] | None = None) -> pd.DataFrame:
        """Tell every level of a group, as of the fit that was saved.

        Parameters
        ----------
        group : str
            A group of the model.
        at : mapping of str to float, optional
            Where numeric columns are held, of a linear fit; by default as in the sample.

        Returns
        -------
        pandas.DataFrame
            As `LinearFit.groups`, or `LogisticFit.groups`.

        Raises
        ------
        FitError
            Of a logistic fit with numeric columns held at a value, or a group of more than 60 levels: adjusted probabilities are averages over the rows, of which
            the others are kept alone. `between` compares odds.
        """
        if self.kind == "logistic" and not at and group in self.averaged:
            term = self.variable(group, "categorical")
            return adjusted_probabilities(self, term, self.averaged[group], None, self._plain(term))
        return adjusted_means(self, group, at, self._plain)

    def _adjusted(self, settings: Sequence[Setting]) -> tuple[Array, Array, Array, Array]:
        if self.kind == "logistic":
            raise FitError(
                f"{_NO_ROWS}, and adjusted probabilities are averages over rows; its levels are compared in odds, pair by pair."
            )
        return super()._adjusted(settings)

    def _predicted(self, settings: Sequence[Setting]) -> dict[str, Array]:
        named = np.array([known_profile(self.model_terms, self._sample.followed(setting)) for setting in settings])
        if self.kind == "logistic" and not named.all():
            raise MarkbaseError(
                f"{_NO_ROWS}, and a probability of a profile that leaves a column out is an average over rows; name every column."
            )
        chooser, starts = self._sample.rows(settings)[:, self.solution.columns], np.ones(len(settings), dtype=bool)
        eta, se = self.inner.estimates(chooser, starts), self.inner.se(self.inner.roots(chooser, starts))
        spread = None if self._spread is None or not named.any() else np.where(named, self._spread, np.nan)
        return self.family.predictions(eta, se, t_quantile(self.level, self.df_rest), spread, None)

    @property
    def _spread(self) -> float | None:
        """The standard deviation of one row about the mean of all such; None within fixed effects."""
        return None if self.fixed_names else math.sqrt(self._sigma2)

    @property
    def fixed_effect_names(self) -> tuple[str, ...]:
        """The columns whose levels were taken out; empty for none."""
        return self.fixed_names

    def _of_rows(self, rows: NewRows) -> pd.DataFrame:
        half = t_quantile(self.level, self.df_rest)
        spread = self._spread
        return predicted_columns(self, rows, lambda eta, se, y: self.family.predictions(eta, se, half, spread, y))

    def _unseen(self, setting: Setting) -> list[str]:
        names = [v.name for v in variables_of(self.model_terms).values() if v.is_categorical and v.name in setting]
        told = []
        for first, second in itertools.combinations(names, 2):
            a, b = (int(np.argmax(setting[n])) for n in (first, second))
            if self.rows_used.counts_at((first, second))[a, b] == 0:
                one, other = (self.variable(n, "categorical").labels[k] for n, k in ((first, a), (second, b)))
                told.append(f"no row used has `{first}` `{one}` and `{second}` `{other}` together")
        return told

    @property
    def _smear(self) -> float:
        return math.nan


def part_means_of(fit: AnyFit) -> dict[tuple[int, frozenset[str]], Array]:
    """Return the means over the rows of every part of every product of a fit."""
    inside, asked = fit._sample.inside, {}
    found = {(k, frozenset[str]()): np.asarray(1.0) for k, _ in enumerate(fit.components)}
    for k, component in enumerate(fit.components):
        variables = [*component.numerics, *((g, 0) for g in component.groups)]
        for count in range(1, len(variables) + 1):
            for some in itertools.combinations(variables, count):
                values = [(v.column.values[inside] - component.shift_of(v)) ** p for v, p in some if p]
                asked[k, frozenset(v.name for v, _ in some)] = (values, [v for v, p in some if not p])
    return found | dict(zip(asked, fit._sample.open_means(list(asked.values())), strict=True))


def _averaged(fit: AnyFit) -> dict[str, AveragedLevels]:
    """Average the probabilities of a logistic fit over the rows as if all had each level, of groups of which that can be told and kept."""
    if isinstance(fit, LinearFit):
        return {}
    groups = [
        v for v in fit.variables if v.is_categorical and v.size <= _MOST_AVERAGED and not fit.not_averaged(v.name)
    ]
    return dict(zip([g.name for g in groups], fit._averaged_levels(groups, {}), strict=True)) if groups else {}


def store(fit: AnyFit) -> StoredFit:
    """Take of a fit all that needs no rows: the same tables, predictions, bases and comparisons."""
    variables = variables_of(fit.model_terms).values()
    groups = [v.name for v in variables if v.is_categorical]
    wanted: set[tuple[str, ...]] = {(g,) for g in groups} | set(itertools.combinations(groups, 2))
    wanted |= {tuple(g.name for g in t.groups) for t in fit.model_terms if t.groups}
    return StoredFit(
        outcome=fit.outcome,
        model_terms=fit.model_terms,
        sample=fit.sample,
        level=fit.level,
        data_name=fit.data_name,
        moments=fit.moments,
        solution=fit.solution,
        used=None,
        errors=fit.errors,
        identifier=fit.identifier,
        retold=fit.retold,
        family=fit.family,
        strength=fit.strength,
        overall=fit.overall,
        terms=fit.terms,
        spreads={
            v.name: (*fit.rows_used.spread(v.name), fit.rows_used.middle(v.name))
            for v in variables
            if not v.is_categorical
        },
        counts={key: fit.rows_used.counts_at(key) for key in sorted(wanted)},
        plain={v.name: fit._plain(v) for v in variables if v.is_categorical},
        part_means=part_means_of(fit),
        column_means=fit._column_means,
        fixed_names=tuple(fit.fixed_effect_names),
        counted=fit.rows_used.counted,
        weighted_by=fit.weights and Weighting(fit.weights.kind, fit.weights.column),
        own_mean=fit.own_mean,
        own_measures={} if fit.fixed_effect_names else fit.own_measures,
        overstated=fit._overstated,
        held=tuple(fit._held),
        ends=fit._ends,
        averaged=_averaged(fit),
        profiled=fit.profiled if isinstance(fit, LogisticFit) and fit.penalty else None,
    )
