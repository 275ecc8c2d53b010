"""Taking codes that stand for a missing answer out of the values."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from markbase.core.errors import ColumnError, LevelError, count_noun, listed, quoted
from markbase.core.formatting import plain
from markbase.core.rows.row_functions import counted, look_up
from markbase.core.study.codebook import code_text
from markbase.core.study.column import FIRST_CODED, MOST_REASONS, Column, MissingCode
from markbase.core.study.column_types import with_default_base
from markbase.core.study.verification import Recode, before_and_after, old_by_new

Codes = Mapping[object, str] | Sequence[object]
_MOST_TOLD = 100
"""Of more levels that are not kept none is a reason of its own."""


def blank_codes(column: Column, codes: Codes, ranges: Sequence[Sequence[float]]) -> Recode:
    """Make codes missing, or ranges of a numeric column with both ends included, each keeping its own count and meaning.

    Codes never seen, and codes among ordinary values, are in the notes.
    """
    return _blanked(column, _wanted(column, codes, ranges))


def _blanked(column: Column, wanted: Sequence[tuple[str, str, NDArray[np.bool_]]]) -> Recode:
    """Make rows missing, by code, or for a reason without one, and what it means."""
    why = column.reasons()
    known = {c.code: k for k, c in enumerate(column.missing_codes)}
    reasons, notes, counts = list(column.missing_codes), [], []
    taken = column.present & False
    for code, meaning, rows in wanted:
        fresh = rows & column.present & ~taken
        taken = taken | fresh
        k = known.get(code, len(reasons))
        if k >= MOST_REASONS:
            raise ColumnError(
                f"`{column.name}` would have more than {MOST_REASONS} codes for a missing answer, which is as many as are told apart: blank ranges of numbers, "
                f"or keep the levels that are to stay."
            )
        reason = MissingCode(code, meaning)
        if k == len(reasons):
            reasons.append(reason)
            known[code] = k
        elif meaning:
            reasons[k] = reason
        why = np.where(fresh, np.uint8(FIRST_CODED + k), why)
        counts.append(f"{reason.shown}: {count_noun(int(fresh.sum()), 'row')}")
        if not fresh.any():
            notes.append(f"`{code}` is never seen")
    if not column.is_categorical:
        rest = column.values[column.present & ~taken]
        inside = [
            code
            for code, _, rows in wanted
            if len(rest)
            and rows.any()
            and rest.min() < column.values[rows & column.present].max(initial=-np.inf)
            and column.values[rows & column.present].min(initial=np.inf) < rest.max()
        ]
        if inside:
            notes.append(
                f"{listed(quoted(inside))} lies among the other values ({plain(rest.min())} to {plain(rest.max())}): "
                f"is it a code, or a real numeric column?"
            )
    values = np.where(taken, -1 if column.is_categorical else np.nan, column.values).astype(column.values.dtype)
    new = replace(column, values=values, missing_codes=tuple(reasons), why_missing=why)
    if column.is_categorical:
        left = counted(values, len(column.levels))
        gone = {k for k in range(len(column.levels)) if column.counts[k] and not left[k]}
        new = _without(new, gone)
    check = (
        old_by_new(column, new, tuple(notes)) if column.is_categorical else before_and_after(column, new, tuple(notes))
    )
    text = f"Blanked in `{column.name}`: {', '.join(counts)}; {count_noun(column.valid, 'row')} with a value before, {new.valid:,} after"
    return Recode(new, check, text + (f" ({'; '.join(notes)})." if notes else "."))


def keep_levels(column: Column, levels: Sequence[object]) -> Recode:
    """Keep some levels of a group and make the others missing, each a reason of its own unless they are many. That the base went is among the notes."""
    if isinstance(levels, str) or not isinstance(levels, Sequence) or not levels:
        raise LevelError(f"Name the levels of `{column.name}` to keep as a list, not {levels!r}.")
    stay = {column.level_at(level) for level in levels}
    gone = [v.label for k, v in enumerate(column.levels) if k not in stay and column.counts[k]]
    if not gone:
        raise LevelError(f"`{column.name}` has no other level with a row, so there is nothing to leave out.")
    many = f"one of {len(gone):,} levels not kept"
    if len(gone) > _MOST_TOLD:  # told apart by no one
        found = _blanked(column, [("", many, column.present & ~np.isin(column.values, sorted(stay)))])
    else:
        found = blank_codes(column, gone, ())
    others = listed(quoted(gone)) if len(gone) <= _MOST_TOLD else f"{len(gone):,} other levels"
    notes: tuple[str, ...] = ()
    if column.base is not None and column.base.chosen and column.base.level not in stay:
        now = found.column.base
        label = found.column.levels[now.level].label if now is not None else ""
        notes = (f"the base `{column.levels[column.base.level].label}` is not kept: `{label}` is the base now",)
    kept = listed(quoted([column.levels[k].label for k in sorted(stay)]))
    text = (
        f"Kept {kept} of `{column.name}`; {others} {'is' if len(gone) == 1 else 'are'} missing now: "
        f"{count_noun(column.valid, 'row')} with a value before, {found.column.valid:,} after"
    )
    check = replace(found.check, notes=notes)
    return Recode(found.column, check, text + (f" ({notes[0]})." if notes else "."))


def _without(column: Column, gone: set[int]) -> Column:
    """Take levels that were blanked out of the list of levels."""
    keep = [k for k in range(len(column.levels)) if k not in gone]
    slot = np.full(len(column.levels) + 1, -1, dtype=np.int32)
    slot[keep] = np.arange(len(keep))
    base, event = column.base, column.event
    new = replace(column, values=look_up(slot, column.values), levels=tuple(column.levels[k] for k in keep), base=None)
    new = replace(new, event=int(slot[event]) if event is not None and event not in gone else None)
    if base is not None and base.chosen and base.level not in gone:
        return replace(new, base=replace(base, level=int(slot[base.level])))
    return with_default_base(new)


def _wanted(
    column: Column, codes: Codes, ranges: Sequence[Sequence[float]]
) -> list[tuple[str, str, NDArray[np.bool_]]]:
    pairs = list(codes.items()) if isinstance(codes, Mapping) else [(code, "") for code in codes]
    if isinstance(codes, str) or (not pairs and not ranges):
        raise ColumnError(f"Name the codes of `{column.name}` to blank as a list, for instance codes=[-9].")
    wanted = []
    for code, meaning in pairs:
        text = code_text(code)
        if column.is_categorical:
            rows = np.isin(column.values, [k for k, v in enumerate(column.levels) if text in (v.code, v.label)])
        else:
            try:
                rows = column.values == float(text)
            except ValueError:
                raise ColumnError(
                    f"`{column.name}` is numeric, so a code to blank is a number, not `{text}`."
                ) from None
        wanted.append((text, str(meaning), rows))
    for pair in ranges:
        if column.is_categorical:
            raise ColumnError(f"`{column.name}` is categorical, so ranges say nothing; name the levels to blank.")
        if len(pair) != 2 or not pair[0] <= pair[1]:
            raise ColumnError(
                f"A range to blank in `{column.name}` is (low, high) with low at most high, not {tuple(pair)!r}."
            )
        rows = (column.values >= pair[0]) & (column.values <= pair[1])
        told = f"{plain(pair[0], 6)} to {plain(pair[1], 6)}"
        wanted.append((told, told, rows))
    return wanted
