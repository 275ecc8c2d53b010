"""Columns that were made of others before they came here: squares, products and logarithms, which the rows tell."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from functools import cache

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.shared import ROUNDING
from markbase.core.errors import remark
from markbase.core.rows.parts import each_part
from markbase.core.rows.row_functions import sample_of
from markbase.core.study.column import Column, Made
from markbase.core.study.derived_values import derivatives_of, value_of

Array = NDArray[np.float64]

_OF_ONE = {
    "square": "",
    "log": "the logarithm of",
    "log1p": "the logarithm of 1 more than",
    "sqrt": "the square root of",
    "cube_root": "the cube root of",
    "reciprocal": "1 over",
}
"""What is looked for, and what it is where nothing else says so."""
_MOST, _MOST_IN_PRODUCTS = 200, 40
"""So many numeric columns are looked through, and so many for products."""
_GLANCE, _FEWEST_ROWS, _FEWEST_VALUES = 10, 10, 5
"""Rows of a first glance, and rows and values that tell."""
_DECIMALS, _EXACT = 11, 1e-14
"""Decimals that a file may be rounded to, and how far a number in it lies from that as a share of itself."""
_NEAR, _COARSE = 0.02, 0.1
"""How near to it a number lies at a first glance, as a share of itself, and of the spread: no coarser may it be rounded."""


def as_derived(columns: Mapping[str, Column]) -> dict[str, Column]:
    """Return the columns of a model, those that are in every row what others would give as if they had been derived from them here.

    Of columns that a preparing step made it is known. A source is not itself taken as made of what was made of it.
    """
    found = dict(columns)
    numbers = [c for c in columns.values() if not c.is_categorical]
    if not 2 <= len(numbers) <= _MOST or all(c.made is not None for c in numbers):
        return found
    for column, made in _likely(numbers):
        now = found[column.name]
        is_source = any(column.name in c.made.of for c in found.values() if c.made is not None)
        if now.made is not None or is_source or not _holds(column, made):
            continue
        found[column.name] = replace(column, made=replace(made, sources=tuple(found[name] for name in made.of)))
        if words := _OF_ONE.get(made.how, ""):
            remark(f"`{column.name}` is {words} `{made.of[0]}` in every row, and is read as made of it.")
    return found


def _likely(numbers: Sequence[Column]) -> list[tuple[Column, Made]]:
    """Return what columns seem to be made of, at a first glance; squares first, then products."""
    there, count = len(sample_of(numbers[0].values)), len(numbers)
    rows = slice(0, None, max(1, there // _GLANCE))
    own = np.array([sample_of(c.values)[rows][:_GLANCE] for c in numbers])
    with np.errstate(all="ignore"):  # numbers that are infinite are refused later
        of_one = np.array([own * own, np.log(own), np.log1p(own), np.sqrt(own), np.cbrt(own), 1 / own])
        of_one[np.isnan(of_one) & ~np.isnan(own)] = np.inf  # of a value that is missing nothing is known
        made = of_one.reshape(-1, own.shape[1])
        if count <= _MOST_IN_PRODUCTS:
            one, other = _pairs(count)
            made = np.concatenate([made[:count], own[one] * own[other], made[count:]])
        room = _NEAR * np.abs(own) + _COARSE * (own.max(axis=1) - own.min(axis=1))[:, None]
        near = np.full((count, len(made)), True)
        for row in range(own.shape[1]):  # few are left after some
            near &= ~(np.abs(own[:, row, None] - made[:, row]) > room[:, row, None])
            if not near.any():
                return []
    found = list[tuple[int, Column, Made]]()
    products, hows = len(made) - len(_OF_ONE) * count, list(_OF_ONE)
    for k, place in zip(*np.nonzero(near), strict=True):
        at = place if place < count else place - products
        if count <= place < count + products:
            pair = numbers[one[place - count]], numbers[other[place - count]]
            likely = numbers[k], Made("product", tuple(c.name for c in pair), pair)
        else:
            source = numbers[at % count]
            likely = numbers[k], Made(hows[at // count], (source.name,), (source,))
        if likely[0] not in likely[1].sources:
            found.append((place, *likely))
    return [(column, how) for _, column, how in sorted(found, key=lambda f: f[0])]


@cache
def _pairs(count: int) -> tuple[NDArray[np.intp], NDArray[np.intp]]:
    return np.triu_indices(count, 1)


def _holds(column: Column, made: Made) -> bool:
    """Return whether a column is in every row that has a value of all, but for rounding, what its sources give."""
    if column.made is not None:
        return False
    every = [c.values for c in (column, *made.sources)]
    own, *sources = (some[np.all([~np.isnan(sample_of(v)) for v in every], axis=0)] for some in map(sample_of, every))
    rooms, few = [_room(values) for values in (own, *sources)], 2 if made.how == "product" else _FEWEST_VALUES
    if len(own) < _FEWEST_ROWS or len(np.unique(own[:1000])) < few or rooms[0] > _COARSE * float(np.std(own)):
        return False
    if any(np.array_equal(own, x) for x in sources):
        return False
    if made.how in ("square", "reciprocal", "product") and _is_whole(own) and not all(map(_is_whole, sources)):
        return False  # whole numbers were there first, and what is not was made of them

    def is_off(values: Array, *xs: Array) -> bool:
        there = ~np.isnan([values, *xs]).any(axis=0)
        values, xs = values[there], tuple(x[there] for x in xs)
        now, slopes = value_of(made, xs), derivatives_of(made, xs)
        assert now is not None
        assert slopes is not None
        finite = [np.nan_to_num(np.abs(slope), posinf=0.0) for slope in slopes]  # what is infinite is not reached
        room = rooms[0] + sum(slope * own for slope, own in zip(finite, rooms[1:], strict=True))
        return not np.all(np.abs(values - now) <= room + ROUNDING * np.abs(values))

    return not is_off(own, *sources) and not any(each_part(is_off, *every))  # of rows in parts, those in memory first


def _is_whole(values: Array) -> bool:
    return bool(np.all(values == np.round(values)))


def _room(values: Array) -> float:
    """Return by how much rounding may have moved each value, half a unit of its last decimal; whole numbers are taken for exact."""
    if _is_whole(values):
        return 0.0
    for decimals in range(1, _DECIMALS):
        if np.all(np.abs(values - np.round(values, decimals)) <= _EXACT * np.abs(values)):
            return 0.5 * 10.0**-decimals
    return 0.0
