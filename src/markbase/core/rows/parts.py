"""Arrays of one value a row that are in memory a part at a time only.

Such an array knows how to make its values of the columns of a part. Arithmetic and comparisons of them, element by element, give
another one; counts, sums, extremes and means are taken in a pass over the parts, and remembered. Everything else needs all
rows at once, and is refused in words.
"""

from __future__ import annotations

import dataclasses
import functools
import operator
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import cached_property
from typing import Any, TypeVar

import numpy as np
from numpy.lib.mixins import NDArrayOperatorsMixin
from numpy.typing import NDArray

from markbase.core.errors import MarkbaseError
from markbase.core.rows.facts import NumberFacts, merged_facts
from markbase.core.rows.processors import in_order
from markbase.core.rows.source import PART_ROWS, Part, RowSource
from markbase.core.rows.sums import Total, total_of

S = TypeVar("S")
T = TypeVar("T")
_MANY_ROWS = 1 << 18
_MOST_SHARES = 16
Memo = dict[int, NDArray[Any]]
_MOST_ROWS = 1 << 20
"""Not more single rows than this are taken into memory."""


class _Node(ABC):
    """How the values of a part are made."""

    leaves: frozenset[str]

    def at(self, part: Part, memo: Memo) -> NDArray[Any]:
        """Return the values of a part; each is made once a part."""
        if id(self) not in memo:
            memo[id(self)] = self.made(part, memo)
        return memo[id(self)]

    @abstractmethod
    def made(self, part: Part, memo: Memo) -> NDArray[Any]:
        """Make the values of a part."""


class _Leaf(_Node):
    """A column as the source hands it over."""

    def __init__(self, name: str) -> None:
        self.name, self.leaves = name, frozenset([name])

    def made(self, part: Part, memo: Memo) -> NDArray[Any]:  # noqa: ARG002 - needs no others
        return part.columns[self.name]


class _Applied(_Node):
    """A function of others, element by element."""

    def __init__(self, function: Callable[..., Any], arguments: tuple[Any, ...], settings: Mapping[str, Any]) -> None:
        self.function, self.arguments, self.settings = function, arguments, settings
        self.leaves = frozenset().union(*(a.leaves for a in arguments if isinstance(a, _Node)))

    def made(self, part: Part, memo: Memo) -> NDArray[Any]:
        values = [a.at(part, memo) if isinstance(a, _Node) else a for a in self.arguments]
        with np.errstate(all="ignore"):
            found: NDArray[Any] = self.function(*values, **self.settings)
        return found


class _Picked(_Node):
    """The rows of another where a mask is true."""

    def __init__(self, node: _Node, mask: _Node) -> None:
        self.node, self.mask, self.leaves = node, mask, node.leaves | mask.leaves

    def made(self, part: Part, memo: Memo) -> NDArray[Any]:
        found: NDArray[Any] = self.node.at(part, memo)[self.mask.at(part, memo)]
        return found


class _Made(_Node):
    """What a function makes of other arrays, of those of a part."""

    def __init__(self, function: Callable[..., Any], trees: tuple[Any, ...]) -> None:
        self.function, self.trees = function, trees
        self.leaves = frozenset().union(*(a.node.leaves for a in arrays_in(trees)))

    def made(self, part: Part, memo: Memo) -> NDArray[Any]:
        found: NDArray[Any] = self.function(*(_bound(tree, part, memo) for tree in self.trees))
        return found


class _Spread(_Node):
    """The rows of a mask with their values, all others NaN."""

    def __init__(self, node: _Node, mask: _Node) -> None:
        self.node, self.mask, self.leaves = node, mask, node.leaves | mask.leaves

    def made(self, part: Part, memo: Memo) -> NDArray[Any]:
        inside = self.mask.at(part, memo)
        found = np.full(len(inside), np.nan)
        found[inside] = self.node.at(part, memo)
        return found


def needs_all(what: str, instead: str = "") -> MarkbaseError:
    """Return the refusal of what needs all rows at once."""
    way = instead or "open fewer columns or rows of the data in memory"
    return MarkbaseError(f"These data are read in parts, and {what} needs all rows in memory at once; {way}.")


class InParts(NDArrayOperatorsMixin):
    """An array of shape (rows,) of which a part at a time is in memory."""

    ndim = 1

    def __init__(self, source: RowSource, node: _Node, dtype: np.dtype[Any], mask: InParts | None = None) -> None:
        self.source, self.node, self.dtype, self.mask = source, node, dtype, mask

    @classmethod
    def column(cls, source: RowSource, name: str, dtype: Any, facts: NumberFacts | None = None) -> InParts:
        """Return a column of a source, with what is known of it."""
        return cls(source, _Leaf(name), np.dtype(dtype)).knowing(facts)

    def knowing(self, facts: NumberFacts | None) -> InParts:
        """Keep what is known of the values, so that no pass is needed for it."""
        if facts is not None:
            self.__dict__["facts"] = facts
        return self

    @cached_property
    def rows(self) -> int:
        """How many rows there are."""
        if self.mask is None:
            return self.source.rows
        facts = self.__dict__.get("facts")
        return self.mask.count if facts is None else facts.rows

    def __len__(self) -> int:
        return self.rows

    @property
    def shape(self) -> tuple[int]:
        """Its one length."""
        return (self.rows,)

    @property
    def size(self) -> int:
        """How many values it has."""
        return self.rows

    @cached_property
    def facts(self) -> NumberFacts:
        """What one pass tells of the values as numbers."""
        return merged_facts(each_part(_facts_of, self))

    @cached_property
    def count(self) -> int:
        """How many values are true, or not 0."""
        return sum(over_parts(_count_of, self))

    @cached_property
    def kept(self) -> NDArray[Any]:
        """The values of the rows that are kept in memory."""
        return self.node.at(self.source.kept, {})

    def at(self, rows: NDArray[np.intp]) -> NDArray[Any]:
        """Return the values of some rows, by their places, in a pass."""
        distinct, back = np.unique(rows, return_inverse=True)
        found: NDArray[Any] = rows_at(distinct, self)[0][back]
        return found

    def __getitem__(self, key: Any) -> Any:
        if isinstance(key, slice) and key == slice(None):
            return self
        if isinstance(key, InParts):
            picked: dict[int, InParts] = self.__dict__.setdefault("picked", {})
            if id(key) not in picked:  # the array holds on to its mask, whose id is nobody else's then
                picked[id(key)] = InParts(self.source, _Picked(self.node, key.node), self.dtype, key)
            return picked[id(key)]
        if isinstance(key, (int, np.integer)) and key >= 0:
            return self.at(np.array([key]))[0]
        if isinstance(key, (np.ndarray, list)) and np.asarray(key).dtype != bool:
            return self.at(np.asarray(key, dtype=np.intp))
        raise needs_all("this")

    def astype(self, dtype: Any, copy: bool = True) -> InParts:  # noqa: ARG002 - as that of arrays
        """Return the values as another type."""
        return self if np.dtype(dtype) == self.dtype else _applied(_as_type, (self, np.dtype(dtype)), {})

    def copy(self) -> InParts:
        """Return the values; they are never changed in place."""
        return self

    def any(self) -> bool:
        """Whether one is true."""
        return self.count > 0

    def all(self) -> bool:
        """Whether all are true."""
        return self.count == self.rows

    def sum(self) -> Any:
        """Return the sum."""
        return self.count if self.dtype == bool else self._sum

    @cached_property
    def _sum(self) -> float:
        return float(total_of(each_part(_sum_of, self)))

    def _extreme(self, name: str, initial: float | None) -> float:
        if self.facts.valid < self.rows and self.facts.valid:
            return float("nan")
        if not self.facts.valid:
            if initial is None:
                raise ValueError(f"{name} of no rows")
            return initial
        return float(getattr(self.facts, name))

    def min(self, initial: float | None = None) -> float:
        """Return the lowest value; NaN if one is missing."""
        return self._extreme("low", initial)

    def max(self, initial: float | None = None) -> float:
        """Return the highest value; NaN if one is missing."""
        return self._extreme("high", initial)

    def mean(self) -> float:
        """Return the mean."""
        return self.count / self.rows if self.dtype == bool else self.facts.mean

    def std(self, ddof: int = 0) -> float:
        """Return the standard deviation."""
        return float(np.sqrt(self.facts.second / (self.facts.valid - ddof)))

    def __array__(self, dtype: Any = None, copy: Any = None) -> NDArray[Any]:
        raise needs_all("this")

    def __iter__(self) -> Iterator[Any]:
        raise needs_all("this")

    def __getstate__(self) -> dict[str, Any]:
        """Keep what a worker needs: how the values of a part are made."""
        return {"source": None, "node": self.node, "dtype": self.dtype, "mask": self.mask}

    def __bool__(self) -> bool:
        raise TypeError("An array in parts is neither true nor false.")

    __hash__ = object.__hash__

    def __array_ufunc__(self, ufunc: np.ufunc, method: str, *inputs: Any, **settings: Any) -> Any:
        if ufunc is np.matmul and len(inputs) == 2 and all(np.ndim(a) == 1 for a in inputs):
            return float(total_of(each_part(np.dot, *inputs)))
        if method != "__call__" or settings.get("out") is not None or ufunc.nout != 1 or ufunc.signature is not None:
            raise needs_all("this")
        return _applied(ufunc, inputs, settings)

    def __array_function__(
        self, function: Callable[..., Any], types: Any, arguments: Sequence[Any], settings: Mapping[str, Any]
    ) -> Any:
        if function in _BY_ELEMENT:
            return _applied(function, tuple(arguments), settings)
        if function in _BY_PASS:
            return _BY_PASS[function](*arguments, **settings)
        raise needs_all("this")


def _as_type(values: NDArray[Any], dtype: np.dtype[Any]) -> NDArray[Any]:
    return values.astype(dtype)


def _facts_of(values: NDArray[Any]) -> NumberFacts:
    return NumberFacts.of(values.astype(np.float64, copy=False))


def _count_of(values: NDArray[Any]) -> int:
    return int(np.count_nonzero(values))


def _sum_of(values: NDArray[Any]) -> Any:
    return values.sum()


class _Places(_Node):
    """The places of the rows of a part."""

    leaves = frozenset[str]()

    def made(self, part: Part, memo: Memo) -> NDArray[Any]:  # noqa: ARG002 - needs no others
        return np.arange(part.start, part.start + part.rows)


def row_numbers(array: Any) -> Any:
    """Return the place of each row of an array: in parts, its place among all rows of the source, whichever of them are kept."""
    if not isinstance(array, InParts):
        return np.arange(len(array))
    node: _Node = _Places()
    if array.mask is not None:
        node = _Picked(row_numbers(array.mask).node, array.mask.node)
    return InParts(array.source, node, np.dtype(np.intp), array.mask)


def _applied(function: Callable[..., Any], inputs: tuple[Any, ...], settings: Mapping[str, Any]) -> InParts:
    """Return an array made of others element by element."""
    arrays = [a for a in inputs if isinstance(a, InParts)]
    first = arrays[0]
    nodes = tuple(a.node if isinstance(a, InParts) else a for a in inputs)
    if len({id(a.mask) for a in arrays}) > 1:
        raise TypeError("Arrays of different rows do not go together.")
    empty = [np.empty(0, a.dtype) if isinstance(a, InParts) else a for a in inputs]
    with np.errstate(all="ignore"):
        dtype = np.asarray(function(*empty, **settings)).dtype
    return InParts(first.source, _Applied(function, nodes, settings), dtype, first.mask)


def arrays_in(tree: Any) -> list[InParts]:
    """Return the arrays in parts that are held by lists, mappings and records."""
    if isinstance(tree, InParts):
        return [tree]
    if isinstance(tree, Mapping):
        return [a for value in tree.values() for a in arrays_in(value)]
    if isinstance(tree, (list, tuple)):
        return [a for value in tree for a in arrays_in(value)]
    if dataclasses.is_dataclass(tree) and not isinstance(tree, type):
        return [v for f in dataclasses.fields(tree) if isinstance(v := getattr(tree, f.name), InParts)]
    return []


def _bound(tree: Any, part: Part, memo: Memo) -> Any:
    """Return the same with the values of a part in place of arrays in parts."""
    if isinstance(tree, InParts):
        return tree.node.at(part, memo)
    if isinstance(tree, Mapping):
        return {key: _bound(value, part, memo) for key, value in tree.items()}
    if isinstance(tree, (list, tuple)) and arrays_in(tree):
        return [_bound(value, part, memo) for value in tree]
    if dataclasses.is_dataclass(tree) and not isinstance(tree, type):
        change = {
            f.name: _bound(v, part, memo)
            for f in dataclasses.fields(tree)
            if isinstance(v := getattr(tree, f.name), InParts)
        }
        return dataclasses.replace(tree, **change) if change else tree
    return tree


class _Task:
    """What is done to a part."""

    def __init__(self, function: Callable[..., Any], trees: tuple[Any, ...]) -> None:
        self.function, self.trees = function, trees

    def __call__(self, part: Part) -> Any:
        memo: Memo = {}
        found: NDArray[Any] = self.function(*(_bound(tree, part, memo) for tree in self.trees))
        return found


def each_part(function: Callable[..., T], *trees: Any) -> Iterator[T]:
    """Apply a function to every part of some arrays, and yield what it returns, in the order of the parts.

    Parameters
    ----------
    function : callable
        Takes as many arguments as there are trees, and returns something small.
    *trees : array, or list, mapping or record of arrays
        What it is given of every part: lists, mappings and records of arrays of one value a row, and anything else as it is. Beside
        arrays in parts, those in memory are tables to look things up in.

    Yields
    ------
    object
        One a part.
    """
    arrays = arrays_in(trees)
    if not arrays:
        yield from _each_share(function, trees)
        return
    names = sorted(frozenset().union(*(a.node.leaves for a in arrays)))
    yield from arrays[0].source.run(_Task(function, trees), names)


def _each_share(function: Callable[..., T], trees: tuple[Any, ...]) -> Iterator[T]:
    """Apply a function to rows that are in memory: at once, or where they are many to shares of them at the same time.

    How many shares there are depends on the rows alone, so that the digits do not depend on the machine.
    """
    rows = next((len(a) for a in _row_arrays(trees)), 0)
    if rows < _MANY_ROWS:
        yield function(*trees)
        return
    size = max(PART_ROWS, -(-rows // _MOST_SHARES))
    yield from in_order(lambda at: function(*_sliced(trees, slice(at, at + size))), range(0, rows, size))


def _row_arrays(tree: Any) -> Iterator[NDArray[Any]]:
    if isinstance(tree, np.ndarray):
        yield tree
    elif isinstance(tree, (list, tuple)):
        for value in tree:
            yield from _row_arrays(value)
    elif dataclasses.is_dataclass(tree) and not isinstance(tree, type):
        for f in dataclasses.fields(tree):
            yield from _row_arrays(getattr(tree, f.name))


def _sliced(tree: Any, at: slice) -> Any:
    """Return the same with some rows of each array."""
    if isinstance(tree, np.ndarray):
        return tree[at]
    if isinstance(tree, (list, tuple)):
        return [_sliced(value, at) for value in tree]
    if dataclasses.is_dataclass(tree) and not isinstance(tree, type):
        change = {f.name: v[at] for f in dataclasses.fields(tree) if isinstance(v := getattr(tree, f.name), np.ndarray)}
        return dataclasses.replace(tree, **change) if change else tree
    return tree


def over_parts(function: Callable[..., T], *trees: Any) -> list[T]:
    """Return what `each_part` yields."""
    return list(each_part(function, *trees))


def at_once(function: Callable[[S], T], items: Sequence[S], rows: int) -> list[T]:
    """Return what a function makes of each of some items: where rows are many, on as many processors as there are."""
    return list(map(function, items) if rows < _MANY_ROWS else in_order(function, items))


def refuse_in_parts(values: Any, what: str, instead: str) -> None:
    """Refuse what needs all rows in memory where they come in parts."""
    if in_parts(values):
        raise needs_all(what, instead)


def in_parts(*trees: Any) -> bool:
    """Return whether some of the rows are not in memory."""
    return bool(arrays_in(trees))


def _bincount(x: Any, weights: Any = None, minlength: int = 0) -> NDArray[Any]:
    """Count, or sum, by code: in parts, of parts."""
    whole = Total()
    for some in each_part(np.bincount, x, weights, minlength):
        whole.add_longer(np.asarray(some, dtype=np.float64))
    found = whole.value
    return found.astype(np.intp) if weights is None else found


def _unique(x: InParts, return_counts: bool = False) -> Any:
    if x.facts.distinct is None:
        raise needs_all("telling all distinct values of a column")
    values, counts = (np.array(v, dtype=d) for v, d in zip(x.facts.distinct, (np.float64, np.int64), strict=True))
    return (values, counts) if return_counts else values


def _average(a: Any, weights: Any = None) -> float:
    if weights is None:
        return float(a.mean())
    return float((a * weights).sum() / np.sum(weights))


def _alike(a: Any, b: Any, equal_nan: bool = False) -> bool:
    return len(a) == len(b) and all(over_parts(_AlikeIn(equal_nan), a, b))


class _AlikeIn:
    def __init__(self, equal_nan: bool) -> None:
        self.equal_nan = equal_nan

    def __call__(self, a: NDArray[Any], b: NDArray[Any]) -> bool:
        return bool(np.array_equal(a, b, equal_nan=self.equal_nan))


_BY_ELEMENT = frozenset([np.where, np.isin, np.searchsorted, np.clip, np.round, np.nan_to_num])
_BY_PASS: dict[Callable[..., Any], Callable[..., Any]] = {
    np.array_equal: _alike,
    np.average: _average,
    np.bincount: _bincount,
    np.unique: _unique,
    np.count_nonzero: lambda a: a.count,
    np.any: InParts.any,
    np.all: InParts.all,
    np.sum: InParts.sum,
    np.mean: InParts.mean,
    np.min: InParts.min,
    np.max: InParts.max,
    np.nanmin: lambda a: a.facts.low,
    np.nanmax: lambda a: a.facts.high,
    np.nanmean: lambda a: a.facts.mean if a.facts.valid else float("nan"),
    np.ptp: lambda a: a.max() - a.min(),
}


def counted(codes: Any, size: int) -> NDArray[np.int64]:
    """Count codes from 0, shape (size,); −1, for a gap, is not counted."""
    if not isinstance(codes, InParts):
        return np.bincount(codes[codes >= 0], minlength=size).astype(np.int64)
    known = codes.__dict__.get("counted")
    if known is None:
        known = codes.__dict__["counted"] = _bincount(codes.astype(np.int64) + 1, None, size + 1)[1:].astype(np.int64)
    return np.asarray(known)


def made_of(count: int, function: Callable[..., Any], *trees: Any) -> tuple[Any, ...]:
    """Return so many arrays of floats that a function makes together of others: in parts, it returns as many arrays for a part."""
    if not arrays_in(trees):
        return tuple(function(*trees))
    first = arrays_in(trees)[0]
    node = _Made(function, trees)
    return tuple(
        InParts(first.source, _Applied(operator.itemgetter(k), (node,), {}), np.dtype(np.float64), first.mask)
        for k in range(count)
    )


def spread_over(values: Any, inside: Any, like: Any) -> Any:
    """Return values of the rows of a mask, or a number for all of them, as values of all rows of an array; NaN in the others."""
    if isinstance(like, InParts):
        if isinstance(values, InParts):
            mask = values.mask
            return (
                values
                if mask is None
                else InParts(like.source, _Spread(values.node, mask.node), values.dtype, mask.mask)
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


def rows_at(places: NDArray[np.intp], *trees: Any) -> list[Any]:
    """Return the same with the values of some rows in place of arrays of all, in one pass; the places rise."""
    arrays = arrays_in(trees)
    if not arrays:
        return [_picked_from(tree, places) for tree in trees]
    if len(places) > _MOST_ROWS:
        raise needs_all(f"looking at {len(places):,} single rows")
    found = over_parts(_Here(places), row_numbers(arrays[0]), *arrays)
    merged = [np.concatenate([part[k] for part in found]) for k in range(len(arrays))]
    at = {id(a.node): v for a, v in zip(arrays, merged, strict=True)}
    return [_bound(tree, Part(0, len(places), {}), dict(at)) for tree in trees]


def _picked_from(tree: Any, places: NDArray[np.intp]) -> Any:
    if isinstance(tree, np.ndarray):
        return tree[places]
    return [_picked_from(value, places) for value in tree] if isinstance(tree, (list, tuple)) else tree


class _Here:
    """Picks rows of all rows, by their places."""

    def __init__(self, places: NDArray[np.intp]) -> None:
        self.places = places

    def __call__(self, here: NDArray[np.intp], *arrays: NDArray[Any]) -> list[NDArray[Any]]:
        if not len(here):
            return [a[:0] for a in arrays]
        wanted = self.places[slice(*np.searchsorted(self.places, (here[0], here[-1] + 1)))]
        at = np.searchsorted(here, wanted)
        return [a[at] for a in arrays]


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
    return [_bound(tree, arrays_in(trees)[0].source.kept, memo) for tree in trees]


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


def look_up(table: NDArray[Any], places: Any) -> Any:
    """Return the entry of a table for each row; −1 is the last one."""
    if isinstance(places, InParts) and places.dtype.kind == "f":
        places = places.astype(np.intp)
    return _applied(_looked_up, (table, places), {}) if isinstance(places, InParts) else table[places]


def _looked_up(table: NDArray[Any], places: NDArray[np.intp]) -> NDArray[Any]:
    found: NDArray[Any] = table[places]
    return found


def learn(numbers: Sequence[Any] = (), codes: Sequence[tuple[Any, int]] = (), masks: Sequence[Any] = ()) -> None:
    """Take, in one pass, what `InParts.facts`, `counted` and `InParts.count` would take a pass each for; of rows in memory, nothing."""
    numbers = [a for a in numbers if isinstance(a, InParts) and "facts" not in a.__dict__]
    codes = [(a, size) for a, size in codes if isinstance(a, InParts) and "counted" not in a.__dict__]
    masks = [a for a in masks if isinstance(a, InParts) and "count" not in a.__dict__]
    if not (numbers or codes or masks):
        return
    sizes = [size for _, size in codes]

    def looked(
        numbers: list[NDArray[Any]], codes: list[NDArray[Any]], masks: list[NDArray[Any]]
    ) -> tuple[list[NumberFacts], list[Any], list[int]]:
        counts = [counted(a, size) for a, size in zip(codes, sizes, strict=True)]
        return [_facts_of(a) for a in numbers], counts, [_count_of(a) for a in masks]

    found = over_parts(looked, list(numbers), [a for a, _ in codes], list(masks))
    for k, array in enumerate(numbers):
        array.__dict__["facts"] = merged_facts(facts[k] for facts, _, _ in found)
    for k, (array, size) in enumerate(codes):
        array.__dict__["counted"] = sum((counts[k] for _, counts, _ in found), np.zeros(size, dtype=np.int64))
    for k, array in enumerate(masks):
        array.__dict__["count"] = sum(counts[k] for _, _, counts in found)


def first_true(mask: Any) -> int:
    """Return the place of the first row where a mask is true, −1 if there is none."""
    return next((place for place in over_parts(_first_in, mask, row_numbers(mask)) if place >= 0), -1)


def _first_in(mask: NDArray[np.bool_], numbers: NDArray[np.intp]) -> int:
    return int(numbers[np.argmax(mask)]) if mask.any() else -1
