"""The rows of a linear regression: what it gives for each, what it misses, and how each is told from the others."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.coefficient_map import components_of
from markbase.core.design.terms import CodedColumns, Term
from markbase.core.estimation.fixed_effects import FixedEffects
from markbase.core.estimation.least_squares import solve
from markbase.core.estimation.whitening import Whitened
from markbase.core.results.fit import Fit
from markbase.core.results.prediction_coverage import ROWS_HELD
from markbase.core.rows.row_functions import look_up
from markbase.core.study.column import Column

Array = NDArray[np.float64]


@dataclass(frozen=True, eq=False, repr=False)
class LinearRows(Fit):
    """A linear regression and its rows."""

    fixed_effects: FixedEffects | None = None
    """The levels that were taken out; None for none."""

    @property
    def rows_over(self) -> int:
        """Rows used, or stood for by frequencies, less coefficients, the intercept among them."""
        return self.moments.rows - len(self.solution.columns) - (self.fixed_effects.levels if self.fixed_effects else 1)

    @property
    def fixed_effect_names(self) -> tuple[str, ...]:
        """The columns whose levels were taken out; empty for none."""
        return self.fixed_effects.names if self.fixed_effects else ()

    @property
    def _fixed_columns(self) -> tuple[Column, ...]:
        return self.fixed_effects.columns if self.fixed_effects else ()

    @property
    def _sigma2(self) -> float:
        return self.solution.residual / self.rows_over

    @cached_property
    def _fitted(self) -> Array:
        """What the model gives for each row of the study, shape (rows,); NaN for a row not used."""
        start = None
        if self.fixed_effects is not None:
            columns, outcome = self.fixed_effects.means(self.moments)
            own = self.moments.centres[-1] + outcome - columns[self.solution.columns].T @ self.solution.coefficients
            start = look_up(own, self.fixed_effects.codes)
        fitted = self._predictor_at(None, start, self.fixed_effects.hidden if self.fixed_effects else ())
        return fitted if self.used is None else np.where(self.used, fitted, np.nan)

    @cached_property
    def _deviations(self) -> Array:
        """The outcome from its mean, or what levels taken out alone leave of it, shape (rows,); NaN in rows not used."""
        return self._whitened_without_terms.residuals()

    @cached_property
    def _residuals(self) -> Array:
        return self._whitened.residuals()

    @cached_property
    def _some_residuals(self) -> tuple[Array, Array | None, Array]:
        """The residuals, weights and outcome of about so many rows used, evenly spread, as tell how well intervals for one hold."""
        (left,), heavy, outcome = Whitened.residuals_of_some([self._whitened], ROWS_HELD)
        return left, heavy, outcome

    def _blocks(self, parts: Sequence[Term]) -> list[CodedColumns]:
        """Return the columns of some terms, of levels taken out, and of the outcome, by row."""
        hidden = self.fixed_effects.hidden if self.fixed_effects else ()
        return [*(c.coded() for c in components_of((*parts, *hidden))), CodedColumns(1, multiplier=self.outcome.values)]

    @property
    def _whitened(self) -> Whitened:
        blocks, heavy = self._blocks(self.model_terms), self.weights.values if self.weights else None
        return Whitened(self.moments, blocks, self.solution, self.used, heavy, self.fixed_effects)

    @property
    def _whitened_without_terms(self) -> Whitened:
        """The rows, of which nothing is explained but by levels taken out."""
        own, heavy = self._term_columns, self.weights.values if self.weights else None
        blocks, others, beside = self._blocks(self.model_terms), None, self.solution.columns[~own]
        if len(beside):
            others = solve(self.moments, blocks, self.used, self.sample.rows, beside, heavy, self.fixed_effects)
        bare = self.solution.without(own, others)
        return Whitened(self.moments, blocks, bare, self.used, heavy, self.fixed_effects)
