"""Whether leaving out another term changes the conclusion."""

from __future__ import annotations

import math
from dataclasses import dataclass

import pandas as pd

from markbase.core.display import Shown
from markbase.core.errors import ColumnError, FitError, near
from markbase.core.results.linear import LinearFit
from markbase.core.results.logistic import LogisticFit
from markbase.core.tables import rows_of


@dataclass(frozen=True, eq=False, repr=False)
class Specifications(Shown):
    """How the estimate of one term moves when each other term is left out, on the same rows."""

    focus: str
    """The term the question is about."""
    outcome: str
    """The outcome."""
    level: float
    """Confidence level."""
    table: pd.DataFrame
    """`without` (empty for the whole model), `level` (of a group), `estimate`, `se`, `t` (or `z`), `p`, `low`, `high`,
    `moved` (change of the estimate, in standard errors of the whole model)."""
    changed: tuple[str, ...]
    """What turns when left out, in sentences; empty if no conclusion changes."""


def specifications(fit: LinearFit | LogisticFit, focus: str) -> Specifications:
    """Refit without each other term in turn, on the same rows.

    Parameters
    ----------
    fit : LinearFit or LogisticFit
        The whole model.
    focus : str
        The term the question is about.

    Returns
    -------
    Sensitivity
        How its estimate, standard error, t (or z) and p move. Of a linear model everything is computed from the
        moments of the whole; a logistic one is climbed again. Log odds also move when a term is left out that has
        nothing to do with the focal one, as they do not average over what is left out; the sentences say so.

    Raises
    ------
    ColumnError
        If the model has no such term.
    FitError
        If there is no other term.
    """
    names = [t.name for t in fit.model_terms]
    if focus not in names:
        raise ColumnError(f"The model has no term `{focus}`.{near(focus, names)}")
    if len(names) < 2:
        raise FitError(f"`{focus}` is the only term, so there is nothing to leave out.")
    whole = _rows(fit, focus)
    name_of = fit.family.statistic
    records, changed = _records("", whole, whole, name_of), []
    for name in names:
        own = next(t for t in fit.model_terms if t.name == name)
        if name == focus or any(set(own.names) < set(t.names) for t in fit.model_terms):
            continue  # a term that an interaction is made of stays as long as that does
        rows = _rows(fit.without(name), focus)
        records += _records(name, rows, whole, name_of)
        changed += _turns(name, rows, whole, 1 - fit.level)
    if isinstance(fit, LogisticFit) and changed:
        changed.append(
            "Log odds move a little when any term is left out that matters for the outcome, also without confounding."
        )
    return Specifications(focus, fit.outcome.name, fit.level, pd.DataFrame(records), tuple(changed))


def _rows(fit: LinearFit | LogisticFit, focus: str) -> pd.DataFrame:
    table = fit.coefficients
    return table[(table["term"] == focus) & ~table["base"]].reset_index(drop=True)


def _records(name: str, rows: pd.DataFrame, whole: pd.DataFrame, statistic: str) -> list[dict[str, object]]:
    records: list[dict[str, object]] = []
    for row, before in zip(rows_of(rows), rows_of(whole), strict=True):
        moved = (row.estimate - before.estimate) / before.se if before.se > 0 else math.nan
        shown = {k: getattr(row, k) for k in ("level", "estimate", "se", statistic, "p", "low", "high")}
        records.append({"without": name, **shown, "moved": moved})
    return records


def _turns(name: str, rows: pd.DataFrame, whole: pd.DataFrame, alpha: float) -> list[str]:
    told = []
    for row, before in zip(rows_of(rows), rows_of(whole), strict=True):
        which = f" of `{row.level}`" if row.level else ""
        if (row.p < alpha) != (before.p < alpha):
            clear = "becomes clear" if row.p < alpha else "is no longer clear"
            told.append(f"Without `{name}`, the estimate{which} {clear}.")
        if row.estimate * before.estimate < 0 and (row.p < alpha or before.p < alpha):
            told.append(f"Without `{name}`, the estimate{which} changes its sign.")
    return told
