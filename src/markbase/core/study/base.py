"""Choosing the base of a group, by name or by rule."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from markbase.core.errors import LevelError, listed, quoted
from markbase.core.rows.row_functions import counted
from markbase.core.study.column import Base, Column

_RULES: dict[str, Callable[[NDArray[Any], NDArray[Any]], int]] = {
    "first": lambda here, _: int(here[0]),
    "largest": lambda here, n: int(here[np.argmax(n)]),
    "last": lambda here, _: int(here[-1]),
    "smallest": lambda here, n: int(here[np.argmin(n)]),
}


def choose_base(
    column: Column, base: object | None = None, by: str | None = None, reason: str = "", of: Column | None = None
) -> Base:
    """Choose the reference level of a group: a level, by label or code, or by a rule.

    The rules are ``first``, ``largest``, ``last`` or ``smallest``, among the levels that occur, or ``lowest_mean`` of
    another numeric column, `of`; ties go to the earlier level.
    """
    if (base is None) == (by is None):
        given = "both are" if base is not None else "neither is"
        raise LevelError(f"The base of `{column.name}` is chosen by `base` (a level) or `by` (a rule); {given} given.")
    if by == "lowest_mean" or of is not None:
        return _lowest_mean(column, by, of, reason)
    if by is not None:
        if by not in _RULES:
            rules = sorted([*_RULES, "lowest_mean"])
            raise LevelError(f"`{by}` is no rule for the base of `{column.name}`; there are {listed(quoted(rules))}.")
        here = np.flatnonzero(column.counts) if column.is_categorical else np.array([], dtype=int)
        if not column.is_categorical:
            column.level_at(by)  # says that a numeric column has no levels
        if not len(here):
            raise LevelError(f"`{column.name}` has no rows, so no level can be its base.")
        words = f"the {by} of its levels"
        return Base(_RULES[by](here, column.counts[here]), f"{words}; {reason}" if reason else words, chosen=True)
    place = column.level_at(base)
    if not column.counts[place]:
        raise LevelError(
            f"`{column.levels[place].label}` cannot be the base of `{column.name}`: no row has it; choose a level that occurs."
        )
    return Base(place, reason or "chosen by name", chosen=True)


def _lowest_mean(column: Column, by: str | None, of: Column | None, reason: str) -> Base:
    if by != "lowest_mean" or of is None or of.is_categorical:
        raise LevelError(
            f"The rule `lowest_mean` for `{column.name}` needs a numeric column: by='lowest_mean', of='belonging'."
        )
    if not column.is_categorical:
        column.level_at("lowest_mean")  # says that a numeric column has no levels
    both = column.present & of.present
    n = counted(column.values[both], len(column.levels))
    if not n.any():
        raise LevelError(f"No row has both `{column.name}` and `{of.name}`, so no level has a lowest mean.")
    with np.errstate(invalid="ignore"):
        means = np.bincount(column.values[both], weights=of.values[both], minlength=len(column.levels)) / n
    words = f"the level with the lowest mean of `{of.name}`"
    return Base(int(np.nanargmin(means)), f"{words}; {reason}" if reason else words, chosen=True, looked_at=of.name)
