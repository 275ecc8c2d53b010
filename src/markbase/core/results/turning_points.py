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
from markbase.core.rows.parts import in_parts

Array = NDArray[np.float64]
_FLAT = 1e-12
_GRID, _AT_ONCE = 201, 16
"""Over so many places a slope of any form is looked at, at so many together where rows are in parts."""
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
    rows = fit._sample.slopes(numeric, [{**setting, numeric: value} for value in values])
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
    half, at_once = t_quantile(fit.level, fit.df_rest), _places_at_once(fit)

    def slopes(values: Array) -> tuple[Array, Array]:
        return _told_at(fit, numeric, [{**setting, numeric: float(value)} for value in values], at_once)

    def rise(values: Array) -> Array:
        return slopes(values)[0]

    def margin(values: Array) -> Array:
        rises, errors = slopes(values)
        return np.abs(rises) - half * errors

    grid = np.linspace(low, high, _GRID)
    rises, errors = slopes(grid)
    margins = np.abs(rises) - half * errors
    near, far = 1e-7 * (high - low), 1e-5 * (high - low)
    found = []
    for k in np.flatnonzero(rises[1:] * rises[:-1] < 0):
        value = _bisect(rise, grid[k], grid[k + 1], at_once)
        around, own = slopes(value + np.array([near, -near, far, -far, 0.0]))
        steep = around[2] - around[3]
        corner = abs(around[0] - around[1]) > abs(steep) / 2  # it jumps there, as a hinge does
        se = 0.0 if corner else float(own[4] / abs(steep / (2 * far)))
        ends = []
        for way in (np.arange(k, -1, -1), np.arange(k + 1, len(grid))):
            clear = np.flatnonzero(margins[way] > 0)
            before = value if not len(clear) or clear[0] == 0 else grid[way[clear[0] - 1]]
            ends.append(
                _bisect(margin, before, grid[way[clear[0]]], at_once)
                if len(clear)
                else math.copysign(math.inf, grid[way[0]] - value)
            )
        found.append(
            {
                "value": value,
                "kind": "maximum" if steep < 0 else "minimum",
                "se": se,
                "low": value - half * se,
                "high": value + half * se,
                "fieller_low": ends[0],
                "fieller_high": ends[1],
                "inside": True,
            }
        )
    return found


def _places_at_once(fit: Estimated) -> int:
    """Return at how many places a slope is looked at together: of rows in parts at several, as each look may be a pass over them."""
    return _AT_ONCE if in_parts([v.column.values for v in fit.variables]) else 1


def _told_at(
    fit: Estimated, numeric: str, settings: Sequence[Mapping[str, float | Array]], at_once: int
) -> tuple[Array, Array]:
    """Return the slope of a numeric column at some settings, and its standard errors, shape (settings,) each."""
    columns, found = fit.solution.columns, []
    for start in range(0, len(settings), at_once):
        found.append(fit._sample.slopes(numeric, settings[start : start + at_once])[:, columns])
    chooser = np.concatenate(found)
    no_start = np.zeros(len(chooser), dtype=bool)
    return fit.inner.estimates(chooser, no_start), fit.inner.se(fit.inner.roots(chooser, no_start))


def clear_region_of(fit: Estimated, numeric: str, by: str) -> pd.DataFrame:
    """Find where, along a numeric moderator, the slope of a column is clear, as `clear_region`."""
    low, high, _ = fit.rows_used.spread(by)
    half, at_once = t_quantile(fit.level, fit.df_rest), _places_at_once(fit)

    def slopes(values: Array) -> tuple[Array, Array]:
        with np.errstate(invalid="ignore"):  # what is steep without bound in some row has no average
            return _told_at(fit, numeric, [{by: float(value)} for value in values], at_once)

    def margin(values: Array) -> Array:
        rises, errors = slopes(values)
        return np.abs(rises) - half * errors

    grid = np.linspace(low, high, _GRID)
    margins = margin(grid)
    edges = [low]
    for k in np.flatnonzero(np.sign(margins[1:]) != np.sign(margins[:-1])):
        edges.append(_bisect(margin, grid[k], grid[k + 1], at_once))
    edges.append(high)
    counted = fit.rows_used.counted_between(by, edges)
    ends, _ = slopes(np.array(edges))
    clear = margin(np.array([(a + b) / 2 for a, b in itertools.pairwise(edges)])) > 0
    return pd.DataFrame(
        {
            "from": edges[:-1],
            "to": edges[1:],
            "clear": clear,
            "slope_from": ends[:-1],
            "slope_to": ends[1:],
            "rows": list(counted),
        }
    )


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
                end = _bisect(lambda values: np.array([margin(v) for v in values]), here, there)
                break
            here, step = there, step * 1.3
        ends.append(end)
    return ends[0], ends[1]


def _bisect(margin: Callable[[Array], Array], a: float, b: float, at_once: int = 1) -> float:
    """Return where a function changes its sign between two places, looked at in several places between them at a time."""
    rising = bool(margin(np.array([b]))[0] > 0)
    for _ in range(100):
        inside = np.linspace(a, b, at_once + 2)[1:-1] if at_once > 1 else np.array([(a + b) / 2])
        inside = inside[(inside != a) & (inside != b)]
        if not len(inside):
            break
        beyond = np.flatnonzero((margin(inside) > 0) == rising)
        first = int(beyond[0]) if len(beyond) else len(inside)
        a, b = (inside[first - 1] if first else a), (inside[first] if first < len(inside) else b)
    return float((a + b) / 2)
