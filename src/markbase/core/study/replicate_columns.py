"""Columns that may be the replicate weights of a survey: how they are told from others."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from markbase.core.rows.row_functions import sample_of
from markbase.core.study.column import Column
from markbase.core.study.named_alike import NUMBERED, in_order
from markbase.core.study.numeric_remarks import looks_like_weight

_MANY, _ALIKE, _TOGETHER, _FEW_MULTIPLES = 8, 0.35, 0.3, 12
"""So many numbered columns, whose mean is about that of the weights to within a share, and which go with them so far (r), may be replicate weights."""


def unused_replicates(columns: Sequence[Column], weights: Column) -> tuple[str, ...]:
    """Return the columns that may be replicate weights of some weights, of which no use is made: numbered, as large as these on average, and going with them."""
    stems: dict[str, list[Column]] = {}
    for column in columns:
        parts = NUMBERED.match(column.name)
        if parts and not column.is_categorical and column.valid and column.name != weights.name:
            stems.setdefault(parts[1], []).append(column)
    main = sample_of(weights.values)
    for own in stems.values():
        if len(own) >= _MANY and all(_like_weights(sample_of(c.values), main) for c in (own[0], own[-1])):
            return tuple(sorted((c.name for c in own), key=in_order))
    return ()


def _like_weights(values: NDArray[np.float64], main: NDArray[np.float64]) -> bool:
    both = np.isfinite(values) & np.isfinite(main)
    values, main = values[both], main[both]
    if len(values) < _MANY or values.min() < 0 or not values.mean() > 0 or not np.ptp(values) > 0:
        return False
    alike = abs(values.mean() / main.mean() - 1) < _ALIKE
    return alike and (not np.ptp(main) > 0 or float(np.corrcoef(values, main)[0, 1]) > _TOGETHER)


def replicate_columns(columns: Sequence[Column]) -> tuple[str, tuple[str, ...]]:
    """Return the weights of a sample and the columns that may be their replicate weights; an empty name, and none, where there are no such.

    Weights that neither have the role nor are called so are told by these being few multiples of them, such as 0, 1 and 2 times.
    """
    numeric = [c for c in columns if not c.is_categorical and c.valid]
    for weights in (c for c in numeric if c.role == "weight" or looks_like_weight(c)):
        if found := unused_replicates(numeric, weights):
            return weights.name, found
    by_name = {c.name: c for c in numeric}
    for weights in (c for c in numeric if c.role is None and not NUMBERED.match(c.name)):
        found = unused_replicates(numeric, weights)
        if found and all(_are_multiples(by_name[name], weights) for name in found):
            return weights.name, found
    return "", ()


def _are_multiples(column: Column, weights: Column) -> bool:
    """Return whether a column is a few multiples of some weights, not all of one value, and not one multiple throughout."""
    values, main = sample_of(column.values), sample_of(weights.values)
    there = np.isfinite(values) & np.isfinite(main) & (main > 0)
    if not there.any() or np.ptp(main[there]) == 0:
        return False
    ratios = values[there] / main[there]
    told = np.unique(np.round(ratios / ratios.max(), 3)) if ratios.max() > 0 else np.zeros(1)
    return bool(2 <= len(told) <= _FEW_MULTIPLES)
