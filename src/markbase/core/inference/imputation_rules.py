"""Estimates from several imputations of the same rows, combined: Rubin's rules, and tests of several coefficients by them.

References
----------
Rubin (1987), Multiple Imputation for Nonresponse in Surveys, ch. 3, doi:10.1002/9780470316696.
Barnard & Rubin (1999), Biometrika 86(4), 948-955, doi:10.1093/biomet/86.4.948 (degrees of freedom).
Li, Raghunathan & Rubin (1991), Journal of the American Statistical Association 86(416), 1065-1073, doi:10.1080/01621459.1991.10475152 (joint tests).
Reiter (2007), Biometrika 94(2), 502-508, doi:10.1093/biomet/asm028 (their degrees of freedom in small samples).
Harel (2009), Journal of Applied Statistics 36(10), 1109-1118, doi:10.1080/02664760802553000 (R²).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from markbase.core.inference.distributions import each_t_quantile, p_of_each_t
from markbase.core.inference.joint_tests import JointTest

Array = NDArray[np.float64]
_FEW = 4
"""With so many imputations times coefficients, and fewer, the degrees of freedom of a joint test have another approximation."""


@dataclass(frozen=True, eq=False)
class Combined:
    """Several quantities, each estimated in every imputation and combined."""

    imputations: int
    """In how many imputations."""
    estimate: Array
    """Shape (k,): the means of the estimates."""
    within: Array
    """Shape (k,): the means of their variances."""
    between: Array
    """Shape (k,): the variances of the estimates from one imputation to another."""
    df_complete: float
    """Degrees of freedom of t in one imputation; infinite for normal theory."""

    @classmethod
    def of(cls, estimates: Array, se: Array, df: float) -> Combined:
        """Combine estimates and standard errors, each of shape (imputations, k)."""
        return cls(
            len(estimates), estimates.mean(axis=0), np.square(se).mean(axis=0), estimates.var(axis=0, ddof=1), df
        )

    @property
    def se(self) -> Array:
        """Shape (k,): the standard errors, √(W + (1 + 1/m)B)."""
        total: Array = np.sqrt(self.within + (1 + 1 / self.imputations) * self.between)
        return total

    @property
    def share_between(self) -> Array:
        """Shape (k,): λ, the share of the variance that is due to the imputations differing."""
        with np.errstate(divide="ignore", invalid="ignore"):
            share: Array = (1 + 1 / self.imputations) * self.between / np.square(self.se)
        return share

    @property
    def df(self) -> Array:
        """Shape (k,): degrees of freedom of t, those of Barnard and Rubin."""
        return _df_of(self.share_between, self.imputations, self.df_complete)

    @property
    def missing_information(self) -> Array:
        """Shape (k,): the fraction of missing information, (r + 2/(df + 3))/(1 + r) with r = λ/(1 − λ)."""
        share = self.share_between
        found: Array = share + (1 - share) * 2 / (self.df + 3)
        return found

    @property
    def simulation_error(self) -> Array:
        """Shape (k,): the Monte Carlo error, √(B/m): by how much estimates differ by chance if as many imputations are made anew."""
        error: Array = np.sqrt(self.between / self.imputations)
        return error

    def p(self) -> Array:
        """Return two-sided p values, shape (k,)."""
        with np.errstate(divide="ignore", invalid="ignore"):
            return p_of_each_t(self.estimate / self.se, self.df)

    def half_widths(self, level: float) -> Array:
        """Return by how much intervals reach from the estimates, shape (k,)."""
        half: Array = each_t_quantile(level, self.df) * self.se
        return half


def _df_of(share: Array, imputations: int, df_complete: float) -> Array:
    """Return the degrees of freedom for a share of the variance that is between imputations, of one number or several."""
    with np.errstate(divide="ignore"):
        many = (imputations - 1) / np.square(share)
    if math.isinf(df_complete):
        return many
    observed = (df_complete + 1) / (df_complete + 3) * df_complete * (1 - share)
    found: Array = 1 / (1 / many + 1 / observed)
    return found


def combined_test(estimates: Array, covariances: Array, df: float, scale: float = 1.0) -> JointTest:
    """Test whether several quantities are all zero.

    With Q their means, W the mean of their covariances, B the covariance of their estimates between imputations and
    r = (1 + 1/m) tr(BW⁻¹)/k: F = QᵀW⁻¹Q/(k(1 + r)), on k and the degrees of freedom of Reiter; of a single quantity it is t² on those of t.

    Parameters
    ----------
    estimates : ndarray, shape (imputations, k)
        The estimates.
    covariances : ndarray, shape (imputations, k, k)
        Their covariances.
    df : float
        Degrees of freedom of the denominator of the same test in one imputation; infinite for normal theory.
    scale : float
        What the quadratic form over k is multiplied with to be F there, as Hotelling's T² is.

    Returns
    -------
    JointTest
        F, with its degrees of freedom.
    """
    m, k = estimates.shape
    within = covariances.mean(axis=0)
    root = np.linalg.cholesky(within)
    at = np.linalg.solve(root, estimates.T)  # shape (k, m): in standard errors, of one imputation
    rise = (1 + 1 / m) * float(at.var(axis=1, ddof=1).sum()) / k
    middle = at.mean(axis=1)
    statistic = scale * float(middle @ middle) / (k * (1 + rise))
    return JointTest(statistic, k, _df_of_test(k, m, rise, df))


def _df_of_test(k: int, m: int, rise: float, df: float) -> float:
    """Return the degrees of freedom of the denominator, for k quantities whose variances rise on average by a share."""
    t = k * (m - 1)
    own_df = float(_df_of(np.array([rise / (1 + rise)]), m, df)[0])
    if k == 1 or t <= _FEW:
        return (k + 1) / 2 * own_df
    if not rise > 0:
        return df if math.isinf(df) else (df + 1) / (df + 3) * df
    if math.isinf(df):
        return 4 + (t - 4) * (1 + (1 - 2 / t) / rise) ** 2
    a = rise * t / (t - 2)
    own = (df + 1) / (df + 3) * df
    two, four = own - 2 * (1 + a), own - 4 * (1 + a)
    if not four > 0:  # so few degrees of freedom that the approximation ends: those of a single coefficient are fewer
        return own_df
    inner = (
        a**2 * two / ((1 + a) ** 2 * four)
        + 8 * a**2 * two / ((1 + a) * four**2)
        + 4 * a**2 / ((1 + a) * four)
        + 4 * a**2 / (four * two)
        + 16 * a**2 * two / four**3
        + 8 * a**2 / four**2
    )
    return 4 + 1 / (1 / four + inner / (t - 4))


def combined_share(shares: Array) -> float:
    """Combine shares of variation explained: the mean of Fisher's z of their roots."""
    z = np.arctanh(np.sqrt(np.clip(shares, 0.0, 1.0)))
    return float(np.tanh(z.mean()) ** 2)
