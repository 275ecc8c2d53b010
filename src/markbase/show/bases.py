"""A result told from every other base of its groups, for pages on which the reader chooses."""

from __future__ import annotations

from collections.abc import Callable

from markbase.core.comparison.blocks import Blocks
from markbase.core.formatting import without_zero
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.linear import LinearFit
from markbase.show.html import Version, Versions
from markbase.show.page import Page

MOST_LEVELS = 12
"""Groups of more levels are told from the base chosen alone."""
_MOST_ROWS = 2_500
"""How many rows the tables of coefficients from all other bases may have together: the groups further on are told from their own alone."""
_MOST_PASSES = 3_000_000
"""How many rows, each as often as its fit is told again, may be gone over for a logistic fit."""


def versions_of(made: AnyFit | Blocks, pages: Callable[[AnyFit | Blocks, str], tuple[Page, ...]]) -> Versions:
    """Tell the pages of an analysis from every other base of its groups, one at a time.

    None at which nothing can be told, none of a group of many levels, or coded otherwise than against a base, nor of groups further on where a model has very
    many; none at all of a logistic fit of so many rows that going over them for every base would take long.
    """
    fit = made.last if isinstance(made, Blocks) else made
    groups = [v for v in fit.variables if v.is_categorical]
    told = [v for v in groups if v.size <= MOST_LEVELS and v.column.scheme == "indicator"]
    rows = len(fit.coefficient_map.rows)
    told = [v for k, v in enumerate(told) if rows * sum(g.size - 1 for g in told[: k + 1]) <= _MOST_ROWS]
    own = ", ".join(f"{v.name} {v.base_label}" for v in groups)
    passes = fit.sample.used * sum(v.size - 1 for v in told) * len(groups)
    if fit.family.curved and passes > _MOST_PASSES:
        return Versions(own, (), _same(fit))
    others = [
        (v.name, label) for v in told for label in v.labels if label != v.base_label and _starts(fit, v.name, label)
    ]
    again = (Version(name, label, pages(made.rebase(name, label), name)) for name, label in others)
    return Versions(own, tuple(again), _same(fit))


def _starts(fit: AnyFit, group: str, label: str) -> bool:
    """Return whether the equation has a start at another base of a group: some row has all bases of an interaction."""
    return bool(fit.rebase(group, label).coefficient_map.known[0])


def _same(fit: AnyFit) -> str:
    """Say what the choice of a base leaves as it is."""
    if isinstance(fit, LinearFit):
        within = fit.strength.r2_within
        strength = (
            f"R² within ({without_zero(within)})" if within is not None else f"R² ({without_zero(fit.strength.r2)})"
        )
    else:
        strength = f"The deviance, McFadden R² ({without_zero(fit.strength.mcfadden)})"
    return f"{strength} and every prediction are the same from each base; what changes is only the comparison that is told."
