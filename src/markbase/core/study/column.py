"""One typed column of a study."""

from __future__ import annotations

import gc
import math
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cached_property, partial, wraps
from itertools import repeat
from operator import attrgetter
from typing import Any, Literal, NamedTuple, TypeVar

import numpy as np
from numpy.typing import NDArray

from markbase.core.errors import ColumnError, LevelError, near
from markbase.core.rows.parts import InParts
from markbase.core.rows.row_functions import counted

T = TypeVar("T")

_NUMBER = re.compile(r"[-−+]?\d+([.,]\d+)?")

Kind = Literal["numeric", "categorical", "ordinal"]
Role = Literal["identifier", "weight", "cluster", "stratum"]

Scheme = Literal["indicator", "effect", "adjacent", "trend"]

SCHEMES: tuple[Scheme, ...] = ("indicator", "effect", "adjacent", "trend")
KINDS: tuple[Kind, ...] = ("numeric", "categorical", "ordinal")
ROLES: tuple[Role, ...] = ("cluster", "identifier", "stratum", "weight")

PRESENT, BLANK, FIRST_CODED = 0, 1, 2
MOST_REASONS = 250
"""So many codes for a missing answer of a column are told apart."""


class Level(NamedTuple):
    """A category of a group."""

    code: str
    """How the file writes it."""
    label: str
    """How it is shown; the code itself where the codebook gives no label."""
    declared: bool = True
    """Whether the codebook expects it (true for every level where there is no list to hold it against)."""
    mixture: tuple[str, ...] = ()
    """The levels that were merged into it; empty if none were."""

    @property
    def shown(self) -> str:
        """The label, with the code behind it where the two differ."""
        return self.label if self.label == self.code else f"{self.label} ({self.code})"


def levels_of(codes: Sequence[str], declared: bool = True) -> tuple[Level, ...]:
    """Return the levels that some codes are, each its own label.

    Of very many the collector of garbage would go through those made so far again and again, and find nothing.
    """
    collects = gc.isenabled()
    gc.disable()
    try:
        make = partial(tuple.__new__, Level)  # without a call of Python's own for each
        return tuple(map(make, zip(codes, codes, repeat(declared), repeat(()))))
    finally:
        if collects:
            gc.enable()


@dataclass(frozen=True)
class MissingCode:
    """A code that stands for a missing answer."""

    code: str
    """How the file writes it, for instance ``-9``; empty for a reason that arose on the way."""
    label: str
    """What it means, for instance ``no answer``; empty if nobody said."""

    @property
    def shown(self) -> str:
        """The meaning with the code behind it; of a word without one the word, and of a number that it is a code."""
        if not self.code or self.code == self.label:
            return self.label
        if self.label:
            return f"{self.label} ({self.code})"
        return f"code {self.code}" if _NUMBER.fullmatch(self.code) else self.code


@dataclass(frozen=True)
class Base:
    """The reference level of a group and how it came to be so."""

    level: int
    """Its place among the column's levels."""
    reason: str
    """Why it is the base."""
    chosen: bool
    """True if somebody chose it; false if it is the default (the largest level)."""
    looked_at: str = ""
    """The column whose values decided it, if one did: a base chosen by looking at the outcome."""


@dataclass(frozen=True)
class Unit:
    """What a numeric column is counted in."""

    one: str
    """Its name after a 1: ``year``."""
    many: str
    """Its name after any other number: ``years``."""

    @property
    def step(self) -> Unit:
        """What differences are counted in: of percents, percentage points."""
        return _POINTS if self.many in _PERCENTS else self


_PERCENTS = ("percent", "percents", "per cent", "%")
_POINTS = Unit("percentage point", "percentage points")
_EXACT = 2.0**53
_MOST_ANSWERS = 7
"""From here on not every whole number is one of its own."""


@dataclass(frozen=True, eq=False)
class Made:
    """How a column was made of others."""

    how: str
    """The operation, for instance ``log`` or ``sum``."""
    of: tuple[str, ...]
    """The columns it was made of."""
    sources: tuple[Column, ...] = ()
    """These columns, as they were; empty where the step does not act row by row."""
    parameters: tuple[float, ...] = ()
    """Numbers the operation took from the data, such as a mean and a standard deviation."""
    expression: str = ""
    """Of a calculation, what was calculated; `of` and `sources` are its columns in the order in which they come in it."""

    @property
    def words(self) -> str:
        """How it was made, in a few words."""
        parts = ", ".join(f"`{name}`" for name in self.of)
        return f"made of {parts} ({self.expression or self.how.replace('_', ' ')})"


@dataclass(frozen=True, eq=False)
class Column:
    """A typed column.

    Numeric columns hold numbers with NaN where missing; groups hold the place of each row's level
    among `levels`, with -1 where missing.
    """

    name: str
    """Its name in the file."""
    kind: Kind
    """``numeric``, ``categorical`` or ``ordinal``."""
    values: NDArray[Any]
    """Shape (rows,): float64 for a numeric column, int32 for a group."""
    levels: tuple[Level, ...] = ()
    """The levels of a group, in order; empty for a numeric column."""
    scheme: Scheme = "indicator"
    """How a group becomes columns: ``indicator``, ``effect``, ``adjacent`` or ``trend``."""
    event: int | None = None
    """The level of a two-level group that is the event; None if nobody said."""
    made: Made | None = None
    """How the column was made of others; None if it was read."""
    base: Base | None = None
    """The reference level of a group; None for a numeric column or a group with no rows."""
    role: Role | None = None
    """``identifier``, ``weight``, ``cluster``, ``stratum`` or None."""
    label: str = ""
    """What the column asks or measures, in words."""
    unit: Unit | None = None
    """What a numeric column is counted in."""
    missing_codes: tuple[MissingCode, ...] = ()
    """The codes that stand for a missing answer."""
    why_missing: NDArray[np.uint8] | None = None
    """Shape (rows,): 0 present, 1 blank, 2 + k the k-th missing code. None if all missing are blank."""
    guess: str = ""
    """How the kind was guessed; empty if somebody declared it."""
    fault: str = ""
    """Why the column cannot be used as declared; empty if it can."""
    doubt: str = ""
    """Why a guessed kind may be wrong; empty if nothing speaks against it."""
    notes: tuple[str, ...] = ()
    """What was noticed while it was read."""

    @property
    def is_categorical(self) -> bool:
        """Whether the column is categorical, ordered or not."""
        return self.kind != "numeric"

    @cached_property
    def present(self) -> NDArray[np.bool_]:
        """Shape (rows,): true where the row has a value."""
        present: NDArray[np.bool_] = self.values >= 0 if self.is_categorical else ~np.isnan(self.values)
        return present

    @cached_property
    def valid(self) -> int:
        """How many rows have a value."""
        if isinstance(self.values, InParts):
            return int(self.counts.sum()) if self.is_categorical else self.values.facts.valid
        return int(np.count_nonzero(self.present))

    @cached_property
    def span(self) -> tuple[float, float]:
        """Lowest and highest value of a numeric column that has one; NaN for none."""
        if not self.valid:
            return np.nan, np.nan
        return float(np.nanmin(self.values)), float(np.nanmax(self.values))

    @property
    def has_lost_digits(self) -> bool:
        """Whether a numeric column holds numbers so large that neighbouring whole ones are one and the same."""
        return any(math.isfinite(end) and abs(end) >= _EXACT for end in self.span)

    @cached_property
    def two_values(self) -> tuple[float, float] | None:
        """The two values of a numeric column that has no other; None if it has more, or fewer."""
        low, high = self.span
        if not low < high or self.is_categorical:
            return None
        if isinstance(self.values, InParts):
            few = self.values.facts.distinct
            return (low, high) if few is not None and len(few[0]) == 2 else None
        values = self.values[self.present]
        return (low, high) if bool(np.all((values == low) | (values == high))) else None

    @cached_property
    def few_whole(self) -> tuple[float, ...]:
        """The values of a numeric column that has three to seven, whole numbers all, in order; empty if it has others."""
        if self.is_categorical:
            return ()
        if isinstance(self.values, InParts):
            few = self.values.facts.distinct
            found = np.asarray(few[0] if few is not None else ())
        elif len(np.unique(self.values[:200])) > _MOST_ANSWERS + 1:  # spares most numeric columns the full look
            return ()
        else:
            found = self.distinct
        whole = 3 <= len(found) <= _MOST_ANSWERS and bool(np.all(found == np.round(found)))
        return tuple(found.tolist()) if whole else ()

    @cached_property
    def is_whole_and_distinct(self) -> bool:
        """Whether a numeric column holds whole numbers of which none occurs twice; of parts, as long as they rise."""
        if isinstance(self.values, InParts):
            return self.values.facts.whole and self.values.facts.rising
        values = self.values[self.present]
        if not np.array_equal(values[:100], np.round(values[:100])):  # spares most numeric columns the full look
            return False
        return bool(np.all(values == np.round(values))) and self.distinct_count == len(values)

    @property
    def distinct(self) -> NDArray[np.float64]:
        """Shape (distinct,): the values of a numeric column in memory, each once, in order; remembered where they are few."""
        found: NDArray[np.float64] | None = self.__dict__.get("few_distinct")
        if found is None:
            found = np.unique(self.values[self.present])
            self.__dict__["distinct_count"] = len(found)
            if len(found) < len(self.values) // 8:
                self.__dict__["few_distinct"] = found
        return found

    @cached_property
    def distinct_count(self) -> int:
        """How many values of a numeric column in memory are different."""
        return len(self.distinct)

    @cached_property
    def skew(self) -> float:
        """The skewness of a numeric column in memory that varies and is finite."""
        return skewness(self.values[self.present])

    @cached_property
    def counts(self) -> NDArray[np.int64]:
        """Shape (levels,): rows of each level of a group."""
        return counted(self.values, len(self.levels))

    @cached_property
    def codes(self) -> list[str]:
        """The codes of the levels, in their order."""
        return list(map(attrgetter("code"), self.levels))

    @cached_property
    def labels(self) -> list[str]:
        """The labels of the levels, in their order."""
        return list(map(attrgetter("label"), self.levels))

    @property
    def unit_one(self) -> str:
        """The unit after a 1, ``unit`` where none is declared."""
        return self.unit.one if self.unit else "unit"

    @property
    def unit_many(self) -> str:
        """The unit after other numbers, ``units`` where none is declared."""
        return self.unit.many if self.unit else "units"

    @property
    def step_one(self) -> str:
        """The unit of a difference of 1."""
        return self.unit.step.one if self.unit else "unit"

    @property
    def step_many(self) -> str:
        """The unit of other differences."""
        return self.unit.step.many if self.unit else "units"

    def missing_counts(self) -> list[tuple[str, int]]:
        """Count the missing rows by reason.

        Returns
        -------
        list of (str, int)
            The reason in words and its rows, blank first, then each code in the codebook's order;
            reasons that never occur are left out.
        """
        missing = len(self.values) - self.valid
        if self.why_missing is None:
            return [("blank", missing)] if missing else []
        counts = counted(self.why_missing, FIRST_CODED + len(self.missing_codes))
        named = [("blank", int(counts[BLANK]))]
        named += [(c.shown, int(n)) for c, n in zip(self.missing_codes, counts[FIRST_CODED:], strict=True)]
        return [(reason, rows) for reason, rows in named if rows]

    def reasons(self) -> NDArray[np.uint8]:
        """Return why each row is missing, shape (rows,): 0 present, 1 blank, 2 + k the k-th missing code."""
        if self.why_missing is not None:
            return self.why_missing
        return np.where(self.present, PRESENT, BLANK).astype(np.uint8)

    @cached_property
    def _places(self) -> tuple[dict[str, int], dict[str, int]]:
        """The place of the first level of each label, and of each code."""
        back = [(level, place) for place, level in enumerate(self.levels)][::-1]
        return {level.label: place for level, place in back}, {level.code: place for level, place in back}

    def level_at(self, wanted: object) -> int:
        """Find a level by its label or its code.

        Parameters
        ----------
        wanted : object
            Label or code, compared as text.

        Returns
        -------
        int
            Its place among `levels`.

        Raises
        ------
        ColumnError
            If the column is numeric.
        LevelError
            If the group has no such level.
        """
        if not self.is_categorical:
            raise ColumnError(
                f"`{self.name}` is numeric and has no levels, so it has no level or base `{wanted}`; "
                f"if its numbers are codes, declare it categorical."
            )
        text = str(wanted)
        for places in self._places:
            if text in places:
                return places[text]
        typed = [k for k, label in enumerate(self.labels) if "−" in label and label.replace("−", "-") == text]
        if len(typed) == 1:  # a minus as keyboards have it
            return typed[0]
        raise LevelError(f"`{self.name}` has no level `{text}`.{near(text, [v.label for v in self.levels])}")


def skewness(values: NDArray[np.float64]) -> float:
    """Return the moment coefficient of skewness, m3 / m2^1.5, of finite numbers that are not all the same."""
    deviation = values - values.mean()
    deviation = deviation / np.abs(deviation).max()
    square = deviation * deviation
    return float(square @ deviation / len(values) / np.mean(square) ** 1.5)


def kept(function: Callable[[Column], T]) -> Callable[[Column], T]:
    """Find out once what a function says of a column, which does not change; each time of rows in parts, of which more may be known later."""
    name = f"_{function.__module__}.{function.__qualname__}"

    @wraps(function)
    def found(column: Column) -> T:
        if isinstance(column.values, InParts):
            return function(column)
        known = column.__dict__
        if name not in known:
            known[name] = function(column)
        answer: T = known[name]
        return answer

    return found
