"""Functions of arrays of one value a row, whether the rows are in memory or come in parts."""

from __future__ import annotations

import functools
import math
import operator
from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from markbase.core.rows.facts import Dispersion, NumberFacts, merged_dispersion, merged_facts
from markbase.core.rows.nodes import Applied, Memo, Spread
from markbase.core.rows.parts import (
    InParts,
    Made,
    applied,
    arrays_in,
    bincount_of,
    bound,
    count_of,
    each_part,
    facts_of,
    in_parts,
    needs_all,
    over_parts,
    row_numbers,
)
from markbase.core.rows.source import Part
from markbase.core.rows.trees import leaves_of, with_leaves

_MOST_COUNTED = 1 << 22
"""Up to so many codes each has a count of its own."""
_GOLDEN = np.uint64(0x9E3779B97F4A7C15)
"""2⁶⁴ by the golden ratio: multiples of it, less whole turns, are spread evenly, and repeat no period that rows may have."""
_SOME = 5_000
"""Rows that are looked at first, where all of them would take a while."""


def refuse_in_parts(values: Any, what: str, instead: str) -> None:
    """Refuse what needs all rows in memory where they come in parts."""
    if in_parts(values):
        raise needs_all(what, instead)


def counted(codes: Any, size: int) -> NDArray[np.int64]:
    """Count codes from 0, shape (size,); −1, for a gap, is not counted."""
    if not isinstance(codes, InParts):
        return np.bincount(codes[codes >= 0], minlength=size).astype(np.int64)
    known = codes.__dict__.get("counted")
    if known is None:
        known = codes.__dict__["counted"] = bincount_of(codes.astype(np.int64) + 1, None, size + 1)[1:].astype(np.int64)
    return np.asarray(known) if len(known) >= size else np.pad(known, (0, size - len(known)))  # codes of no row


def counted_codes(codes: Any, size: int) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Return which codes below a size occur, rising, and how often: of so many codes that a count for each would take too much room."""
    if size <= _MOST_COUNTED:
        counts = counted(codes, size)
        here = np.flatnonzero(counts)
        return here, counts[here]
    found = over_parts(_codes_of, codes)
    every, at = np.unique(np.concatenate([own for own, _ in found]), return_inverse=True)
    counts = np.bincount(at, weights=np.concatenate([n for _, n in found]), minlength=len(every))
    return every.astype(np.int64), counts.astype(np.int64)


def places_among(known: NDArray[np.int64], codes: Any, size: int) -> Any:
    """Return which of some codes below a size, which rise, the code of each row is; −1 where it is none of them, as for −1."""
    if size <= _MOST_COUNTED:
        slot = np.full(size + 1, -1, dtype=np.intp)
        slot[known] = np.arange(len(known))
        return look_up(slot, codes)  # which is looked up faster
    at = np.minimum(np.searchsorted(known, codes), len(known) - 1)
    return np.where(look_up(known, at) == codes, at, -1)


def ends_by_code(values: Any, codes: Any, size: int) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Return the lowest and the highest value of each code from 0, shapes (size,), ∞ and −∞ of one without rows; codes below 0 do not count."""
    ends = np.full(size, np.inf), np.full(size, -np.inf)
    for here, low, high in each_part(_ends_of, values, codes):
        ends[0][here], ends[1][here] = np.minimum(ends[0][here], low), np.maximum(ends[1][here], high)
    return ends


def _ends_of(values: NDArray[Any], codes: NDArray[np.integer]) -> tuple[NDArray[np.intp], Any, Any]:
    told = codes >= 0
    at, values = codes[told], values[told]
    low = np.full(int(at.max(initial=-1)) + 1, np.inf)
    high = -low
    np.minimum.at(low, at, values)
    np.maximum.at(high, at, values)
    here = np.flatnonzero(low <= high)
    return here, low[here], high[here]


def distinct_in(numbers: Any, most: int) -> NDArray[np.float64] | None:
    """Return the different numbers of an array, none missing, in order; None where they are more than so many."""
    every = np.zeros(0)
    for own in each_part(np.unique, numbers):
        every = np.union1d(every, own) if len(every) <= most else every
    return every if len(every) <= most else None


def _codes_of(codes: NDArray[np.integer]) -> tuple[NDArray[np.integer], NDArray[np.intp]]:
    own, counts = np.unique(codes[codes >= 0], return_counts=True)
    return own, counts


def made_of(count: int, function: Callable[..., Any], *trees: Any) -> tuple[Any, ...]:
    """Return so many arrays of floats that a function makes together of others: in parts, it returns as many arrays for a part."""
    if not arrays_in(trees):
        return tuple(function(*trees))
    first = arrays_in(trees)[0]
    node = Made(function, trees)
    return tuple(
        InParts(first.source, Applied(operator.itemgetter(k), (node,), {}), np.dtype(np.float64), first.mask)
        for k in range(count)
    )


def sd_of(values: Any, heavy: Any = None) -> float:
    """Return the standard deviation (n − 1) of numbers without gaps, however far from 0 they are, each counted by its weight."""
    if heavy is not None:
        above = values - values.min()
        squares = float(heavy @ (above - np.average(above, weights=heavy)) ** 2)
        return math.sqrt(squares / (float(heavy.sum()) - 1))
    if isinstance(values, InParts):
        return float(values.std(ddof=1))
    low = values.min()  # what is taken from all of them costs no digits
    told = merged_dispersion(each_part(lambda own: Dispersion.of(own - low), values))
    return math.sqrt(told.squares / (told.rows - 1)) if told.rows > 1 else math.nan


def spread_over(values: Any, inside: Any, like: Any) -> Any:
    """Return values of the rows of a mask, or a number for all of them, as values of all rows of an array; NaN in the others."""
    if isinstance(like, InParts):
        if isinstance(values, InParts):
            mask = values.mask
            return (
                values
                if mask is None
                else InParts(like.source, Spread(values.node, mask.node), values.dtype, mask.mask)
            )
        return np.where(like == like, float(values), float(values))  # as many values as there are rows
    full = np.full(len(like), np.nan)
    full[inside] = values
    return full


def constant(code: int, like: Any) -> Any:
    """Return a code for each row of an array."""
    return np.where(like == like, code, code) if isinstance(like, InParts) else np.broadcast_to(code, len(like))


def lowest(values: Any, most: int | None) -> NDArray[np.intp]:
    """Return the places of the lowest values, the lowest first, equal ones in the order of the rows; NaN is none."""
    if in_parts(values) and most is None:
        raise needs_all("listing every row", "say how many to list")
    found = over_parts(_Lowest(most), values, row_numbers(values))
    places, own = (np.concatenate([part[k] for part in found]) for k in (0, 1))
    picked: NDArray[np.intp] = places[np.argsort(own, kind="stable")[:most]]
    return picked


class _Lowest:
    def __init__(self, most: int | None) -> None:
        self.most = most

    def __call__(self, values: NDArray[Any], places: NDArray[np.intp]) -> tuple[NDArray[np.intp], NDArray[Any]]:
        order = np.argsort(values, kind="stable")
        order = order[~np.isnan(values[order])][: self.most]
        order = np.sort(order)
        return places[order], values[order]


def with_values_at(values: Any, places: NDArray[np.intp], new: NDArray[Any]) -> Any:
    """Return an array with other values at some places, which rise."""
    if not isinstance(values, InParts):
        changed = values.copy()
        changed[places] = new
        return changed

    def put(own: NDArray[Any], numbers: NDArray[np.intp]) -> tuple[NDArray[Any]]:
        at = np.minimum(np.searchsorted(places, numbers), len(places) - 1)
        return (np.where(places[at] == numbers, new[at], own),)

    return made_of(1, put, values, row_numbers(values))[0] if len(places) else values


def kept_rows(*trees: Any) -> list[Any]:
    """Return the same with the values of the rows that are kept in memory in place of arrays in parts."""
    memo: Memo = {}
    return [bound(tree, arrays_in(trees)[0].source.kept, memo) for tree in trees]


def all_of(masks: Sequence[Any]) -> Any:
    """Return where every one of some masks is true."""
    return functools.reduce(operator.and_, masks)


def any_of(masks: Sequence[Any]) -> Any:
    """Return where at least one of some masks is true."""
    return functools.reduce(operator.or_, masks)


def sum_of(values: Sequence[Any]) -> Any:
    """Return the sums, row by row, of some arrays; of masks, how many are true."""
    return functools.reduce(operator.add, [v.astype(np.int64) if v.dtype == bool else v for v in values])


def sample_of(values: Any) -> NDArray[Any]:
    """Return values of the rows that are kept in memory; of rows that all are, all of them."""
    return values.kept if isinstance(values, InParts) else values


def some_of(values: Any) -> NDArray[Any]:
    """Return values of some thousand rows at random, of arrays of the same rows the same ones: those that are kept in memory, or all where there are no more."""
    if isinstance(values, InParts) or len(values) <= _SOME:
        return sample_of(values)
    found: NDArray[Any] = values[np.random.default_rng(0).integers(len(values), size=_SOME)]
    return found


def evenly_spread(most: int, rows: int, used: Any, *trees: Any) -> list[Any]:
    """Return the same with about so many of the rows used, evenly spread, in place of arrays of all, in one pass; with all of them where these are no more."""
    arrays, share = list({id(a.node): a for a in arrays_in(trees)}.values()), most / rows
    if not arrays:
        first = next(leaves_of(trees, np.ndarray))
        places, memo = _spread_evenly(share, range(len(first)), used), {}

        def there(own: NDArray[Any]) -> NDArray[Any]:
            if id(own) not in memo:  # the same array may stand in several places
                memo[id(own)] = own[places]
            return memo[id(own)]

        return [with_leaves(tree, np.ndarray, there) for tree in trees]

    def picked(numbers: NDArray[np.intp], used: Any, arrays: list[NDArray[Any]]) -> list[NDArray[Any]]:
        places = _spread_evenly(share, numbers, used)
        return [own[places] for own in arrays]

    found = over_parts(picked, row_numbers(arrays[0]), used, list(arrays))
    merged = [np.concatenate([part[k] for part in found]) for k in range(len(arrays))]
    at = {id(a.node): v for a, v in zip(arrays, merged, strict=True)}
    return [bound(tree, Part(0, len(merged[0]), {}), dict(at)) for tree in trees]


def _spread_evenly(share: float, numbers: NDArray[np.intp] | range, used: NDArray[np.bool_] | None) -> NDArray[np.intp]:
    """Return the places of a share of rows by their numbers among all, which rise: one of every 1/share that follow one another, where it is used."""
    if share >= 1 or not len(numbers):
        return np.arange(len(numbers)) if used is None else np.flatnonzero(used)
    first, last = int(numbers[0]), int(numbers[-1])
    stretch = np.arange(int(first * share), int((last + 1) * share) + 1)
    within = (stretch.astype(np.uint64) * _GOLDEN).astype(np.float64) / 2**64
    wanted = np.unique(((stretch + within) / share).astype(np.intp))
    wanted = wanted[(first <= wanted) & (wanted <= last)]
    if last - first + 1 == len(numbers):
        places = wanted - first
    else:
        near = np.searchsorted(numbers, wanted)
        places = near[np.asarray(numbers)[near] == wanted]
    return places if used is None else places[used[places]]


def look_up(table: NDArray[Any], places: Any) -> Any:
    """Return the entry of a table for each row; −1 is the last one."""
    if isinstance(places, InParts) and places.dtype.kind == "f":
        places = places.astype(np.intp)
    return applied(_looked_up, (table, places), {}) if isinstance(places, InParts) else table[places]


def _looked_up(table: NDArray[Any], places: NDArray[np.intp]) -> NDArray[Any]:
    found: NDArray[Any] = table[places]
    return found


def learn(
    numbers: Sequence[Any] = (),
    codes: Sequence[tuple[Any, int]] = (),
    masks: Sequence[Any] = (),
    dispersions: Sequence[Any] = (),
) -> None:
    """Take, in one pass, what `InParts.facts`, `counted`, `InParts.count` and `InParts.dispersion` would take a pass each for; of rows in memory, nothing."""
    numbers = [a for a in numbers if isinstance(a, InParts) and "facts" not in a.__dict__]
    codes = [(a, size) for a, size in codes if isinstance(a, InParts) and "counted" not in a.__dict__]
    masks = [a for a in masks if isinstance(a, InParts) and "count" not in a.__dict__]
    dispersions = [a for a in dispersions if isinstance(a, InParts) and "dispersion" not in a.__dict__]
    if not (numbers or codes or masks or dispersions):
        return
    sizes = [size for _, size in codes]

    def looked(
        numbers: list[NDArray[Any]],
        codes: list[NDArray[Any]],
        masks: list[NDArray[Any]],
        dispersions: list[NDArray[Any]],
    ) -> tuple[list[NumberFacts], list[Any], list[int], list[Dispersion]]:
        counts = [counted(a, size) for a, size in zip(codes, sizes, strict=True)]
        return (
            [facts_of(a) for a in numbers],
            counts,
            [count_of(a) for a in masks],
            [Dispersion.of(a) for a in dispersions],
        )

    found = over_parts(looked, list(numbers), [a for a, _ in codes], list(masks), list(dispersions))
    for k, array in enumerate(numbers):
        array.__dict__["facts"] = merged_facts(own[0][k] for own in found)
    for k, (array, size) in enumerate(codes):
        array.__dict__["counted"] = sum((own[1][k] for own in found), np.zeros(size, dtype=np.int64))
    for k, array in enumerate(masks):
        array.__dict__["count"] = sum(own[2][k] for own in found)
    for k, array in enumerate(dispersions):
        array.__dict__["dispersion"] = merged_dispersion(own[3][k] for own in found)


def dispersion_of(values: Any) -> Dispersion:
    """Return how many numbers there are, none missing, their mean, and the sum of squared deviations from it."""
    return values.dispersion if isinstance(values, InParts) else Dispersion.of(values)


def first_true(mask: Any) -> int:
    """Return the place of the first row where a mask is true, −1 if there is none."""
    return next((place for place in over_parts(_first_in, mask, row_numbers(mask)) if place >= 0), -1)


def _first_in(mask: NDArray[np.bool_], numbers: NDArray[np.intp]) -> int:
    return int(numbers[np.argmax(mask)]) if mask.any() else -1
