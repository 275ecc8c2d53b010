"""Small results of a linear fit: the test of the whole, and how much it says."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class OverallTest:
    """The test of all terms together, whether the model says anything."""

    statistic: float
    """F, the mean square explained over the mean square left over."""
    df: int
    """Coefficients tested."""
    df_rest: float
    """Rows less coefficients, the intercept among them."""
    p: float
    """P(F or more) if no term had any bearing on the outcome."""


@dataclass(frozen=True)
class LinearStrength:
    """How much of the outcome's variation the model accounts for."""

    r2: float
    """Share of the variation explained in these rows."""
    r2_adjusted: float
    """The same, less what as many terms would explain by chance."""
    typical_miss: float
    """Residual standard deviation, √(RSS/(n − coefficients)), in the outcome's unit."""
    residual_ss: float
    """Sum of squared residuals (RSS)."""
    total_ss: float
    """Sum of squared deviations of the outcome from its mean."""
    loglik: float
    """Gaussian log-likelihood at its maximum, −n/2·(log(2π·RSS/n) + 1)."""
    aic: float
    """−2·loglik + 2·k, with k the coefficients and the residual variance."""
    bic: float
    """−2·loglik + log(n)·k."""
    r2_within: float | None = None
    """Share of the variation within the levels taken out that the terms explain; None if none were."""
