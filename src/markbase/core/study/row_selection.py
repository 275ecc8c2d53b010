"""Keeping some rows, and holding some out."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.arguments import check_seed
from markbase.core.errors import ColumnError, MarkbaseError, count_noun, listed, near, quoted
from markbase.core.rows.parts import in_parts, row_numbers
from markbase.core.rows.row_functions import all_of, learn, look_up, made_of, sum_of
from markbase.core.rows.table import hashed
from markbase.core.study.column import Column
from markbase.core.study.column_types import with_default_base
from markbase.core.study.verification import Check

Rows = NDArray[np.bool_]

TESTS = ("above", "among", "at_least", "at_most", "below", "is", "is_not", "not_among", "present")


def rows_that(column: Column, tests: object) -> tuple[Rows, str]:
    """Find the rows that pass all tests on one column, shape (rows,), and put the tests in words. A missing row passes none.

    The tests are ``above``, ``at_least``, ``at_most``, ``below`` of a numeric column; ``is``, ``is_not`` with a value,
    ``among``, ``not_among`` with several; ``present`` with true. A bare value stands for ``is``, a bare list for ``among``.
    """
    if not isinstance(tests, Mapping):
        tests = {"among": tests} if isinstance(tests, (list, tuple)) else {"is": tests}
    rows, words = column.present, []
    for test, value in tests.items():
        if test not in TESTS:
            raise ColumnError(f"`{test}` is no test for `{column.name}`.{near(str(test), TESTS)}")
        passed, told = _test(column, str(test), value)
        rows = rows & passed
        words.append(told)
    return rows, " and ".join(words)


def _test(column: Column, test: str, value: object) -> tuple[Rows, str]:
    name = f"`{column.name}`"
    if test == "present":
        if value is not True:
            raise ColumnError(f"`present` for {name} is true, not {value!r}.")
        return column.present, f"{name} is not missing"
    if test in ("above", "at_least", "at_most", "below"):
        if column.is_categorical:
            raise ColumnError(f"{name} is categorical, so `{test}` says nothing; `among` takes a list of its levels.")
        if isinstance(value, bool) or not isinstance(value, (int, float)):
            raise ColumnError(f"`{test}` for {name} is a number, not {value!r}.")
        x = column.values
        passed = {"above": x > value, "at_least": x >= value, "at_most": x <= value, "below": x < value}[test]
        return passed, f"{name} is {test.replace('_', ' ')} {value:g}"
    several = test in ("among", "not_among")
    if several and not isinstance(value, (list, tuple)):
        raise ColumnError(f"`{test}` for {name} takes a list, not {value!r}.")
    wanted: list[Any] = list(value) if several else [value]  # type: ignore[call-overload]
    if column.is_categorical:
        passed = np.isin(column.values, [column.level_at(v) for v in wanted])
    else:
        if any(isinstance(v, bool) or not isinstance(v, (int, float)) for v in wanted):
            raise ColumnError(f"{name} is numeric, so `{test}` takes numbers, not {value!r}.")
        passed = np.isin(column.values, wanted)
    negative = test in ("is_not", "not_among")
    told = f"{name} is {'not ' if negative else ''}{listed([str(v) for v in wanted], 'or')}"
    return (~passed if negative else passed), told


def kept_rows(columns: Mapping[str, Column], conditions: Mapping[str, object], rows: int) -> tuple[Rows, Check, str]:
    """Find the rows that meet every condition (column to tests, see `rows_that`), shape (rows,), with a check and the words.

    The check has per condition: `fail` (rows that fail it), `missing` (rows with no value to hold against it), `only` (rows
    lost to it alone).
    """
    if not isinstance(conditions, Mapping) or not conditions:
        raise MarkbaseError(
            'Say which rows to keep, for instance {"age": {"at_least": 18}, "voice": ["alto", "tenor"]}.'
        )
    each, words = [], []
    for name, tests in conditions.items():
        passed, told = rows_that(columns[name], tests)
        each.append(passed)
        words.append(told)
    kept = all_of(each)
    failures = sum_of([~p for p in each])
    learn(masks=[kept, *(~p & columns[n].present for n, p in zip(conditions, each, strict=True))])
    table = pd.DataFrame(
        [
            {
                "condition": told.replace("`", ""),
                "fail": int(np.sum(~p & columns[name].present)),
                "missing": int(np.sum(~columns[name].present)),
                "only": int(np.sum(~p & (failures == 1))),
            }
            for name, told, p in zip(conditions, words, each, strict=True)
        ]
    )
    if not kept.any():
        worst = table.iloc[int(np.argmax(table["fail"] + table["missing"]))]
        raise MarkbaseError(
            f"No row of {rows:,} meets {'the condition' if len(each) == 1 else 'all conditions'}; most fail “{worst['condition']}” "
            f"({worst['fail'] + worst['missing']:,} rows). Nothing was kept."
        )
    return (
        kept,
        Check("", ", ".join(conditions), table, int(kept.sum()) + int((failures > 0).sum()) == rows),
        listed(words),
    )


def take(column: Column, rows: NDArray[Any]) -> Column:
    """Return a column with some of its rows, by a mask or places, and the same levels.

    A base nobody chose is chosen again, a base that was chosen stays.
    """
    why = None if column.why_missing is None else column.why_missing[rows]
    made = column.made
    if made is not None and made.sources:
        made = replace(made, sources=tuple(take(source, rows) for source in made.sources))
    new = replace(column, values=column.values[rows], why_missing=why, made=made)
    if new.is_categorical and (new.base is None or not new.base.chosen):
        return with_default_base(replace(new, base=None))
    return new


Held = dict[tuple[Any, ...], tuple[Any, Any]]
"""Values, and why they are missing, of columns and of those they were made of."""


def arrays_of(columns: Mapping[str, Column]) -> Held:
    """Return the values of columns, and of the columns they were made of, by where they stand."""
    found: Held = {}

    def add(place: tuple[Any, ...], column: Column) -> None:
        found[place] = column.values, column.why_missing
        for k, source in enumerate(column.made.sources if column.made is not None else ()):
            add((*place, k), source)

    for name, column in columns.items():
        add((name,), column)
    return found


def holding(place: tuple[Any, ...], column: Column, held: Held) -> Column:
    """Return a column with other values, and so those it was made of."""
    values, why = held[place]
    made = column.made
    if made is not None and made.sources:
        made = replace(made, sources=tuple(holding((*place, k), s, held) for k, s in enumerate(made.sources)))
    return replace(column, values=values, why_missing=why, made=made)


def split_rows(
    rows: int, share: float, seed: int, within: Column | None, whole: Column | None, like: Any
) -> tuple[Rows, str]:
    """Choose a share of rows to hold out, of each level of a group or whole levels of one if one is given, shape (rows,), and say what was done.

    The same seed holds out the same rows. `like` has the values of any column.
    """
    if isinstance(share, bool) or not isinstance(share, (int, float)) or not 0 < share < 1:
        raise MarkbaseError(f"The share to hold out is {share!r}; it must lie between 0 and 1, for instance 0.2.")
    check_seed(seed)
    if within is not None and not within.is_categorical:
        raise ColumnError(f"`{within.name}` is numeric; rows are held out within the levels of a group.")
    if whole is not None:
        return _whole_levels(rows, share, seed, whole, within)
    if in_parts(like):
        return _split_in_parts(like, share, seed, within)
    rng = np.random.default_rng(seed)
    series = np.zeros(rows, dtype=np.int64) if within is None else within.values
    held = np.zeros(rows, dtype=bool)
    order = np.argsort(series, kind="stable")
    for here in np.split(order, np.flatnonzero(np.diff(series[order])) + 1):
        count = round(share * len(here))
        held[rng.permutation(here)[:count]] = True
    out = int(held.sum())
    if out == 0 or out == rows:
        raise MarkbaseError(
            f"Holding out {share:g} of {count_noun(rows, 'row')}{f' within `{within.name}`' if within else ''} leaves one part "
            f"empty; choose another share."
        )
    inside = f" within the levels of `{within.name}`" if within else ""
    return held, f"{out:,} of {rows:,} rows held out at random{inside} (share {share:g}, seed {seed})"


def _whole_levels(rows: int, share: float, seed: int, whole: Column, within: Column | None) -> tuple[Rows, str]:
    """Hold out whole levels at random, as many as come nearest to the share of the rows; rows without a level are kept."""
    if within is not None:
        raise MarkbaseError(
            f"Rows are held out within the levels of `{within.name}`, or whole levels of `{whole.name}` are; leave one of the two out."
        )
    if not whole.is_categorical:
        raise ColumnError(f"`{whole.name}` is numeric; whole levels of a group are held out.")
    there = np.random.default_rng(seed).permutation(np.flatnonzero(whole.counts))
    if len(there) < 2:
        raise MarkbaseError(
            f"`{whole.name}` has {count_noun(len(there), 'level')}; to hold out whole levels takes at least two."
        )
    reached = np.cumsum(whole.counts[there])
    some = there[: 1 + int(np.argmin(np.abs(reached[:-1] - share * rows)))]
    chosen = np.zeros(len(whole.levels) + 1)
    chosen[some] = 1.0
    held = look_up(chosen, whole.values) > 0
    words = f"{int(whole.counts[some].sum()):,} of {rows:,} rows, {len(some)} of {len(there)} whole levels of `{whole.name}`, held out at random"
    return held, f"{words} (share {share:g}, seed {seed})"


def _split_in_parts(like: Any, share: float, seed: int, within: Column | None) -> tuple[Rows, str]:
    """Hold out rows that come in parts: those of which a hash of their place is low, so that each row is decided for itself."""
    limit = np.uint64(min(int(share * 2.0**64), 2**64 - 1))
    own = int(
        np.random.default_rng(seed).integers(1 << 62)
    )  # far from that by which rows are kept in memory, and from the next

    def drawn(numbers: NDArray[np.intp]) -> tuple[NDArray[np.bool_]]:
        return (hashed(numbers.astype(np.uint64), own) < limit,)

    held = made_of(1, drawn, row_numbers(like))[0] > 0
    out, rows = int(held.sum()), len(like)
    if out in (0, rows):
        raise MarkbaseError(
            f"Holding out {share:g} of {count_noun(rows, 'row')} leaves one part empty; choose another share."
        )
    inside = f", in every level of `{within.name}` about that share" if within else ""
    return held, f"{out:,} of {rows:,} rows held out at random, each by itself{inside} (share {share:g}, seed {seed})"


def one_sided_levels(train: Mapping[str, Column], test: Mapping[str, Column]) -> list[str]:
    """Name the levels that one of two parts of the data lacks, one remark a group."""
    remarks = []
    for name, first in train.items():
        if not first.is_categorical or first.role == "identifier":
            continue
        second = test[name]
        for part, here, there in (("kept", first, second), ("held-out", second, first)):
            lacking = np.flatnonzero((here.counts == 0) & (there.counts > 0))
            if len(lacking):
                some = quoted([first.levels[k].label for k in lacking[:4]])
                remarks.append(f"no {part} row of `{name}` is {listed(some, 'or')}")
    return remarks
