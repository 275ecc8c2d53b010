"""Arrays of one value a row that are in memory a part at a time only.

Such an array knows how to make its values of the columns of a part. Arithmetic and comparisons of them, element by element, give
another one; counts, sums, extremes and means are taken in a pass over the parts, and remembered. Everything else needs all
rows at once, and is refused in words.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import cached_property
from typing import Any, TypeVar

import numpy as np
from numpy.lib.mixins import NDArrayOperatorsMixin
from numpy.typing import NDArray

from markbase.core.errors import MarkbaseError
from markbase.core.rows.facts import Dispersion, NumberFacts, merged_dispersion, merged_facts
from markbase.core.rows.nodes import Applied, Leaf, Memo, Node, Picked, Places
from markbase.core.rows.processors import in_order
from markbase.core.rows.source import PART_ROWS, Part, RowSource
from markbase.core.rows.sums import Total, total_of
from markbase.core.rows.trees import leaves_of, with_leaves

A = TypeVar("A")
T = TypeVar("T")
MANY_ROWS = 1 << 18
_MOST_SHARES = 16
_MOST_ROWS = 1 << 20
"""Not more single rows than this are taken into memory."""


class Made(Node):
    """What a function makes of other arrays, of those of a part."""

    def __init__(self, function: Callable[..., Any], trees: tuple[Any, ...]) -> None:
        self.function, self.trees = function, trees
        self.leaves = frozenset().union(*(a.node.leaves for a in arrays_in(trees)))

    def made(self, part: Part, memo: Memo) -> NDArray[Any]:
        """Make the values of a part."""
        found: NDArray[Any] = self.function(*(bound(tree, part, memo) for tree in self.trees))
        return found


def needs_all(what: str, instead: str = "") -> MarkbaseError:
    """Return the refusal of what needs all rows at once."""
    way = instead or "open fewer columns or rows of the data in memory"
    return MarkbaseError(f"These data are read in parts, and {what} needs all rows in memory at once; {way}.")


class InParts(NDArrayOperatorsMixin):
    """An array of shape (rows,) of which a part at a time is in memory."""

    ndim = 1

    def __init__(self, source: RowSource, node: Node, dtype: np.dtype[Any], mask: InParts | None = None) -> None:
        self.source, self.node, self.dtype, self.mask = source, node, dtype, mask

    @classmethod
    def column(cls, source: RowSource, name: str, dtype: Any, facts: NumberFacts | None = None) -> InParts:
        """Return a column of a source, with what is known of it."""
        return cls(source, Leaf(name), np.dtype(dtype)).knowing(facts)

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
        return merged_facts(each_part(facts_of, self))

    @cached_property
    def dispersion(self) -> Dispersion:
        """How many values there are, their mean, and the sum of squared deviations from it; none may be missing."""
        return merged_dispersion(each_part(Dispersion.of, self))

    @cached_property
    def count(self) -> int:
        """How many values are true, or not 0."""
        return sum(over_parts(count_of, self))

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
                picked[id(key)] = InParts(self.source, Picked(self.node, key.node), self.dtype, key)
            return picked[id(key)]
        if isinstance(key, (int, np.integer)) and key >= 0:
            return self.at(np.array([key]))[0]
        if isinstance(key, (np.ndarray, list)) and np.asarray(key).dtype != bool:
            return self.at(np.asarray(key, dtype=np.intp))
        raise needs_all("this")

    def astype(self, dtype: Any, copy: bool = True) -> InParts:  # noqa: ARG002 - as that of arrays
        """Return the values as another type."""
        return self if np.dtype(dtype) == self.dtype else applied(_as_type, (self, np.dtype(dtype)), {})

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
        if ufunc is np.matmul and len(inputs) == 2 and all(getattr(a, "ndim", 0) == 1 for a in inputs):
            return float(total_of(each_part(np.dot, *inputs)))
        if method != "__call__" or settings.get("out") is not None or ufunc.nout != 1 or ufunc.signature is not None:
            raise needs_all("this")
        return applied(ufunc, inputs, settings)

    def __array_function__(
        self, function: Callable[..., Any], types: Any, arguments: Sequence[Any], settings: Mapping[str, Any]
    ) -> Any:
        if function in _BY_ELEMENT:
            return applied(function, tuple(arguments), settings)
        if function in _BY_PASS:
            return _BY_PASS[function](*arguments, **settings)
        raise needs_all("this")


def _as_type(values: NDArray[Any], dtype: np.dtype[Any]) -> NDArray[Any]:
    return values.astype(dtype)


def facts_of(values: NDArray[Any]) -> NumberFacts:
    """Return what is known of the values of a part."""
    return NumberFacts.of(values.astype(np.float64, copy=False))


def count_of(values: NDArray[Any]) -> int:
    """Return how many values of a part are true."""
    return int(np.count_nonzero(values))


def _sum_of(values: NDArray[Any]) -> Any:
    return values.sum()


def row_numbers(array: Any) -> Any:
    """Return the place of each row of an array: in parts, its place among all rows of the source, whichever of them are kept."""
    if not isinstance(array, InParts):
        return np.arange(len(array))
    node: Node = Places()
    if array.mask is not None:
        node = Picked(row_numbers(array.mask).node, array.mask.node)
    return InParts(array.source, node, np.dtype(np.intp), array.mask)


def applied(function: Callable[..., Any], inputs: tuple[Any, ...], settings: Mapping[str, Any]) -> InParts:
    """Return an array made of others element by element."""
    arrays = [a for a in inputs if isinstance(a, InParts)]
    first = arrays[0]
    nodes = tuple(a.node if isinstance(a, InParts) else a for a in inputs)
    if len({id(a.mask) for a in arrays}) > 1:
        raise TypeError("Arrays of different rows do not go together.")
    empty = [np.empty(0, a.dtype) if isinstance(a, InParts) else a for a in inputs]
    with np.errstate(all="ignore"):
        dtype = np.asarray(function(*empty, **settings)).dtype
    return InParts(first.source, Applied(function, nodes, settings), dtype, first.mask)


def arrays_in(tree: Any) -> list[InParts]:
    """Return the arrays in parts that are held by lists, mappings and records."""
    return list(leaves_of(tree, InParts))


def bound(tree: Any, part: Part, memo: Memo) -> Any:
    """Return the same with the values of a part in place of arrays in parts."""
    return with_leaves(tree, InParts, lambda array: array.node.at(part, memo))


class _Task:
    """What is done to a part."""

    def __init__(self, function: Callable[..., Any], trees: tuple[Any, ...]) -> None:
        self.function, self.trees = function, trees

    def __call__(self, part: Part) -> Any:
        memo: Memo = {}
        found: NDArray[Any] = self.function(*(bound(tree, part, memo) for tree in self.trees))
        return found


def each_part(function: Callable[..., T], *trees: Any, cells: int = 0) -> Iterator[T]:
    """Apply a function to every part of some arrays, and yield what it returns, in the order of the parts.

    Parameters
    ----------
    function : callable
        Takes as many arguments as there are trees, and returns something small.
    *trees : array, or list, mapping or record of arrays
        What it is given of every part: lists, mappings and records of arrays of one value a row, and anything else as it is. Beside
        arrays in parts, those in memory are tables to look things up in.
    cells : int
        How many numbers it returns, where they are many: rows in memory are then not cut into shares of fewer rows.

    Yields
    ------
    object
        One a part.
    """
    arrays = arrays_in(trees)
    if not arrays:
        yield from _each_share(function, trees, cells)
        return
    yield from arrays[0].source.run(_Task(function, trees), _columns_of(arrays))


def held_parts(arrays: Mapping[Any, Any]) -> Iterator[dict[Any, Any]]:
    """Yield the same lists and mappings of arrays in parts with the values of each part, one after the other."""
    yield from arrays_in(arrays)[0].source.held(_Task(dict, (arrays,)), _columns_of(arrays_in(arrays)))


def _columns_of(arrays: Sequence[InParts]) -> list[str]:
    return sorted(frozenset().union(*(a.node.leaves for a in arrays)))


def _each_share(function: Callable[..., T], trees: tuple[Any, ...], cells: int) -> Iterator[T]:
    """Apply a function to rows that are in memory: at once, or where they are many to shares of them at the same time.

    How many shares there are depends on the rows alone, so that the digits do not depend on the machine.
    """
    rows = next((len(a) for a in leaves_of(trees, np.ndarray)), 0)
    if rows < MANY_ROWS:
        yield function(*trees)
        return
    size = max(PART_ROWS, -(-rows // _MOST_SHARES), cells)
    yield from in_order(
        lambda at: function(*with_leaves(trees, np.ndarray, lambda a: a[at : at + size])), range(0, rows, size)
    )


def over_parts(function: Callable[..., T], *trees: Any) -> list[T]:
    """Return what `each_part` yields."""
    return list(each_part(function, *trees))


def in_parts(*trees: Any) -> bool:
    """Return whether some of the rows are not in memory."""
    return bool(arrays_in(trees))


def bincount_of(x: Any, weights: Any = None, minlength: int = 0) -> NDArray[Any]:
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
    np.bincount: bincount_of,
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
    np.ndim: lambda _: 1,
}


def rows_at(places: NDArray[np.intp], *trees: Any) -> list[Any]:
    """Return the same with the values of some rows in place of arrays of all, in one pass; the places rise."""
    arrays = arrays_in(trees)
    if not arrays:
        return [with_leaves(tree, np.ndarray, lambda a: a[places]) for tree in trees]
    if len(places) > _MOST_ROWS:
        raise needs_all(f"looking at {len(places):,} single rows")
    found = over_parts(_Here(places), row_numbers(arrays[0]), *arrays)
    merged = [np.concatenate([part[k] for part in found]) for k in range(len(arrays))]
    at = {id(a.node): v for a, v in zip(arrays, merged, strict=True)}
    return [bound(tree, Part(0, len(places), {}), dict(at)) for tree in trees]


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
