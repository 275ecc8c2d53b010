"""The functions behind derived columns: their values and derivatives, for predictions in which the sources are set."""

from __future__ import annotations

from collections.abc import Callable, Container, Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from markbase.core.rows.row_functions import sum_of
from markbase.core.study.column import Column, Made
from markbase.core.study.expressions import computed, differing_with, read, with_slopes

Array = NDArray[np.float64]


class _Function(NamedTuple):
    value: Callable[..., Array]
    """Of the sources and the parameters, the value."""
    slopes: Callable[..., Sequence[Array | float]]
    """Of the same, the derivative by each source."""


def _answered(xs: Sequence[Array]) -> Array:
    """Return how many items each row has."""
    found: Array = sum_of([np.where(np.isnan(x), 0.0, 1.0) for x in xs])
    return found


def _mean(xs: Sequence[Array], needed: Sequence[float]) -> Array:
    """Return the mean of the items that are answered, NaN where fewer are than are needed (all, unless it is said)."""
    answered = _answered(xs)
    total = sum_of([np.where(np.isnan(x), 0.0, x) for x in xs])
    found: Array = np.where(answered >= (needed[0] if needed else len(xs)), total / answered, np.nan)
    return found


_FUNCTIONS: dict[str, _Function] = {
    "log": _Function(lambda xs, _: np.log(xs[0]), lambda xs, _: [1 / xs[0]]),
    "log1p": _Function(lambda xs, _: np.log1p(xs[0]), lambda xs, _: [1 / (1 + xs[0])]),
    "sqrt": _Function(lambda xs, _: np.sqrt(xs[0]), lambda xs, _: [0.5 / np.sqrt(xs[0])]),
    "cube_root": _Function(lambda xs, _: np.cbrt(xs[0]), lambda xs, _: [1 / (3 * np.cbrt(xs[0]) ** 2)]),
    "square": _Function(lambda xs, _: xs[0] ** 2, lambda xs, _: [2 * xs[0]]),
    "reciprocal": _Function(lambda xs, _: 1 / xs[0], lambda xs, _: [-1 / xs[0] ** 2]),
    "centre": _Function(lambda xs, p: xs[0] - p[0], lambda _xs, _p: [1.0]),
    "z": _Function(lambda xs, p: (xs[0] - p[0]) / p[1], lambda _, p: [1 / p[1]]),
    "unit_range": _Function(lambda xs, p: (xs[0] - p[0]) / p[1], lambda _, p: [1 / p[1]]),
    "sum": _Function(lambda xs, p: _mean(xs, p) * len(xs), lambda xs, _: [len(xs) / _answered(xs)] * len(xs)),
    "mean": _Function(_mean, lambda xs, _: [1 / _answered(xs)] * len(xs)),
    "difference": _Function(lambda xs, _: xs[0] - xs[1], lambda _xs, _p: [1.0, -1.0]),
    "ratio": _Function(lambda xs, _: xs[0] / xs[1], lambda xs, _: [1 / xs[1], -xs[0] / xs[1] ** 2]),
    "rate": _Function(lambda xs, p: p[0] * xs[0] / xs[1], lambda xs, p: [p[0] / xs[1], -p[0] * xs[0] / xs[1] ** 2]),
    "product": _Function(lambda xs, _: xs[0] * xs[1], lambda xs, _: [xs[1], xs[0]]),
}
_EVEN = ("centre", "difference", "mean", "sum", "unit_range", "z")
"""What rises by the same everywhere."""
_NEED_PARAMETERS = ("centre", "rate", "unit_range", "z")


def can_follow(made: Made) -> bool:
    """Return whether a derived column can be computed again from other values of its sources."""
    if made.how == "calculation":
        return bool(made.sources) and not read(made.expression).in_steps
    return made.how in _FUNCTIONS and bool(made.sources) and (made.how not in _NEED_PARAMETERS or bool(made.parameters))


def origins(column: Column, inside: Container[str]) -> tuple[list[str], list[str]]:
    """Return of which columns a column was derived, through however many steps: those that are `inside`, and those that are not."""
    found: tuple[list[str], list[str]] = [], []
    if column.made is not None and can_follow(column.made):
        for source in column.made.sources:
            there = ([source.name], []) if source.name in inside else origins(source, inside)
            for own, more in zip(found, there if any(there) else ([], [source.name]), strict=True):
                own += [name for name in more if name not in own]
    return found


def sources_through(column: Column) -> set[str]:
    """Return all columns from which one can be computed again, through however many steps."""
    sources = column.made.sources if column.made is not None and can_follow(column.made) else ()
    return {name for source in sources for name in (source.name, *sources_through(source))}


def made_of_same(one: Column, other: Column) -> list[str]:
    """Return the columns that two share numbers with by the way they were made: one of the two itself, or what both were made of.

    What was earlier in time is another number, and so is another answer to one question.
    """
    first, second = ({column.name, *_ancestors(column)} for column in (one, other))
    return [name for name in (one.name, other.name) if name in first & second] or sorted(first & second)


def _ancestors(column: Column) -> set[str]:
    made = column.made
    if made is None or made.how in ("lag", "multiple response"):
        return set()
    return {*made.of, *(name for source in made.sources for name in _ancestors(source))}


def changing_with(made: Made, name: str) -> list[str]:
    """Return the sources by which the rise of a derived column per unit of one of them, or of what one was derived from, differs."""
    if made.how == "calculation":
        part = read(made.expression)
        own = dict(zip(made.of, part.columns, strict=True))  # a column may be called otherwise by now
        differing = set(part.columns) if name not in own else differing_with(part, own[name]) or set()
        return [*([name] if name not in own else []), *(n for n in made.of if own[n] in differing)]
    others = [n for n in made.of if n != name]
    if made.how in _EVEN:
        return []
    if name in made.of and (made.how == "product" or (made.how in ("rate", "ratio") and made.of[0] == name)):
        return others
    return [name, *others]


def value_of(made: Made, sources: Sequence[Array]) -> Array | None:
    """Compute a derived column from values of its sources: numbers, or arrays of one shape.

    NaN where the operation is not defined; None where what was done cannot be done again to other values, as a
    standardisation within groups.
    """
    if not can_follow(made):
        return None
    with np.errstate(all="ignore"):
        if made.how == "calculation":
            part = read(made.expression)
            value, _ = computed(part, dict(zip(part.columns, sources, strict=True)))
        else:
            value = _FUNCTIONS[made.how].value(sources, made.parameters)
    return np.where(np.isfinite(value), value, np.nan)


def derivatives_of(made: Made, sources: Sequence[Array]) -> list[Array | float] | None:
    """Compute by how much a derived column rises per unit of each of its sources; None as of `value_of`."""
    if not can_follow(made):
        return None
    with np.errstate(all="ignore"):
        if made.how == "calculation":
            part = read(made.expression)
            return list(with_slopes(part, part.columns, sources)[1])
        return list(_FUNCTIONS[made.how].slopes(sources, made.parameters))
