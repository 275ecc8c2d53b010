"""A table whose rows come in parts, as a study is made of it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from markbase.core.rows.parts import InParts
from markbase.core.rows.source import RowSource

KEPT_ROWS = 1 << 17
"""At most so many rows are kept in memory."""
FEWEST_KEPT = 30
"""Fewer than so many that are in memory say too little of others."""
KEPT_VALUES = 1 << 24
"""Of wide data fewer: of all rows kept no more values than this, as far as 4,096 rows have no more."""


def most_kept(width: int) -> int:
    """Return how many rows of so many columns are kept in memory at most."""
    return min(KEPT_ROWS, max(1 << 12, KEPT_VALUES // max(width, 1)))


@dataclass(frozen=True, eq=False)
class TextsInParts:
    """A column told by its distinct values."""

    places: InParts | NDArray[np.int32]
    """Shape (rows,): which of them each row has, −1 where blank; of rows that were read in parts into memory, all of them."""
    distinct: Sequence[Any]
    """The distinct values, texts or numbers."""
    counts: NDArray[np.int64]
    """Shape (distinct,): the rows of each."""
    firsts: NDArray[np.int64]
    """Shape (distinct,): the first row of each."""
    categories: bool = False
    """Whether the source declares them as categories."""
    ordered: bool = False
    """Whether it declares these as ordered."""
    notes: tuple[str, ...] = ()
    """What was noticed while they were read."""


@dataclass(frozen=True, eq=False)
class TableInParts:
    """A table whose rows come in parts."""

    source: RowSource | None
    """Where they come from; None if all of them are in memory."""
    columns: Mapping[str, InParts | NDArray[np.float64] | TextsInParts]
    """Numbers as they are, NaN where blank; everything else by its distinct values."""
    durations: frozenset[str] = frozenset()
    """Which of the numbers are durations, in seconds."""
    lacking: Mapping[str, Mapping[str, slice]] = field(default_factory=dict)
    """Of each column that some files do not have, why rows have no value there, with these rows; empty where that is not known."""


class KeptRows:
    """Picks rows at random, evenly from all that pass by, whose number is not known beforehand; the same rows every time.

    A row is kept while a hash of its place is below a limit, which is halved whenever too many are kept.

    References
    ----------
    Steele, Lea & Flood (2014), OOPSLA 2014, 453-472, doi:10.1145/2660193.2660195 (the hash).
    """

    def __init__(self, width: int = 1) -> None:
        """Keep rows of so many columns."""
        self.most = most_kept(width)
        self.limit = np.iinfo(np.uint64).max
        self._pieces: list[_Kept] = []

    @property
    def rows(self) -> NDArray[np.int64]:
        """Shape (rows kept,): which rows."""
        return self._whole.rows

    @property
    def columns(self) -> Mapping[str, NDArray[Any]]:
        """What they hold."""
        return self._whole.columns

    def take(self, start: int, columns: Mapping[str, NDArray[Any]], size: int, place: int = 0) -> None:
        """Look at the next rows; the place is that of the first row that was looked at among all."""
        keys = hashed(np.arange(place + start, place + start + size, dtype=np.uint64))
        here = np.flatnonzero(keys <= self.limit)
        self._add(_Kept(here + start, keys[here], {name: values[here] for name, values in columns.items()}))

    def merge(self, other: KeptRows, columns: Mapping[str, NDArray[Any]], start: int) -> None:
        """Join them with those kept of the rows that follow, whose values are given."""
        self.limit = min(self.limit, other.limit)
        self._add(_Kept(other.rows + start, other._whole.keys, columns))

    def join(self, other: KeptRows) -> None:
        """Take other columns of the same rows as well."""
        whole = self._whole
        self._pieces = [replace(whole, columns={**whole.columns, **other.columns})]

    @property
    def emptied(self) -> KeptRows:
        """The same for the next rows apart from these: what these would not keep any more is not kept."""
        fresh = KeptRows()
        fresh.most, fresh.limit = self.most, self.limit
        return fresh

    @property
    def _whole(self) -> _Kept:
        """All that is kept, in one piece."""
        if len(self._pieces) != 1:
            self._pieces = [_joined([piece.below(self.limit) for piece in self._pieces])]
        return self._pieces[0]

    def _add(self, piece: _Kept) -> None:
        self._pieces.append(piece)
        if sum(len(p.rows) for p in self._pieces) <= self.most:
            return
        keys = np.concatenate([p.keys for p in self._pieces])
        while np.count_nonzero(keys <= self.limit) > self.most:
            self.limit //= 2
        self._pieces = [_joined([piece.below(self.limit) for piece in self._pieces])]


@dataclass(frozen=True, eq=False)
class _Kept:
    """Some rows that are kept."""

    rows: NDArray[np.int64]
    """Shape (rows kept,): which rows."""
    keys: NDArray[np.uint64]
    """Shape (rows kept,): their hashes."""
    columns: Mapping[str, NDArray[Any]]
    """What they hold."""

    def below(self, limit: Any) -> _Kept:
        """Return those whose hash is no larger than a limit."""
        stay = self.keys <= limit
        if stay.all():
            return self
        return _Kept(self.rows[stay], self.keys[stay], {name: values[stay] for name, values in self.columns.items()})


def _joined(pieces: Sequence[_Kept]) -> _Kept:
    """Join pieces; a column that one of them lacks was given up."""
    told = [p for p in pieces if len(p.rows)]
    rows = [np.zeros(0, dtype=np.int64), *(p.rows for p in told)]
    keys = [np.zeros(0, dtype=np.uint64), *(p.keys for p in told)]
    names = [n for n in told[0].columns if all(n in p.columns for p in told)] if told else []
    columns = {n: np.concatenate([p.columns[n] for p in told]) for n in names}
    return _Kept(np.concatenate(rows), np.concatenate(keys), columns)


class AllRows:
    """Keeps every row that passes by."""

    def __init__(self) -> None:
        self.parts: dict[str, list[NDArray[Any]]] = {}

    def take(self, start: int, columns: Mapping[str, NDArray[Any]], size: int, place: int = 0) -> None:  # noqa: ARG002 - as KeptRows
        """Look at the next rows."""
        self.merge(self, columns, 0)

    def merge(self, other: AllRows, columns: Mapping[str, NDArray[Any]], start: int) -> None:  # noqa: ARG002 - as KeptRows
        """Join them with those of the rows that follow, whose values are given."""
        self.parts = {name: [*self.parts.get(name, ()), values] for name, values in columns.items()}

    @property
    def emptied(self) -> AllRows:
        """The same before the first row."""
        return AllRows()

    def join(self, other: AllRows) -> None:
        """Take other columns of the same rows as well."""
        self.parts |= other.parts

    @property
    def columns(self) -> dict[str, NDArray[Any]]:
        """All rows of each column."""
        return {name: np.concatenate(parts) for name, parts in self.parts.items()}


def hashed(places: NDArray[np.uint64], seed: int = 0) -> NDArray[np.uint64]:
    """Return 64 bits for each place that look random, the same ones for the same seed (the mixing step of SplitMix64)."""
    with np.errstate(over="ignore"):
        z = (places + np.uint64(seed + 1)) * np.uint64(0x9E3779B97F4A7C15)
        z = (z ^ (z >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
        z = (z ^ (z >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
        found: NDArray[np.uint64] = z ^ (z >> np.uint64(31))
    return found
