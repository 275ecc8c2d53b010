"""Tables of several imputations, combined row by row."""

from __future__ import annotations

import itertools
from collections.abc import Sequence

import numpy as np
import pandas as pd

from markbase.core.errors import FitError, listed
from markbase.core.inference.imputation_rules import Combined


def combined_table(tables: Sequence[pd.DataFrame], estimate: str, df: float, level: float) -> pd.DataFrame:
    """Combine tables row by row: an estimate with its standard error becomes those combined, and what rests on them with it.

    Parameters
    ----------
    tables : sequence of DataFrame
        A table of each imputation, with `se`, and the same rows in all of them.
    estimate : str
        The column of the estimates.
    df : float
        Degrees of freedom of t in one imputation.
    level : float
        Confidence level of the intervals.

    Returns
    -------
    pandas.DataFrame
        The columns that say where something is told, `n` (the mean), the estimate, `se`, `t`, `df`, `p`, `low`, `high`, `missing_information` and
        `simulation_error`; in the row of a base the estimate is 0.

    Raises
    ------
    FitError
        If some tables have rows that others lack.
    """
    first, keys = tables[0], [c for c in ("term", "level", "against", "base") if c in tables[0]]
    if any(len(t) != len(first) or not t[keys].equals(first[keys]) for t in tables):
        raise _other_rows(tables, keys)
    own = Combined.of(np.array([t[estimate] for t in tables]), np.array([t["se"] for t in tables]), df)
    compared = "base" in first and estimate != "slope"  # the base has a slope of its own
    base = first["base"].to_numpy(dtype=bool) if compared else np.zeros(len(first), dtype=bool)
    half, p = own.half_widths(level), own.p()
    with np.errstate(divide="ignore", invalid="ignore"):
        t = np.where(base, np.nan, own.estimate / own.se)
    table = first[[*keys, *(c for c in _places_of(first) if c not in keys)]].copy()
    if "n" in first:
        table["n"] = np.mean([t["n"] for t in tables], axis=0)
    found = {estimate: own.estimate, "se": own.se, "t": t, "df": own.df, "p": p}
    found |= {"low": own.estimate - half, "high": own.estimate + half}
    found |= {"missing_information": own.missing_information, "simulation_error": own.simulation_error}
    untold = ("t", "df", "p", "missing_information")
    return table.assign(**{k: np.where(base, np.nan if k in untold else 0.0, v) for k, v in found.items()})


def _places_of(table: pd.DataFrame) -> list[str]:
    """Return the columns that say where something is told."""
    figures = {"n", "plain", "estimate", "effect", "difference", "slope", "se", "t", "z", "p", "low", "high"}
    return [str(c) for c in table if c not in figures and not str(c).startswith(("adjusted", "odds"))]


def _other_rows(tables: Sequence[pd.DataFrame], keys: Sequence[str]) -> FitError:
    """Say which levels have rows in some imputations only."""
    told = [{tuple(row) for row in t[keys].itertuples(index=False, name=None)} for t in tables]
    every = set(itertools.chain(*told))
    some = sorted(row for row in every if not all(row in own for own in told))
    names = sorted({f"`{row[1]}`" for row in some if len(row) > 1 and row[1]})
    what = f"level {listed(names)} of `{some[0][0]}`" if names and keys[0] == "term" else "some rows of the table"
    return FitError(
        f"The imputations do not tell the same coefficients: {what} can be told in some of them only. Merge levels that few rows have, so that each imputation has them all."
    )
