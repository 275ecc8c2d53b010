"""The same model on other rows, in memory: on some, enough for what is asked unasked of very many, and told only where it is large."""

from __future__ import annotations

from dataclasses import replace
from typing import TypeVar, cast

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.design.complete_cases import CompleteCases
from markbase.core.design.drawn import DrawnBy
from markbase.core.design.terms import remake
from markbase.core.design.weights import Weights
from markbase.core.errors import FitError, MarkbaseError, without_remarks
from markbase.core.results.any_fit import AnyFit
from markbase.core.rows.parts import in_parts
from markbase.core.rows.row_functions import sample_of
from markbase.core.study.column import Column
from markbase.core.study.row_selection import arrays_of, holding

Fit = TypeVar("Fit", bound=AnyFit)
_MANY, _SOME, _A_COEFFICIENT = 200_000, 50_000, 50
"""Of more rows, or rows in parts, so many are taken at random, or so many for each coefficient where that is more."""
_MOST_CASES = 2_000_000
"""So many cases that rows count for stand in rows of their own."""


@without_remarks()
def on_some_rows(fit: AnyFit) -> AnyFit | None:
    """Return a fit of the same model to some of the rows used, taken at random, always the same ones; the fit itself where its rows are not many.

    That, too, where levels are taken out, whose rows belong together. None where these rows cannot carry the model.
    """
    if fit.fixed_effect_names or (fit.sample.rows <= _MANY and not in_parts(fit.outcome.values)):
        return fit
    there = sample_of(fit.outcome.values)
    inside = np.arange(len(there)) if fit.used is None else np.flatnonzero(sample_of(fit.used))
    most = max(_SOME, _A_COEFFICIENT * (len(fit.solution.columns) + 1))
    if len(inside) > most:
        inside = np.sort(np.random.default_rng(0).choice(inside, most, replace=False, shuffle=False))
    weights = fit.weights
    if weights is not None:
        own, present = (sample_of(values)[inside] for values in (weights.values, weights.present))
        taken = weights.replicates
        if taken is not None:
            taken = replace(taken, values=tuple(sample_of(values)[inside] for values in taken.values))
        weights = replace(weights, values=own, present=present, replicates=taken)
    try:
        return _at_places(fit, inside, weights)
    except MarkbaseError:
        return None


@without_remarks()
def as_single_cases(fit: Fit) -> Fit:
    """Return a fit in which every row stands as often as its frequency says, and counts once; the fit itself where rows count once, or otherwise.

    Raises a `FitError` where rows come in parts, or would be very many.
    """
    if fit.weights is None or fit.weights.kind != "frequency":
        return fit
    if in_parts(fit.outcome.values) or fit.weights.counted() > _MOST_CASES:
        raise FitError(
            f"Cases that are counted by `{fit.weights.column}` are held out one by one, which is done of up to {_MOST_CASES:,} of them, with all rows in memory."
        )
    inside = np.arange(fit.sample.rows) if fit.used is None else np.flatnonzero(fit.used)
    often = fit.weights.values[inside].astype(np.intp)
    return cast(Fit, _at_places(fit, np.repeat(inside, often), None))


def _at_places(fit: AnyFit, inside: NDArray[np.intp], weights: Weights | None) -> AnyFit:
    """Fit the same model to rows that are in memory, by their places."""
    every = np.full(len(inside), True)
    drawn = DrawnBy(*(None if own is None else _with_rows(own, inside) for own in fit.drawn_by))
    terms = [
        replace(t, variables=tuple(replace(v, column=_with_rows(v.column, inside)) for v in t.variables))
        for t in fit.model_terms
    ]
    there_only = replace(
        fit,
        outcome=_with_rows(fit.outcome, inside),
        used=every,
        sample=CompleteCases(len(inside), len(inside)),
        weights=weights,
        **drawn._asdict(),
        identifier=None,
        possible_cluster=None,
        index=pd.RangeIndex(len(inside)),
        repeating=tuple(_with_rows(c, inside) for c in fit.repeating),
        timed_by=(),
        began=None if fit.began is None else fit.began._replace(column=_with_rows(fit.began.column, inside)),
    )
    return there_only._on(every, tuple(remake(t, every) for t in terms))


def of_which_rows(looked_at: AnyFit, fit: AnyFit) -> str:
    """Say, after a figure, that it is of some rows of a fit; nothing of one of all of them."""
    some = looked_at.sample.used
    return "" if some == fit.sample.used else f", in {some:,} rows taken at random"


def _with_rows(column: Column, places: NDArray[np.intp]) -> Column:
    """Return a column with some of the rows that are in memory alone, and so those it was made of."""
    every = arrays_of({"": column}).items()
    held = {at: (sample_of(own)[places], None if why is None else sample_of(why)[places]) for at, (own, why) in every}
    return holding(("",), column, held)
