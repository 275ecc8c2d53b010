"""The same model on some of its rows, in memory: enough for what is asked unasked of very many, and told only where it is large."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
import pandas as pd

from markbase.core.design.complete_cases import CompleteCases
from markbase.core.design.terms import remake
from markbase.core.errors import MarkbaseError, without_remarks
from markbase.core.results.any_fit import AnyFit
from markbase.core.rows.parts import in_parts
from markbase.core.rows.row_functions import sample_of
from markbase.core.study.column import Column

_MANY, _SOME, _A_COEFFICIENT = 200_000, 50_000, 50
"""Of more rows, or rows in parts, so many are taken at random, or so many for each coefficient where that is more."""


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
    rows = _Rows(inside)
    weights = fit.weights
    if weights is not None:
        weights = replace(weights, values=rows.of(weights.values), present=rows.of(weights.present))
    every = np.full(len(inside), True)
    terms = [
        replace(t, variables=tuple(replace(v, column=rows.column(v.column)) for v in t.variables))
        for t in fit.model_terms
    ]
    there_only = replace(
        fit,
        outcome=rows.column(fit.outcome),
        used=every,
        sample=CompleteCases(len(inside), len(inside)),
        weights=weights,
        cluster=rows.column(fit.cluster),
        strata=rows.column(fit.strata),
        identifier=None,
        possible_cluster=None,
        index=pd.RangeIndex(len(inside)),
        repeating=tuple(rows.column(c) for c in fit.repeating),
    )
    try:
        return there_only._on(every, tuple(remake(t, every) for t in terms))
    except MarkbaseError:
        return None


def of_which_rows(looked_at: AnyFit, fit: AnyFit) -> str:
    """Say, after a figure, that it is of some rows of a fit; nothing of one of all of them."""
    some = looked_at.sample.used
    return "" if some == fit.sample.used else f", in {some:,} rows taken at random"


class _Rows:
    """Some rows of columns, each column taken once."""

    def __init__(self, places: np.ndarray[Any, np.dtype[np.intp]]) -> None:
        self._places = places
        self._taken: dict[int, Column] = {}

    def of(self, values: Any) -> Any:
        """Return the values of the rows."""
        return sample_of(values)[self._places]

    def column(self, column: Any) -> Any:
        """Return a column with these rows alone, and so what it was cut out of; None for none."""
        if column is None:
            return None
        if id(column) not in self._taken:
            made, why = column.made, column.why_missing
            if made is not None and made.how == "cut":
                made = replace(made, sources=tuple(self.column(c) for c in made.sources))
            why = None if why is None else self.of(why)
            self._taken[id(column)] = replace(column, values=self.of(column.values), why_missing=why, made=made)
        return self._taken[id(column)]
