"""A group of which each level has conditions of its own, on one column or several."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace
from typing import Any

import numpy as np
import pandas as pd

from markbase.core.errors import ColumnError, LevelError, count_noun, listed
from markbase.core.rows.row_functions import all_of, any_of, sum_of
from markbase.core.study.coalescing import with_reasons
from markbase.core.study.column import FIRST_CODED, Column, Level, Made, MissingCode
from markbase.core.study.column_types import with_default_base
from markbase.core.study.row_selection import rows_that
from markbase.core.study.verification import Check, Recode

_THIN = 10
"""Levels with fewer rows are pointed out."""
_EXAMPLE = '{"single parent": {"partner": "no", "children": {"at_least": 1}}}'


def classified(
    column: Callable[[str], Column], levels: Mapping[str, object], otherwise: str | None, name: str
) -> Recode:
    """Give each row the first level of which it meets the conditions, verified; `column` returns a column by its name.

    The conditions of a level are columns with tests (see `row_selection.rows_that`), of which a row has to meet all, or a list of
    such, of which it has to meet one. Where a gap leaves open whether a row meets them, and no level before is met, its level is
    not known. A row that meets none for certain is `otherwise`, or missing where there is no such level.
    """
    if not isinstance(levels, Mapping) or not levels:
        raise ColumnError(f"Say which rows have which level, for instance {_EXAMPLE}.")
    labels = [*map(str, levels), *([otherwise] if otherwise is not None else [])]
    if not all(label.strip() for label in labels) or len(set(labels)) < len(labels):
        raise LevelError(f"Each level of `{name}` has a label of its own, not {listed([repr(v) for v in labels])}.")
    columns: dict[str, Column] = {}
    met, open_, words = [], [], []
    for label, conditions in levels.items():
        own, unknown, told = _met(column, columns, str(label), conditions)
        met.append(own)
        open_.append(unknown)
        words.append(told)
    every = list(columns.values())
    place: Any = len(levels)
    for k in reversed(range(len(levels))):
        place = np.where(met[k], k, np.where(open_[k], -1, place))
    none = place == len(levels)
    if otherwise is None:
        place = np.where(none, -1, place)
    new = Column(
        name,
        "categorical",
        place.astype(np.int32),
        levels=tuple(Level(label, label, True) for label in labels),
        made=Made("classification", tuple(columns)),
    )
    new = with_reasons(with_default_base(new), every)
    if otherwise is None:
        code = MissingCode("", f"no level of `{name}`")
        why = np.where(none, FIRST_CODED + len(new.missing_codes), new.reasons()).astype(np.uint8)
        new = replace(new, missing_codes=(*new.missing_codes, code), why_missing=why)
    return _verified(new, every, met, none, words, otherwise)


def _met(
    column: Callable[[str], Column], columns: dict[str, Column], label: str, conditions: object
) -> tuple[Any, Any, str]:
    """Return the rows that meet the conditions of a level, those of which it is not known that they do not, and the conditions in words."""
    several: list[Any] = list(conditions) if isinstance(conditions, (list, tuple)) else [conditions]
    if not several or not all(isinstance(own, Mapping) and own for own in several):
        raise ColumnError(
            f"The conditions of “{label}” are columns with tests, or a list of such, as in {_EXAMPLE}, not {conditions!r}."
        )
    met, failed, words = [], [], []
    for own in several:
        each = []
        for name, tests in own.items():
            of = columns.setdefault(str(name), column(str(name)))
            passed, told = rows_that(of, tests)
            decided = of.present if not isinstance(tests, Mapping) or "present" not in tests else of.present | True
            each.append((passed, decided & ~passed, told.replace("`", "")))
        met.append(all_of([passed for passed, _, _ in each]))
        failed.append(any_of([fails for _, fails, _ in each]))
        words.append(" and ".join(told for _, _, told in each))
    here = any_of(met)
    return here, ~all_of(failed), "; or ".join(words)


def _verified(
    new: Column, columns: list[Column], met: list[Any], none: Any, words: list[str], otherwise: str | None
) -> Recode:
    """Count the rows of each level, those that meet a later one's conditions as well, and those of which it is not known."""
    levels, rows, notes = new.labels[: len(met)], [], []
    for k, (label, told) in enumerate(zip(levels, words, strict=True)):
        count = int(new.counts[k])
        rows.append({"level": label, "where": told, "rows": count, "also met": int(np.count_nonzero(met[k])) - count})
    if otherwise is not None:
        rows.append({"level": otherwise, "where": "none of these is met", "rows": int(new.counts[-1]), "also met": 0})
    lost = int(np.count_nonzero(none)) if otherwise is None else 0
    unknown = len(new.values) - new.valid - lost
    for what, count in (("none of these is met", lost), ("not known", unknown)):
        if count:
            rows.append({"level": "(missing)", "where": what, "rows": count, "also met": 0})
    table = pd.DataFrame(rows)
    empty = [f"“{label}”" for label, count in zip(new.labels, new.counts, strict=True) if not count]
    thin = [f"“{label}” ({n:,})" for label, n in zip(new.labels, new.counts, strict=True) if 0 < n < _THIN]
    twice = int(np.count_nonzero(sum_of(met) > 1))
    if empty:
        notes.append(f"no row is {listed(empty, 'or')}")
    if thin:
        notes.append(f"thin: {listed(thin)}")
    if twice:
        one = twice == 1
        notes.append(
            f"{count_noun(twice, 'row')} {'meets' if one else 'meet'} the conditions of several levels, and {'has' if one else 'have'} the first"
        )
    if lost:
        notes.append(f"{count_noun(lost, 'row')} of no level left missing")
    if unknown:
        notes.append(
            f"of {count_noun(unknown, 'row')} the level is not known, for a gap in {listed([f'`{c.name}`' for c in columns if c.valid < len(c.values)], 'or')}"
        )
    right = int(table["rows"].sum()) == len(new.values) and bool(np.all((new.reasons() > 0) == ~new.present))
    names = ", ".join(column.name for column in columns)
    text = f"Made `{new.name}` of {listed([f'`{c.name}`' for c in columns])}, a level for the first conditions that are met: {count_noun(len(new.levels), 'level')}, {count_noun(new.valid, 'row')} with a value"
    return Recode(
        new, Check(new.name, names, table, right, tuple(notes)), text + (f" ({'; '.join(notes)})." if notes else ".")
    )
