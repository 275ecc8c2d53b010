"""What every recoding leaves behind: the new column, and the table that verifies it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.display import ShownTables
from markbase.core.errors import count_noun
from markbase.core.formatting import plain
from markbase.core.rows.parts import InParts
from markbase.core.rows.row_functions import counted_codes, ends_by_code, look_up, sd_of
from markbase.core.study.column import FIRST_CODED, Column, MissingCode, skewness

_SHOWN = 6
"""So many of the lowest, and of the highest, are shown where a number is made of each level."""
_ROUNDING = 1e-14
"""A mean that is a smaller share of the standard deviation is 0 but for rounding."""


@dataclass(frozen=True, eq=False, repr=False)
class Check(ShownTables):
    """The verification of one recoding."""

    column: str
    """The new column."""
    source: str
    """The column it was made of."""
    table: pd.DataFrame
    """For groups `old`, `new`, `rows`: every pair that occurs. For numeric columns `measure`, `before`, `after`."""
    passed: bool
    """Whether the counts add up: no row lost or doubled, missing rows missing for a known reason."""
    notes: tuple[str, ...] = ()
    """What was noticed."""


@dataclass(frozen=True)
class Recode:
    """A new column with its verification."""

    column: Column
    """The new column."""
    check: Check
    """Counts before and after."""
    text: str
    """What was done, in a sentence."""


def old_by_new(source: Column, new: Column, notes: tuple[str, ...] = ()) -> Check:
    """Count every pair of an old and a new value, a row; a numeric column's old values are told as the range in each new level."""
    after, shown_after = shown_values(new)
    before, shown_before = shown_values(source) if source.is_categorical else _ranges(source, len(after), shown_after)
    codes, rows = counted_codes(shown_after.astype(np.int64) * len(before) + shown_before, len(before) * len(after))
    at, was = np.divmod(codes, len(before))
    table = pd.DataFrame({"old": before[was], "new": after[at], "rows": rows})
    told = int(table["rows"].sum()) == len(source.values) == len(new.values)
    # a row that was missing must not have become a level
    kept = not bool(np.any(new.present & ~source.present))
    return Check(new.name, source.name, table, told and kept, notes)


def before_and_after(source: Column, new: Column, notes: tuple[str, ...] = ()) -> Check:
    """Describe a numeric column before and after: rows, missing, mean, sd, lowest, highest and skew."""
    described = [_described(source), _described(new)]
    table = pd.DataFrame([{"measure": m, "before": described[0][m], "after": described[1][m]} for m in described[0]])
    reasons = new.reasons()
    passed = len(source.values) == len(new.values) and bool(np.all((reasons > 0) == ~new.present))
    return Check(new.name, source.name, table, passed and not bool(np.any(new.present & ~source.present)), notes)


def _described(column: Column) -> dict[str, float]:
    found = _measured(column)
    if abs(found["mean"]) <= _ROUNDING * found["sd"]:  # of what was centred
        found["mean"] = 0.0
    return found


@np.errstate(invalid="ignore")  # infinite values have no mean
def _measured(column: Column) -> dict[str, float]:
    if isinstance(column.values, InParts):
        facts = column.values.facts
        told = {
            "rows": float(facts.valid),
            "missing": float(facts.rows - facts.valid),
            "mean": facts.mean,
            "sd": facts.sd,
        }
        return told | {"low": facts.low, "high": facts.high, "skew": facts.skew}
    values = column.values[column.present]
    few = len(values) < 2
    constant = few or values.min() == values.max() or not np.isfinite(values).all()
    return {
        "rows": float(len(values)),
        "missing": float(len(column.values) - len(values)),
        "mean": float(values.mean()) if len(values) else np.nan,
        "sd": np.nan if few else sd_of(values),
        "low": float(values.min()) if len(values) else np.nan,
        "high": float(values.max()) if len(values) else np.nan,
        "skew": np.nan if constant else skewness(values),
    }


def shown_values(column: Column) -> tuple[NDArray[Any], NDArray[np.intp]]:
    """Return what a group's rows can show, level labels and then reasons for missing, and which of it each row shows."""
    reasons = ["(missing: blank)", *(f"(missing: {c.shown})" for c in column.missing_codes)]
    names = np.array([*(level.label for level in column.levels), *reasons], dtype=object)
    places = np.where(column.present, column.values, len(column.levels) + column.reasons().astype(np.intp) - 1)
    return names, places.astype(np.intp)


def _ranges(source: Column, size: int, after: NDArray[np.intp]) -> tuple[NDArray[Any], NDArray[np.intp]]:
    """Tell a numeric column's values by the range that falls together into one new value."""
    lows, highs = ends_by_code(source.values, np.where(source.present, after, -1), size)
    here = np.flatnonzero(lows <= highs)
    ends = zip(lows[here], highs[here], strict=True)
    names = [plain(low, 6) if low == high else f"{plain(low, 6)} to {plain(high, 6)}" for low, high in ends]
    slot = np.zeros(size, dtype=np.intp)
    slot[here] = np.arange(len(here))
    reasons = ["(missing: blank)", *(f"(missing: {c.shown})" for c in source.missing_codes)]
    gone = len(names) + source.reasons().astype(np.intp) - 1
    return np.array([*names, *reasons], dtype=object), np.where(source.present, look_up(slot, after), gone)


def levels_by_number(
    column: Column, new: Column, parts: NDArray[np.float64], notes: tuple[str, ...], what: str
) -> Check:
    """Show what became the lowest numbers of all levels, shape (levels,), and the highest; `what` a level is."""
    here = np.flatnonzero(column.counts)
    here = here[np.argsort(parts[here], kind="stable")]
    some = here if len(here) <= 2 * _SHOWN else np.concatenate([here[:_SHOWN], here[-_SHOWN:]])
    table = pd.DataFrame(
        {
            "old": [column.levels[k].label for k in some],
            "new": [plain(parts[k], 6) for k in some],
            "rows": column.counts[some],
        }
    )
    left = len(here) - len(some)
    notes = (*notes, f"{count_noun(left, what)} between them not shown") if left else notes
    return Check(new.name, column.name, table, new.valid == column.valid, notes)


def with_missing(column: Column, like: Column, reasons: Mapping[str, NDArray[np.bool_]] | None = None) -> Column:
    """Give a new column the reasons for missing of the one it was made of, and some of its own.

    Its missing rows must be among those of `like` or of `reasons` (a mask of the rows for each); every one is accounted for.
    """
    why, codes = like.reasons(), list(like.missing_codes)
    for reason, rows in (reasons or {}).items():
        fresh = rows & (why == 0)
        if fresh.any():
            why = np.where(fresh, FIRST_CODED + len(codes), why).astype(np.uint8)
            codes.append(MissingCode("", reason))
    return replace(column, missing_codes=tuple(codes), why_missing=why if codes else None)
