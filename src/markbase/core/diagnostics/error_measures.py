"""How far predictions are off: squared errors, the mean error, the calibration slope, and for an event the share classified correctly and the area under the curve."""

from __future__ import annotations

import math

import numpy as np
import scipy.special as sp
from numpy.typing import NDArray

from markbase.core.diagnostics.classification import area_of_cells, area_under_curve, cells_of
from markbase.core.rows.parts import in_parts
from markbase.core.rows.row_functions import learn

Array = NDArray[np.float64]
AREA = "area under the curve"
ROOT_MEAN_SQUARED = "root mean squared error"
MEAN = "mean error"
SLOPE = "calibration slope"
_NOTHING = 1e-12
"""A mean error of so little of the root mean squared one is rounding."""
_STEPS, _STEEPEST = 40, 1e3
_EDGE = 1e-14


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
    predicted). Of `shares`: classified correctly at .5, area under the curve, Brier score, mean error. Of both the calibration slope. `often` says with how much each row counts, and `repeated` whether
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
            SLOPE: calibration_slope(shares, y, predicted, often),
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
        SLOPE: calibration_slope(shares, y, predicted, often),
    }


def calibration_slope(shares: bool, y: Array, predicted: Array, often: Array | None) -> float:
    """Return the slope of what was observed on what was predicted: 1 where predictions are as far apart as they should be, less where further.

    Of `shares` it is that of the log odds of the event on those predicted, by maximum likelihood (Cox 1958, Biometrika 45(3-4), 562-565,
    doi:10.2307/2333203). NaN where predictions are all alike, or part the two sides.
    """
    x = _log_odds(predicted) if shares else predicted
    learn([x, y])
    middle = float(np.average(x, weights=often))
    x = x - middle
    scale = math.sqrt(float(np.average(x**2, weights=often)))
    if not scale > _NOTHING * (1 + abs(middle)):
        return math.nan
    x = x / scale
    if not shares:
        return float(np.average(x * y, weights=often)) / scale
    at, step, height = np.array([middle, scale]), np.zeros(2), -math.inf
    for _ in range(_STEPS):
        eta = at[0] + at[1] * x
        p = sp.expit(eta)
        miss, curve = y - p, p * (1 - p)
        sums = [y * eta - np.logaddexp(0, eta), miss, miss * x, curve, curve * x, curve * x**2]
        learn(sums)
        reached, a, b, aa, ab, bb = (float(np.average(values, weights=often)) for values in sums)
        if reached < height - _NOTHING * abs(height):  # too far: half the step
            step = step / 2
            at = at - step
            continue
        room, height = aa * bb - ab**2, reached
        if not room > 0 or abs(at[1]) > _STEEPEST * scale:  # they part the two sides
            return math.nan
        step = np.array([bb * a - ab * b, aa * b - ab * a]) / room
        at = at + step
        if np.abs(step).sum() < _NOTHING * (1 + abs(at[1])):
            return float(at[1]) / scale
    return math.nan  # they are nowhere near an end


def _log_odds(p: Array) -> Array:
    inside = np.clip(p, _EDGE, 1 - _EDGE)
    odds: Array = np.log(inside / (1 - inside))
    return odds
