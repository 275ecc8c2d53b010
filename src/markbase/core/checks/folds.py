"""Holding every row out in its turn: the fits without each part of the rows, and what they give for the part left out."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from typing import TYPE_CHECKING, Any, TypeVar

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.drawn import DrawnBy
from markbase.core.errors import FitError, MarkbaseError
from markbase.core.inference.standard_errors import Errors
from markbase.core.rows.parts import in_parts, row_numbers
from markbase.core.rows.row_functions import look_up, made_of
from markbase.core.rows.table import hashed

if TYPE_CHECKING:
    from markbase.core.results.linear import LinearFit
    from markbase.core.results.logistic import LogisticFit
    from markbase.core.study.column import Column

Array = NDArray[np.float64]
_SEVERAL = 2
"""So many cases a row counts for on average are several."""
_USUAL = 10
"""Into how many parts rows are put where nobody says it."""
AnyFit = TypeVar("AnyFit", bound="LinearFit | LogisticFit")


def each_fold(
    fit: AnyFit, folds: int, order: np.random.Generator
) -> Iterator[tuple[AnyFit, NDArray[np.bool_], NDArray[np.bool_]]]:
    """Fit the model without each part of its rows in turn: the smaller fit, its rows, and those of the part left out.

    The rows used are put at random into parts of equal size; rows that come in parts each by a hash of its place, so that
    the folds are of about equal size. Where errors are clustered whole clusters are. Raises a `FitError` that says without which
    part the model cannot be fitted.
    """
    folds = folds_of(fit, folds)
    bare = (
        replace(fit, **DrawnBy()._asdict(), errors=Errors("classical", fit.errors.df))
        if fit.drawn_by.columns or fit.errors.replicates
        else fit
    )
    fold = _fold_of_each_row(fit, folds, order)
    used = fold >= 0 if fit.used is None else fit.used
    for number in range(folds):
        test = (fold == number) & used
        train = (fold != number) & used
        try:
            smaller = bare.on_rows(train)
        except FitError as problem:
            raise FitError(f"Without part {number + 1} of {folds} the model cannot be fitted: {problem}") from None
        yield smaller, train, test  # type: ignore[misc]  # a fit on other rows is of the same kind


def usual_folds(fit: LinearFit | LogisticFit) -> int:
    """Return into how many parts rows are put where nobody says it: ten, or as many as there are cases."""
    return min(_USUAL, fit.sample.used if fit.weights is None else fit.weights.counted(fit.used))


def check_held_out(fit: LinearFit | LogisticFit) -> None:
    """Raise a `FitError` if rows of a fit count for several cases each, which would be held out together though others like them are not."""
    if (
        fit.weights is not None
        and fit.weights.kind == "frequency"
        and fit.weights.counted(fit.used) >= _SEVERAL * fit.sample.used
    ):
        raise FitError(
            f"A row stands for several cases here (`{fit.weights.column}`), and would be held out whole: hold out cases in turn instead (cross-validation)."
        )


def folds_of(fit: LinearFit | LogisticFit, folds: int) -> int:
    """Return into how many parts the rows of a fit are put: no more than there are clusters, where these are held out whole."""
    if isinstance(folds, bool) or not isinstance(folds, int) or not 2 <= folds <= fit.sample.used:
        raise MarkbaseError(f"Rows are held out in 2 parts or more (and no more than rows), not {folds!r}.")
    if fit.cluster is None:
        return folds
    name = fit.cluster.name
    if name in {v.name for v in fit.variables}:
        raise FitError(
            f"Whole levels of `{name}` are held out where errors are clustered by it, and no fit could predict them, since `{name}` is in the "
            f"model: leave it out of the terms, or fit without clusters to hold out single rows."
        )
    return min(folds, fit.errors.clusters)


def _fold_of_each_row(fit: LinearFit | LogisticFit, folds: int, order: np.random.Generator) -> Any:
    """Return the number of the part each row falls into, shape (rows,); of rows in memory, −1 where not used."""
    if fit.cluster is not None:
        fold = look_up(np.append(_fold_of_each_cluster(fit.cluster, folds, order), -1.0), fit.cluster.values)
        return fold if fit.used is None or in_parts(fold) else np.where(fit.used, fold, -1.0)
    if in_parts(fit.outcome.values):
        seed = int(order.integers(1 << 62))

        def drawn(places: NDArray[np.intp]) -> tuple[Array]:
            return ((hashed(places.astype(np.uint64), seed) % np.uint64(folds)).astype(np.float64),)

        return made_of(1, drawn, row_numbers(fit.outcome.values))[0]
    here = np.arange(fit.sample.rows) if fit.used is None else np.flatnonzero(fit.used)
    fold = np.full(fit.sample.rows, -1)
    fold[here[order.permutation(len(here))]] = np.arange(len(here)) % folds
    return fold


def _fold_of_each_cluster(cluster: Column, folds: int, order: np.random.Generator) -> Array:
    """Put clusters into parts of about as many rows each, one after the other at random, shape (levels,)."""
    rows, found = np.zeros(folds), np.full(len(cluster.levels), -1.0)
    for place in order.permutation(np.flatnonzero(cluster.counts)):
        found[place] = int(np.argmin(rows))
        rows[int(found[place])] += cluster.counts[place]
    return found


def predicted_in_turn(fit: AnyFit, folds: int, order: np.random.Generator) -> tuple[Array, Array]:
    """Predict every row by the fit to the other parts, and by their mean, both of shape (rows,); raises as `each_fold`.

    NaN where the fit cannot tell, and in rows that are not used.
    """
    y = fit.observed_numbers
    heavy = None if fit.weights is None else fit.weights.values
    predicted: Any = y * np.nan
    means: Any = y * np.nan
    for smaller, train, test in each_fold(fit, folds, order):
        mean = float(np.average(y[train], weights=None if heavy is None else heavy[train]))
        if in_parts(y):
            predicted, means = np.where(test, smaller.expected(None), predicted), np.where(test, mean, means)
        else:
            predicted[test], means[test] = smaller.expected(np.flatnonzero(test)), mean
    return predicted, means
