"""Small results of a linear fit: the test of the whole, and how much it says."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class OverallTest:
    """The test of all terms together, whether the model says anything."""

    statistic: float
    """F, the mean square explained over the mean square left over; with clusters Hotelling's; or chi-squared."""
    df: int
    """Coefficients tested."""
    df_rest: float
    """Rows less coefficients, the intercept among them; with clusters those less the coefficients tested; infinite for chi-squared."""
    p: float
    """P(F or more) if no term had any bearing on the outcome."""
    kind: str = "F"
    """``F``; in a logistic model ``likelihood ratio`` or ``Wald``, both chi-squared on `df`."""
    untested: str = ""
    """Why there is no test (`statistic` and `p` are NaN then), as a clause; empty if there is one."""


@dataclass(frozen=True)
class LogisticStrength:
    """How much a logistic model says. The shares named R² are not shares of variation; each goes by its name."""

    loglik: float
    """Log-likelihood at the estimates."""
    loglik_null: float
    """Log-likelihood with no term at all."""
    deviance: float
    """−2·loglik."""
    mcfadden: float
    """1 − loglik/loglik_null (McFadden 1974)."""
    cox_snell: float
    """1 − exp(2(loglik_null − loglik)/n) (Cox & Snell 1989)."""
    nagelkerke: float
    """The same over the most it can be (Nagelkerke 1991, doi:10.1093/biomet/78.3.691)."""
    tjur: float
    """Mean probability of the event where it happened less that where it did not (Tjur 2009, doi:10.1198/tast.2009.08210)."""
    brier: float
    """Mean squared difference between probability and outcome (Brier 1950)."""
    aic: float
    """−2·loglik + 2·k, with k the coefficients."""
    bic: float
    """−2·loglik + log(n)·k."""


@dataclass(frozen=True)
class LinearStrength:
    """How much of the outcome's variation the model accounts for."""

    r2: float
    """Share of the variation explained in these rows."""
    r2_adjusted: float
    """The same, less what as many terms would explain by chance."""
    residual_sd: float
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
