"""Dropping terms step by step until the variance inflation is below a limit."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import pandas as pd

from markbase.core.display import ShownTables
from markbase.core.errors import MarkbaseError, near
from markbase.core.formatting import without_zero
from markbase.core.screening.screen_tables import ScreenTables
from markbase.core.screening.variance_inflation import variance_inflation
from markbase.core.tables import rows_of

_CURVES = ("cube_root", "log", "log1p", "reciprocal", "sqrt", "square")


@dataclass(frozen=True, eq=False, repr=False)
class Pruned(ShownTables):
    """What was dropped on the way below a limit, and what that costs."""

    limit: float
    """The variance inflation factor to come below."""
    steps: pd.DataFrame
    """`step`, `dropped`, `value` (its variance inflation factor; of a group the square of its comparable value)."""
    values: pd.DataFrame
    """One row a step, 0 the beginning, one column a term: all values; NaN once a term is dropped."""
    kept: tuple[str, ...]
    """The terms that are left."""
    protected: tuple[str, ...]
    """The terms that had to stay."""
    cautions: tuple[str, ...]
    """What must be read with it."""


def prune(screen: ScreenTables, limit: float, keep: Sequence[str]) -> Pruned:
    """Drop the worst term, recompute, and go on until none is above the limit.

    Of terms with the same value (equal to nine digits, or infinite) the one given last goes; those in `keep` stay.
    """
    names = [t.name for t in screen.basis.terms]
    for name in keep:
        if name not in names:
            raise MarkbaseError(f"The screening has no term `{name}` to keep.{near(name, names)}")
    if not limit > 1:
        raise MarkbaseError(
            f"The limit of the variance inflation factor is {limit!r}; it must be above 1, for instance 5."
        )
    basis, left = screen.basis, list(names)
    steps: list[dict[str, object]] = []
    values: list[dict[str, float]] = []
    cautions: list[str] = []
    while True:
        table = variance_inflation(basis.only(left)).terms if len(left) > 1 else None
        factors: dict[str, float] = dict.fromkeys(left, 1.0)
        if table is not None:
            factors = {str(r.term): float(r.comparable) ** 2 for r in rows_of(table)}
        values.append({name: factors.get(name, math.nan) for name in names})
        over = [n for n in left if factors[n] >= limit and n not in keep]
        stuck = [n for n in left if factors[n] >= limit and n in keep]
        if not over:
            if stuck:
                cautions.append(
                    f"{', '.join(f'`{n}`' for n in stuck)} {'stays' if len(stuck) == 1 else 'stay'} above {limit:g} because "
                    f"{'it is' if len(stuck) == 1 else 'they are'} protected."
                )
            break
        worst = max(over, key=lambda n: (_rounded(factors[n]), left.index(n)))
        for name in _family(screen, worst, [n for n in left if n not in keep]):
            steps.append({"step": len(steps) + 1, "dropped": name, "value": factors[name]})
            cautions += _cautions(screen, name)
            left.remove(name)
    if steps:
        cautions.append(
            "The order of dropping follows the variance inflation alone; another choice may serve the question better."
        )
    return Pruned(
        limit,
        pd.DataFrame(steps, columns=["step", "dropped", "value"]),
        pd.DataFrame(values, columns=names).rename_axis("step"),
        tuple(left),
        tuple(keep),
        tuple(cautions),
    )


def _family(screen: ScreenTables, name: str, free: list[str]) -> list[str]:
    """Return a term with the curve it is part of: what it was derived from, and what was derived from it, go together."""
    columns = {t.name: t.column for t in screen.basis.terms}

    def sources(other: str) -> tuple[str, ...]:
        made = columns[other].made
        return made.of if made is not None and made.how in _CURVES else ()

    family = [name]
    for other in free:
        shared = other in sources(name) or name in sources(other) or (set(sources(name)) & set(sources(other)))
        if other != name and shared:
            family.append(other)
    return family


def _rounded(value: float) -> float:
    return value if math.isinf(value) else float(np.format_float_scientific(value, 8))


def _cautions(screen: ScreenTables, name: str) -> list[str]:
    if screen.outcome is None:
        return []
    r, low, high = screen._with_outcome(name)
    related = abs(r) >= 0.1 if math.isnan(low) else (low > 0 or high < 0)
    if not related:
        return []
    interval = "" if math.isnan(low) else f" ({without_zero(low, 2)} to {without_zero(high, 2)})"
    return [
        f"`{name}` goes although it is related to `{screen.outcome.name}` ({without_zero(r, 2)}{interval}): what it explained is left "
        f"to the others, and their coefficients change meaning."
    ]
