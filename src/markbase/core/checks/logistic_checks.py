"""A logistic fit held against what happened: classification, calibration, cases that fit badly."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.arguments import check_seed
from markbase.core.checks.folds import folds_of, predicted_in_turn
from markbase.core.checks.some_rows import as_single_cases
from markbase.core.diagnostics.calibration_test import (
    CalibrationTest,
    combinations_test,
    no_test,
    parts_test,
)
from markbase.core.diagnostics.classification import (
    Cells,
    Classification,
    calibrate,
    cells_of,
    check_cut,
    check_parts,
    classify,
)
from markbase.core.diagnostics.drawn_rows import DrawnRows
from markbase.core.errors import MarkbaseError, listed, near
from markbase.core.estimation.whitening import Whitened
from markbase.core.inference.crossed_clusters import numbered_cells
from markbase.core.inference.standard_errors import ALONE
from markbase.core.results.logistic_estimate import whitened_columns
from markbase.core.rows.parts import in_parts, rows_at
from markbase.core.rows.row_functions import lowest

if TYPE_CHECKING:
    from markbase.core.results.logistic import LogisticFit
    from markbase.core.study.column import Column

Array = NDArray[np.float64]


def classification_of(fit: LogisticFit, cut: float, folds: int | None, seed: int) -> Classification:
    """Sort the rows of a fit by their probability, and the rows held out in turn if asked."""
    names = (fit.outcome.name, fit.event, fit.otherwise)
    check_cut(cut)
    check_seed(seed)
    alone = fit if folds is None else as_single_cases(fit)
    folds = None if folds is None else folds_of(alone, folds)
    if in_parts(fit.outcome.values):
        found = _by_cells(fit, names, cut)
        if folds is None:
            return found
        seen, _ = predicted_in_turn(fit, folds, np.random.default_rng(seed))
        known = np.isfinite(seen)
        told = _by_cells(fit, names, cut, seen, known)
        left_out = fit.sample.used - int(np.count_nonzero(known))
        return replace(found, held_out=replace(told, folds=folds, left_out=left_out, cluster=fit.errors.cluster))
    happened, p, heavy = _inside(fit)
    found = classify(happened, p, heavy, names, cut, fit.level, drawn=_drawn(fit))
    if folds is None:
        return found
    if alone is not fit:  # of a row that counts for several cases some are held out, and others not
        return replace(found, held_out=classification_of(alone, cut, folds, seed).held_out)
    seen, _ = predicted_in_turn(fit, folds, np.random.default_rng(seed))
    (inside,) = fit.rows_used.repeated(seen if fit.used is None else seen[fit.used])
    known = np.isfinite(inside)
    weights, left_out = None if heavy is None else heavy[known], int((~known).sum())
    drawn = _drawn(fit, seen, np.isfinite(seen) & (True if fit.used is None else fit.used))
    own = (happened[known], inside[known], weights, names, cut, fit.level)
    held = classify(*own, drawn=drawn, folds=folds, left_out=left_out)
    return replace(found, held_out=replace(held, cluster=fit.errors.cluster))


def calibration_of(fit: LogisticFit, parts: int, cells: Cells | None = None) -> pd.DataFrame:
    """Compare predicted probabilities with observed shares; of rows in parts by their cells, if these are known."""
    drawn = _drawn(fit)
    alike = drawn.weights is None and not drawn.words  # rows are independent, and count alike
    if in_parts(fit.outcome.values):
        cells = cells or _cells(drawn, 0.5)
        own = (cells.happened, cells.p, cells.weights, parts, fit.level, cells.times, cells.squares)
        return calibrate(*own, None if alike else replace(drawn, counted=cells.counted))
    happened, p, heavy = _inside(fit)
    return calibrate(happened, p, heavy, parts, fit.level, drawn=None if alike else drawn)


def calibration_test_of(fit: LogisticFit, parts: int) -> CalibrationTest:
    """Test whether the probabilities of a fit are what happens."""
    check_parts(parts)
    allowing = _drawn(fit)
    beyond = [allowing.words] if allowing.words else []
    if allowing.weights is not None:
        beyond.append("sampling weights")
    if beyond:
        return no_test(
            f"a test takes rows as independent and alike; the intervals of the calibration allow for {listed(beyond)}"
        )
    if fit.time is not None:
        return no_test(
            f"a test takes rows as independent, and those that follow one another by `{fit.time.name}` may go together"
        )
    if fit.penalty:
        return no_test("a penalty moves probabilities towards one half, away from the shares observed")
    coefficients, cells = len(fit.solution.columns) + 1, None
    if in_parts(fit.outcome.values):
        cells = _cells(allowing, 0.5)
        own = (cells.happened, cells.p, coefficients, parts, cells.times)
        told = combinations_test(*own) if cells.one_each else None
    else:
        happened, p, _ = _inside(fit)
        told = combinations_test(happened, p, coefficients, parts)
    return parts_test(calibration_of(fit, parts, cells)) if told is None else told


def _drawn(fit: LogisticFit, p: Array | None = None, rows: NDArray[np.bool_] | None = None) -> DrawnRows:
    """Return the rows of a fit with the probability fitted, or some of them with others, and how they were drawn."""
    inside = (slice(None) if fit.used is None else fit.used) if rows is None else rows
    often = None if fit.rows_used.times is None else fit.rows_used.times[inside]

    def of(column: Column | None) -> tuple[int, Any] | None:
        return None if column is None else (len(column.levels), column.values[inside])

    other, crossed = of(fit.crossed), None
    if fit.cluster is not None and fit.crossed is not None and other is not None:
        codes, cells, _ = numbered_cells(fit.cluster, fit.crossed, turned=fit.errors.members is not None)
        crossed = other, (cells, codes[inside].astype(np.intp))
    return DrawnRows(
        fit.likelihood.event[inside],
        (fit._fitted if p is None else p)[inside],
        fit.weights.values[inside] if fit.weights and often is None else None,
        often,
        of(fit.cluster),
        of(fit.strata),
        fit.errors.drawn,
        crossed,
        fit.errors.members is not None,
        df=fit.errors.df if fit.errors.clusters or fit.errors.replicates else np.inf,
        replicates=_replicates(fit, inside),
    )


def _replicates(fit: LogisticFit, inside: Any) -> tuple[float, tuple[Any, ...]] | None:
    """Return the replicate weights of some rows over their first ones, with what squared sums are multiplied with; None where there are none."""
    if fit.weights is None or fit.weights.replicates is None:
        return None
    own, taken = fit.weights.values[inside], fit.weights.replicates
    whole = float(own.sum())
    return taken.scale, tuple(values[inside] / own * (whole / float(values[inside].sum())) for values in taken.values)


def _by_cells(
    fit: LogisticFit, names: tuple[str, str, str], cut: float, p: Array | None = None, rows: Any = None
) -> Classification:
    drawn = _drawn(fit, p, rows)
    cells = _cells(drawn, cut)
    drawn = replace(drawn, counted=cells.counted)
    own = (cells.happened, cells.p, cells.weights)
    return classify(*own, names, cut, fit.level, cells.times, cells.squares, drawn, area_within=cells.within)


def _cells(drawn: DrawnRows, cut: float) -> Cells:
    return cells_of(drawn.happened, drawn.p, drawn.weights, drawn.times, cut)


def _inside(fit: LogisticFit) -> tuple[Array, Array, Array | None]:
    inside = slice(None) if fit.used is None else fit.used
    heavy = fit.weights.values[inside] if fit.weights and fit.rows_used.times is None else None
    happened, p = fit.rows_used.repeated(fit.likelihood.event[inside], fit._fitted[inside])
    return happened, p, heavy


def cases_of(fit: LogisticFit, most: int | None, by: str) -> pd.DataFrame:
    """List the rows that fit worst, or weigh most, by the analyst's own identifier."""
    choices = ("influence", "residual")
    if by not in choices:
        raise MarkbaseError(f"Cases are listed by `influence` or by `residual`, not {by!r}.{near(by, choices)}")
    p, happened, (standardised, h, influence) = fit._fitted, fit.likelihood.event, _measures(fit)
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


def influence_of(fit: LogisticFit) -> Array:
    """Return Pregibon's distance of every row over the coefficients, NaN in rows not used and where a row decides a coefficient alone."""
    return _measures(fit)[2]


def _measures(fit: LogisticFit) -> tuple[Array, Array, Array]:
    """Return the standardised residual, the leverage and the influence of every row."""
    p, happened, h = fit._fitted, fit.likelihood.event, _leverages(fit)
    pearson = (happened - p) / np.sqrt(np.maximum(p * (1 - p), 1e-300))
    room = np.where(1 - h > ALONE, 1 - h, np.nan)  # a row that decides a coefficient alone has no residual to tell
    standardised = pearson / np.sqrt(room)
    return standardised, h, standardised**2 * h / room / (len(fit.solution.columns) + 1)


def rows_alone(fit: LogisticFit) -> int:
    """Count the rows that decide a coefficient alone, as the only one of a level does; none without a penalty, where that is separation."""
    return int(np.count_nonzero(_leverages(fit) >= 1 - ALONE)) if fit.penalty else 0


def _leverages(fit: LogisticFit) -> Array:
    """Return the leverage of each row, NaN in rows not used."""
    whitened = whitened_columns(fit.likelihood, fit.passed, fit.information)

    def looked(own: Whitened, often: Array | None) -> tuple[Array]:
        working = own.blocks[-1].multiplier
        assert working is not None
        leverage = np.full(len(working), np.nan)
        for chunk, Q, _, curvature in own.chunks():
            leverage[chunk] = np.einsum("ij,ij->i", Q, Q) * curvature / (1.0 if often is None else often[chunk])
        return (leverage,)

    found: Array = whitened.made(1, looked, fit.rows_used.times)[0]
    return found
