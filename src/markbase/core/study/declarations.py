"""Declaring what a column is: a group with labels, an ordinal column, a numeric column, a role."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from markbase.core.errors import ColumnError, LevelError, count_noun, listed, near, quoted, remark
from markbase.core.formatting import plain
from markbase.core.rows.parts import in_parts
from markbase.core.rows.row_functions import counted, distinct_in, look_up
from markbase.core.study.codebook import code_text
from markbase.core.study.column import Column, Kind, Level, levels_of
from markbase.core.study.column_types import with_default_base
from markbase.core.study.marked_numbers import without_marks
from markbase.core.study.raw_values import parsed
from markbase.core.study.verification import Recode, before_and_after, old_by_new, with_missing
from markbase.core.study.written_numbers import decimals_in_doubt, numbers_as_written

_SPAN = 8
"""Numbers that lie so close together, on average, are looked up in a table."""
_MOST_CODES, _MOST_HELD = 1000, 1_000_000
"""A numeric column of more values hardly holds codes; and where rows come in parts, codes of more are held only as texts."""
_SURE: dict[str, Any] = {"guess": "", "doubt": "", "fault": ""}
"""Of a column whose kind somebody declared."""


def declare_categorical(
    column: Column,
    labels: Mapping[object, str] | None,
    order: Sequence[object] | None,
    kind: Kind,
    most: float = _MOST_CODES,
) -> Recode:
    """Declare a column a group, with labels for its codes and an order for its levels; those it leaves out follow.

    Codes without a label and labels without a row are among the notes. A numeric column of more than `most` values is refused.
    """
    codes, values = _codes(column, most)
    told = {code_text(code): str(label) for code, label in (labels or {}).items()}
    twice = sorted({label for label in told.values() if list(told.values()).count(label) > 1})
    if twice:
        raise LevelError(
            f"The label {listed(quoted(twice))} of `{column.name}` is given to two codes; merge such codes with `merge_levels`."
        )
    unused = [code for code in told if code not in codes]
    all_codes = [*codes, *unused]
    old = {level.code: level for level in column.levels}
    levels = []
    for code in all_codes:
        before = old.get(code, Level(code, code))
        levels.append(before._replace(label=told.get(code, before.label), declared=not told or code in told))
    places = _ordered(column.name, levels, order) if order is not None and len(order) else list(range(len(levels)))
    slot = np.full(len(levels) + 1, -1, dtype=np.int32)
    slot[places] = np.arange(len(places))
    new = replace(
        column,
        kind=kind,
        values=look_up(slot, values),
        levels=tuple(levels[k] for k in places),
        base=None,
        unit=None,
        **_SURE,
    )
    new = with_default_base(new)
    if column.base and column.base.chosen:
        new = replace(new, base=replace(column.base, level=int(slot[column.base.level])))
    notes = _not_in_order(new, len(order)) if order and kind == "ordinal" else []
    bare = [code for code in codes if told and code not in told]
    if bare:
        notes.append(f"no label for {'code' if len(bare) == 1 else 'codes'} {listed(quoted(bare[:6]))}")
    if unused:
        notes.append(f"no row has {listed(quoted([told[c] for c in unused[:6]]), 'or')}")
    text = f"Declared `{column.name}` {'an ordinal column' if kind == 'ordinal' else 'a group'} of {count_noun(len(codes), 'level')}"
    return Recode(new, old_by_new(column, new, tuple(notes)), text + (f": {', '.join(notes)}." if notes else "."))


def as_levels(column: Column, what: str) -> Column:
    """Return a column that is named for its levels, such as clusters: whole numbers as the codes of a group, which is said."""
    if column.is_categorical:
        return column
    if not _is_whole(column):
        raise ColumnError(
            f"`{column.name}` is numeric, and not in whole numbers; {what} are the levels of a group: cut it into bands, or name another."
        )
    found = numbered(column)
    told = "was guessed numeric" if column.guess else "is numeric"
    remark(f"`{column.name}` {told}; its whole numbers are taken as codes of a group, as {what} are.")
    return found


def with_levels(column: Column) -> Column | None:
    """Return a group as it is, and the group that numbers are codes of which would do as `as_levels` takes them; None where none would."""
    if column.is_categorical:
        return column
    would_do = bool(column.guess) and _is_whole(column) and not _are_not_held(column) and not column.has_lost_digits
    return numbered(column) if would_do else None


def with_shared_levels(one: Column, other: Column) -> tuple[Column, Column]:
    """Return two groups with the levels of both, told apart by their labels, so that a level has the same place in either."""
    places = {level.label: k for k, level in enumerate(one.levels)}
    more = [level for level in other.levels if level.label not in places]
    places |= {level.label: k for k, level in enumerate(more, len(places))}
    levels = (*one.levels, *more)
    table = np.array([*(places[level.label] for level in other.levels), -1], dtype=np.int32)
    return replace(one, levels=levels), replace(other, levels=levels, base=None, values=look_up(table, other.values))


def numbered(column: Column) -> Column:
    """Return the group whose codes the numbers of a column are, in their order; it is made once."""
    found: Column | None = column.__dict__.get("of_codes")
    if found is None:
        codes, places = _codes(column, math.inf)
        levels = levels_of(codes)
        found = replace(column, kind="categorical", values=places, levels=levels, base=None, unit=None, **_SURE)
        found = column.__dict__["of_codes"] = with_default_base(found)
    return found


def _are_not_held(column: Column) -> bool:
    """Return whether rows come in parts, and a column has more different numbers than are held of it."""
    values: Any = column.values
    return in_parts(values) and values.facts.distinct is None


def _is_whole(column: Column) -> bool:
    """Return whether a column holds whole numbers, and some."""
    values: Any = column.values
    if not column.valid:
        return False
    return bool(values.facts.whole if in_parts(values) else np.all(values[column.present] % 1 == 0))


def _not_in_order(column: Column, named: int) -> list[str]:
    """Name levels with rows that stand behind those an order named, as the highest; none where it named none of the levels."""
    behind = [v.label for v, n in zip(column.levels[named:], column.counts[named:], strict=True) if n]
    if not behind:
        return []
    one = len(behind) == 1
    told = (
        "is not in the order, and stands behind it as the highest level"
        if one
        else "are not in the order, and stand behind it as the highest levels"
    )
    return [f"{listed(quoted(behind[:6]))} {told}"]


def check_expected(column: Column, expect: Mapping[str, int]) -> None:
    """Refuse a group whose levels have not as many rows as somebody expects; counts that belong to each other's level are named.

    Raises
    ------
    LevelError
        If a count differs, or an expected level is not there.
    """
    counts = {level.label: int(n) for level, n in zip(column.levels, column.counts, strict=True)}
    for label, wanted in expect.items():
        if label not in counts:
            raise LevelError(f"`{column.name}` has no level `{label}` to count.{near(label, list(counts))}")
        if counts[label] != wanted:
            others = [v for v, n in counts.items() if n == wanted and v != label]
            swapped = (
                f", as many as `{others[0]}` has: were two codes swapped?" if others else ": look at the codes again."
            )
            raise LevelError(
                f"`{label}` of `{column.name}` has {count_noun(counts[label], 'row')}, and {wanted:,} were expected{swapped}"
            )


def _codes(column: Column, most: float = _MOST_CODES) -> tuple[list[str], np.ndarray]:
    if column.is_categorical:
        return [level.code for level in column.levels], column.values
    if column.has_lost_digits:
        raise ColumnError(
            f"`{column.name}` holds whole numbers beyond 2^53 (9,007,199,254,740,992), whose last digits are lost where they are read as numbers: "
            f"different codes look alike. Declare it categorical in the codebook, so that it is read as text."
        )
    values: Any = column.values[column.present]
    many = _are_not_held(column)
    if many and most > _MOST_CODES:
        found = distinct_in(values, _MOST_HELD)
        if found is None:
            raise ColumnError(
                f"`{column.name}` has more than {_MOST_HELD:,} different numbers: a group has no more levels where rows come in parts."
            )
        return [code_text(v) for v in found.tolist()], _places_of(column, found)
    distinct = np.zeros(0) if many else np.unique(values)
    if many or len(distinct) > most:
        raise ColumnError(
            f"`{column.name}` has {'more than 1,000' if many else f'{len(distinct):,}'} different values, so they are hardly codes; `cut` makes bands of a numeric column."
        )
    return [code_text(v) for v in distinct.tolist()], _places_of(column, distinct)


def _places_of(column: Column, distinct: NDArray[np.float64]) -> Any:
    """Return where the number of each row stands among the different ones, all whole, −1 for a gap."""
    low = distinct[0] if len(distinct) else 0.0
    span = distinct[-1] - low if len(distinct) else 0.0
    if span > _SPAN * len(distinct) + _MOST_CODES or not np.all(distinct == np.round(distinct)):
        return np.where(column.present, np.searchsorted(distinct, column.values), -1).astype(np.int32)
    table = np.full(int(span) + 2, -1, dtype=np.int32)  # which is looked up faster
    table[(distinct - low).astype(np.intp)] = np.arange(len(distinct))
    return look_up(table, np.where(column.present, column.values - low, -1).astype(np.intp))


def _ordered(name: str, levels: Sequence[Level], order: Sequence[object]) -> list[int]:
    texts = [code_text(item) for item in order]
    by_text = {level.code: k for k, level in enumerate(levels)} | {level.label: k for k, level in enumerate(levels)}
    for text in texts:
        if text not in by_text:
            raise LevelError(
                f"The order of `{name}` names `{text}`, which is no level.{near(text, [v.label for v in levels])}"
            )
    first = [by_text[text] for text in texts]
    if len(set(first)) < len(first):
        raise LevelError(f"The order of `{name}` names a level twice; name each once.")
    return first + [k for k in range(len(levels)) if k not in first]


def declare_numeric(
    column: Column,
    scores: Mapping[object, float] | None = None,
    decimal: str | None = None,
    without: Sequence[str] = (),
) -> Recode:
    """Declare a group whose codes are numbers a numeric column, or give each level that occurs a number of its own.

    `decimal` is what parts whole numbers from fractions in the codes, ``.`` or ``,``; the marks in `without` are taken off
    their ends.
    """
    if "" in without:
        raise ColumnError(f"A mark to take off `{column.name}` is empty; name it, or leave it out.")
    if decimal not in (None, ".", ","):
        raise ColumnError(f"The mark before decimals of `{column.name}` is {decimal!r}; it is `.` or `,`.")
    if scores is not None and (decimal is not None or without):
        raise ColumnError(f"The levels of `{column.name}` are given scores, or are read as numbers; not both.")
    if scores is not None:
        return _scored(column, scores)
    if not column.is_categorical:
        if decimal is not None or without:
            raise ColumnError(
                f"`{column.name}` was read as numbers already, from {plain(column.span[0], 6)} to {plain(column.span[1], 6)}; a codebook "
                f"that declares it categorical keeps its texts as they are."
            )
        new = replace(column, guess="")
        return Recode(
            new, before_and_after(column, new), f"Declared `{column.name}` a numeric column, as had been guessed."
        )
    written = [level.code for level in column.levels]
    codes = [without_marks(code, without) for code in written]
    here = [k for k in range(len(codes)) if column.counts[k]]
    example = decimals_in_doubt([codes[k] for k in here]) if decimal is None else ""
    if example:
        raise ColumnError(
            f"`{column.name}` can be read in two ways: nothing says whether `{example}` holds thousands or decimals; give the mark that "
            f"stands before decimals."
        )
    numbers = np.append(parsed(codes)[0] if decimal is None else numbers_as_written(codes, decimal), np.nan)
    if decimal is None and any(np.isnan(numbers[k]) for k in here):
        numbers[:-1] = numbers_as_written(codes)
    bad = next((k for k in here if np.isnan(numbers[k])), None)
    if bad is not None:
        raise ColumnError(
            f"`{column.name}` cannot be a numeric column: its level `{column.levels[bad].label}` "
            f"({count_noun(int(column.counts[bad]), 'row')}) is no number; blank it first, or keep the group."
        )
    new = _of_numbers(column, column.values, numbers)
    check = before_and_after(new, new)
    way = f", with `{decimal}` before decimals" if decimal else ""
    if without:
        marked = sum(int(column.counts[k]) for k in here if codes[k] != written[k])
        way += f", {listed(quoted(without))} taken off in {count_noun(marked, 'row')}"
    return Recode(
        new,
        check,
        f"Declared `{column.name}` a numeric column{way}: {count_noun(new.valid, 'row')} with a value, as before.",
    )


def _of_numbers(column: Column, places: Any, numbers: np.ndarray[Any, np.dtype[np.float64]]) -> Column:
    """Return a numeric column of the number of each level, the last of them for a gap."""
    new = replace(column, kind="numeric", values=look_up(numbers, places), levels=(), base=None)
    return with_missing(replace(new, guess="", doubt="", event=None, scheme="indicator"), column)


def _scored(column: Column, scores: Mapping[object, float]) -> Recode:
    """Give the levels of a column numbers."""
    codes, places = _codes(column)
    labels = [level.label for level in column.levels] or codes
    slot = {code: k for k, code in enumerate(codes)} | {label: k for k, label in enumerate(labels)}
    numbers = np.full(len(codes) + 1, np.nan)
    for level, score in scores.items():
        text = code_text(level)
        if text not in slot and column.is_categorical:
            raise LevelError(f"`{column.name}` has no level `{text}` to be given a number.{near(text, labels)}")
        if not math.isfinite(score):
            raise ColumnError(f"The score of `{text}` is {score}; a score is a number.")
        if text in slot:  # nobody need have given every answer
            numbers[slot[text]] = score
    counts = counted(places, len(codes))
    bare = [k for k in np.flatnonzero(counts) if np.isnan(numbers[k])]
    if bare:
        told = listed([f"`{labels[k]}` ({count_noun(int(counts[k]), 'row')})" for k in bare[:4]])
        raise ColumnError(
            f"No score is given for {told} of `{column.name}`; give each level a number, or blank it first."
        )
    new = _of_numbers(column, places, numbers)
    named = tuple(Level(code, label) for code, label in zip(codes, labels, strict=True))
    valued = tuple(Level(code, plain(number, 12)) for code, number in zip(codes, numbers, strict=False))
    group = replace(column, kind="categorical", values=places, levels=named)
    check = old_by_new(group, replace(group, levels=valued))
    told = ", ".join(f"`{labels[k]}` as {plain(numbers[k], 12)}" for k in np.flatnonzero(counts))
    passed = check.passed and new.valid == int(counts.sum())
    text = (
        f"Gave the levels of `{column.name}` numbers: {told}; {count_noun(new.valid, 'row')} with a value, as before."
    )
    return Recode(new, replace(check, passed=passed), text)
