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
from markbase.core.results.predictions import new_rows
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
    """A row for each row held out: `observed`, `predicted` or `probability`, `residual`, `caution`."""


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
    rows = new_rows(fit, test)
    if rows.observed is None:
        raise MarkbaseError(
            f"The rows held out have no column `{fit.outcome.name}`, so there is nothing to hold predictions against."
        )
    told = fit._of_rows(rows)
    logistic = fit.family is LOGISTIC
    predicted, observed = told[fit.family.predicted].to_numpy(), rows.observed
    known = np.isfinite(predicted) & np.isfinite(observed)
    if not known.any():
        raise MarkbaseError("No row held out has the outcome and a value the model can use in every column.")
    left = int((~known).sum())
    if left:
        remark(f"{count_noun(left, 'row')} held out cannot be scored: a gap, or a level the fit has not seen.")
    inside = slice(None) if fit.used is None else fit.used
    own = (fit.outcome.values == 1).astype(float)[inside] if logistic else fit.outcome.values[inside]
    often = np.ones(len(own)) if fit.weights is None else fit.weights.values[inside]
    middle = float(np.average(own, weights=often))
    repeated = fit.times is not None
    here = error_measures(logistic, own, fit._fitted[inside], np.full(len(own), middle), often, repeated)
    n, ones = int(known.sum()), np.ones(int(known.sum()))
    there = error_measures(logistic, observed[known], predicted[known], np.full(n, middle), ones, False)
    bare = error_measures(logistic, observed[known], np.full(n, middle), np.full(n, middle), ones, False)
    table = pd.DataFrame(
        {
            "figure": list(here),
            "of_the_fit": list(here.values()),
            "held_out": list(there.values()),
            "without_terms": list(bare.values()),
        }
    )
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
