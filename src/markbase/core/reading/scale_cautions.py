"""That a term is a scale with noise in it, and what that does to its coefficient and to those of others.

With reliability ρ, and R² of the regression of the scale on the other terms, the coefficient of a linear model is (ρ − R²)/(1 − R²) of that
of a measure without noise, where the noise goes with nothing and the other terms have none (Carroll, Ruppert, Stefanski & Crainiceanu
2006, Measurement Error in Nonlinear Models, 3.3.1); of a logistic one about so.
"""

from __future__ import annotations

import math

from markbase.core.formatting import without_zero
from markbase.core.results.any_fit import AnyFit
from markbase.core.study.column import Column
from markbase.core.study.consistency import Consistency, answers_alike, consistency_of

_LITTLE_LOST, _NOTHING, _SHARED = 0.7, 0.05, 0.05
"""A larger share of a coefficient is not spoken of; a smaller one is no figure; a smaller share in common with others is not told."""
_SAME_SCALE = ("centre", "unit_range", "z")


def about_noise(fit: AnyFit, column: Column, shared: float) -> list[str]:
    """Say of a sum or mean of items how much of its coefficient their noise leaves, where 30% or more goes; `shared` is R² from the other terms."""
    items = None if fit.fixed_effect_names else items_of(column)  # within levels alpha is another one
    if items is None or not items.alpha < 1:
        return []
    left = (max(items.alpha, 0.0) - shared) / (1 - shared)
    if left >= _LITTLE_LOST:
        return []
    what = "log odds ratio" if fit.family.ratios else "slope"
    size = f"about {100 * left:.0f}%" if left > _NOTHING else "next to nothing"
    common = f", of which the other terms explain {100 * shared:.0f}%" if shared >= _SHARED else ""
    others = "; what other terms share with it stays in their estimates in part" if len(fit.model_terms) > 1 else ""
    return [
        f"It is made of {len(items.names)} items with a Cronbach's alpha of {without_zero(items.alpha, 2)}{common}. If the rest is noise, its {what} is told as {size} of "
        f"that of a measure without noise (errors in variables){others}."
    ]


def items_of(column: Column) -> Consistency | None:
    """Return how the items of a scale go together, of a column that is their sum or mean, or that rescaled; None of any other."""
    while column.made is not None and column.made.how in _SAME_SCALE and column.made.sources:
        (column,) = column.made.sources
    made = column.made
    if made is None or made.how not in ("mean", "sum") or len(made.sources) < 2:
        return None
    if made.how == "sum" and not (len(made.sources) > 2 and answers_alike(made.sources)):
        return None
    found = consistency_of(made.sources)
    return None if found is None or found.fixed or math.isnan(found.alpha) else found
