"""What a look over rows finds in one column: numbers, with what is known of them, or the distinct values it is told by."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from markbase.core.rows.facts import NumberFacts
from markbase.files.parts.table_files import codes_of, encoded, numbers_of, plain_values

if TYPE_CHECKING:
    import pyarrow as pa

MOST_TEXTS = 1_000_000
"""A column with more distinct texts is not held."""
_LOOK = 2048
"""So many of the first rows are looked at before all of them are."""


class Numbers:
    """What the look finds in a column of numbers."""

    def __init__(self, written: bool = False, counting: bool = True) -> None:
        self.facts, self.failed, self.written, self.durations = NumberFacts(), False, written, False
        self.counting = counting
        """Whether distinct values are counted, while they are few."""

    @property
    def emptied(self) -> Numbers:
        """The same for the next rows apart from these: where there were too many distinct values, none are counted any more."""
        return Numbers(self.written, self.facts.distinct is not None)

    def look_at(self, column: pa.Array) -> tuple[NDArray[np.float64], NumberFacts] | None:
        """Return what some rows hold; None if one of them is no number."""
        import pyarrow as pa
        import pyarrow.compute as pc

        if self.failed:
            return None
        self.durations = self.durations or pa.types.is_duration(column.type)
        column = column.dictionary_decode() if pa.types.is_dictionary(column.type) else column
        try:
            values = numbers_of(pc.cast(column, pa.float64()) if pa.types.is_string(column.type) else column)
        except pa.ArrowInvalid:
            return None
        facts = NumberFacts.of(values, self.counting)
        if self.written and facts.rows - facts.valid > column.null_count:
            return None  # a text such as nan is no number
        return values, facts

    def take(
        self,
        seen: tuple[NDArray[np.float64], NumberFacts] | None,
        start: int,  # noqa: ARG002 - of texts
    ) -> NDArray[Any] | None:
        """Add what the next rows hold, and return their values; None if one of them is no number."""
        if seen is None or self.failed:
            self.failed = True
            return None
        self.facts = self.facts.merge(seen[1])
        return seen[0]

    @property
    def has_gaps(self) -> bool:
        """Whether a row may have no value."""
        return self.failed or self.facts.valid < self.facts.rows

    def merge(self, other: Numbers, start: int) -> NDArray[np.int32] | None:  # noqa: ARG002 - of texts
        """Join it with that of the rows that follow."""
        self.facts, self.failed = self.facts.merge(other.facts), self.failed or other.failed
        self.durations = self.durations or other.durations
        return None


class Texts:
    """What the look finds in a column that is told by its distinct values."""

    failed = False

    def __init__(self, written: bool = False) -> None:
        self.written = written
        self.places: dict[Any, int] = {}
        self.counts = np.zeros(0, dtype=np.int64)
        self.firsts = np.zeros(0, dtype=np.int64)
        self.rows, self.many, self.categories, self.ordered = 0, False, False, False

    @property
    def emptied(self) -> Texts:
        """The same with nothing found yet."""
        return Texts(self.written)

    def look_at(self, column: pa.Array) -> tuple[list[Any], NDArray[np.integer], bool, bool] | None:
        """Return the distinct values of some rows, which of them each row has, and whether the source calls them categories, and ordered."""
        import pyarrow as pa

        if self.many:
            return None
        told = pa.types.is_dictionary(column.type)
        column = column.cast(pa.string()) if pa.types.is_null(column.type) else column
        coded = encoded(column)
        categories = told and not self.written
        ordered = categories and bool(column.type.ordered)
        return plain_values(coded.dictionary).to_pylist(), codes_of(coded), categories, ordered

    def take(self, seen: tuple[list[Any], NDArray[np.integer], bool, bool] | None, start: int) -> NDArray[Any] | None:
        """Add what the next rows hold, and return their places among the values seen so far."""
        if seen is None or self.many:
            return None
        values, codes, categories, ordered = seen
        self.categories, self.ordered = self.categories or categories, self.ordered or ordered
        places = np.append(self._placed(values), np.int32(-1))[codes]
        counts = np.bincount(places + 1, minlength=len(self.counts) + 1)[1:]
        fresh = np.flatnonzero((self.counts == 0) & (counts > 0))
        if len(fresh):
            self.firsts[fresh] = _first_rows(places, fresh, len(self.counts)) + start
        self.counts += counts
        self.rows += len(codes)
        told: NDArray[np.int32] | None = None if self.many else places
        return told

    def _placed(self, values: Sequence[Any]) -> NDArray[np.int32]:
        """Return the place of each value, new ones behind the others."""
        known = self.places
        before = len(known)
        fresh = [v for v in values if v not in known] if known else values
        known.update(zip(fresh, range(before, before + len(fresh)), strict=True))
        if len(known) < before + len(fresh):  # one of them stood there twice
            known.update(zip(list(known)[before:], range(before, len(known)), strict=True))
        if len(known) == before + len(values):
            at = np.arange(before, len(known), dtype=np.int32)
        else:
            at = np.fromiter(map(known.__getitem__, values), dtype=np.int32, count=len(values))
        grown = len(known) - len(self.counts)
        self.counts = np.append(self.counts, np.zeros(grown, dtype=np.int64))
        self.firsts = np.append(self.firsts, np.zeros(grown, dtype=np.int64))
        self.many = len(known) > MOST_TEXTS
        return at

    @property
    def has_gaps(self) -> bool:
        """Whether a row may have no value."""
        return self.many or int(self.counts.sum()) < self.rows

    def merge(self, other: Texts, start: int) -> NDArray[np.int32]:
        """Join it with that of the rows that follow, and return where their values are now."""
        at = self._placed(list(other.places))
        fresh = (self.counts[at] == 0) & (other.counts > 0)
        self.firsts[at[fresh]] = other.firsts[fresh] + start
        np.add.at(self.counts, at, other.counts)
        self.categories, self.ordered = self.categories or other.categories, self.ordered or other.ordered
        self.rows, self.many = self.rows + other.rows, self.many or other.many
        return np.append(at, np.int32(-1))


def _first_rows(places: NDArray[np.int32], wanted: NDArray[np.intp], size: int) -> NDArray[np.int64]:
    """Return the first row of each wanted place; there are so many places, and each wanted one has a row."""
    first = np.full(size + 1, -1, dtype=np.int64)
    for rows in (places[:_LOOK], places):
        first[rows[::-1]] = np.arange(len(rows))[::-1]  # of several rows the one written last stays
        if first[wanted].min() >= 0:
            break
    return first[wanted]
