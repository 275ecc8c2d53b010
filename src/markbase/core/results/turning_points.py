"""Where curves turn, and where along a moderator a slope is clear.

References
----------
Aiken & West (1991), Multiple Regression: Testing and Interpreting Interactions, ch. 2-5.
Cohen, Cohen, West & Aiken (2003), Applied Multiple Regression/Correlation Analysis for the Behavioral Sciences, 3rd ed.,
ch. 6-7 and 9, doi:10.4324/9780203774441.
Fieller (1954), Journal of the Royal Statistical Society B 16(2), 175-185, doi:10.1111/j.2517-6161.1954.tb00159.x.
Johnson & Neyman (1936), Statistical Research Memoirs 1, 57-93.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.display import Shown
from markbase.core.errors import FitError
from markbase.core.formatting import plain, short
from markbase.core.inference.distributions import t_quantile
from markbase.core.results.estimates import Estimated

Array = NDArray[np.float64]
_FLAT = 1e-12
CORNER = "a corner, which the form of the term sets and the rows do not"
"""What a turning point is whose place is not estimated."""
_EVEN = 1e-7
"""A slope that differs less from a quadratic, as a share of its largest size, is one."""


@dataclass(frozen=True, repr=False)
class TurningPoint(Shown):
    """Where a curve turns, with its intervals."""

    numeric: str
    """The column."""
    value: float
    """Where its slope is 0."""
    kind: str
    """``maximum`` or ``minimum``."""
    low: float
    """Lower end of the interval by the delta method."""
    high: float
    """Its upper end."""
    fieller_low: float
    """Lower end of Fieller's interval, all places whose slope may be 0; −infinite where it has none."""
    fieller_high: float
    """Its upper end; infinite where it has none."""
    inside: bool
    """Whether it lies inside the rows used."""
    lowest: float
    """The lowest value in the rows used."""
    highest: float
    """The highest."""
    level: float
    """Confidence level."""

    @property
    def text(self) -> str:
        """What it says, as a sentence."""
        percent = f"{short(100 * self.level, 4)}% CI"
        bounded = math.isfinite(self.fieller_low) and math.isfinite(self.fieller_high)
        interval = (
            CORNER
            if self.fieller_low == self.fieller_high
            else f"{percent} {plain(self.fieller_low, 4)} to {plain(self.fieller_high, 4)}, Fieller"
            if bounded
            else f"{percent} unbounded: the bend is not clear enough to say where the curve turns"
        )
        where = (
            "inside the rows used"
            if self.inside
            else f"outside the rows used ({plain(self.lowest, 4)} to {plain(self.highest, 4)}), so that no row shows the turn"
        )
        return f"The curve of `{self.numeric}` has its {self.kind} at {plain(self.value, 4)} ({interval}), {where}."


def turning_points_of(fit: Estimated, numeric: str, by: str | None, depends: Sequence[str]) -> pd.DataFrame:
    """Find where the curve of a numeric column turns, as `turning_points`; its slope depends on these columns."""
    fit.variable(numeric, "numeric")
    if numeric not in depends:
        raise FitError(
            f"The model has a straight line in `{numeric}`, which does not turn; add a polynomial of it to the terms."
        )
    group = fit.variable(by, "categorical") if by is not None else None
    found = []
    for level in range(group.size) if group else [None]:
        setting: dict[str, float | Array] = {}
        if group is not None and level is not None:
            setting[group.name] = np.eye(group.size)[level]
        label = group.labels[level] if group is not None and level is not None else ""
        found += [{"level": label, **point} for point in _turns(fit, numeric, setting)]
    columns = ["level", "value", "kind", "se", "low", "high", "fieller_low", "fieller_high", "inside"]
    return pd.DataFrame(found, columns=columns)


def turning_point_of(fit: Estimated, numeric: str, table: pd.DataFrame) -> TurningPoint:
    """Return the one place where a curve turns, of a table of such places."""
    if len(table) != 1:
        raise FitError(
            f"The curve of `{numeric}` turns {'nowhere in the rows used' if not len(table) else f'{len(table)} times'}; `turning_points` lists them, and "
            f"`simple_slopes` tells its slope at chosen values."
        )
    low, high, _ = fit.rows_used.spread(numeric)
    row = table.iloc[0]
    return TurningPoint(
        numeric,
        float(row["value"]),
        str(row["kind"]),
        float(row["low"]),
        float(row["high"]),
        float(row["fieller_low"]),
        float(row["fieller_high"]),
        bool(row["inside"]),
        low,
        high,
        fit.level,
    )


def _slope_polynomial(
    fit: Estimated, numeric: str, setting: Mapping[str, float | Array]
) -> tuple[Array, Array, float, float] | None:
    """Return the slope as a quadratic in (value − mean)/sd: its three coefficients, their covariance, the mean and the sd; None where it is none."""
    mean, sd = fit.rows_used.middle(numeric), fit.rows_used.spread(numeric)[2]
    values = [*(mean + sd * u for u in (-1.0, 0.0, 1.0, -0.5, 0.5)), *fit.rows_used.spread(numeric)[:2]]
    rows = np.array([fit._sample.slope(numeric, {**setting, numeric: value}) for value in values])
    powers = np.vander((np.array(values) - mean) / sd, 3, increasing=True)  # of the places as they are, once rounded
    combos = np.linalg.inv(powers[:3]) @ rows[:3]
    if not np.all(np.abs(powers @ combos - rows) <= _EVEN * np.abs(rows).max(axis=0)):
        return None  # of a logarithm beside its source, a ratio, a hinge
    chooser, starts = combos[:, fit.solution.columns], np.zeros(3, dtype=bool)
    return (
        fit.inner.estimates(chooser, starts),
        fit.inner.covariance(fit.inner.roots(chooser, starts)),
        mean,
        sd,
    )


def _turns(fit: Estimated, numeric: str, setting: Mapping[str, float | Array]) -> list[dict[str, Any]]:
    polynomial = _slope_polynomial(fit, numeric, setting)
    if polynomial is None:
        return _turns_in_rows(fit, numeric, setting)
    c, V, mean, sd = polynomial
    lowest, highest, _ = fit.rows_used.spread(numeric)
    size = float(np.abs(c).max())
    if abs(c[2]) <= _FLAT * size:
        roots = np.array([-c[0] / c[1]]) if abs(c[1]) > _FLAT * size else np.zeros(0)
    else:
        within = c[1] ** 2 - 4 * c[0] * c[2]
        if within < 0:
            return []
        q = -(c[1] + math.copysign(math.sqrt(within), c[1])) / 2
        roots = np.sort(np.array([q / c[2], c[0] / q] if q else [0.0]))
    half = t_quantile(fit.level, fit.df_rest)
    found = []
    for u in roots:
        steep = c[1] + 2 * c[2] * u
        powers = np.array([1.0, u, u * u])
        se = math.sqrt(max(float(powers @ V @ powers), 0.0)) / abs(steep) if steep else math.inf
        ends = _region_around(u, lambda v: _clear(c, V, v, half))
        value = mean + sd * u
        found.append(
            {
                "value": value,
                "kind": "maximum" if steep < 0 else "minimum",
                "se": sd * se,
                "low": value - half * sd * se,
                "high": value + half * sd * se,
                "fieller_low": mean + sd * ends[0],
                "fieller_high": mean + sd * ends[1],
                "inside": bool(lowest <= value <= highest),
            }
        )
    return found


def _turns_in_rows(fit: Estimated, numeric: str, setting: Mapping[str, float | Array]) -> list[dict[str, Any]]:
    """Find where a slope of any form is 0 within the rows used; what it does outside them is not looked at."""
    low, high, _ = fit.rows_used.spread(numeric)
    half = t_quantile(fit.level, fit.df_rest)

    def slope(value: float) -> tuple[float, float]:
        chooser = fit._sample.slope(numeric, {**setting, numeric: value})[None, fit.solution.columns]
        no_start = np.zeros(1, dtype=bool)
        variance = fit.inner.covariance(fit.inner.roots(chooser, no_start))[0, 0]
        return float(fit.inner.estimates(chooser, no_start)[0]), math.sqrt(max(float(variance), 0.0))

    def margin(value: float) -> float:
        rise, se = slope(value)
        return abs(rise) - half * se

    grid = np.linspace(low, high, 201)
    slopes = np.array([slope(value)[0] for value in grid])
    found = []
    for k in np.flatnonzero(slopes[1:] * slopes[:-1] < 0):
        value = _bisect(lambda v: slope(v)[0], grid[k], grid[k + 1])
        near, far = (slope(value + h)[0] - slope(value - h)[0] for h in (1e-7 * (high - low), 1e-5 * (high - low)))
        corner = abs(near) > abs(far) / 2  # it jumps there, as a hinge does
        se = 0.0 if corner else slope(value)[1] / abs(far / (2e-5 * (high - low)))
        ends = []
        for way in (grid[k::-1], grid[k + 1 :]):
            clear = np.flatnonzero([margin(v) > 0 for v in way])
            before = value if not len(clear) or clear[0] == 0 else way[clear[0] - 1]
            ends.append(
                _bisect(margin, before, way[clear[0]]) if len(clear) else math.copysign(math.inf, way[0] - value)
            )
        found.append(
            {
                "value": value,
                "kind": "maximum" if far < 0 else "minimum",
                "se": se,
                "low": value - half * se,
                "high": value + half * se,
                "fieller_low": ends[0],
                "fieller_high": ends[1],
                "inside": True,
            }
        )
    return found


def clear_region_of(fit: Estimated, by: str, slope_at: Callable[[float], tuple[float, float]]) -> pd.DataFrame:
    """Find where, along a numeric moderator, the slope of a column is clear, as `clear_region`; the slope and its error are told at a value."""
    low, high, _ = fit.rows_used.spread(by)
    half = t_quantile(fit.level, fit.df_rest)

    def margin(value: float) -> float:
        slope, se = slope_at(value)
        return abs(slope) - half * se

    grid = np.linspace(low, high, 201)
    margins = np.array([margin(v) for v in grid])
    edges = [low]
    for k in np.flatnonzero(np.sign(margins[1:]) != np.sign(margins[:-1])):
        edges.append(_bisect(margin, grid[k], grid[k + 1]))
    edges.append(high)
    counted = fit.rows_used.counted_between(by, edges)
    records = []
    for (a, b), rows in zip(itertools.pairwise(edges), counted, strict=True):
        records.append(
            {
                "from": a,
                "to": b,
                "clear": bool(margin((a + b) / 2) > 0),
                "slope_from": slope_at(a)[0],
                "slope_to": slope_at(b)[0],
                "rows": rows,
            }
        )
    return pd.DataFrame(records)


def _clear(c: Array, V: Array, u: float, half: float) -> float:
    """Return by how much the squared slope at a place exceeds what its error allows."""
    powers = np.array([1.0, u, u * u])
    return float(powers @ c) ** 2 - half**2 * float(powers @ V @ powers)


def _region_around(u: float, margin: Callable[[float], float]) -> tuple[float, float]:
    """Return the stretch around a root in which the slope may be 0, by steps and bisection; infinite where it does not end."""
    ends = []
    for way in (-1.0, 1.0):
        step, here = 1e-3, u
        end = way * math.inf
        while step < 1e6:
            there = u + way * step
            if margin(there) > 0:
                end = _bisect(margin, here, there)
                break
            here, step = there, step * 1.3
        ends.append(end)
    return ends[0], ends[1]


def _bisect(margin: Callable[[float], float], a: float, b: float) -> float:
    """Return where a function changes its sign between two places."""
    rising = margin(b) > 0
    for _ in range(100):
        middle = (a + b) / 2
        if middle in (a, b):
            break
        if (margin(middle) > 0) == rising:
            b = middle
        else:
            a = middle
    return (a + b) / 2
