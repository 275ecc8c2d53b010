"""Columns of another table, joined to the rows that have the same key there: of the choir to its singers."""

from __future__ import annotations

import math
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.arguments import told_value
from markbase.core.errors import ColumnError, MarkbaseError, count_noun, listed, near, quoted, some_of
from markbase.core.rows.row_functions import (
    all_of,
    counted,
    counted_codes,
    learn,
    look_up,
    places_among,
    refuse_in_parts,
)
from markbase.core.study.column import FIRST_CODED, MOST_REASONS, Column, MissingCode
from markbase.core.study.column_types import with_default_base
from markbase.core.study.declarations import numbered
from markbase.core.study.verification import Check

Columns = Mapping[str, Column]
NAMELESS = "the other table"
"""What a table without a name is called."""
_MOST_JOINT = 1 << 62
_MERELY = "they differ in case, blanks, marks or zeros in front alone"
_NUMBER = re.compile(r"(-?)\+?0*(\d+(?:[.,]\d+)?)")


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
            f"Both tables have a column {some_of(quoted(taken))}, and nothing is overwritten: say which columns are to be joined, with a new name where need be."
        )
    return pairs


def joined(
    here: Columns, there: Columns, keys: Mapping[str, str], new: Mapping[str, str], table: str, loosely: bool = False
) -> Joined:
    """Join columns of another table, called `table`, to the rows of this one that have the same key; no row comes or goes.

    Every key stands in one row of the other table at most. A row whose key does not stand there has gaps, of which that is the reason. Where keys are
    held together `loosely`, such as differ in case, blanks and marks alone are the same.
    """
    refuse_in_parts(
        [c.values for c in there.values()],
        "joining a table",
        "open the table that is joined in memory: it has a row for each key",
    )
    pair = _Keys(
        [as_key(here[name], "the data") for name in keys],
        [as_key(there[name], table) for name in keys.values()],
        keys,
        table,
        loosely,
    )
    row, complete = pair.rows()
    counts = counted(row, len(complete) + 1)
    if not counts[:-1].any():
        raise MarkbaseError(f"No row has a key that {table} has: {pair.compared()}.")
    total = len(here[next(iter(keys))].values)
    columns = _new_columns(there, new, row, f"no row in {table}", f"no {' or '.join(keys)}")
    groups = [c for c in columns.values() if c.is_categorical]
    learn([c.values for c in columns.values() if not c.is_categorical], [(c.values, len(c.levels)) for c in groups])
    without, paired = total - int(counts.sum()), int(counts[:-1].sum())
    told, passed = _check(there, new, columns, counts, (without, pair.apart(row == len(complete))), table)
    unused = np.flatnonzero((counts[:-1] == 0) & complete)
    lost = pair.lost(int(counts[-1]), unused)
    notes = (*lost, *pair.loosely_paired(), *pair.unmatched(unused, int((~complete).sum())))
    text = (
        f"Joined {listed(quoted(new))} of {table} by {listed(quoted(keys))}: {paired:,} of {total:,} rows have their row there"
        f"{f', {int(counts[-1]):,} have none' if counts[-1] else ''}{f', {without:,} have no key' if without else ''}."
    )
    return Joined(
        columns, Check(listed(list(new)), table, told, passed, notes), text, tuple(lost), bool((counts[:-1] > 1).any())
    )


@dataclass(frozen=True)
class _Keys:
    """The columns by which rows of two tables are known, as groups."""

    own: Sequence[Column]
    """Those of this table."""
    other: Sequence[Column]
    """Those of the other, in the same order."""
    names: Mapping[str, str]
    """What each is called here, and there."""
    table: str
    """What the other table is called."""
    loosely: bool
    """Whether levels that differ in case, blanks and marks alone are the same."""

    @cached_property
    def alike(self) -> list[NDArray[np.int64]]:
        """Of each column, which level of the other each level is, the number of its levels for none, and −1 at the end for a gap.

        Levels are the same by their labels; by their codes where no label is the same.
        """
        return [self._alike(a, b) for a, b in zip(self.own, self.other, strict=True)]

    def _alike(self, own: Column, other: Column) -> NDArray[np.int64]:
        found: list[int] = []
        for mine, theirs in ((own.labels, other.labels), (own.codes, other.codes)):
            at = {text: k for k, text in enumerate(theirs)}
            found = [at.get(text, len(theirs)) for text in mine]
            if self.loosely:
                loose = self._loose(other, theirs)
                found = [
                    loose.get(bare(text), k) if k == len(theirs) else k for text, k in zip(mine, found, strict=True)
                ]
            if any(k < len(theirs) for k in found):
                break
        return np.array([*found, -1], dtype=np.int64)

    def _loose(self, other: Column, texts: Sequence[str]) -> dict[str, int]:
        """Return where each text stands, without what two people may write differently; refuse such as come to the same."""
        found: dict[str, int] = {}
        for k, text in enumerate(texts):
            if other.counts[k] and found.setdefault(bare(text), k) != k:
                raise MarkbaseError(
                    f"`{texts[found[bare(text)]]}` and `{text}` of {self.table} are the same where keys are held together loosely: write one of them otherwise, or merge their rows."
                )
        return found

    def rows(self) -> tuple[Any, NDArray[np.bool_]]:
        """Return which row of the other table each row has, their number for none and −1 where it has no key; and which rows there have one."""
        sizes = [len(b.levels) + 1 for b in self.other]  # the last stands for a level that is not there
        if max(math.prod(sizes), math.prod(len(a.levels) for a in self.own)) > _MOST_JOINT:
            raise ColumnError(
                f"{listed(quoted(self.names))} have too many combinations to join by; name fewer columns."
            )
        complete = all_of([c.present for c in self.other])
        places = np.flatnonzero(complete)
        there = together([c.values for c in self.other], sizes)[places]
        known, first, times = np.unique(there, return_index=True, return_counts=True)
        if len(known) == 0:
            raise ColumnError(f"No row of {self.table} has a value in {listed(quoted(self.names.values()))}.")
        if (times > 1).any():
            row, several = places[first[np.argmax(times)]], int((times > 1).sum())
            twice = ", ".join(f"`{c.levels[int(c.values[row])].label}`" for c in self.other)
            raise MarkbaseError(
                f"{count_noun(several, 'key')} of {self.table} stand{'s' if several == 1 else ''} in several rows, {twice} in {int(times.max())}: which of them is meant? "
                f"A table that is joined has one row for each key: make one of its rows first (`aggregate`), or, if they are the cases, open it and join this one to it."
            )
        codes = together([look_up(at, c.values) for at, c in zip(self.alike, self.own, strict=True)], sizes)
        has_key = all_of([c.present for c in self.own])
        place = places_among(known, np.where(has_key, codes, -1), math.prod(sizes))
        row = look_up(np.append(places[first], len(complete)), place)  # the last is of none
        return np.where(has_key, row, -1).astype(np.intp), complete

    def apart(self, rows: Any) -> int:
        """Count the different keys of some rows."""
        sizes = [len(c.levels) for c in self.own]
        return len(
            counted_codes(np.where(rows, together([c.values for c in self.own], sizes), -1), math.prod(sizes))[0]
        )

    def compared(self) -> str:
        """Say how the levels of two keys are written, of the first columns that have none in common."""
        for a, b, at, (mine, theirs) in zip(self.own, self.other, self.alike, self.names.items(), strict=True):
            if np.all(at[:-1] == len(b.levels)):
                told = [
                    listed(quoted([c.labels[k] for k in np.flatnonzero(c.counts)[:3]])) or "nothing" for c in (a, b)
                ]
                same = {bare(label) for label in a.labels} & {bare(label) for label in b.labels}
                way = f"{_MERELY}: `loosely` takes them as the same" if same else "write them alike"
                return f"`{mine}` is {told[0]} here, `{theirs}` {told[1]} there; {way}"
        return f"values of {listed(quoted(self.names))} stand in both tables, never together in one row"

    def lost(self, rows: int, unused: NDArray[np.intp]) -> list[str]:
        """Say which keys the other table does not have, and what they may be called there; of a key of several columns how many rows have such."""
        if not rows:
            return []
        told = count_noun(rows, "row")
        if len(self.own) > 1:
            return [f"{told} here {'has' if rows == 1 else 'have'} a key that {self.table} does not have"]
        here, there = self.own[0], self.other[0]
        away = [here.labels[k] for k in np.flatnonzero(here.counts) if self.alike[0][k] == len(there.levels)]
        notes = [f"{some_of(quoted(away))} {'has' if len(away) == 1 else 'have'} no row in {self.table} ({told} here)"]
        written = {bare(label): label for label in (there.labels[int(there.values[k])] for k in unused)}
        same = [f"`{label}` as `{written[bare(label)]}`" for label in away if bare(label) in written]
        if same:
            notes.append(f"{self.table} has {some_of(same)}; {_MERELY}: `loosely` takes them as the same")
        return notes

    def loosely_paired(self) -> list[str]:
        """Say which levels were taken as the same though they are written differently."""
        told = []
        for a, b, at in zip(self.own, self.other, self.alike, strict=True):
            pairs = [(a.levels[k], b.levels[at[k]]) for k in np.flatnonzero(a.counts) if at[k] < len(b.levels)]
            told += [
                f"`{mine.label}` as `{theirs.label}`"
                for mine, theirs in pairs
                if mine.label != theirs.label and mine.code != theirs.code
            ]
        return [f"taken as the same: {some_of(told)}"] if told and self.loosely else []

    def unmatched(self, unused: NDArray[np.intp], left: int) -> list[str]:
        """Say which rows of the other table no row here has the key of, and how many have none."""
        notes = []
        if len(unused):
            there = self.other[0]
            names = quoted([there.labels[int(there.values[k])] for k in unused])
            told = some_of(names) if len(self.other) == 1 else count_noun(len(unused), "row")
            notes.append(f"{told} of {self.table} {'is' if len(unused) == 1 else 'are'} in no row here")
        if left:
            verbs = ("has", "is") if left == 1 else ("have", "are")
            notes.append(f"{count_noun(left, 'row')} of {self.table} {verbs[0]} no key, and {verbs[1]} left out")
        return notes


def as_key(column: Column, table: str) -> Column:
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


def together(codes: Sequence[Any], sizes: Sequence[int]) -> Any:
    """Return one code for those of all columns of a key."""
    joint = codes[0].astype(np.int64)
    for own, size in zip(codes[1:], sizes[1:], strict=True):
        joint = joint * size + own
    return joint


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
            found[name] = replace(found[name], made=replace(made, of=tuple(s.name for s in sources), sources=sources))
    return found


def _begun(table: str) -> str:
    """Return what a table is called where a sentence begins: a name is written as it is."""
    return "The other table" if table == NAMELESS else table


def bare(text: str) -> str:
    """Return a text without what two people may write differently: case, blanks, marks, and of a number zeros in front; numbers keep their marks."""
    number = _NUMBER.fullmatch(text.strip())
    plain = text.casefold() if number else re.sub(r"[\W_]+", "", text.casefold())
    return (f"{number[1]}{number[2]}" if number else plain) or text


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
