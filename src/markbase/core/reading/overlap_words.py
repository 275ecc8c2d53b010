"""Sentences about levels of a group of which no row is like one of another in a further column."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.terms import Variable
from markbase.core.errors import listed
from markbase.core.formatting import plain
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.overlap import Apart, apart_in, beyond_rows

_MOST_NAMED = 4
"""Levels that are named beside one they are apart from."""
_MOST_TOLD = 2
"""Levels that are told with those they are apart from."""


def about_overlap(fit: AnyFit, variable: Variable) -> list[str]:
    """Say of the comparisons that the coefficients of a group make which of them no two rows show, with another column of the model held equal.

    Columns in an interaction with the group are left out: where those are held is said. So are those it was cut out of.
    """
    beside = {name for term in fit.model_terms if variable.name in term.names for name in term.names}
    if variable.column.made is not None and variable.column.made.how == "cut":
        beside |= set(variable.column.made.of)
    others = [other for other in fit.variables if other.name not in beside]
    if not variable.is_categorical:
        return _told(fit, variable, others, np.eye(2, dtype=bool)[::-1]) if variable.column.two_values else []
    compared = np.zeros((variable.size, variable.size), dtype=bool)
    if variable.column.scheme == "indicator":
        compared[variable.base] = compared[:, variable.base] = True
    elif variable.column.scheme == "adjacent":
        compared = np.abs(np.subtract.outer(*[np.arange(variable.size)] * 2)) == 1
    return _told(fit, variable, others, compared)


def about_pairs(fit: AnyFit, variable: Variable) -> list[str]:
    """Say which pairs of levels of a group no two rows compare, with another column of the model held equal."""
    others = [other for other in fit.variables if other.name != variable.name]
    return _told(fit, variable, others, np.ones((variable.size, variable.size), dtype=bool))


def about_held(fit: AnyFit, variable: Variable, at: Mapping[str, float] | None = None) -> list[str]:
    """Say of which levels of a group no row reaches the value at which a numeric column that is in an interaction with it is held, though rows of others do.

    It is held at 0 unless values are given, and then nowhere else.
    """
    if not variable.is_categorical and not variable.column.two_values:
        return []
    beside = {
        v.name: v for t in fit.model_terms if variable.name in t.names for v in t.numerics if v.name != variable.name
    }
    told = []
    for other in beside.values():
        value = 0.0 if at is None else at.get(other.name, math.nan)
        low, high, _ = fit.rows_used.spread(other.name)
        found = beyond_rows(fit.rows_used, variable, other, value) if low <= value <= high else None
        if found is None or found.spans is None:
            continue
        beyond = np.flatnonzero(~np.isnan(found.spans[:, 0]))
        names = [_level(variable, found, int(k)) for k in beyond[:_MOST_NAMED]]
        if len(beyond) > _MOST_NAMED:
            names.append(f"{len(beyond) - _MOST_NAMED} more levels")
        none = " Wherever it is held, that is so of one level or another (no overlap)."
        compared = (
            f"levels of `{variable.name}` are" if variable.is_categorical else f"the values of `{variable.name}` are"
        )
        lines = "its line goes" if len(beyond) == 1 else "their lines go"
        told.append(
            f"`{other.name}` = {plain(value, 6)}, where {compared} compared, lies outside the rows of {listed(names)}: there {lines} on beyond "
            f"{'its' if len(beyond) == 1 else 'their'} rows (extrapolation).{none if found.pairs.any() and at is None else ''}"
        )
    return told


def _told(fit: AnyFit, variable: Variable, others: Iterable[Variable], compared: NDArray[np.bool_]) -> list[str]:
    if not compared.any():
        return []
    return [
        _sentence(variable, apart, apart.pairs & compared)
        for apart in apart_in(fit.rows_used, variable, others)
        if (apart.pairs & compared).any()
    ]


def _sentence(variable: Variable, apart: Apart, pairs: NDArray[np.bool_]) -> str:
    """Say which levels are apart from which: first those that most others are apart from, each pair once."""
    left = pairs.copy()
    told: list[tuple[str, str]] = []
    base = variable.base if variable.is_categorical else 0
    while left.any() and len(told) < _MOST_TOLD:
        one = int(np.argmax(2 * left.sum(axis=1) + (np.arange(len(left)) == base)))
        others = np.flatnonzero(left[one])
        left[one] = left[:, one] = False
        names = [_level(variable, apart, int(k)) for k in others[:_MOST_NAMED]]
        if len(others) > _MOST_NAMED:
            names.append(f"{len(others) - _MOST_NAMED} more levels")
        told.append((_level(variable, apart, one), listed(names, "or")))
    several = np.count_nonzero(left.any(axis=1))
    more = f" (and so for {several} more levels)" if several else ""
    if apart.spans is None:
        rows = ", nor those of ".join(f"{one} and {others}" for one, others in told)
        return (
            f"Rows of {rows} have no level of `{apart.column}` in common{more}: with it held equal they are compared through other levels only, "
            f"as if no difference depended on it."
        )
    rows = ", nor one of ".join(
        f"{one} {'' if k else 'is '}like one of {others}" for k, (one, others) in enumerate(told)
    )
    return f"In `{apart.column}` no row of {rows}{more}: with it held equal, their difference rests on the form of the model alone (no overlap)."


def _level(variable: Variable, apart: Apart, place: int) -> str:
    values = variable.column.two_values
    name = (
        f"`{variable.labels[place]}`"
        if variable.is_categorical
        else f"`{variable.name}` = {plain((values or ())[place])}"
    )
    if apart.spans is None:
        return name
    low, high = (plain(float(v)) for v in apart.spans[place])
    return f"{name} ({low})" if low == high else f"{name} ({low} to {high})"
