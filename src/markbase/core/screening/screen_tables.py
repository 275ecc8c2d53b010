"""What predictors have in common, as tables: associations, flagged pairs, variance inflation, condition indices."""

from __future__ import annotations

import itertools
import math
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.design.complete_cases import CompleteCases
from markbase.core.design.terms import Term, make_term
from markbase.core.design.weights import Weighting, unused_words
from markbase.core.display import Shown
from markbase.core.estimation.collinearity_names import Collinearity
from markbase.core.rows.row_functions import evenly_spread
from markbase.core.screening.association import ROWS_LOOKED_AT, interval_of_r, stretch_of_rank_z, stretch_of_z
from markbase.core.screening.limits import Limits
from markbase.core.screening.variance_inflation import (
    Basis,
    VarianceInflation,
    auxiliary,
    condition_indices,
    term_directions,
    variance_inflation,
)
from markbase.core.study.column import Column
from markbase.core.tables import own_table

_TOGETHER = 64
"""Columns whose rows are laid out at a time."""


def _numbers(term: Term) -> Any:
    """Return a term of one column as numbers, shape (rows,): those of a yes/no group are 0 and 1."""
    block = term.coded()[0]
    return block.multiplier if block.codes is None else block.codes.astype(np.float64)


@dataclass(frozen=True, eq=False)
class Pairs:
    """The association of every pair of columns, the outcome first."""

    labels: list[str]
    """The columns."""
    values: NDArray[np.float64]
    """Shape (columns, columns): the associations."""
    measures: list[list[str]]
    """Which measure each is."""
    rows: NDArray[np.int64]
    """Shape (columns, columns): from how many rows each was computed."""
    weights: NDArray[np.float64] | None = None
    """Shape (rows,): with how much each row of the study counts; None if all count alike."""

    def square(self, entries: NDArray[Any] | list[list[str]]) -> pd.DataFrame:
        """Return entries as a square table, names as labels."""
        return pd.DataFrame(entries, index=self.labels, columns=self.labels)


@dataclass(frozen=True, eq=False, repr=False)
class ScreenTables(Shown):
    """What a set of predictors has in common. Bands to look at, not tests."""

    outcome: Column | None
    """The outcome; None if none was named."""
    sample: CompleteCases
    """The rows: those a model of all these terms would use."""
    limits: Limits
    """Where values are flagged."""
    method: str
    """``pearson`` or ``spearman`` for pairs of numeric columns."""
    rows: str
    """``complete`` (the model's rows) or ``pairwise`` (all rows that have both, for correlations only)."""
    data_name: str
    """What the data are called."""
    basis: Basis
    """The terms and their moments."""
    among: Pairs
    """The associations, as `correlations`, `measures` and `pair_rows` show them."""
    level: float = 0.95
    """Confidence level of the intervals."""
    weighting: Weighting | None = None
    """By what rows count; None if all count alike."""
    possible_weights: str = ""
    """A column with the role of weights, where no use is made of it; empty where there is none."""

    @property
    def counted(self) -> str:
        """By what rows count, or what holds weights and is not made use of, in words; empty where there are none."""
        if self.weighting is not None:
            return self.weighting.short
        return unused_words(self.possible_weights) if self.possible_weights else ""

    @own_table
    def correlations(self) -> pd.DataFrame:
        """Square, names as labels, the outcome first: the association of each pair, by the measure that suits it."""
        return self.among.square(self.among.values)

    @own_table
    def measures(self) -> pd.DataFrame:
        """Square: which measure each association is."""
        return self.among.square([[self._words.get(name, name) for name in row] for row in self.among.measures])

    @property
    def _words(self) -> dict[str, str]:
        return {"r": "Spearman's r" if self.method == "spearman" else "Pearson's r"}

    @own_table
    def pair_rows(self) -> pd.DataFrame:
        """Square: from how many rows each was computed."""
        return self.among.square(self.among.rows)

    @cached_property
    def _vif(self) -> VarianceInflation:
        return variance_inflation(self.basis)

    @cached_property
    def _directions(self) -> list[NDArray[np.float64]] | None:
        """Where the coefficients of each term point, for `auxiliary`; None where some are exactly collinear."""
        return None if self.collinear else term_directions(self.basis)

    @property
    def vif(self) -> pd.DataFrame:
        """Per coded column: `term`, `column`, `vif`, `tolerance`, `r2`, `se_factor` (√VIF)."""
        return self._vif.columns.copy()

    @property
    def terms(self) -> pd.DataFrame:
        """Per term: `term`, `df`, `gvif`, `comparable`; neither depends on the base."""
        return self._vif.terms.copy()

    @property
    def collinear(self) -> tuple[Collinearity, ...]:
        """Exact collinearity, each with a `statement` and an `advice`."""
        return self._vif.collinear

    @own_table
    def pairs(self) -> pd.DataFrame:
        """Every pair of predictors, the strongest first.

        `first`, `second`, `r` (the association), `measure`, `rows`, `flag` (true at or above the limit),
        and how each relates to the outcome: `first_outcome`, `first_low`, `first_high`,
        `second_outcome`, `second_low`, `second_high` (NaN without an outcome; intervals by Fisher's z, wider where
        rows move r further than those of normal columns would; for signed measures only, and with sampling weights for none).
        """
        names = [t.name for t in self.basis.terms]
        told = {name: self._with_outcome(name) for name in names}
        records = [(a, b, *self._association(a, b), *told[a], *told[b]) for a, b in itertools.combinations(names, 2)]
        if not records:
            return pd.DataFrame()
        beside = [f"{side}_{what}" for side in ("first", "second") for what in ("outcome", "low", "high")]
        table = pd.DataFrame(records, columns=["first", "second", "r", "measure", "rows", *beside])
        table.insert(5, "flag", table["r"].abs() >= self.limits.r)
        order = np.argsort(-table["r"].abs().fillna(0).to_numpy(), kind="stable")
        return table.iloc[order].reset_index(drop=True)

    def _with_outcome(self, name: str) -> tuple[float, float, float]:
        """Return how one predictor relates to the outcome, and its interval; NaN without an outcome, and of measures without a sign."""
        if self.outcome is None:
            return math.nan, math.nan, math.nan
        r, measure, rows = self._association(name, self.outcome.name)
        sampled = self.weighting is not None and self.weighting.kind == "sampling"  # then Fisher's z does not hold
        if sampled or measure in ("correlation ratio", "Cramér's V"):
            return r, math.nan, math.nan
        return r, *interval_of_r(r, rows, self.level, self._stretches.get(name, 1.0))

    @cached_property
    def _stretches(self) -> dict[str, float]:
        """By how much further each correlation with the outcome varies than it would of normal columns that have nothing in common."""
        found: dict[str, float] = {}
        if self.outcome is None:
            return found
        target, used, heavy = make_term(self.outcome, self.basis.used), self.basis.used, self.among.weights
        plain = [t for t in self.basis.terms if len(t.variables[0].places) in (0, 2)]
        if len(target.variables[0].places) not in (0, 2):
            return found
        for some in (plain[k : k + _TOGETHER] for k in range(0, len(plain), _TOGETHER)):
            columns = [_numbers(t) for t in (target, *some)]
            if self.rows == "complete":
                (y, *each), weights = evenly_spread(ROWS_LOOKED_AT, self.sample.used, used, columns, heavy)
                found |= {t.name: self._stretch(x, y, weights) for t, x in zip(some, each, strict=True)}
                continue
            for t, x in zip(some, columns[1:], strict=True):
                both = self.outcome.present & t.column.present
                both = both if heavy is None else both & (heavy > 0)
                x, y, weights = evenly_spread(ROWS_LOOKED_AT, int(np.count_nonzero(both)), both, x, columns[0], heavy)
                found[t.name] = self._stretch(x, y, weights)
        return found

    def _stretch(self, x: Any, y: Any, weights: Any) -> float:
        return stretch_of_rank_z(x, y) if self.method == "spearman" else stretch_of_z(x, y, weights)

    def _association(self, one: str, other: str) -> tuple[float, str, int]:
        """Return the association of two columns, its measure and from how many rows it is."""
        a, b = self._places[one], self._places[other]
        measure = self.among.measures[a][b]
        return float(self.among.values[a, b]), self._words.get(measure, measure), int(self.among.rows[a, b])

    @cached_property
    def _places(self) -> dict[str, int]:
        return {label: k for k, label in enumerate(self.among.labels)}

    @own_table
    def conditions(self) -> pd.DataFrame:
        """Condition indices with variance shares: dependences that pairs do not show.

        `index`, then a column for each coefficient, the intercept's first.
        """
        return condition_indices(self.basis)

    def auxiliary(self, term: str) -> pd.DataFrame:
        """Say which other terms carry a term.

        Parameters
        ----------
        term : str
            The name of a term.

        Returns
        -------
        pandas.DataFrame
            `term`, `gvif_without`, `carried`: by what factor the variance inflation of `term` is smaller when
            that other one is left out; the largest first.

        Raises
        ------
        ColumnError
            If there is no such term.

        Examples
        --------
        >>> import markbase as mb
        >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
        >>> screened = mb.screen(study, ["age", "travel_km", "travel_min"])
        >>> screened.auxiliary("travel_km").round(1)
                 term  gvif_without  carried
        0  travel_min           1.0     23.5
        1         age          23.5      1.0
        """
        return auxiliary(self.basis, term, self._vif, self._directions)
