"""Whether one row alone decides what is told of a coefficient: the fit without each of the rows that weigh most.

References
----------
Cook (1977), Technometrics 19(1), 15-18, doi:10.1080/00401706.1977.10489493; Pregibon (1981), Annals of Statistics 9(4), 705-724,
doi:10.1214/aos/1176345513 (logistic fits). Belsley, Kuh & Welsch (1980), Regression Diagnostics, ch. 2 (a standard error moved by one row).
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

import numpy as np

from markbase.core.checks.linear_checks import LARGE_DISTANCE, case_words, distances_of
from markbase.core.checks.logistic_checks import influence_of
from markbase.core.errors import MarkbaseError, without_remarks
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.linear import LinearFit
from markbase.core.rows.parts import in_parts
from markbase.core.tables import TableRow, records_of

_MOST_ROWS, _MOST_WORK = 1_000_000, 1e9
"""So many rows in memory, and products of two columns in a row, are gone through for it; checks look at any number."""
_MOST_CASES = 3
"""So many rows are left out, one at a time."""
_MOVES = 1.0
"""By more standard errors than this a row moves what it decides."""


class HeavyCase(NamedTuple):
    """A row that weighs much, where it decides what is told."""

    case: str
    """Which: by the identifier, or its place among the data."""
    distance: float
    """Its distance (Cook's, or Pregibon's)."""
    without: Mapping[tuple[str, str], TableRow]
    """The coefficients without it, by term and level: those whose verdict it decides, or else the one it moves most."""
    decides: bool
    """Whether it decides a verdict."""
    moves: float
    """By how many standard errors it moves the coefficient it moves most."""


@without_remarks()
def heavy_cases(fit: AnyFit) -> list[HeavyCase]:
    """Return the rows that weigh most, if leaving one out changes whether, or in which direction, a coefficient is clear, or its distance is above 1.

    At most three, the largest first; none that moves nothing by a standard error, none where rows stand for several, levels are taken out, or looking
    would take long.
    """
    columns, rows = len(fit.solution.columns) + 1, fit.sample.rows
    repeated = fit.weights is not None and fit.weights.kind == "frequency"
    if fit.exact or repeated or fit.fixed_effect_names or in_parts(fit.outcome.values):
        return []
    if rows > _MOST_ROWS or rows * columns**2 > _MOST_WORK:
        return []
    distance = distances_of(fit) if isinstance(fit, LinearFit) else influence_of(fit)
    distance = np.where(np.isnan(distance), 0.0, distance)
    most = np.argpartition(-distance, min(_MOST_CASES, rows - 1))[:_MOST_CASES]
    most = most[distance[most] * columns > _MOVES**2]  # of others no coefficient moves by so much
    each = (_without(fit, int(place), float(distance[place])) for place in most[np.argsort(-distance[most])])
    return [found for found in each if found is not None]


def _without(fit: AnyFit, place: int, distance: float) -> HeavyCase | None:
    """Return what leaving out a row decides; None where it decides nothing, and its distance is no more than 1."""
    rows = fit.sample.rows
    used = np.full(rows, True) if fit.used is None else fit.used.copy()
    used[place] = False
    try:
        other = fit.on_rows(used).coefficients
    except MarkbaseError:  # a level, or the event, is gone with it
        return None
    after = {(r["term"], r["level"]): r for r in records_of(other) if not r["base"]}
    both = [(r, after[key]) for r in records_of(fit.coefficients) if (key := (r["term"], r["level"])) in after]
    moved = {
        (b["term"], b["level"]): abs(a["estimate"] - b["estimate"]) / b["se"]
        for b, a in both
        if b["term"] != "(intercept)" and b["se"] > 0  # not of one that has no error
    }
    decided = {
        (b["term"], b["level"]): a
        for b, a in both
        if moved.get((b["term"], b["level"]), 0.0) > _MOVES and _verdict(b, fit.alpha) != _verdict(a, fit.alpha)
    }
    if not decided and not (moved and distance > LARGE_DISTANCE):
        return None
    most = max(moved, key=moved.__getitem__)
    name, (label,) = fit.identified(np.array([place]))
    return HeavyCase(case_words(name, label), distance, decided or {most: after[most]}, bool(decided), moved[most])


def _verdict(row: TableRow, alpha: float) -> int:
    """Return the direction of a coefficient that is clear, 0 of one that is not."""
    return int(np.sign(row["estimate"])) if row["p"] < alpha else 0
