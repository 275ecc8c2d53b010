"""Profiles that name what columns of a model were made of, instead of these: kilometres, where the model has their logarithm."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.terms import Variable
from markbase.core.errors import ColumnError, MarkbaseError, listed, near, quoted
from markbase.core.study.column import Column
from markbase.core.study.derived_values import origins, value_of

Array = NDArray[np.float64]


def in_columns_of_the_model(variables: Mapping[str, Variable], profile: Mapping[str, Any]) -> dict[str, Any]:
    """Return a profile in which columns outside a model stand as those of the model that were made of them.

    Raises a `ColumnError` for a column of which none was made, and a `MarkbaseError` where another one it was made of is not
    given, where it is given as well, and where it is not defined.
    """
    own = {name: value for name, value in profile.items() if name in variables}
    others = {name: value for name, value in profile.items() if name not in variables}
    used: set[str] = set()
    for name, variable in variables.items() if others else ():
        mine, rest = origins(variable.column, others)
        if not mine:
            continue
        used.update(mine)
        told = f"`{name}` was made of {listed(quoted([*mine, *rest]))}"
        if name in own:
            raise MarkbaseError(f"{told}: a profile gives it, or what it was made of, and not both.")
        lacking = [n for n in rest if n not in profile]
        if lacking:
            raise MarkbaseError(
                f"{told}: a profile that gives {listed(quoted(mine))} gives {listed(quoted(lacking))} too."
            )
        value = float(_computed(variable.column, {n: _number(n, profile[n]) for n in (*mine, *rest)}))
        if not np.isfinite(value):
            at = listed([f"`{n}` = {profile[n]}" for n in (*mine, *rest)])
            raise MarkbaseError(f"{told}, and is not defined at {at}.")
        own[name] = value
    for name in others:
        if name not in used:
            raise ColumnError(f"The model has no column `{name}`.{near(name, list(variables))}")
    return own


def columns_that_tell(variables: Mapping[str, Variable], names: set[str]) -> set[str]:
    """Return which columns of a table of profiles a model uses: its own, and those of which it has one that is made of them alone."""
    found = names & variables.keys()
    for name, variable in variables.items():
        mine, rest = origins(variable.column, names)
        if name not in names and not rest:
            found |= set(mine)
    return found


def _number(name: str, value: Any) -> float:
    try:
        number = float(value)
    except (TypeError, ValueError):
        number = np.nan
    if not np.isfinite(number):
        raise MarkbaseError(f"`{name}` is numeric, and {value!r} in a profile is no number.")
    return number


def _computed(column: Column, numbers: Mapping[str, float]) -> Array:
    if column.name in numbers or column.made is None:
        return np.asarray(numbers[column.name])
    found = value_of(column.made, [_computed(source, numbers) for source in column.made.sources])
    assert found is not None  # `origins` goes through what can be computed again
    return found
