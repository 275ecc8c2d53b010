"""One column of several that hold the same thing, each in some of the rows."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np
import pandas as pd

from markbase.core.errors import ColumnError, count_noun, listed, quoted
from markbase.core.rows.row_functions import any_of, first_true, look_up
from markbase.core.study.column import (
    BLANK,
    FIRST_CODED,
    MOST_REASONS,
    PRESENT,
    Base,
    Column,
    Kind,
    Level,
    Made,
    MissingCode,
)
from markbase.core.study.column_types import with_default_base
from markbase.core.study.verification import Check, Recode


def coalesced(columns: Sequence[Column], name: str) -> Recode:
    """Give each row the value of the first of some columns that has one there, verified.

    Levels of groups are the same by their labels. Rows where a later column has another value than the one that was taken are
    counted, and said.
    """
    names = [column.name for column in columns]
    if len(columns) < 2 or len(set(names)) < len(names):
        raise ColumnError(f"Two different columns or more are made one, not {listed(quoted(names)) or 'none'}.")
    for column in columns:
        if column.fault:
            raise ColumnError(column.fault)
    first = columns[0]
    for other in columns[1:]:
        if other.is_categorical != first.is_categorical:
            numeric, group = (first, other) if other.is_categorical else (other, first)
            raise ColumnError(
                f"`{numeric.name}` is numeric and `{group.name}` {group.kind}: declare them alike before they are made one."
            )
    units = {column.unit.many: column for column in reversed(columns) if column.unit is not None}
    if len(units) > 1:
        told = listed([f"`{column.name}` in {unit}" for unit, column in sorted(units.items())])
        raise ColumnError(f"Columns that are made one are counted alike, not {told}: bring them to one unit first.")
    new, each = _group_of(columns) if first.is_categorical else (first, [column.values for column in columns])
    present = [column.present for column in columns]
    values = each[-1]
    for own, here in zip(each[-2::-1], present[-2::-1], strict=True):
        values = np.where(here, own, values)
    new = replace(
        new,
        name=name,
        values=values,
        label=next((column.label for column in columns if column.label), ""),
        unit=next((column.unit for column in columns if column.unit), None),
        made=Made("coalesce", tuple(names)),
        guess=first.guess if all(column.guess for column in columns) else "",
        doubt="",
        notes=(),
    )
    new = with_reasons(new, columns)
    if new.is_categorical:
        new = _with_base(new, columns)
    return _verified(new, columns, each)


def _group_of(columns: Sequence[Column]) -> tuple[Column, list[Any]]:
    """Return a group with the levels of all, those of the first in front, and the place of each row's level in it, by column."""
    first = columns[0]
    long = max(columns, key=lambda column: len(column.levels))
    in_order = all(_follows(column.labels, long.labels) for column in columns)
    levels: list[Level] = []
    places: dict[str, int] = {}
    codes: set[str] = set()
    for column in (long, *columns) if in_order else columns:
        for level in column.levels:
            if level.label not in places:
                places[level.label] = len(levels)
                # one code of two labels would be either
                possible = (level.code, level.label, f"{level.label} ({column.name})")
                levels.append(level._replace(code=next(code for code in possible if code not in codes)))
                codes.add(levels[-1].code)
    ordinal = in_order and all(column.kind == "ordinal" for column in columns)
    kind: Kind = "ordinal" if ordinal else "categorical"
    event = None if first.event is None or len(levels) != 2 else places[first.labels[first.event]]
    scheme = first.scheme if ordinal or first.scheme in ("indicator", "effect") else "indicator"
    new = replace(first, kind=kind, levels=tuple(levels), event=event, scheme=scheme)
    slots = [np.array([*(places[label] for label in column.labels), -1], dtype=np.int32) for column in columns]
    return new, [look_up(slot, column.values) for slot, column in zip(slots, columns, strict=True)]


def _follows(labels: Sequence[str], order: Sequence[str]) -> bool:
    """Return whether labels are all among others, and in their order."""
    rest = iter(order)
    return all(label in rest for label in labels)


def with_reasons(new: Column, columns: Sequence[Column]) -> Column:
    """Return a column whose missing rows are so for the first code of their answers; else they are blank where a source is, else as the first source."""
    codes = list(dict.fromkeys(code for column in columns for code in column.missing_codes))
    if len(codes) > MOST_REASONS:
        raise ColumnError(
            f"{listed(quoted([c.name for c in columns]))} have {len(codes)} codes for a missing answer together, and {MOST_REASONS} are told apart; merge some first."
        )
    reasons = [_among(codes, column) for column in columns]
    answered = np.array([False, False, *(bool(code.code) for code in codes)])
    why = reasons[0]
    for own in reasons[1:]:
        why = np.where(look_up(answered, why), why, np.where(look_up(answered, own) | (own == BLANK), own, why))
    why = np.where(new.present, PRESENT, why).astype(np.uint8)
    return replace(new, missing_codes=tuple(codes), why_missing=why if codes else None)


def _among(codes: Sequence[MissingCode], column: Column) -> Any:
    """Return why each row of a column is missing, told by the reasons of all."""
    slot = np.array([PRESENT, BLANK, *(FIRST_CODED + codes.index(code) for code in column.missing_codes)])
    return look_up(slot, column.reasons())


def _with_base(new: Column, columns: Sequence[Column]) -> Column:
    """Return a group with the first base that was chosen in one of its sources, else the default."""
    for column in columns:
        base = column.base
        if base is not None and base.chosen:
            label = column.labels[base.level]
            return replace(new, base=Base(new.labels.index(label), base.reason, True, base.looked_at))
    return with_default_base(replace(new, base=None))


def _verified(new: Column, columns: Sequence[Column], each: Sequence[Any]) -> Recode:
    """Count where the values come from, and where another column has another one."""
    rows: list[dict[str, Any]] = []
    notes: list[str] = []
    before: Any = None
    right = True
    for column, own in zip(columns, each, strict=True):
        here = column.present
        taken = here if before is None else here & ~before
        other = here & (own != new.values)
        before = here if before is None else before | here
        right = right and not bool(np.any(taken & other))
        count = int(np.count_nonzero(other))
        rows.append(
            {
                "column": column.name,
                "valid": column.valid,
                "taken": int(np.count_nonzero(taken)),
                "agree": int(np.count_nonzero(here & ~taken & ~other)),
                "differ": count,
            }
        )
        if count:
            notes.append(
                f"`{column.name}` has another value than the one taken in {count_noun(count, 'row')}, first in row {first_true(other) + 1}"
            )
        elif not rows[-1]["taken"]:
            notes.append(f"`{column.name}` has no value where the others have none")
    lost = bool(np.any(new.present != any_of([column.present for column in columns])))
    table = pd.DataFrame(rows)
    passed = right and not lost and int(table["taken"].sum()) == new.valid
    names = [column.name for column in columns]
    told = "; ".join(f"{row['taken']:,} of `{row['column']}`" for row in rows)
    text = f"Made {listed(quoted(names))} one column, `{new.name}`, the first value of each row: {count_noun(new.valid, 'row')} with a value, {told}"
    check = Check(new.name, ", ".join(names), table, passed, tuple(notes))
    return Recode(new, check, text + (f" ({'; '.join(notes)})." if notes else "."))
