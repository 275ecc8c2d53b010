"""Where the steps towards the largest likelihood begin: at no effects, or at the maximum of a part of the rows."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.coefficient_map import design_columns
from markbase.core.design.cross_products import gather_sums
from markbase.core.design.moments import Moments
from markbase.core.design.terms import CodedColumns, Term
from markbase.core.estimation.least_squares_solution import Dependent
from markbase.core.estimation.likelihood import Likelihood
from markbase.core.estimation.likelihood_points import Passed, Point, Theta
from markbase.core.estimation.newton import Maximum, maximise
from markbase.core.estimation.third_order import Bend
from markbase.core.rows.parts import in_parts
from markbase.core.rows.row_functions import kept_rows

Array = NDArray[np.float64]
_SAMPLE_ROWS = 1 << 15
_MANY_ROWS = 200_000
_NEAR_ENOUGH = 0.1
"""A squared step, in standard errors, at which the maximum of a part of the rows is left for that of all."""
_ROWS_A_COLUMN = 20
"""So many rows of a part for each column tell where the maximum of all of them is about."""


@dataclass(frozen=True, eq=False)
class FirstPass:
    """What a first pass over rows in parts tells: their sums, and the likelihood where a part of them has its maximum."""

    moments: Moments
    """Sums of the columns, as `gather_sums` takes them."""
    columns: NDArray[np.intp]
    """The inner columns of the part."""
    few: Likelihood
    """The part."""
    point: Point
    """The likelihood of all rows at the maximum of the part."""
    passed: Passed
    """What each row contributes there."""
    rows: int
    """How many all rows are."""

    @classmethod
    def of(
        cls,
        terms: Sequence[Term],
        blocks: Sequence[CodedColumns],
        event: Array,
        used: NDArray[np.bool_] | None,
        weights: Array | None,
    ) -> FirstPass | None:
        """Take it; None where rows are in memory or few, or where the rows kept in memory do not tell all coefficients."""
        rows = many_rows(event, used) if in_parts(event) else 0
        if not rows:
            return None
        kept = kept_rows(list(blocks), event, used, weights)
        moments = gather_sums(*kept[:3])
        few = Likelihood(kept[0], kept[1], kept[2], kept[3], moments)
        few = few if few.used is None else few.part(np.flatnonzero(few.used))
        columns = design_columns(terms, moments)
        enough = len(few.event) >= _ROWS_A_COLUMN * (1 + len(columns))
        if not enough or len(few.telling(few.level_columns)) < len(few.level_columns):
            return None
        found = _maximum_of(few, columns)
        if found is None:
            return None
        every = Likelihood(blocks, event, used, weights, moments)
        sums, point, passed = every.first_pass_at(found.point.theta)
        return cls(sums, columns, few, point, passed, rows)

    def at(self, columns: NDArray[np.intp]) -> tuple[Point, Passed] | None:
        """Return the point by the inner columns of all rows: another level of a group may be the most populous of all of them."""
        if np.array_equal(columns, self.columns):
            return self.point, self.passed
        found = _maximum_of(self.few, columns)
        return None if found is None else (replace(self.point, theta=found.point.theta), self.passed)

    @property
    def bend(self) -> Bend:
        """How the slope bends, by the part."""
        return Bend(self.few, self.rows / len(self.few.event))


def many_rows(event: Array, used: NDArray[np.bool_] | None) -> int:
    """Return how many rows are used, where they are so many that the maximum of a part of them is looked for first; else 0."""
    rows = len(event) if used is None else int(np.count_nonzero(used))
    return rows if rows > _MANY_ROWS else 0


def no_effects(rows: Likelihood) -> Theta:
    """Return where to begin if nothing is known: no effects at all."""
    inside = slice(None) if rows.used is None else rows.used
    rate = float(np.average(rows.event[inside], weights=None if rows.weights is None else rows.weights[inside]))
    return Theta(math.log(rate / (1 - rate)), np.zeros(rows.moments.cross.shape[0]))


def from_a_part(rows: Likelihood, columns: NDArray[np.intp], inside: int) -> Maximum | None:
    """Return about the maximum of a part of the rows, with the curvature as it is expected of all of them; None if it has none."""
    step = inside // _SAMPLE_ROWS
    if in_parts(rows.event):
        few = rows.kept()
    else:
        few = rows.part(slice(None, None, step) if rows.used is None else np.flatnonzero(rows.used)[::step])
    there = few.telling(columns)  # a level may be missing in the part, or decided
    found = _maximum_of(few, there, _NEAR_ENOUGH)
    if found is None or found.information is None or len(there) < len(columns):
        return found and replace(found, information=None)
    information = replace(found.information, root=found.information.root * math.sqrt(len(few.event) / inside))
    return replace(found, information=information)


def _maximum_of(few: Likelihood, columns: NDArray[np.intp], done: float = 0.0) -> Maximum | None:
    if few.event.min() == few.event.max():
        return None  # the event happens in no row of the part, or in every one
    try:
        found = maximise(few, columns, no_effects(few), done=done)
    except (Dependent, np.linalg.LinAlgError):
        return None
    return found if found.status == "converged" else None
