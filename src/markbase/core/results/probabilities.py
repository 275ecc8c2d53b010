"""What a logistic fit says in probabilities: of levels, of steps, of profiles, averaged over the rows."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from itertools import islice
from typing import Any, ClassVar

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.design.mean_columns import Setting
from markbase.core.design.terms import Variable, variables_of
from markbase.core.estimation.likelihood import Likelihood
from markbase.core.estimation.likelihood_points import Passed, Theta
from markbase.core.estimation.newton import Information
from markbase.core.inference.distributions import p_of_t, t_quantile
from markbase.core.inference.marginal_effects import (
    Averaged,
    average_probabilities,
    average_slope,
    average_slopes,
    known_profile,
    logit_interval,
)
from markbase.core.results.family import LOGISTIC, Family
from markbase.core.results.fit import Fit
from markbase.core.results.level_probabilities import AveragedLevels, adjusted_probabilities
from markbase.core.results.new_rows import NewRows
from markbase.core.results.predictions import predicted_columns
from markbase.core.rows.parts import bincount_of
from markbase.core.tables import own_table

Array = NDArray[np.float64]
_Key = tuple[str, tuple[tuple[str, float], ...]]
_MARGINAL = ["term", "level", "against", "base", "n", "effect", "se", "low", "high", "p"]


@dataclass(frozen=True, eq=False, repr=False, kw_only=True)
class Probabilities(Fit):
    """A fit of the odds of an event, and the probabilities it gives."""

    family: ClassVar[Family] = LOGISTIC

    theta: Theta
    """The inner coefficients."""
    likelihood: Likelihood
    """The rows, for tests that go back to them."""
    passed: Passed
    """What each row contributes at the estimates."""
    information: Information
    """The curvature there."""

    @property
    def event(self) -> str:
        """The event whose odds are modelled."""
        return self.outcome.levels[1].label

    @property
    def otherwise(self) -> str:
        """The other level of the outcome."""
        return self.outcome.levels[0].label

    @cached_property
    def events(self) -> int:
        """Rows used in which the event happened, each as often as a frequency weight says."""
        happened, _ = self._happened_and_weights()
        often = self._often
        return int(np.count_nonzero(happened)) if often is None else round(float((happened * often).sum()))

    @property
    def _often(self) -> Array | None:
        """For how many rows each row used stands by its frequency; None where each stands for itself."""
        times = self.rows_used.times
        return None if times is None else times[self.rows_used.inside]

    @cached_property
    def rate(self) -> float:
        """Share of the event in the rows used, each counted by its weight."""
        happened, heavy = self._happened_and_weights()
        return float(np.average(happened, weights=heavy))

    def _happened_and_weights(self) -> tuple[Array, Array | None]:
        inside = slice(None) if self.used is None else self.used
        heavy = self.weights.values[inside] if self.weights else None
        return self.likelihood.event[inside], heavy

    def events_by_level(self, group: str) -> tuple[Array, Array]:
        """Count rows and events of each level of a group that is a term.

        Parameters
        ----------
        group : str
            The name of the term.

        Returns
        -------
        rows, events : ndarray, shape (levels,)
            Rows used, and those with the event, each as often as a frequency weight says.
        """
        often = self._often
        if often is not None:
            group_of = self.variable(group, "categorical")
            codes, (happened, _) = group_of.codes[self.rows_used.inside], self._happened_and_weights()
            return bincount_of(codes, often, group_of.size), bincount_of(codes, often * happened, group_of.size)
        k = next(k for k, c in enumerate(self.components, 1) if c.names == {group} and not c.numerics)
        m = self.moments
        at = slice(int(m.starts[k]), int(m.starts[k]) + m.sizes[k])
        rows = m.cross[0, at]
        return rows, np.round(m.cross[-1, at] * m.scales[-1] + m.centres[-1] * rows)

    @property
    def _column_means(self) -> Array:
        if self.weights is None:
            return super()._column_means
        heavy = self.weights.values if self.used is None else np.where(self.used, self.weights.values, 0.0)
        return self.likelihood.sums_of(heavy) / float(heavy.sum())

    def _se_of(self, slope: Array) -> float:
        """Return the standard error of an average, by its derivative (the delta method)."""
        with np.errstate(invalid="ignore"):  # what is steep without bound in some row has no average
            return float(self.inner.se((slope @ self.information.root)[None, :])[0])

    def _averages(self, settings: Sequence[Setting]) -> list[Averaged]:
        for setting in settings:
            self._sample.check(setting)
        return average_probabilities(self.likelihood, self.theta, self.solution.columns, self._sample, settings)

    def _adjusted(self, settings: Sequence[Setting]) -> tuple[Array, Array, Array, Array]:
        """Return the probability averaged over the rows with some variables set, as `groups` tells it."""
        averaged = self._averages(settings)
        value, se = np.array([a.value for a in averaged]), np.array([self._se_of(a.slope) for a in averaged])
        half = t_quantile(self.level, self.df_rest)
        ends = np.array([logit_interval(v, s, half) for v, s in zip(value, se, strict=True)])
        return value, se, ends[:, 0], ends[:, 1]

    def groups(self, group: str, *, at: Mapping[str, float] | None = None) -> pd.DataFrame:
        """Tell every level of a group: its rows, its rate, its adjusted probability, its difference from the base.

        Parameters
        ----------
        group : str
            A group of the model.
        at : mapping of str to float, optional
            Where numeric columns are held; by default as in the sample.

        Returns
        -------
        pandas.DataFrame
            One row a level, the base among them: `level`, `base`, `n`, `plain` (share of the event in these rows), `adjusted`
            (share the model expects if all rows had this level and were otherwise as they are) with `adjusted_low`,
            `adjusted_high`; `difference` of the adjusted probabilities from the base's with `se`, `low`, `high`, `p` (delta
            method); and `odds_ratio`, `odds_low`, `odds_high`, `odds_p` (NaN p for the base).

        Raises
        ------
        ColumnError
            If the model has no such group.
        """
        key = _key(group, at)
        if key not in self._told_groups:
            term = self.variable(group, "categorical")
            self._check_cells(term)
            self._tell_groups([term], at)
        return self._told_groups[key].copy()

    @cached_property
    def _told_groups(self) -> dict[_Key, pd.DataFrame]:
        return {}

    def _tell_groups(self, groups: Sequence[Variable], at: Mapping[str, float] | None = None) -> None:
        """Compute what `groups` tells of some groups, in one pass over the rows."""
        setting = self._setting(at)
        left = [g for g in groups if _key(g.name, at) not in self._told_groups]
        for group, averaged in zip(left, self._averaged_levels(left, setting), strict=True):
            told = adjusted_probabilities(self, group, averaged, at, self._plain(group))
            self._told_groups[_key(group.name, at)] = told

    def _averaged_levels(self, groups: Sequence[Variable], setting: Setting) -> list[AveragedLevels]:
        """Average the probabilities over the rows as if all of them had each level of each group, in one pass over the rows."""
        every = iter(self._averages([{**setting, g.name: share} for g in groups for share in np.eye(g.size)]))
        own = [list(islice(every, g.size)) for g in groups]
        return [
            AveragedLevels(np.array([a.value for a in told]), np.array([a.slope for a in told]) @ self.information.root)
            for told in own
        ]

    @cached_property
    def _plain_shares(self) -> dict[str, Array]:
        """The shares of the event at the levels of groups that were asked for, by the names of the groups."""
        return {}

    def _plain(self, group: Variable) -> Array:
        """Return the share of the event at each level."""
        if group.name not in self._plain_shares:
            self._plain_shares[group.name] = self._shares_at(group)
        return self._plain_shares[group.name]

    def _shares_at(self, group: Variable) -> Array:
        if self.weights is None and any(c.names == {group.name} and not c.numerics for c in self.components):
            rows, own = self.events_by_level(group.name)
            found: Array = own / rows
            return found
        codes = group.codes[slice(None) if self.used is None else self.used]
        happened, heavy = self._happened_and_weights()
        events = np.bincount(codes, weights=happened if heavy is None else happened * heavy, minlength=group.size)
        shares: Array = events / np.bincount(codes, weights=heavy, minlength=group.size)
        return shares

    def _with_probability_slopes(
        self, table: pd.DataFrame, numeric: str, settings: Sequence[Mapping[str, float | Array]]
    ) -> pd.DataFrame:
        half = t_quantile(self.level, self.df_rest)
        pair = self.variable(numeric, "numeric").column.two_values
        if pair is not None:
            found = self._between_values([(numeric, pair, setting) for setting in settings])
        else:
            rows = self.likelihood, self.theta, self.solution.columns, self._sample
            found = [average_slope(*rows, numeric, setting) for setting in settings]
        value, se = np.array([f.value for f in found]), np.array([self._se_of(f.slope) for f in found])
        value = np.where(np.isfinite(value), value, np.nan)
        table = table.assign(
            probability_slope=value, probability_low=value - half * se, probability_high=value + half * se
        )
        if "base" not in table:
            return table
        base = table["base"].to_numpy(dtype=bool)  # one in each round of the levels
        anchors = np.repeat(np.flatnonzero(base), len(base) // int(base.sum()))
        more = np.array([f.value - found[k].value for f, k in zip(found, anchors, strict=True)])
        se = np.array([self._se_of(f.slope - found[k].slope) for f, k in zip(found, anchors, strict=True)])
        with np.errstate(divide="ignore", invalid="ignore"):
            p = np.where(base, np.nan, p_of_t(more / se, self.df_rest))
        return table.assign(
            probability_difference=more,
            probability_difference_low=more - half * se,
            probability_difference_high=more + half * se,
            probability_difference_p=p,
        )

    @own_table
    def marginal(self) -> pd.DataFrame:
        """Average marginal effects: by how much the probability of the event is higher, averaged over the rows.

        `term`, `level`, `against`, `base`, `n`, `effect` (per unit of a numeric column, of one with two values from one to the
        other; or between a level and the base; times 100 it is percentage points), `se`, `low`, `high`, `p` (delta method); NaN where
        there is no such average.
        """
        half = t_quantile(self.level, self.df_rest)
        records: list[list[object]] = []
        rises = self._rises
        groups = [v for v in variables_of(self.model_terms).values() if v.is_categorical]
        self._tell_groups([group for group in groups if not self.not_averaged(group.name)])
        for term in variables_of(self.model_terms).values():
            if term.is_categorical:
                table = self._unaveraged(term) if self.not_averaged(term.name) else self.groups(term.name)
                table = table.rename(columns={"difference": "effect"})
                table = table.assign(term=term.name, against=np.where(table["base"], "", term.base_label))
                records += table[_MARGINAL].to_numpy().tolist()
                continue
            found = rises[term.name]
            se = self._se_of(found.slope) if math.isfinite(found.value) else math.nan
            p = float(p_of_t(found.value / se, self.df_rest)) if se > 0 else math.nan
            ends = found.value - half * se, found.value + half * se
            records.append([term.name, "", "", False, self.rows_used.counted, found.value, se, *ends, p])
        return pd.DataFrame(records, columns=_MARGINAL).astype({"n": np.int64, "base": bool})

    @cached_property
    def _rises(self) -> dict[str, Averaged]:
        """By how much the probability rises per unit of each numeric column: a slope, or of one with two values the difference."""
        columns = [v.column for v in variables_of(self.model_terms).values() if not v.is_categorical]
        pairs = {c.name: c.two_values for c in columns if c.two_values is not None}
        many = [c.name for c in columns if c.name not in pairs]
        slopes = average_slopes(self.likelihood, self.theta, self.passed, self.solution.columns, self._sample, many)
        differences = self._between_values([(name, pair, {}) for name, pair in pairs.items()])
        return dict(zip([*many, *pairs], [*slopes, *differences], strict=True))

    def _between_values(self, asked: Sequence[tuple[str, tuple[float, float], Mapping[str, Any]]]) -> list[Averaged]:
        """Return the difference, per unit, of the average probabilities at the two values of each of some columns, each with where others are held."""
        ends = self._averages([{**held, name: value} for name, pair, held in asked for value in pair]) if asked else []
        return [
            Averaged((above.value - below.value) / (high - low), (above.slope - below.slope) / (high - low))
            for (_, (low, high), _), below, above in zip(asked, ends[::2], ends[1::2], strict=True)
        ]

    def _unaveraged(self, group: Variable) -> pd.DataFrame:
        """Return the levels of a group that cannot be averaged over others, without their figures."""
        table = pd.DataFrame({"level": group.labels, "base": np.arange(group.size) == group.base})
        return table.assign(
            n=self.rows_used.counts_at((group.name,)), **dict.fromkeys(("difference", "se", "low", "high", "p"), np.nan)
        )

    def _of_rows(self, rows: NewRows) -> pd.DataFrame:
        half = t_quantile(self.level, self.df_rest)
        return predicted_columns(self, rows, lambda eta, se, y: self.family.predictions(eta, se, half, None, y))

    def _predicted(self, settings: Sequence[Setting]) -> dict[str, Array]:
        half = t_quantile(self.level, self.df_rest)
        named = np.array([known_profile(self.model_terms, self._sample.followed(s)) for s in settings])
        found = {name: np.full(len(settings), np.nan) for name in ("probability", "low", "high", "log_odds", "se")}
        if named.any():
            rows = self._sample.rows([s for s, whole in zip(settings, named, strict=True) if whole])
            chooser, starts = rows[:, self.solution.columns], np.ones(len(rows), dtype=bool)
            eta, se = self.inner.estimates(chooser, starts), self.inner.se(self.inner.roots(chooser, starts))
            for name, values in self.family.predictions(eta, se, half, None, None).items():
                found[name][named] = values
        if not named.all():
            averaged = self._averages([s for s, whole in zip(settings, named, strict=True) if not whole])
            for k, own in zip(np.flatnonzero(~named).tolist(), averaged, strict=True):
                share, spread = own.value, self._se_of(own.slope)
                found["probability"][k], found["log_odds"][k] = share, math.log(share / (1 - share))
                found["low"][k], found["high"][k] = logit_interval(share, spread, half)
                found["se"][k] = spread / (share * (1 - share))
        return found


def _key(group: str, at: Mapping[str, float] | None) -> _Key:
    return group, tuple(sorted((at or {}).items()))
