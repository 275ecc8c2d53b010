"""A logistic fit held against what happened: classification, calibration, cases that fit badly."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from typing import TYPE_CHECKING, TypeVar

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.diagnostics.classification import Cells, Classification, calibrate, cells_of, check_cut, classify
from markbase.core.errors import FitError, MarkbaseError, near
from markbase.core.estimation.whitening import Whitened
from markbase.core.rows.parts import in_parts, needs_all, rows_at
from markbase.core.rows.row_functions import lowest

if TYPE_CHECKING:
    from markbase.core.results.linear import LinearFit
    from markbase.core.results.logistic import LogisticFit

Array = NDArray[np.float64]


def classification_of(fit: LogisticFit, cut: float, folds: int | None, seed: int) -> Classification:
    """Sort the rows of a fit by their probability, and the rows held out in turn if asked."""
    names = (fit.outcome.name, fit.event, fit.otherwise)
    if in_parts(fit.outcome.values):
        if folds is not None:
            raise needs_all("holding rows out in turn", "hold out a share of the rows and score the fit on it")
        check_cut(cut)
        cells = _cells(fit, cut)
        own = (cells.happened, cells.p, cells.weights)
        return classify(*own, names, cut, fit.level, cells.times, area_within=cells.within)
    happened, p, heavy = _inside(fit)
    found = classify(happened, p, heavy, names, cut, fit.level)
    if folds is None:
        return found
    seen = np.full(fit.sample.rows, np.nan)
    for smaller, _, test in fits_without_each_fold(fit, folds, np.random.default_rng(seed)):
        seen[test] = smaller.expected(test)
    (inside,) = fit.repeated(seen if fit.used is None else seen[fit.used])
    known = np.isfinite(inside)
    weights = None if heavy is None else heavy[known]
    held = classify(
        happened[known], inside[known], weights, names, cut, fit.level, folds=folds, left_out=int((~known).sum())
    )
    return replace(found, held_out=held)


def calibration_of(fit: LogisticFit, parts: int) -> pd.DataFrame:
    """Compare predicted probabilities with observed shares."""
    if in_parts(fit.outcome.values):
        cells = _cells(fit, 0.5)
        return calibrate(cells.happened, cells.p, cells.weights, parts, fit.level, cells.times)
    happened, p, heavy = _inside(fit)
    return calibrate(happened, p, heavy, parts, fit.level)


def _cells(fit: LogisticFit, cut: float) -> Cells:
    inside = slice(None) if fit.used is None else fit.used
    often = None if fit.times is None else fit.times[inside]
    heavy = fit.weights.values[inside] if fit.weights and often is None else None
    return cells_of(fit.likelihood.event[inside], fit._fitted[inside], heavy, often, cut)


def _inside(fit: LogisticFit) -> tuple[Array, Array, Array | None]:
    inside = slice(None) if fit.used is None else fit.used
    heavy = fit.weights.values[inside] if fit.weights and fit.times is None else None
    happened, p = fit.repeated(fit.likelihood.event[inside], fit._fitted[inside])
    return happened, p, heavy


AnyFit = TypeVar("AnyFit", bound="LinearFit | LogisticFit")


def fits_without_each_fold(
    fit: AnyFit, folds: int, order: np.random.Generator
) -> Iterator[tuple[AnyFit, NDArray[np.bool_], NDArray[np.intp]]]:
    """Fit the model without each part of its rows in turn.

    Parameters
    ----------
    fit : LinearFit or LogisticFit
        The fit; the rows it used are put at random into parts of about equal size.
    folds : int
        Into how many parts.
    order : numpy.random.Generator
        What puts the rows in order.

    Yields
    ------
    smaller : LinearFit or LogisticFit
        The fit to all parts but one.
    train : ndarray of bool, shape (rows,)
        Its rows.
    test : ndarray of int
        The rows of the part left out.

    Raises
    ------
    MarkbaseError
        If there are fewer than two parts, or more than rows.
    FitError
        If the model cannot be fitted without one of the parts; the message says which.
    """
    here = np.arange(fit.sample.rows) if fit.used is None else np.flatnonzero(fit.used)
    if not isinstance(folds, int) or not 2 <= folds <= len(here):
        raise MarkbaseError(f"Rows are held out in 2 parts or more (and no more than rows), not {folds!r}.")
    part = np.empty(len(here), dtype=np.intp)
    part[order.permutation(len(here))] = np.arange(len(here)) % folds
    for number in range(folds):
        train = np.zeros(fit.sample.rows, dtype=bool)
        train[here[part != number]] = True
        try:
            smaller = fit.on_rows(train)
        except FitError as problem:
            raise FitError(f"Without part {number + 1} of {folds} the model cannot be fitted: {problem}") from None
        yield smaller, train, here[part == number]  # type: ignore[misc]  # a fit on other rows is of the same kind


def cases_of(fit: LogisticFit, most: int | None, by: str) -> pd.DataFrame:
    """List the rows that fit worst, or weigh most, by the analyst's own identifier."""
    choices = ("influence", "residual")
    if by not in choices:
        raise MarkbaseError(f"Cases are listed by `influence` or by `residual`, not {by!r}.{near(by, choices)}")
    p, happened, h = fit._fitted, fit.likelihood.event, _leverages(fit)
    pearson = (happened - p) / np.sqrt(np.maximum(p * (1 - p), 1e-300))
    room = np.maximum(1 - h, 1e-12)
    standardised = pearson / np.sqrt(room)
    influence = standardised**2 * h / room / (len(fit.solution.columns) + 1)
    key = np.abs(standardised) if by == "residual" else influence
    places = lowest(-key, most)
    found = rows_at(np.sort(places), happened, p, standardised, h, influence)
    order = np.argsort(np.argsort(places, kind="stable"), kind="stable")
    happened, p, standardised, h, influence = (values[order] for values in found)
    name, labels = fit.identified(places)
    return pd.DataFrame(
        {
            name: labels,
            "observed": np.where(happened == 1, fit.event, fit.otherwise),
            "probability": p,
            "residual": standardised,
            "leverage": h,
            "influence": influence,
        }
    )


def _leverages(fit: LogisticFit) -> Array:
    """Return the leverage of each row, NaN in rows not used."""
    rows, information = fit.likelihood, fit.information
    whitened = Whitened(
        information.moments, information.blocks, information.solution, rows.used, fit.passed.curvature, None
    )

    def looked(own: Whitened, often: Array | None) -> tuple[Array]:
        working = own.blocks[-1].multiplier
        assert working is not None
        leverage = np.full(len(working), np.nan)
        for chunk, Q, _, curvature in own.chunks():
            leverage[chunk] = np.einsum("ij,ij->i", Q, Q) * curvature / (1.0 if often is None else often[chunk])
        return (leverage,)

    found: Array = whitened.made(1, looked, fit.times)[0]
    return found
