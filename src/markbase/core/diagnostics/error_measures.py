"""How far predictions are off: squared errors, the mean error, and for an event the share classified correctly and the area under the curve."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from markbase.core.diagnostics.classification import area_of_cells, area_under_curve, cells_of
from markbase.core.rows.parts import in_parts
from markbase.core.rows.row_functions import learn

Array = NDArray[np.float64]
AREA = "area under the curve"
ROOT_MEAN_SQUARED = "root mean squared error"
MEAN = "mean error"
_NOTHING = 1e-12
"""A mean error of so little of the root mean squared one is rounding."""


def error_measures(
    shares: bool,
    y: Array,
    predicted: Array,
    mean: Array | float,
    often: Array | None,
    repeated: bool,
    missed: Array | None = None,
) -> dict[str, float]:
    """Measure how far predictions are off.

    Of numbers: root mean squared error, R² (against `mean`, what no model at all predicts), mean error (observed less
    predicted). Of `shares`: classified correctly at .5, area under the curve, Brier score, mean error. `often` says with how much each row counts, and `repeated` whether
    these are frequencies; `missed` are observed less predicted, where they are known better than as this difference.
    """
    missed = y - predicted if missed is None else missed
    off, bare = missed**2, (y - mean) ** 2
    learn([missed, off] if shares else [missed, off, bare])
    error, aside = (float(np.average(values, weights=often)) for values in (off, missed))
    if abs(aside) <= _NOTHING * math.sqrt(error):
        aside = 0.0
    if not shares:
        return {
            ROOT_MEAN_SQUARED: math.sqrt(error),
            "R²": 1 - error / float(np.average(bare, weights=often)),
            MEAN: aside,
        }
    if in_parts(y):
        area = area_of_cells(cells_of(y, predicted, None if repeated else often, often if repeated else None, 0.5))
    elif repeated and often is not None:
        times = np.round(often).astype(np.intp)
        area = area_under_curve(np.repeat(y, times), np.repeat(predicted, times))[0]
    else:
        area = area_under_curve(y, predicted, often)[0]
    return {
        "classified correctly": float(np.average((predicted >= 0.5) == (y == 1), weights=often)),
        AREA: area,
        "Brier score": error,
        MEAN: aside,
    }
