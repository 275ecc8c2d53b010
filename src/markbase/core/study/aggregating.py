"""One row for each level of a group, or of each combination of several: how many rows it has, and the mean, the sum or another measure of columns in them."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.arguments import told_value
from markbase.core.errors import ColumnError, LevelError, count_noun, listed, near, quoted
from markbase.core.rows.parts import bincount_of, each_part
from markbase.core.rows.row_functions import all_of, counted_codes, look_up, places_among, refuse_in_parts
from markbase.core.study.column import FIRST_CODED, Column, MissingCode, Unit
from markbase.core.study.column_types import with_default_base
from markbase.core.study.joining import as_key, together
from markbase.core.study.verification import Check

Array = NDArray[np.float64]
Columns = Mapping[str, Column]
MEASURES = ("high", "low", "mean", "median", "sd", "share", "sum")
"""What is told of a column in the rows of a group."""
_WEIGHTED = ("mean", "sd", "share", "sum")
"""Measures to which rows may count by their weights."""
_ROWS = "rows"
_MOST_CODES = 1 << 62
_EXAMPLE = '{"singers": "rows", "mean_age": {"mean": "age"}, "altos": {"share": "voice", "of": "alto"}}'


@dataclass(frozen=True)
class Aggregated:
    """One row for each group."""

    columns: dict[str, Column]
    """The columns: those of the key, what was asked for, and what is the same in all rows of each group."""
    rows: int
    """How many groups there are."""
    check: Check
    """Of each new column how many values it was made of, and what it spans; passed if these add up to the values of all rows."""
    text: str
    """What was done, in a sentence."""


@dataclass(frozen=True)
class Wanted:
    """A new column."""

    name: str
    """What it is called."""
    measure: str
    """``rows``, or one of `MEASURES`."""
    of: str = ""
    """The column it is a measure of; empty for ``rows``."""
    levels: tuple[str, ...] = ()
    """Of ``share``: the levels that count."""
    weights: str = ""
    """The column of weights by which rows count; empty where each counts as one."""

    @property
    def words(self) -> str:
        """What it is, in a few words."""
        inside = f"{listed(self.levels)} in " if self.levels else ""
        by = f" weighted by `{self.weights}`" if self.weights else ""
        return self.measure if self.measure == _ROWS else f"{self.measure} of {inside}`{self.of}`{by}"


@dataclass(frozen=True)
class _Groups:
    """The rows of each group."""

    codes: Any
    """Shape (rows,): the group of each row, −1 for none."""
    counts: NDArray[np.int64]
    """Shape (groups,): how many rows each has."""
    known: dict[tuple[str, tuple[str, ...], str], _Spread] = field(default_factory=dict)
    """What was found of columns already."""

    def sums(self, values: Any) -> Array:
        """Sum values of all rows by group, shape (groups,)."""
        return np.asarray(bincount_of(self.codes + 1, values, len(self.counts) + 1)[1:], dtype=np.float64)


@dataclass(frozen=True)
class _Spread:
    """The values of a column, or whether rows have some of its levels, in each group."""

    values: Any
    """Shape (rows,): of all rows."""
    inside: Any
    """Shape (rows,): which have a value, a group, and a weight above 0 where rows have weights."""
    heavy: Any
    """Shape (rows,): by how much each counts; 1 without weights."""
    n: Array
    """Shape (groups,): how many rows are inside."""
    total: Array
    """Shape (groups,): by how much these count together."""
    lows: Array
    """Shape (groups,): the lowest; ∞ of a group without values."""
    highs: Array
    """Shape (groups,): the highest; −∞ of a group without values."""
    above: Array
    """Shape (groups,): how much values are more than the lowest, in all: what is taken from all of a group costs no digits."""

    @classmethod
    def of(cls, column: Column, levels: Sequence[object], weights: Column | None, groups: _Groups) -> _Spread:
        """Sum values by group; of levels 1 where a row has one of them, 0 otherwise."""
        values = column.values
        if levels:
            values = np.isin(values, [column.level_at(level) for level in levels]).astype(np.float64)
        inside, size = column.present & (groups.codes >= 0), len(groups.counts)
        heavy: Any = 1.0
        if weights is not None:
            heavy = np.where(weights.present, weights.values, 0.0)
            inside = inside & (heavy > 0)
        n = groups.sums(inside.astype(np.float64))
        total = n if weights is None else groups.sums(np.where(inside, heavy, 0.0))
        lows, highs = np.full(size, np.inf), np.full(size, -np.inf)
        for part in each_part(_Ends(size), [(values, values)], np.where(inside, groups.codes, -1)):
            lows, highs = np.minimum(lows, part[0][0, 0]), np.maximum(highs, part[1][0, 0])
        start = np.append(np.where(n > 0, lows, 0.0), 0.0)
        above = groups.sums(np.where(inside, heavy * (values - look_up(start, groups.codes)), 0.0))
        return cls(values, inside, heavy, n, total, lows, highs, above)


def wanted_columns(given: object, columns: Columns, by: Sequence[str]) -> list[Wanted]:
    """Return what is asked for; refuse what is no measure, columns that are not there or do not suit it, and names that are taken."""
    if not isinstance(given, Mapping) or not given:
        raise ColumnError(f"Say of each new column what it is, for instance {_EXAMPLE}, not {told_value(given)}.")
    return [_wanted(name, told, columns, by) for name, told in given.items()]


def _wanted(name: object, told: object, columns: Columns, by: Sequence[str]) -> Wanted:
    if not isinstance(name, str) or not name.strip():
        raise ColumnError(f"A new column needs a name, not {told_value(name)}.")
    if name in by:
        raise ColumnError(f"`{name}` is what rows are put together by, and stays a column; choose another name.")
    if told == _ROWS:
        return Wanted(name, _ROWS)
    measures = [key for key in told if key not in ("of", "weights")] if isinstance(told, Mapping) else []
    if not isinstance(told, Mapping) or len(measures) != 1:
        raise ColumnError(
            f'`{name}` is "rows", or one measure of a column such as {{"mean": "age"}}, not {told_value(told)}.'
        )
    measure, of = str(measures[0]), told[measures[0]]
    if measure not in MEASURES:
        raise ColumnError(f"There is no measure `{measure}` for `{name}`.{near(measure, MEASURES)}")
    if not isinstance(of, str) or of not in columns:
        raise ColumnError(f"`{name}`: there is no column {told_value(of)}.{near(str(of), columns)}")
    column = columns[of]
    if column.fault:
        raise ColumnError(column.fault)
    weights = _weights(name, measure, told["weights"], columns) if "weights" in told else ""
    if (measure == "share") != ("of" in told):
        raise ColumnError(
            f'`{name}`: `of` says which levels a share is of, for instance {{"share": "voice", "of": "alto"}}; other measures have none.'
        )
    if measure == "share":
        if not column.is_categorical:
            raise ColumnError(
                f"`{name}`: `{of}` is numeric and has no levels to take the share of; make a yes/no column of it (`split_at`), or take its mean."
            )
        levels = told["of"] if isinstance(told["of"], (list, tuple)) else [told["of"]]
        if not levels:
            raise LevelError(f"`{name}`: name a level of `{of}` to take the share of.")
        return Wanted(name, measure, of, tuple(map(str, levels)), weights)  # as levels are found by
    if column.is_categorical:
        raise ColumnError(
            f"`{name}`: `{of}` is categorical and has no {measure}; take the share of a level, or declare it numeric."
        )
    if not all(map(math.isfinite, column.span)) and column.valid:
        raise ColumnError(f"`{name}`: `{of}` holds infinite values, of which there is no {measure}; blank them first.")
    return Wanted(name, measure, of, weights=weights)


def weights_unused(wanted: Sequence[Wanted], columns: Columns) -> str:
    """Say that the data have a column of weights by which no measure counts its rows; empty where nothing is to be said."""
    declared = [name for name, column in columns.items() if column.role == "weight"]
    bare = [w.name for w in wanted if w.measure in _WEIGHTED and w.of not in declared]
    if not declared or not bare or any(w.weights for w in wanted):
        return ""
    return f"Rows count alike in {listed(quoted(bare))}, though `{declared[0]}` has their weights: for weighted ones give each its `weights`."


def checked_weights(name: str, columns: Columns, lead: str = "") -> str:
    """Return the name of a column of weights; refuse one that is none, in a sentence that begins with `lead`."""
    if name not in columns:
        raise ColumnError(f"{lead}there is no column `{name}` of weights.{near(name, columns)}")
    column = columns[name]
    if column.fault:
        raise ColumnError(column.fault)
    if column.is_categorical:
        raise ColumnError(f"{lead}`{name}` is categorical: weights are numbers.")
    low, high = column.span
    if not (low >= 0 and 0 < high < math.inf):
        raise ColumnError(
            f"{lead}weights are finite, none of them below 0 and some above; `{name}` goes from {low:g} to {high:g}."
        )
    return name


def _weights(name: str, measure: str, given: object, columns: Columns) -> str:
    """Return the name of a column of weights; refuse one that is none, and measures that have none."""
    if measure not in _WEIGHTED:
        raise ColumnError(
            f"`{name}`: rows count by weights in a {listed(_WEIGHTED, 'or')}; the {measure} has none, so leave `weights` out."
        )
    if not isinstance(given, str) or given not in columns:
        raise ColumnError(f"`{name}`: there is no column {told_value(given)} of weights.{near(str(given), columns)}")
    return checked_weights(given, columns, f"`{name}`: ")


def aggregated(columns: Columns, by: Sequence[str], wanted: Sequence[Wanted], rows: int) -> Aggregated:
    """Make one row for each group: the levels of a column, or the combinations of several that occur, in the order of their levels.

    A measure is of the rows with a value; where none has one, or an sd has one alone, it is missing for that reason. Columns that are the same in
    all rows of each group stay.
    """
    keys = [as_key(columns[name], "the data") for name in by]
    sizes = [len(c.levels) for c in keys]
    if math.prod(sizes) > _MOST_CODES:
        raise ColumnError(
            f"{listed(quoted(by))} have too many combinations to put rows together by; name fewer columns."
        )
    joint = np.where(all_of([c.present for c in keys]), together([c.values for c in keys], sizes), -1)
    here, counts = counted_codes(joint, math.prod(sizes))
    if not len(here):
        raise ColumnError(f"No row has a value in {listed(quoted(by), 'and')}.")
    groups = _Groups(places_among(here, joint, math.prod(sizes)).astype(np.intp), counts)
    found: dict[str, Column] = {}
    for name, key, places in zip(by, keys, np.unravel_index(here, sizes), strict=True):
        found[name] = _key_column(columns[name], key, places.astype(np.int32), len(by) == 1)
    others = {n: c for n, c in columns.items() if n not in by and n not in {w.name for w in wanted} and not c.fault}
    constant = _constant(others, groups)
    found |= constant
    told, passed = [], True
    for own in wanted:
        column, row, right = _measured(own, columns, groups)
        found[own.name], passed = column, passed and right
        told.append(row)
    check = Check(
        ", ".join(w.name for w in wanted), ", ".join(by), pd.DataFrame(told), passed and int(counts.sum()) <= rows
    )
    return Aggregated(found, len(here), check, _text(by, wanted, constant, columns, groups, rows))


def _text(
    by: Sequence[str], wanted: Sequence[Wanted], same: Columns, columns: Columns, groups: _Groups, rows: int
) -> str:
    new = listed([f"`{w.name}` ({w.words})" for w in wanted])
    low, high = int(groups.counts.min()), int(groups.counts.max())
    of = f"{count_noun(low, 'row')} each" if low == high else f"{low:,} to {high:,} rows each"
    text = f"Aggregated {rows:,} rows by {listed(quoted(by))} into {len(groups.counts):,}, of {of}: {new}"
    if same:
        text += f"; {listed(quoted(same))}, the same in all rows of one, {'stays' if len(same) == 1 else 'stay'}"
    left = len(columns) - len(by) - len(same) - sum(w.name in columns for w in wanted)
    if left > 0:
        text += f"; {count_noun(left, 'other column')} {'is' if left == 1 else 'are'} left out"
    lost = rows - int(groups.counts.sum())
    if lost:
        verb = "is" if lost == 1 else "are"
        text += f"; {count_noun(lost, 'row')} without a value in {listed(quoted(by), 'or')} {verb} left out"
    return f"{text}."


def _key_column(column: Column, key: Column, places: NDArray[np.int32], alone: bool) -> Column:
    """Return a column of the key with the level of each group; alone it tells the rows apart."""
    role = "identifier" if alone else None if column.role in ("cluster", "identifier") else column.role
    if not column.is_categorical:
        numbers = np.array([float(code) for code in key.codes])
        return replace(column, values=numbers[places], why_missing=None, made=None, role=role)
    fresh = replace(column, values=places, why_missing=None, made=None, role=role)
    return fresh if fresh.base is not None and fresh.base.chosen else with_default_base(replace(fresh, base=None))


def _constant(columns: Columns, groups: _Groups) -> dict[str, Column]:
    """Return, of columns that are the same in all rows of each group, gaps with their reasons too, one value a group."""
    size, found = len(groups.counts), {}
    lows, highs = (np.full((len(columns), 2, size), end) for end in (np.inf, -np.inf))
    arrays = [(c.values, c.reasons()) for c in columns.values()]
    for part in each_part(_Ends(size), arrays, groups.codes):
        lows, highs = np.minimum(lows, part[0]), np.maximum(highs, part[1])
    for (name, column), low, high in zip(columns.items(), lows, highs, strict=True):
        if np.array_equal(low[1], high[1]) and np.array_equal(low[0], high[0]):
            why = low[1].astype(np.uint8)
            values = low[0].astype(np.int32) if column.is_categorical else np.where(why > 0, np.nan, low[0])
            fresh = replace(column, values=values, why_missing=why if why.any() else None, made=None)
            kept = column.base is None or column.base.chosen
            found[name] = fresh if kept else with_default_base(replace(fresh, base=None))
    return found


@dataclass(frozen=True)
class _Ends:
    """The lowest and the highest value, and reason for a gap, of several columns in each group."""

    size: int

    def __call__(self, arrays: Sequence[tuple[Any, Any]], codes: NDArray[np.intp]) -> tuple[Array, Array]:
        inside = codes >= 0
        at = codes[inside]
        lows, highs = (np.full((len(arrays), 2, self.size), end) for end in (np.inf, -np.inf))
        for k, pair in enumerate(arrays):
            for which, values in enumerate(pair):
                own = values[inside].astype(np.float64)
                own = np.where(np.isnan(own), -1.0, own)  # gaps are told by their reasons
                np.minimum.at(lows[k, which], at, own)
                np.maximum.at(highs[k, which], at, own)
        return lows, highs


def _measured(own: Wanted, columns: Columns, groups: _Groups) -> tuple[Column, dict[str, Any], bool]:
    """Return a new column, what the check says of it, and whether its values add up to those of all rows."""
    if own.measure == _ROWS:
        column = Column(own.name, "numeric", groups.counts.astype(np.float64), unit=Unit("row", "rows"))
        return column, _told(own, column, int(groups.counts.sum())), True
    source = columns[own.of]
    known = groups.known.get((own.of, own.levels, own.weights))
    spread = known or _Spread.of(source, own.levels, columns.get(own.weights), groups)
    groups.known[own.of, own.levels, own.weights] = spread
    n, lows, above, total = spread.n, spread.lows, spread.above, spread.total
    with np.errstate(invalid="ignore", divide="ignore"):
        means = lows + above / total
        easy = {"mean": means, "share": means, "sum": above + lows * total, "low": lows, "high": spread.highs}
        found = easy.get(own.measure)
        if found is None:
            found = _further(own.measure, spread, groups, means)
        found = np.where(n > 0, found, np.nan)
    why = np.where(np.isnan(found), FIRST_CODED + (n > 0), 0).astype(np.uint8)
    codes = (MissingCode("", "no value in its rows"), MissingCode("", "one value alone"))
    inside = f"{', '.join(own.levels)} in " if own.levels else ""
    label = f"{'weighted ' if own.weights else ''}{own.measure} of {inside}{source.label or own.of}"
    unit = source.unit if own.measure != "share" else None
    column = Column(
        own.name,
        "numeric",
        found,
        unit=unit,
        label=label,
        missing_codes=codes if why.any() else (),
        why_missing=why if why.any() else None,
    )
    row = _told(own, column, int(n.sum()))
    right = True
    if own.measure in ("mean", "share", "sum") and n.any():
        told, low = n > 0, float(lows.min())
        whole = float(np.sum(np.where(spread.inside, spread.heavy * (spread.values - low), 0.0)))
        right = math.isclose(float((above[told] + (lows[told] - low) * total[told]).sum()), whole, rel_tol=1e-9)
    return column, row, right and int(n.sum()) == int(np.sum(spread.inside))


def _further(measure: str, spread: _Spread, groups: _Groups, means: Array) -> Array:
    """Return the standard deviation or the median of each group; NaN where it has none.

    The variance is the weighted mean of squared deviations times n / (n − 1), n the rows that count (without weights: over n − 1).
    """
    values, inside, n = spread.values, spread.inside, spread.n
    if measure == "sd":
        centre = np.append(np.where(n > 0, means, 0.0), 0.0)
        squares = groups.sums(np.where(inside, spread.heavy * (values - look_up(centre, groups.codes)) ** 2, 0.0))
        return np.asarray(np.where(n > 1, np.sqrt(squares / spread.total * (n / (n - 1))), np.nan))
    refuse_in_parts([values], "a median by group", "take the mean, or aggregate where the file is made")
    rows = np.flatnonzero(inside)
    order = rows[np.lexsort((values[rows], groups.codes[rows]))]
    starts, middle = np.concatenate([[0], np.cumsum(n)[:-1]]), np.maximum(n - 1, 0) / 2
    in_order = np.append(values[order], np.nan)
    ends = [np.minimum(starts + half, len(order)).astype(np.intp) for half in (np.floor(middle), np.ceil(middle))]
    return np.asarray((in_order[ends[0]] + in_order[ends[1]]) / 2)


def _told(own: Wanted, column: Column, values: int) -> dict[str, Any]:
    there = column.values[column.present]
    ends = (float(there.min()), float(there.mean()), float(there.max())) if len(there) else (math.nan,) * 3
    return {"new": own.name, "measure": own.words.replace("`", ""), "values": values, "gaps": len(column.values) - len(there),
            "low": ends[0], "mean": ends[1], "high": ends[2]}  # fmt: skip
