"""Where a slope is told: values at which numeric columns are held, and levels or shares of groups, checked."""

from __future__ import annotations

import math
import numbers
from collections.abc import Mapping, Sequence

import numpy as np
from numpy.typing import NDArray

from markbase.core.arguments import told_value
from markbase.core.errors import LevelError, MarkbaseError, listed, near, remark
from markbase.core.formatting import plain
from markbase.core.results.estimates import Estimated

Array = NDArray[np.float64]
Places = Mapping[str, float | Sequence[float]]


def held_at(fit: Estimated, name: str, value: object) -> float | Array:
    """Return a value of a numeric column, or the shares of the levels of a group."""
    group = next((v for v in fit._groups if v.name == name), None)
    if group is None:
        if isinstance(value, numbers.Real) and not isinstance(value, bool):
            return float(value)
        raise MarkbaseError(f"`at` holds `{name}` at a number, not at {told_value(value)}.")
    if isinstance(value, str):
        if value not in group.labels:
            raise LevelError(f"`{name}` has no level `{value}` in the rows used.{near(value, group.labels)}")
        return np.asarray(np.eye(group.size)[group.labels.index(value)])
    if isinstance(value, np.ndarray) and value.shape == (group.size,):
        return value
    raise MarkbaseError(
        f"`at` holds `{name}` at one of its levels, or at the shares of all {group.size}, not at {told_value(value)}."
    )


def chosen_values(fit: Estimated, at: Places | None) -> dict[str, list[float]]:
    """Return chosen values of numeric columns as lists, checked."""
    chosen: dict[str, list[float]] = {}
    for name, given in (at or {}).items():
        fit.variable(name, "numeric")
        low, high, _ = fit.rows_used.spread(name)
        several = [given] if isinstance(given, (int, float, np.number)) else list(given)
        if not several:
            raise MarkbaseError(f"Give at least one value at which to hold `{name}`.")
        try:
            values = [float(v) for v in several]
        except (TypeError, ValueError):
            raise MarkbaseError(f"`{name}` is held at numbers, not at {given!r}.") from None
        if not all(math.isfinite(v) for v in values):
            raise MarkbaseError(f"`{name}` is held at finite numbers, not at {given!r}.")
        outside = [v for v in values if not low <= v <= high]
        if outside:
            remark(
                f"`{name}` = {listed([plain(v, 6) for v in outside])} lies outside the rows used ({plain(low, 6)} to {plain(high, 6)}): "
                f"what is told there rests on the form of the model alone."
            )
        chosen[name] = values
    return chosen
