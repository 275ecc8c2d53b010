"""New numeric columns from one numeric column: transformations and rescaling."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from markbase.core.errors import ColumnError, count_noun
from markbase.core.formatting import plain
from markbase.core.rows.row_functions import constant, learn, look_up
from markbase.core.study.column import Column, Made, Unit
from markbase.core.study.verification import Recode, before_and_after, with_missing

Array = NDArray[np.float64]
_FEW_ROWS = 10
"""A mean of fewer rows is uncertain."""


@dataclass(frozen=True)
class _Transform:
    words: str
    compute: Callable[[Array], Array]
    allowed: Callable[[Array], NDArray[np.bool_]]
    rule: str
    instead: str
    unit: Unit | None = None


_TRANSFORMS = {
    "log": _Transform(
        "natural logarithm",
        np.log,
        lambda x: x > 0,
        "above 0",
        "log1p takes zeros, cube_root takes negatives too",
        Unit("log unit", "log units"),
    ),
    "log1p": _Transform(
        "natural logarithm of 1 + x",
        np.log1p,
        lambda x: x > -1,
        "above −1",
        "cube_root takes any number",
        Unit("log unit", "log units"),
    ),
    "sqrt": _Transform("square root", np.sqrt, lambda x: x >= 0, "0 or more", "cube_root takes any number"),
    "cube_root": _Transform("cube root", np.cbrt, np.isfinite, "finite", ""),
    "square": _Transform("square", np.square, np.isfinite, "finite", ""),
    "reciprocal": _Transform(
        "reciprocal, 1/x",
        lambda x: 1 / x,
        lambda x: x != 0,
        "other than 0",
        "log1p takes zeros",
    ),
}
RESCALINGS = ("centre", "unit_range", "z")
LEVEL_MEAN = "level_mean"
"""The mean of a column in the level of each row, as a column of its own."""
TRANSFORMS = tuple(_TRANSFORMS)


def transform(column: Column, how: str, name: str) -> Recode:
    """Transform a numeric column (one of `TRANSFORMS`), with the skew before and after.

    Raises a `ColumnError` that says how many values cannot be transformed, and what would do instead.
    """
    step = _TRANSFORMS[how]
    check_numeric(column, how)
    x = column.values
    wrong = column.present & ~np.where(column.present, step.allowed(np.where(column.present, x, 1.0)), True)
    if wrong.any():
        low = float(x[wrong].min())
        raise ColumnError(
            f"The {step.words} of `{column.name}` needs values {step.rule}, and {count_noun(int(wrong.sum()), 'row')} "
            f"{'is' if wrong.sum() == 1 else 'are'} not (the lowest {plain(low)}): {step.instead}; or blank them if they are codes."
        )
    values = np.where(column.present, step.compute(np.where(column.present, x, 1.0)), np.nan)
    new = Column(
        name,
        "numeric",
        values,
        label=f"{step.words} of {column.label or column.name}",
        unit=step.unit,
        made=Made(how, (column.name,), (column,)),
    )
    new = with_missing(new, column)
    check = before_and_after(column, new, _skews(column, new))
    return Recode(new, check, f"Made `{name}`, the {step.words} of `{column.name}` ({'; '.join(check.notes)}).")


def rescale(column: Column, how: str, name: str, within: Column | None) -> Recode:
    """Centre a numeric column, or rescale it to standard deviations or to its range, each level of a group by its own.

    ``centre`` is less its mean, ``z`` less its mean and over its standard deviation with n − 1, ``unit_range`` 0 at its
    lowest and 1 at its highest value. The rows its mean and spread were taken from are in the notes.
    """
    check_numeric(column, how)
    two = column.two_values
    if how == "z" and two is not None:
        raise ColumnError(
            f"`{column.name}` has two values only, {plain(two[0])} and {plain(two[1])}: a standard deviation of such an "
            f"indicator is no step anybody takes; leave it as it is, or declare it categorical."
        )
    if not column.span[0] < column.span[1]:
        raise ColumnError(f"`{column.name}` does not vary, so it cannot be rescaled.")
    if within is not None and not within.is_categorical:
        raise ColumnError(f"`{within.name}` is numeric; rescaling goes within the levels of a group.")
    present = column.present if within is None else column.present & within.present
    if within is None:
        codes, levels = constant(0, column.values).astype(np.intp), 1
    else:
        codes, levels = np.maximum(within.values, 0).astype(np.intp), len(within.levels)
    middle, spread, flat = _by_level(column.values[present], codes[present], levels, how)
    with np.errstate(divide="ignore", invalid="ignore"):
        rescaled = (column.values - look_up(middle, codes)) / look_up(spread, codes)
    stuck = present & ~np.isfinite(rescaled)
    values = np.where(present & ~stuck, rescaled, np.nan)
    units = {
        "centre": column.unit or Unit("unit", "units"),
        "z": Unit("standard deviation", "standard deviations"),
        "unit_range": Unit("whole range", "whole ranges"),
    }
    words = {"centre": "centred", "z": "in standard deviations", "unit_range": "on its range, 0 to 1"}[how]
    whose = f"within the levels of `{within.name}`" if within else "over the whole sample"
    new = Column(
        name,
        "numeric",
        values,
        label=f"{column.label or column.name}, {words}",
        unit=units[how],
        made=Made(how, (column.name,), (column,), () if within else (float(middle[0]), float(spread[0]))),
    )
    reasons = {f"constant within its `{within.name}`": stuck} if within else {}
    if within is not None:
        reasons[f"`{within.name}` missing"] = column.present & ~within.present
    new = with_missing(new, column, reasons)
    notes = [f"mean and spread from {count_noun(int(present.sum()), 'row')}, {whose}"]
    if within is None:
        notes.append(_taken(how, float(middle[0]), float(spread[0])))
    if flat:
        notes.append(
            f"{count_noun(flat, 'level')} of `{within.name if within else ''}` too small or constant: left missing"
        )
    text = f"Made `{name}`, `{column.name}` {words} {whose} ({'; '.join(notes)})."
    return Recode(new, before_and_after(column, new, tuple(notes)), text)


def level_mean(column: Column, name: str, within: Column | None) -> Recode:
    """Make a column of the mean of another in the level of a group that each row has, its own value among those that count."""
    check_numeric(column, LEVEL_MEAN)
    if within is None or not within.is_categorical:
        raise ColumnError(
            f"A `{LEVEL_MEAN}` of `{column.name}` is that of its levels in a group: name one as `within`"
            + (f"; `{within.name}` is numeric." if within is not None else ".")
        )
    present = column.present & within.present
    if not np.any(present):
        raise ColumnError(f"No row has a value in both `{column.name}` and `{within.name}`.")
    codes = np.maximum(within.values, 0).astype(np.intp)
    counts = np.bincount(codes[present], minlength=len(within.levels))
    middle, _, _ = _by_level(column.values[present], codes[present], len(within.levels), "centre")
    there = within.present & look_up(counts > 0, codes)
    new = Column(
        name,
        "numeric",
        np.where(there, look_up(middle, codes), np.nan),
        label=f"mean of {column.label or column.name} in its {within.label or within.name}",
        unit=column.unit,
        made=Made("level mean", (column.name, within.name)),
    )
    new = with_missing(new, within, {f"no value of `{column.name}` in its `{within.name}`": within.present & ~there})
    own = counts[counts > 0]
    notes = [f"of {count_noun(len(own), 'level')} with {own.min():,} to {own.max():,} rows each"]
    if (few := int(np.sum(own < _FEW_ROWS))) > 0:
        notes.append(
            f"{count_noun(few, 'level')} {'has' if few == 1 else 'have'} fewer than {_FEW_ROWS} rows, whose means are uncertain"
        )
    text = f"Made `{name}`, the mean of `{column.name}` in each level of `{within.name}` ({'; '.join(notes)})."
    verified = before_and_after(column, new, tuple(notes))
    total = float(
        np.sum(np.where(present & there, new.values, 0.0))
    )  # the means of the rows that have a value add up to their values
    right = math.isclose(
        total,
        float(np.sum(column.values[present])),
        rel_tol=1e-9,
        abs_tol=1e-9 * max(map(abs, column.span)) * int(present.sum()),
    )
    return Recode(new, replace(verified, passed=right and bool(np.all((new.reasons() > 0) == ~new.present))), text)


def _by_level(x: Array, codes: NDArray[np.intp], levels: int, how: str) -> tuple[Array, Array, int]:
    """Return what to take off and by what to divide, shape (levels,), and how many levels cannot be rescaled."""
    n = np.bincount(codes, minlength=levels)
    if how == "unit_range":
        each = [x] if levels == 1 else [x[codes == k] for k in range(levels)]
        learn(each)
        low = np.array([v.min(initial=np.inf) for v in each])
        high = np.array([v.max(initial=-np.inf) for v in each])
        spread = high - low
        return low, spread, int(np.sum((n > 0) & ~(spread > 0)))
    with np.errstate(divide="ignore", invalid="ignore"):
        centre = x.mean()  # sums of deviations keep their digits when the values are far from 0
        mean = centre + np.bincount(codes, weights=x - centre, minlength=levels) / n
        if how == "centre":
            return mean, np.ones(levels), 0
        sd = np.sqrt(np.bincount(codes, weights=(x - look_up(mean, codes)) ** 2, minlength=levels) / (n - 1))
    return mean, sd, int(np.sum((n > 0) & ~(sd > 0)))


def _taken(how: str, middle: float, spread: float) -> str:
    if how == "centre":
        return f"0 is {plain(middle, 6)}"
    if how == "z":
        return f"0 is {plain(middle, 6)}, one standard deviation is {plain(spread, 6)}"
    return f"0 is {plain(middle, 6)}, 1 is {plain(middle + spread, 6)}"


def _skews(column: Column, new: Column) -> tuple[str, ...]:
    table = before_and_after(column, new).table.set_index("measure")[["before", "after"]]
    before, after = table.loc["skew"].to_numpy(dtype=np.float64).tolist()
    return (f"skew {before:+.2f} before, {after:+.2f} after".replace("-", "−"),)


def check_numeric(column: Column, how: str) -> None:
    """Refuse a group, or a numeric column that cannot be used, with the reason; `how` says what was to be done with it."""
    if column.is_categorical:
        reason = (
            "an indicator has no standard deviation anybody steps by, and a group no order of values"
            if how in RESCALINGS
            else "a group has no values to compute with; give its levels numbers first, if they have an order"
        )
        raise ColumnError(f"`{column.name}` is categorical, so `{how}` is refused: {reason}.")
    if column.fault:
        raise ColumnError(column.fault)
    if np.isinf(column.span).any():
        raise ColumnError(f"`{column.name}` holds infinite values; blank them before `{how}`.")
