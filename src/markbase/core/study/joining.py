"""Columns of another table, joined to the rows that have the same key there: of the choir to its singers."""

from __future__ import annotations

import math
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.arguments import told_value
from markbase.core.errors import ColumnError, MarkbaseError, count_noun, listed, near, quoted
from markbase.core.rows.row_functions import all_of, counted, counted_codes, learn, look_up, refuse_in_parts
from markbase.core.study.column import FIRST_CODED, MOST_REASONS, Column, Made, MissingCode
from markbase.core.study.column_types import with_default_base
from markbase.core.study.declarations import numbered
from markbase.core.study.verification import Check

Columns = Mapping[str, Column]
NAMELESS = "the other table"
"""What a table without a name is called."""
_MOST_JOINT = 1 << 62
_MOST_NAMED = 4
"""So many keys are named, others counted."""


@dataclass(frozen=True)
class Joined:
    """Columns that were joined."""

    columns: dict[str, Column]
    """The new columns, by name."""
    check: Check
    """How many rows, and keys, are in both tables, and in one alone; and of each new column how many rows have a value."""
    text: str
    """What was done, in a sentence."""
    lost: tuple[str, ...]
    """What is to be said of keys that the other table does not have."""
    repeats: bool
    """Whether rows have a key in common."""


def named_keys(by: str | Sequence[str] | Mapping[str, str]) -> dict[str, str]:
    """Return what each column of the key is called here, and there."""
    pairs = {by: by} if isinstance(by, str) else dict(by) if isinstance(by, Mapping) else {name: name for name in by}
    if not pairs or not all(isinstance(n, str) for pair in pairs.items() for n in pair):
        raise ColumnError(
            f'Name the column, or columns, by which rows of both tables are known: "choir", ["land", "year"] or {{"choir": "name"}}, not {told_value(by)}.'
        )
    return pairs


def named_columns(
    here: Columns,
    there: Columns,
    keys: Mapping[str, str],
    wanted: Sequence[str] | Mapping[str, str],
    own: str,
    table: str,
) -> dict[str, str]:
    """Return what each new column is called, and what it is called there; refuse such as are not there, or whose name is taken."""
    for columns, names, what in ((here, keys, own), (there, keys.values(), table)):
        for name in names:
            if name not in columns:
                raise ColumnError(f"{_begun(what)} has no column `{name}` to join by.{near(name, columns)}")
    pairs = dict(wanted) if isinstance(wanted, Mapping) else {name: name for name in wanted}
    if not pairs:
        pairs = {name: name for name in there if name not in keys.values()}
    for old in pairs.values():
        if old not in there:
            raise ColumnError(f"{_begun(table)} has no column `{old}`.{near(str(old), there)}")
    if not pairs:
        raise ColumnError(f"{_begun(table)} has no column beside those it is joined by.")
    for new in pairs:
        if not isinstance(new, str) or not new.strip():
            raise ColumnError(f"A new column needs a name, not {new!r}.")
    taken = [new for new in pairs if new in here]
    if taken:
        raise ColumnError(
            f"Both tables have a column {_some(taken)}, and nothing is overwritten: say which columns are to be joined, with a new name where need be."
        )
    return pairs


def joined(here: Columns, there: Columns, keys: Mapping[str, str], new: Mapping[str, str], table: str) -> Joined:
    """Join columns of another table, called `table`, to the rows of this one that have the same key; no row comes or goes.

    Every key stands in one row of the other table at most. A row whose key does not stand there has gaps, of which that is the reason.
    """
    refuse_in_parts(
        [c.values for c in there.values()],
        "joining a table",
        "open the table that is joined in memory: it has a row for each key",
    )
    own = [_as_key(here[name], "the data") for name in keys]
    other = [_as_key(there[name], table) for name in keys.values()]
    alike = [_same_levels(a, b) for a, b in zip(own, other, strict=True)]
    sizes = [len(b.levels) + 1 for b in other]  # the last stands for a level that is not there
    if np.prod(np.array(sizes, dtype=float)) > _MOST_JOINT:
        raise ColumnError(f"{listed(quoted(keys))} have too many combinations to join by; name fewer columns.")
    complete = all_of([c.present for c in other])
    rows = np.flatnonzero(complete)
    known, first, times = np.unique(
        _together([c.values for c in other], sizes)[rows], return_index=True, return_counts=True
    )
    if len(known) == 0:
        raise ColumnError(f"No row of {table} has a value in {listed(quoted(keys.values()))}.")
    if (times > 1).any():
        twice = _words(other, rows[first[np.argmax(times)]])
        raise MarkbaseError(
            f"{count_noun(int((times > 1).sum()), 'key')} of {table} stand{'s' if (times > 1).sum() == 1 else ''} in several rows, {twice} in {int(times.max())}: which of them is meant? "
            f"A table that is joined has one row for each key. If its rows are the cases, open it, and join this one to it."
        )
    has_key = all_of([c.present for c in own])
    codes = _together([look_up(at, c.values) for at, c in zip(alike, own, strict=True)], sizes)
    place = np.minimum(np.searchsorted(known, codes), len(known) - 1)
    found = has_key & (look_up(known, place) == codes)
    row = np.where(found, look_up(rows[first], place), np.where(has_key, len(complete), -1)).astype(np.intp)
    counts = counted(row, len(complete) + 1)
    if not counts[:-1].any():
        raise MarkbaseError(f"No row has a key that {table} has: {_compared(own, other, keys)}.")
    total = len(here[next(iter(keys))].values)
    columns = _new_columns(there, new, row, f"no row in {table}", f"no {' or '.join(keys)}")
    groups = [c for c in columns.values() if c.is_categorical]
    learn([c.values for c in columns.values() if not c.is_categorical], [(c.values, len(c.levels)) for c in groups])
    every = math.prod(len(c.levels) for c in own)
    apart = counted_codes(
        np.where(row == len(complete), _together([c.values for c in own], [len(c.levels) for c in own]), -1), every
    )
    without, paired = total - int(counts.sum()), int(counts[:-1].sum())
    counted_rows, passed = _check(there, new, columns, counts, (without, len(apart[0])), table)
    unused = np.flatnonzero((counts[:-1] == 0) & complete)
    lost = _lost(own, other, alike, counts, unused, table)
    notes = (*lost, *_unmatched(other, unused, int((~complete).sum()), table))
    check = Check(listed(list(new)), table, counted_rows, passed, notes)
    text = (
        f"Joined {listed(quoted(new))} of {table} by {listed(quoted(keys))}: {paired:,} of {total:,} rows have their row there"
        f"{f', {int(counts[-1]):,} have none' if counts[-1] else ''}{f', {without:,} have no key' if without else ''}."
    )
    return Joined(columns, check, text, tuple(lost), bool((counts[:-1] > 1).any()))


def _as_key(column: Column, table: str) -> Column:
    """Return a column as a group whose levels are keys; whole numbers are codes."""
    if column.fault:
        raise ColumnError(column.fault)
    if column.is_categorical:
        return column
    low, high = column.span
    values: Any = column.values
    with np.errstate(invalid="ignore"):
        whole = np.where(column.present, values % 1 == 0, True)
    if column.valid and not bool(np.all(whole)):
        raise ColumnError(
            f"`{column.name}` of {table} is numeric, from {low:g} to {high:g}, and not in whole numbers: rows are joined by a group, or by whole numbers."
        )
    return numbered(column)


def _same_levels(own: Column, other: Column) -> NDArray[np.int64]:
    """Return which level of the other table's key each level is, the number of its levels for none, and −1 at the end for a gap.

    Levels are the same by their labels; by their codes where no label is the same.
    """
    for mine, theirs in ((own.labels, other.labels), (own.codes, other.codes)):
        at = {text: k for k, text in enumerate(theirs)}
        found = [at.get(text, len(theirs)) for text in mine]
        if any(k < len(theirs) for k in found):
            break
    return np.array([*found, -1] if own.levels else [-1], dtype=np.int64)


def _together(codes: Sequence[Any], sizes: Sequence[int]) -> Any:
    """Return one code for those of all columns of a key."""
    joint = codes[0].astype(np.int64)
    for own, size in zip(codes[1:], sizes[1:], strict=True):
        joint = joint * size + own
    return joint


def _words(columns: Sequence[Column], row: int) -> str:
    return ", ".join(f"`{c.levels[int(c.values[row])].label}`" for c in columns)


def _compared(own: Sequence[Column], other: Sequence[Column], keys: Mapping[str, str]) -> str:
    """Say how the levels of two keys are written, of the first columns that have none in common."""
    pairs = list(zip(own, other, keys.items(), strict=True))
    apart = next((p for p in pairs if not {*p[0].labels} & {*p[1].labels} and not {*p[0].codes} & {*p[1].codes}), None)
    if apart is None:
        return f"values of {listed(quoted(keys))} stand in both tables, never together in one row"
    (a, b, (mine, theirs)) = apart
    told = [listed(quoted([c.labels[k] for k in np.flatnonzero(c.counts)[:3]])) or "nothing" for c in (a, b)]
    return f"`{mine}` is {told[0]} here, `{theirs}` {told[1]} there; write them alike"


def _new_columns(there: Columns, new: Mapping[str, str], row: Any, no_row: str, no_key: str) -> dict[str, Column]:
    """Return the columns with the value of each row's place in the other table, of which the last is none and −1 no key."""
    found: dict[str, Column] = {}
    was = {old: name for name, old in new.items()}
    for name, old in new.items():
        column = there[old]
        if column.fault:
            raise ColumnError(column.fault)
        codes = column.missing_codes
        if len(codes) + 2 > MOST_REASONS:
            raise ColumnError(
                f"`{old}` has as many codes for a missing answer as are told apart; merge some before it is joined."
            )
        told = [code for code in (MissingCode("", no_row), MissingCode("", no_key)) if code not in codes]
        every = (*codes, *told)
        ends = [FIRST_CODED + every.index(MissingCode("", text)) for text in (no_row, no_key)]
        none = -1 if column.is_categorical else np.nan
        values = look_up(np.append(column.values, np.array([none, none], dtype=column.values.dtype)), row)
        why = look_up(np.append(column.reasons(), np.array(ends, dtype=np.uint8)), row)
        role = None if column.role == "identifier" else column.role
        fresh = replace(
            column, name=name, values=values, why_missing=why, missing_codes=every, role=role, made=None, notes=()
        )
        if fresh.is_categorical and (fresh.base is None or not fresh.base.chosen):
            fresh = with_default_base(replace(fresh, base=None))
        found[name] = fresh
    for name, old in new.items():
        made = there[old].made
        if made is not None and made.sources and all(there.get(s.name) is s and s.name in was for s in made.sources):
            sources = tuple(found[was[s.name]] for s in made.sources)
            found[name] = replace(
                found[name], made=Made(made.how, tuple(s.name for s in sources), sources, made.parameters)
            )
    return found


def _lost(
    own: Sequence[Column],
    other: Sequence[Column],
    alike: Sequence[NDArray[np.int64]],
    counts: NDArray[np.int64],
    unused: NDArray[np.intp],
    table: str,
) -> list[str]:
    """Say which keys of rows the other table does not have, and what they may be called there; of a key of several columns how many rows have such."""
    if not counts[-1]:
        return []
    rows = count_noun(int(counts[-1]), "row")
    if len(own) > 1:
        return [f"{rows} here {'has' if counts[-1] == 1 else 'have'} a key that {table} does not have"]
    here, there = own[0], other[0]
    away = [here.labels[k] for k in np.flatnonzero(here.counts) if alike[0][k] == len(there.levels)]
    notes = [f"{_some(away)} {'has' if len(away) == 1 else 'have'} no row in {table} ({rows} here)"]
    written = {_bare(label): label for label in (there.labels[int(there.values[k])] for k in unused)}
    same = [(label, written[_bare(label)]) for label in away if _bare(label) in written]
    if same:
        pairs = listed([f"`{a}` as `{b}`" for a, b in same[:_MOST_NAMED]])
        notes.append(f"{table} may have {pairs}; write them alike, by merging levels for instance")
    return notes


def _unmatched(other: Sequence[Column], unused: NDArray[np.intp], left: int, table: str) -> list[str]:
    """Say which rows of the other table no row here has the key of, and how many have none."""
    notes = []
    if len(unused):
        one = len(other) == 1
        told = (
            _some([other[0].labels[int(other[0].values[k])] for k in unused]) if one else count_noun(len(unused), "row")
        )
        notes.append(f"{told} of {table} {'is' if len(unused) == 1 else 'are'} in no row here")
    if left:
        verbs = ("has", "is") if left == 1 else ("have", "are")
        notes.append(f"{count_noun(left, 'row')} of {table} {verbs[0]} no key, and {verbs[1]} left out")
    return notes


def _begun(table: str) -> str:
    """Return what a table is called where a sentence begins: a name is written as it is."""
    return "The other table" if table == NAMELESS else table


def _some(names: Sequence[str]) -> str:
    """Name some, and count the others."""
    return listed(quoted(names[:_MOST_NAMED]) + [f"{len(names) - _MOST_NAMED:,} more"] * (len(names) > _MOST_NAMED))


def _bare(text: str) -> str:
    """Return a text without what two people may write differently: case, blanks, marks, zeros in front."""
    return re.sub(r"[\W_]+", "", text.casefold()).lstrip("0")


def _check(
    there: Columns,
    new: Mapping[str, str],
    columns: Columns,
    counts: NDArray[np.int64],
    apart: tuple[int, int],
    table: str,
) -> tuple[pd.DataFrame, bool]:
    """Count rows and keys of both tables, and hold what each new column has against what follows from how many rows each key has.

    A level has as many rows as the keys that have it there, and numbers end where those of such keys do. `apart` are rows without a key,
    and keys of rows that are not there.
    """
    inside = counts[:-1] > 0
    told = [
        (f"with their row in {table}", int(counts[:-1].sum()), int(inside.sum())),
        (f"without a row in {table}", int(counts[-1]), apart[1]),
        ("without a key", apart[0], 0),
        (f"of {table}, in no row here", 0, int(len(inside) - inside.sum())),
    ]
    passed = True
    for name, old in new.items():
        column, before = columns[name], there[old]
        rows = np.where(before.present, counts[:-1], 0)
        passed &= column.valid == int(rows.sum())
        if column.is_categorical:
            expected = np.bincount(before.values[before.present], rows[before.present], len(before.levels))
            passed &= np.array_equal(column.counts, expected.astype(np.int64))
        elif column.valid:
            values = before.values[rows > 0]
            passed &= column.span == (float(values.min()), float(values.max()))
        told.append((f"with a value of {name}", column.valid, int(np.count_nonzero(rows))))
    return pd.DataFrame(told, columns=["rows that are", "rows", "keys"]), bool(passed)
