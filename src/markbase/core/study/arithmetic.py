"""New numeric columns from several numeric columns: sums, means of a scale, differences, ratios and rates."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from markbase.core.errors import ColumnError, count_noun, listed, quoted
from markbase.core.formatting import short
from markbase.core.rows.row_functions import any_of, sum_of
from markbase.core.study.column import Column, Made, Unit
from markbase.core.study.consistency import answers_alike, consistency_of
from markbase.core.study.transformations import check_numeric
from markbase.core.study.verification import Check, Recode, before_and_after, with_missing

ARITHMETIC = ("difference", "mean", "product", "rate", "ratio", "sum")


def combine(columns: Sequence[Column], how: str, name: str, least: int | None, per: float) -> Recode:
    """Compute a new numeric column from several, which are remembered as what it was made of.

    `how` is ``sum``, ``mean``, ``difference`` (first less second), ``product``, ``ratio`` (first over second) or ``rate``
    (first per so many of the second, `per`). Of a sum or mean `least` items must be answered, by default all; a mean is
    over the items answered, and a sum is that mean times the number of items, so that a gap is not a zero.
    """
    for column in columns:
        check_numeric(column, how)
    names = [c.name for c in columns]
    if len(columns) < 2 or (how not in ("sum", "mean") and len(columns) != 2):
        raise ColumnError(
            f"`{how}` needs {'two or more' if how in ('sum', 'mean') else 'exactly two'} columns, not {len(columns)}."
        )
    if len(set(names)) < len(names):
        raise ColumnError(f"`{how}` names a column twice: {listed(quoted(names))}.")
    if how == "rate" and not per > 0:
        raise ColumnError(f"A rate is per a positive number, not {per!r}.")
    if how in ("sum", "mean"):
        return _items(columns, how, name, least)
    present = columns[0].present & columns[1].present
    first, second = (np.where(present, c.values, 1.0) for c in columns)
    zero = present & (second == 0) if how in ("rate", "ratio") else present & False
    if how == "difference":
        values = np.where(present, first - second, np.nan)
        words, unit = f"`{names[0]}` less `{names[1]}`", columns[0].unit if columns[0].unit == columns[1].unit else None
    elif how == "product":
        values = np.where(present, first * second, np.nan)
        words, unit = f"`{names[0]}` times `{names[1]}`", None
    else:
        with np.errstate(divide="ignore", invalid="ignore"):
            values = np.where(present & ~zero, first / second * (per if how == "rate" else 1.0), np.nan)
        times = f"per {short(per)} of" if how == "rate" else "over"
        words, unit = f"`{names[0]}` {times} `{names[1]}`", None
    new = Column(
        name,
        "numeric",
        values,
        label=words.replace("`", ""),
        unit=unit,
        made=Made(how, tuple(names), tuple(columns), (float(per),)),
    )
    new = with_missing(new, columns[0], _others(columns) | {f"`{names[1]}` is 0": zero})
    notes = [f"{count_noun(int(zero.sum()), 'row')} with `{names[1]}` = 0 left missing"] if zero.any() else []
    return verified(columns, new, f"Made `{name}`, {words}", notes)


def _items(columns: Sequence[Column], how: str, name: str, least: int | None) -> Recode:
    needed = len(columns) if least is None else least
    if not 1 <= needed <= len(columns):
        raise ColumnError(
            f"At least {needed} of {len(columns)} items answered is not possible; give least between 1 and {len(columns)}."
        )
    answered = sum_of([c.present for c in columns])
    enough = answered >= needed
    total = sum_of([np.where(c.present, c.values, 0.0) for c in columns])
    partial = enough & (answered < len(columns))
    mean = total / np.maximum(answered, 1)
    values = mean if how == "mean" else np.where(partial, mean * len(columns), total)
    values = np.where(enough, values, np.nan)
    made = Made(how, tuple(c.name for c in columns), tuple(columns), (float(needed),))
    units = {c.unit for c in columns}
    new = Column(
        name,
        "numeric",
        values,
        label=f"{how} of {', '.join(c.name for c in columns)}",
        unit=units.pop() if len(units) == 1 else Unit("unit", "units"),
        made=made,
    )
    like = Column("", "numeric", np.where(enough, 0.0, 0.0))
    reason = "an item missing" if needed == len(columns) else f"fewer than {needed} of {len(columns)} items answered"
    new = with_missing(new, like, {reason: ~enough})
    notes = [f"needs {needed} of {len(columns)} items answered: {count_noun(int((~enough).sum()), 'row')} missing"]
    if partial.any():
        filled = "averaged over the items answered" if how == "mean" else "scaled up from the items answered"
        notes.append(f"{count_noun(int(partial.sum()), 'row')} {filled}")
    low = [c for c in columns if c.valid]
    spans = {c.span for c in low}
    if how == "mean" and len(spans) > 1:
        notes.append("the items do not all span the same range: are they one scale, and all worded the same way round?")
    together = consistency_of(columns) if how == "mean" or (len(columns) > 2 and answers_alike(columns)) else None
    if together is not None and not together.fixed:
        notes += [words for words in (together.alpha_words, together.against_words) if words]
    return verified(columns, new, f"Made `{name}`, the {how} of {listed(quoted([c.name for c in columns]))}", notes)


def _others(columns: Sequence[Column]) -> dict[str, NDArray[np.bool_]]:
    return {f"`{c.name}` missing": ~c.present for c in columns[1:]}


def verified(columns: Sequence[Column], new: Column, text: str, notes: list[str]) -> Recode:
    """Verify a numeric column that was made of several: rows have a value where each of these can have one, and a reason where they have none."""
    first = before_and_after(columns[0], new)
    table = first.table.rename(columns={"before": columns[0].name, "after": new.name})
    for column in columns[1:]:
        table.insert(table.shape[1] - 1, column.name, before_and_after(column, new).table["before"])
    possible = any_of([c.present for c in columns])
    passed = not bool(np.any(new.present & ~possible)) and bool(np.all((new.reasons() > 0) == ~new.present))
    check = Check(new.name, ", ".join(c.name for c in columns), table, passed, tuple(notes))
    return Recode(
        new,
        check,
        f"{text}: {count_noun(new.valid, 'row')} with a value" + (f" ({'; '.join(notes)})." if notes else "."),
    )
