"""How a fit does on rows that were held out before it was made."""

from __future__ import annotations

import math
from collections.abc import Collection, Iterable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import pandas as pd

from markbase.core.arguments import checked
from markbase.core.checks.folds import check_held_out
from markbase.core.comparison.rows_seen import rows_seen, seen_words
from markbase.core.design.terms import Variable, variables_of
from markbase.core.design.weights import take_weights
from markbase.core.diagnostics.error_measures import error_measures
from markbase.core.display import ShownTables
from markbase.core.errors import MarkbaseError, count_noun, remark
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.new_rows import UNSEEN, check_unit, new_rows, unseen, weights_in, without_codes
from markbase.core.results.stored_fit import StoredFit
from markbase.core.rows.row_functions import counted, look_up
from markbase.core.study.column import Column
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
    """Rows held out that could not: a gap, or a level or a crossing of levels the fit has not seen."""
    unseen: tuple[str, ...]
    """Levels of the rows held out that the fit has not seen, and levels of the fit that none of them has, in words."""
    counted: str
    """By what rows count, in words; empty where all count alike."""
    predictions: pd.DataFrame
    """A row for each row held out, of rows in memory: `observed`, `predicted` or `probability`, `residual`, `caution`."""
    seen: int = 0
    """How many of the rows scored seem to be rows of the fit, by outcome and prediction: of these nothing is told that holds for others."""


@checked
def score(fit: AnyFit | StoredFit, test: Study | Any) -> Score:
    """Judge a fit on rows that it has not seen.

    Parameters
    ----------
    fit : LinearFit, LogisticFit or StoredFit
        The fit, made of the rows that were kept, or saved before there were others.
    test : Study or table
        The rows held out, prepared as the others were; they have the outcome.

    Returns
    -------
    Score
        Linear: root mean squared error and R² (against the mean of the fit's own rows). Logistic: share classified correctly,
        area under the curve, Brier score. Of both the mean error and the calibration slope, 1 where predictions are as far apart as they should be.
        Each beside the same on the rows of the fit, and with no terms. Where the rows of the fit count by weights, so do those held out, by
        the column of the same name; `counted` says so, or that they lack it and count alike.

    Raises
    ------
    ColumnError
        If the table lacks a column of the model, or its weights are no numbers.
    FitError
        For a weight below 0, or a frequency that is no whole number; if rows were held out of which each stands for several cases.
    MarkbaseError
        If it has not the outcome, no row can be scored, or levels were taken out.

    Warns
    -----
    MarkbaseWarning
        For rows that cannot be scored, and for those that the fit seems to have been made of.

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
    if (
        isinstance(test, Study)
        and any(step.action == "hold_out" for step in test.trail.steps)
        and not isinstance(fit, StoredFit)
    ):
        check_held_out(fit)
    if isinstance(test, Study) and test.in_parts:
        return _scored_in_parts(fit, test)
    rows = new_rows(fit, test)
    if rows.observed is None:
        raise MarkbaseError(
            f"The rows held out have no column `{fit.outcome.name}`, so there is nothing to hold predictions against."
        )
    told = fit._of_rows(rows)
    predicted, observed = told[fit.family.predicted].to_numpy(), rows.observed
    known, often = _counting(fit, observed, predicted, weights_in(fit.weighting, test))
    n, left = int(known.sum()), int((~known).sum())
    table = _judged(fit, observed[known], predicted[known], often, left)
    predictions = pd.DataFrame(
        {
            "observed": observed,
            fit.family.predicted: predicted,
            "residual": observed - predicted,
            "caution": rows.cautions,
        },
        index=rows.index,
    )
    apart = _unseen(fit, rows.groups, rows.cautions)
    seen = _remarked(rows_seen(fit, table, observed[known], predicted[known]), n)
    return Score(fit.family.observed(fit.outcome), table, n, left, apart, _counted(fit, often), predictions, seen)


def _remarked(seen: int, rows: int) -> int:
    """Return how many rows were seen, and remark on them."""
    if seen:
        remark(f"{seen_words(seen, rows)}.")
    return seen


def _counting(fit: AnyFit | StoredFit, observed: Any, predicted: Any, weights: Any) -> tuple[Any, Any]:
    """Return which rows can be scored, and with how much each of these counts; None where they count alike, for want of `weights`."""
    known = np.isfinite(predicted) & np.isfinite(observed)
    if weights is not None:
        known = known & np.isfinite(weights) & (weights != 0)
    if not np.count_nonzero(known):
        needed = "" if weights is None or fit.weighting is None else f", and a weight in `{fit.weighting.column}`"
        raise MarkbaseError(f"No row held out has the outcome and a value the model can use in every column{needed}.")
    if weights is None or fit.weighting is None:
        return known, None
    column = Column(fit.weighting.column, "numeric", weights)
    return known, take_weights(column, fit.weighting.kind, known).values[known]


def _counted(fit: AnyFit | StoredFit, often: Any) -> str:
    """Say by what rows count."""
    if fit.weighting is None:
        return ""
    if often is None:
        return f"rows of the fit count by {fit.weighting.short}, which those held out do not have: they count alike"
    return f"{fit.weighting.short}, of the rows of the fit and of those held out"


def _judged(fit: AnyFit | StoredFit, observed: Any, predicted: Any, often: Any, left: int) -> pd.DataFrame:
    """Return error measures of some rows beside those of the rows of the fit, and of no terms; say how many rows have none."""
    shares = fit.family.shares
    if left:
        remark(
            f"{count_noun(left, 'row')} cannot be scored: a gap, or a level or a crossing of levels the fit has not seen."
        )
    middle, repeated = fit.own_mean, fit.weighting is not None and fit.weighting.kind == "frequency"
    there = error_measures(shares, observed, predicted, middle, often, repeated)
    bare = error_measures(shares, observed, predicted * 0.0 + middle, middle, often, repeated)
    here = {figure: fit.own_measures.get(figure, math.nan) for figure in there}
    columns = {"of_the_fit": here, "held_out": there, "without_terms": bare}
    return pd.DataFrame({"figure": list(there), **{name: list(found.values()) for name, found in columns.items()}})


def _scored_in_parts(fit: AnyFit | StoredFit, test: Study) -> Score:
    """Judge a fit on rows that come in parts; the predictions are not kept."""
    variables = variables_of(fit.model_terms)
    columns, unseen = {}, []
    for name, variable in variables.items():
        if test.column(name).kind != variable.column.kind:
            raise MarkbaseError(
                f"`{name}` is {test[name].kind} in the rows held out, and {variable.column.kind} in the fit; declare it alike."
            )
        if not variable.is_categorical:
            check_unit(variable.column, test[name])
            columns[name] = replace(test[name], values=without_codes(variable.column, test[name].values))
            continue
        columns[name] = _at_levels_of(variable.column, test[name])
        unseen += _levels_apart(variable, columns[name], test[name])
    predicted = fit._expected_of(columns)
    outcome = test.column(fit.outcome.name)
    observed = (
        _happened(fit.outcome, outcome) if fit.outcome.is_categorical else without_codes(fit.outcome, outcome.values)
    )
    known, often = _counting(fit, observed, predicted, weights_in(fit.weighting, test))
    n = int(np.count_nonzero(known))
    table = _judged(fit, observed[known], predicted[known], often, test.rows - n)
    none = pd.DataFrame({"observed": [], fit.family.predicted: [], "residual": [], "caution": []})
    about = fit.family.observed(fit.outcome), table, n, test.rows - n, tuple(unseen), _counted(fit, often)
    seen = _remarked(rows_seen(fit, table, observed[known], predicted[known]), n)
    return Score(*about, none, seen)


def _at_levels_of(own: Column, other: Column) -> Column:
    """Return a column of other rows with the levels of the fit, found by what they are called there, a label or a code; what is none of them is a gap."""
    slot = {level.code: k for k, level in enumerate(own.levels)} | {v.label: k for k, v in enumerate(own.levels)}
    places = np.array([*(slot.get(v.label, -1) for v in other.levels), -1], dtype=np.int32)
    return replace(own, values=look_up(places, np.where(other.values < 0, -1, other.values)))


def _happened(own: Column, other: Column) -> Any:
    """Return 1 for the event and 0 for the other level of a yes/no outcome, NaN for a gap, shape (rows,)."""
    if other.is_categorical:
        values = _at_levels_of(own, other).values
        return np.where(values < 0, np.nan, values)
    otherwise, event = pd.to_numeric([level.code for level in own.levels], errors="coerce")
    return np.where(other.values == event, 1.0, np.where(other.values == otherwise, 0.0, np.nan))


def _levels_apart(variable: Variable, here: Column, other: Column) -> list[str]:
    """Name levels that only the fit, or only the other rows, have."""
    counts = counted(here.values, len(variable.column.levels))
    found = _without_rows(variable, {k for k, place in enumerate(variable.places) if counts[place]})
    known = {
        v
        for place in variable.places
        for v in (variable.column.levels[place].label, variable.column.levels[place].code)
    }
    for level, rows in zip(other.levels, counted(other.values, len(other.levels)), strict=True):
        if rows and level.label not in known and level.code not in known:
            found.append(unseen(variable, level.label))
    return found


def _unseen(fit: AnyFit | StoredFit, groups: dict[str, Any], cautions: Iterable[str]) -> tuple[str, ...]:
    """Name levels that only one of the two parts has."""
    groups_of_fit = [v for v in variables_of(fit.model_terms).values() if v.is_categorical]
    found = [words for v in groups_of_fit for words in _without_rows(v, set(groups[v.name].tolist()))]
    only = {part for caution in cautions for part in caution.split("; ") if UNSEEN in part}
    return (*found, *sorted(only))


def _without_rows(variable: Variable, there: Collection[int]) -> list[str]:
    """Name the levels of a group of the fit that no row scored has, by the places of those that some has."""
    return [f"no row scored has `{variable.name}` `{v}`" for k, v in enumerate(variable.labels) if k not in there]
