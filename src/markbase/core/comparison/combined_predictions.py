"""Predictions of the fits of several imputations, combined: of what the equation gives, which is on the scale of the coefficients."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.inference.distributions import t_quantile
from markbase.core.inference.imputation_rules import Combined
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.new_rows import PREDICTION_FIGURES

Array = NDArray[np.float64]


def combined_predictions(
    fits: Sequence[AnyFit], tables: Sequence[pd.DataFrame], df: float, *, with_outcome: bool
) -> pd.DataFrame:
    """Combine predictions row by row by Rubin's rules.

    Parameters
    ----------
    fits : sequence of LinearFit or LogisticFit
        The fits of each imputation.
    tables : sequence of DataFrame
        What `predict` of each returned for the same profiles or rows.
    df : float
        Degrees of freedom of t in one imputation.
    with_outcome : bool
        Whether the outcome is the same in all fits, so that what was observed is told.

    Returns
    -------
    pandas.DataFrame
        The columns of a table of predictions. Means (of logistic fits log odds) are combined with their variances, and told as probabilities thereafter; for one
        person the spread of the residuals is part of the variance in each imputation. A caution that not all imputations give says so.
    """
    first, fit = tables[0], fits[0]
    given = [c for c in first if c not in PREDICTION_FIGURES]
    scale = "log_odds" if fit.family.shares else "predicted"
    own = Combined.of(_stacked(tables, scale), _stacked(tables, "se"), df)
    with np.errstate(divide="ignore", invalid="ignore"):
        half = np.where(own.se > 0, own.half_widths(fit.level) / own.se, 0.0)
    observed = None
    head = first[given]
    if with_outcome and "residual" in first:
        observed = (first[fit.family.predicted] + first["residual"]).to_numpy(dtype=np.float64)
    if with_outcome and "observed" in first:
        head = first[[*given, "observed"]]
    found = fit.family.predictions(own.estimate, own.se, half, None, observed)
    if "one_low" in first:
        quantiles = np.array([[t_quantile(f.level, f.df_rest)] for f in fits])
        spread = (_stacked(tables, "one_high") - _stacked(tables, "predicted")) / quantiles
        one = Combined.of(_stacked(tables, "predicted"), spread, df)
        wide = np.maximum(
            one.half_widths(fit.level), half * own.se
        )  # on other degrees of freedom, and yet no closer than a mean
        ends = {"one_low": one.estimate - wide, "one_high": one.estimate + wide}
        residual = found.pop("residual", None)
        found = {**found, **ends, **({} if residual is None else {"residual": residual})}
    return head.assign(**found, caution=_cautions(tables))


def _stacked(tables: Sequence[pd.DataFrame], column: str) -> Array:
    """Return a column of every table, shape (imputations, rows)."""
    return np.array([table[column].to_numpy(dtype=np.float64) for table in tables])


def _cautions(tables: Sequence[pd.DataFrame]) -> list[str]:
    """Return what must be said of each row: of how many imputations, where it is not of all."""
    told = []
    for own in zip(*(table["caution"] for table in tables), strict=True):
        there = [words for words in own if words]
        some = f" (in {len(there)} of {len(own)} imputations)" if 0 < len(there) < len(own) else ""
        told.append(f"{there[0]}{some}" if there else "")
    return told
