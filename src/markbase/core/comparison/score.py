"""How a fit does on rows that were held out before it was made."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

import numpy as np
import pandas as pd

from markbase.core.arguments import checked
from markbase.core.comparison.cross_validation import error_measures
from markbase.core.design.terms import variables_of
from markbase.core.display import ShownTables
from markbase.core.errors import MarkbaseError, count_noun, remark
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.family import LOGISTIC
from markbase.core.results.logistic import LogisticFit
from markbase.core.results.predictions import new_rows
from markbase.core.rows.row_functions import counted
from markbase.core.study.study import Study


@dataclass(frozen=True, eq=False, repr=False)
class Score(ShownTables):
    """Error measures of one split, beside those on the rows of the fit."""

    outcome: str
    """What is explained."""
    table: pd.DataFrame
    """`figure`, `of_the_fit`, `held_out`, `without_terms` (the fit's own mean or rate as the prediction)."""
    rows: int
    """Rows held out that could be scored."""
    left_out: int
    """Rows held out that could not: a gap, or a level the fit has not seen."""
    unseen: tuple[str, ...]
    """Levels of the rows held out that the fit has not seen, and levels of the fit that none of them has, in words."""
    predictions: pd.DataFrame
    """A row for each row held out, of rows in memory: `observed`, `predicted` or `probability`, `residual`, `caution`."""


@checked
def score(fit: AnyFit, test: Study | Any) -> Score:
    """Judge a fit on rows that it has not seen.

    Parameters
    ----------
    fit : LinearFit or LogisticFit
        The fit, made of the rows that were kept.
    test : Study or table
        The rows held out, prepared as the others were; they have the outcome.

    Returns
    -------
    Score
        Linear: root mean squared error and R² (against the mean of the fit's own rows). Logistic: share classified correctly,
        area under the curve, Brier score. Each beside the same on the rows of the fit, and with no terms.

    Raises
    ------
    ColumnError
        If the table lacks a column of the model.
    MarkbaseError
        If it has not the outcome, no row can be scored, or levels were taken out.

    Warns
    -----
    MarkbaseWarning
        For rows that cannot be scored.

    Examples
    --------
    >>> import markbase as mb
    >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
    >>> kept, rest = study.hold_out(share=0.25, seed=1)
    >>> mb.score(mb.fit_linear(kept, "travel_km", ["concerts", "voice"]), rest)
    <Score>
    """
    if fit.fixed_effect_names:
        raise MarkbaseError(
            "A fit with fixed effects cannot be scored on rows of levels it has not seen; enter the column as a term."
        )
    if isinstance(test, Study) and test.in_parts:
        return _scored_in_parts(fit, test)
    rows = new_rows(fit, test)
    if rows.observed is None:
        raise MarkbaseError(
            f"The rows held out have no column `{fit.outcome.name}`, so there is nothing to hold predictions against."
        )
    told = fit._of_rows(rows)
    predicted, observed = told[fit.family.predicted].to_numpy(), rows.observed
    known = np.isfinite(predicted) & np.isfinite(observed)
    if not known.any():
        raise MarkbaseError("No row held out has the outcome and a value the model can use in every column.")
    n, left = int(known.sum()), int((~known).sum())
    table = _judged(fit, observed[known], predicted[known], left)
    predictions = pd.DataFrame(
        {
            "observed": observed,
            fit.family.predicted: predicted,
            "residual": observed - predicted,
            "caution": rows.cautions,
        },
        index=rows.index,
    )
    return Score(
        fit.family.observed(fit.outcome), table, n, left, _unseen(fit, rows.groups, rows.cautions), predictions
    )


def _judged(fit: AnyFit, observed: Any, predicted: Any, left: int) -> pd.DataFrame:
    """Return error measures of some rows beside those of the rows of the fit, and of no terms; say how many rows have none."""
    logistic = fit.family is LOGISTIC
    if left:
        remark(f"{count_noun(left, 'row')} held out cannot be scored: a gap, or a level the fit has not seen.")
    inside = slice(None) if fit.used is None else fit.used
    own = (fit.outcome.values == 1).astype(float)[inside] if logistic else fit.outcome.values[inside]
    often = None if fit.weights is None else fit.weights.values[inside]
    middle = float(np.average(own, weights=often))
    here = error_measures(logistic, own, fit._fitted[inside], middle, often, fit.times is not None)
    there = error_measures(logistic, observed, predicted, middle, None, False)
    bare = error_measures(logistic, observed, predicted * 0.0 + middle, middle, None, False)
    columns = {"of_the_fit": here, "held_out": there, "without_terms": bare}
    return pd.DataFrame({"figure": list(here), **{name: list(found.values()) for name, found in columns.items()}})


def _scored_in_parts(fit: AnyFit, test: Study) -> Score:
    """Judge a fit on rows that come in parts; the predictions are not kept."""
    variables = variables_of(fit.model_terms)
    for name, variable in variables.items():
        if test.column(name).kind != variable.column.kind or test[name].levels != variable.column.levels:
            raise MarkbaseError(
                f"`{name}` of the rows held out is not as it is in the rows of the fit; prepare both alike."
            )
    predicted = fit.expected_in(test)
    outcome = test.column(fit.outcome.name)
    observed = outcome.values
    if isinstance(fit, LogisticFit):
        event = outcome.level_at(fit.event) if outcome.is_categorical else float(fit.event)
        observed = np.where(outcome.present, (outcome.values == event).astype(np.float64), np.nan)
    known = np.isfinite(predicted) & np.isfinite(observed)
    n = int(np.count_nonzero(known))
    if not n:
        raise MarkbaseError("No row held out has the outcome and a value the model can use in every column.")
    table = _judged(fit, observed[known], predicted[known], test.rows - n)
    counts = {
        name: counted(test[name].values, len(v.column.levels)) for name, v in variables.items() if v.is_categorical
    }
    unseen = [
        f"no row held out has `{name}` `{variables[name].labels[k]}`"
        for name, here in counts.items()
        for k, place in enumerate(variables[name].places)
        if not here[place]
    ]
    none = pd.DataFrame({"observed": [], fit.family.predicted: [], "residual": [], "caution": []})
    return Score(fit.family.observed(fit.outcome), table, n, test.rows - n, tuple(unseen), none)


def _unseen(fit: AnyFit, groups: dict[str, Any], cautions: Iterable[str]) -> tuple[str, ...]:
    """Name levels that only one of the two parts has."""
    found = []
    for variable in variables_of(fit.model_terms).values():
        if variable.is_categorical:
            there = set(groups[variable.name].tolist())
            found += [
                f"no row held out has `{variable.name}` `{label}`"
                for k, label in enumerate(variable.labels)
                if k not in there
            ]
    mark = "occurs in no row the model was fitted to"
    only = {part for caution in cautions for part in caution.split("; ") if mark in part}
    return (*found, *sorted(only))
