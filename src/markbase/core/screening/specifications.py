"""Whether leaving out another term changes the conclusion."""

from __future__ import annotations

import math
from dataclasses import dataclass

import pandas as pd

from markbase.core.arguments import checked
from markbase.core.display import ShownTables
from markbase.core.errors import ColumnError, FitError, near
from markbase.core.formatting import decimals_for, number, short
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.movements import movements, worth_telling
from markbase.core.tables import rows_of

_WIDER = 1.5
"""A standard error that is so many times as large with a term as without it is told."""


@dataclass(frozen=True, eq=False, repr=False)
class Specifications(ShownTables):
    """How the estimate of one term moves when each other term is left out, on the same rows."""

    focus: str
    """The term the question is about."""
    outcome: str
    """The outcome."""
    level: float
    """Confidence level."""
    table: pd.DataFrame
    """`without` (empty for the whole model), `level` (of a group), `against` (what it is compared with), `estimate`, `se`, `t` (or `z`),
    `p`, `low`, `high`, `moved` (change of the estimate, in standard errors of the whole model)."""
    changed: tuple[str, ...]
    """What leaving a term out does to the estimate, or to its standard error, in sentences; or that it
    cannot be told from chance; empty if next to nothing."""
    whole: AnyFit
    """The whole model."""


@checked
def specifications(fit: AnyFit, focus: str) -> Specifications:
    """Refit without each other term in turn, on the same rows.

    Parameters
    ----------
    fit : LinearFit or LogisticFit
        The whole model.
    focus : str
        The term the question is about.

    Returns
    -------
    Specifications
        How its estimate, standard error, t (or z) and p move. Of a linear model everything is computed from the
        moments of the whole; a logistic one is climbed again. Log odds also move when a term is left out that has
        nothing to do with the focal one, as they do not average over what is left out; the sentences say so.

    Raises
    ------
    ColumnError
        If the model has no such term.
    FitError
        If there is no other term.

    Examples
    --------
    >>> import markbase as mb
    >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
    >>> fit = mb.fit_linear(study, "belonging", ["age", "travel_km", "rehearsals"])
    >>> mb.specifications(fit, "travel_km").changed
    ()
    """
    names = [t.name for t in fit.model_terms]
    if focus not in names:
        raise ColumnError(f"The model has no term `{focus}`.{near(focus, names)}")
    if len(names) < 2:
        raise FitError(f"`{focus}` is the only term, so there is nothing to leave out.")
    whole = _rows(fit, focus)
    name_of = fit.statistic_name
    records, changed = _records("", whole, whole, name_of), []
    for name in names:
        own = next(t for t in fit.model_terms if t.name == name)
        if name == focus or any(set(own.names) < set(t.names) for t in fit.model_terms):
            continue  # a term that an interaction is made of stays as long as that does
        smaller = fit.without(name)
        rows = _rows(smaller, focus)
        records += _records(name, rows, whole, name_of)
        changed += _turns(name, smaller, fit, focus)
    if whole["se"].isna().any():
        unknown = f"in the whole model it has no standard error: {fit.errors.unknown_words}"
        changed.append(f"What moves cannot be told from chance, since {unknown}.")
    return Specifications(focus, fit.outcome.name, fit.level, pd.DataFrame(records), tuple(changed), fit)


def _rows(fit: AnyFit, focus: str) -> pd.DataFrame:
    table = fit.coefficients
    return table[(table["term"] == focus) & ~table["base"]].reset_index(drop=True)


def _records(name: str, rows: pd.DataFrame, whole: pd.DataFrame, statistic: str) -> list[dict[str, object]]:
    records: list[dict[str, object]] = []
    for row, before in zip(rows_of(rows), rows_of(whole), strict=True):
        moved = (row.estimate - before.estimate) / before.se if before.se > 0 else math.nan
        shown = {k: getattr(row, k) for k in ("level", "against", "estimate", "se", statistic, "p", "low", "high")}
        records.append({"without": name, **shown, "moved": moved})
    return records


def _turns(name: str, smaller: AnyFit, fit: AnyFit, focus: str) -> list[str]:
    """Say what leaving a term out does: to the estimate, judged by the standard error of the movement, or to its standard error."""
    told = []
    moved = movements(smaller, fit)
    for row in rows_of(moved[moved["term"] == focus]):
        which = f" of `{row.level}`" if row.level else ""
        with_it, without = (
            float(t.loc[(t["term"] == focus) & (t["level"] == row.level), "se"].iloc[0])
            for t in (fit.coefficients, smaller.coefficients)
        )
        if worth_telling(row, with_it, fit.alpha):
            decimals = decimals_for(float(row.se))
            ends = f"{number(-row.high, decimals)} to {number(-row.low, decimals)}"
            scale = ", on the scale of the whole model," if fit.family.rescaled else ""
            told.append(
                f"Without `{name}`, the estimate{which} is{scale} {number(row.before, decimals)} instead of {number(row.after, decimals)}: "
                f"it moves by {number(-row.change, decimals)} ({short(100 * fit.level, 4)}% CI {ends})."
            )
        elif without > 0 and with_it / without >= _WIDER:
            told.append(
                f"Without `{name}`, the standard error{which} is {short(without)} instead of {short(with_it)}, while the estimate moves by no "
                f"more than chance allows: these rows hardly tell the two terms apart."
            )
    return told
