"""Holding every row out in its turn: the fits without each part of the rows, and what they give for the part left out."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Any, TypeVar

import numpy as np
from numpy.typing import NDArray

from markbase.core.errors import FitError, MarkbaseError
from markbase.core.rows.parts import in_parts, row_numbers
from markbase.core.rows.row_functions import made_of
from markbase.core.rows.table import hashed

if TYPE_CHECKING:
    from markbase.core.results.linear import LinearFit
    from markbase.core.results.logistic import LogisticFit

Array = NDArray[np.float64]
AnyFit = TypeVar("AnyFit", bound="LinearFit | LogisticFit")


def each_fold(
    fit: AnyFit, folds: int, order: np.random.Generator
) -> Iterator[tuple[AnyFit, NDArray[np.bool_], NDArray[np.bool_]]]:
    """Fit the model without each part of its rows in turn: the smaller fit, its rows, and those of the part left out.

    The rows used are put at random into parts of equal size; rows that come in parts each by a hash of its place, so that
    the folds are of about equal size. Raises a `FitError` that says without which part the model cannot be fitted.
    """
    if isinstance(folds, bool) or not isinstance(folds, int) or not 2 <= folds <= fit.sample.used:
        raise MarkbaseError(f"Rows are held out in 2 parts or more (and no more than rows), not {folds!r}.")
    fold = _fold_of_each_row(fit, folds, order)
    used = fold >= 0 if fit.used is None else fit.used
    for number in range(folds):
        test = (fold == number) & used
        train = (fold != number) & used
        try:
            smaller = fit.on_rows(train)
        except FitError as problem:
            raise FitError(f"Without part {number + 1} of {folds} the model cannot be fitted: {problem}") from None
        yield smaller, train, test  # type: ignore[misc]  # a fit on other rows is of the same kind


def _fold_of_each_row(fit: LinearFit | LogisticFit, folds: int, order: np.random.Generator) -> Any:
    """Return the number of the part each row falls into, shape (rows,); of rows in memory, −1 where not used."""
    if in_parts(fit.outcome.values):
        seed = int(order.integers(1 << 62))

        def drawn(places: NDArray[np.intp]) -> tuple[Array]:
            return ((hashed(places.astype(np.uint64), seed) % np.uint64(folds)).astype(np.float64),)

        return made_of(1, drawn, row_numbers(fit.outcome.values))[0]
    here = np.arange(fit.sample.rows) if fit.used is None else np.flatnonzero(fit.used)
    fold = np.full(fit.sample.rows, -1)
    fold[here[order.permutation(len(here))]] = np.arange(len(here)) % folds
    return fold


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
