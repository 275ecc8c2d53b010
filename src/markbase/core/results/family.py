"""The kinds of regression: what an equation gives, on which scale it is told, and what a prediction of it holds.

A kind is one object here, its likelihood in `core/estimation`, its fit in a module of its own, and its sentences in
`core/reading`. What only names or rescales is asked of the family, so that no table or figure has to know which kind it draws.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.estimation.likelihood_points import probability
from markbase.core.study.column import Column

Array = NDArray[np.float64]


@dataclass(frozen=True)
class Family:
    """A kind of regression."""

    name: str
    """What it is called."""
    predicted: str
    """The column of a prediction."""
    share: str
    """The field of `strength` that says how much is explained, of a block or a sample."""
    adjusted_share: str
    """The one that says so with the number of coefficients counted, where there is one."""
    compared: tuple[str, ...]
    """The fields of `strength` that fits are laid side by side by."""
    factor: float
    """What adjusted means and their differences are multiplied with to be shown."""
    shares: bool
    """Whether what is expected is the share of an event: told in percent, differences in percentage points."""
    ratios: bool
    """Whether coefficients are logarithms, told by the ratios they stand for besides."""
    rescaled: bool
    """Whether more terms change the scale of the coefficients before them, so that two models are compared on that of the larger."""
    curved: bool
    """Whether what is expected bends: averages then go over the rows, and products are weighted by the curvature."""
    coefficient: str
    """What a coefficient is called."""
    means: str
    """What adjusted means are called."""

    def explained(self, outcome: Column) -> str:
        """Return what the equation gives."""
        return outcome.name

    def observed(self, outcome: Column) -> str:
        """Return what is observed in a row."""
        return outcome.name

    def scale(self, outcome: Column) -> str:
        """Return what coefficients are counted in."""
        return outcome.name if outcome.step_many == outcome.name else f"{outcome.step_many} of {outcome.name}"

    def adjusted(self, outcome: Column) -> str:
        """Return what adjusted means are counted in."""
        return f"{outcome.name}, {outcome.unit_many}"

    def difference(self, outcome: Column) -> str:
        """Return what differences of adjusted means are counted in."""
        return f"difference in {outcome.name}, {outcome.step_many}"

    def with_ratios(self, table: pd.DataFrame, column: str = "estimate") -> pd.DataFrame:  # noqa: ARG002 - for others
        """Add what a coefficient is told by besides."""
        return table

    def expected(self, eta: Array) -> Array:
        """Return what is expected at a linear predictor."""
        return eta

    def predictions(
        self,
        eta: Array,
        se: Array,
        half: float | Array,
        spread: float | Array | None,
        observed: Array | None,
    ) -> dict[str, Array]:
        """Return the columns of predictions.

        Parameters
        ----------
        eta, se : ndarray
            The linear predictor and its standard errors.
        half : float or ndarray
            The quantile that makes intervals of errors.
        spread : float, ndarray or None
            The standard deviation of one person about the mean of all such people; None where it is not told.
        observed : ndarray or None
            The outcome, where known.
        """
        found = {"predicted": eta, "se": se, "low": eta - half * se, "high": eta + half * se}
        if spread is not None:
            wide = half * np.hypot(spread, se)
            found |= {"one_low": eta - wide, "one_high": eta + wide}
        return found if observed is None else found | {"residual": observed - eta}


@dataclass(frozen=True)
class OddsFamily(Family):
    """The regression of the odds of an event."""

    def explained(self, outcome: Column) -> str:
        """Return what the equation gives."""
        return f"log odds of {outcome.name} = {outcome.levels[1].label}"

    def observed(self, outcome: Column) -> str:
        """Return what is observed in a row."""
        return f"{outcome.name} = {outcome.levels[1].label}"

    def scale(self, outcome: Column) -> str:  # noqa: ARG002 - the same whatever the outcome
        """Return what coefficients are counted in."""
        return "log odds"

    def adjusted(self, outcome: Column) -> str:
        """Return what adjusted probabilities are counted in."""
        return f"% with {outcome.name} = {outcome.levels[1].label}"

    def difference(self, outcome: Column) -> str:
        """Return what differences of adjusted probabilities are counted in."""
        return f"difference in the probability of {outcome.name} = {outcome.levels[1].label}, percentage points"

    def with_ratios(self, table: pd.DataFrame, column: str = "estimate") -> pd.DataFrame:
        """Add the odds ratios that log odds and their interval stand for, as `odds_ratio`, `odds_low`, `odds_high`."""
        with np.errstate(over="ignore"):
            odds = {
                name: np.exp(table[source])
                for name, source in (("odds_ratio", column), ("odds_low", "low"), ("odds_high", "high"))
            }
        return table.assign(**odds)

    def expected(self, eta: Array) -> Array:
        """Return the probability of the event at a linear predictor."""
        return probability(eta)

    def predictions(
        self,
        eta: Array,
        se: Array,
        half: float | Array,
        spread: float | Array | None,  # noqa: ARG002
        observed: Array | None,
    ) -> dict[str, Array]:
        """Return the columns of predictions; a probability has no spread beside its own."""
        share = probability(eta)
        ends = {"low": probability(eta - half * se), "high": probability(eta + half * se)}
        found = {"probability": share, **ends, "log_odds": eta, "se": se}
        return found if observed is None else found | {"residual": observed - share}


LINEAR = Family(
    name="linear",
    predicted="predicted",
    share="r2",
    adjusted_share="r2_adjusted",
    compared=("r2", "r2_adjusted", "residual_sd", "aic", "bic"),
    factor=1.0,
    shares=False,
    ratios=False,
    rescaled=False,
    curved=False,
    coefficient="estimate",
    means="means",
)
LOGISTIC = OddsFamily(
    name="logistic",
    predicted="probability",
    share="mcfadden",
    adjusted_share="mcfadden",
    compared=("deviance", "mcfadden", "nagelkerke", "tjur", "aic", "bic"),
    factor=100.0,
    shares=True,
    ratios=True,
    rescaled=True,
    curved=True,
    coefficient="log odds",
    means="probabilities",
)
FAMILIES = {family.name: family for family in (LINEAR, LOGISTIC)}
