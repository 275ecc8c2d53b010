"""Repeated measurements that stand beside one another, a column each (wide form), put below one another, a row each (long form)."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.arguments import told_value
from markbase.core.errors import ColumnError, listed, quoted, some_of
from markbase.core.study.column import FIRST_CODED, Column, MissingCode, levels_of
from markbase.core.study.column_types import with_default_base
from markbase.core.study.remark import Remark
from markbase.core.study.row_selection import take
from markbase.core.study.verification import Check

_OCCASION = re.compile(
    r"(?:^|(?<=[_.\- ]))(pre|post|before|after|baseline|follow_?up|[tw]_?\d|wave_?\d+|time_?\d+|welle_?\d+|(19|20)\d\d)(?=$|[_.\- ])"
)
"""What a part of a name tells an occasion by."""
_SURE: dict[str, Any] = {"guess": "", "doubt": ""}


def in_long_form(
    columns: Mapping[str, Column], measured: Mapping[str, Sequence[str]], name: str, labels: Sequence[str], case: str
) -> tuple[dict[str, Column], Check, str]:
    """Put measurements below one another.

    Parameters
    ----------
    columns : mapping
        The columns as they are.
    measured : mapping
        What each new column is called, and the columns it is made of, in the order of the occasions.
    name, case : str
        What the columns are called that tell the occasion, and the case where no column is its identifier.
    labels : sequence of str
        What the occasions are called; none to take it from the names of the columns.

    Returns
    -------
    columns : dict
        All columns, with a row for each case and occasion, those of a case one after the other.
    check : Check
        Of each new column and occasion how many rows have a value, before and after; passed if all values are the same.
    identifier : str
        The column that names the case.

    Raises
    ------
    ColumnError
        If columns are lacking, named twice, or do not go into one; or a name is taken.
    """
    each = {new: [columns[n] for n in old] for new, old in measured.items()}
    used = [n for old in measured.values() for n in old]
    _check_names(columns, measured, used, name)
    occasions = _occasions(measured, labels)
    rows = len(next(iter(columns.values())).values)
    places = np.repeat(np.arange(rows), len(occasions))
    named = next((n for n, c in columns.items() if c.role == "identifier" and n not in used), None)
    identifier = named or _free(case, {*columns, *measured, name})
    found: dict[str, Column] = {}
    if named is None:
        codes = levels_of([str(k) for k in range(1, rows + 1)])
        cases = Column(identifier, "categorical", places.astype(np.int32), codes, role="cluster")
        found[identifier] = with_default_base(cases)
    when = _occasion_column(name, occasions, rows)
    joined = {new: _together(new, own) for new, own in each.items()}
    new_at = {old[0]: new for new, old in measured.items()}
    for own_name, column in columns.items():
        if own_name == used[0]:
            found[name] = when
        if own_name in new_at:
            found[new_at[own_name]] = joined[new_at[own_name]]
        if own_name not in used:
            taken = take(column, places)
            found[own_name] = replace(taken, role="cluster") if own_name == named else taken
    return found, _check(name, each, joined, occasions, used), identifier


def names_of_measurements(measured: Any, name: object, labels: object, case: object) -> None:
    """Refuse what are no names: of new columns with the columns they are made of, of the occasion, its labels and the case."""
    lists = isinstance(measured, Mapping) and all(isinstance(old, (list, tuple)) for old in measured.values())
    if not lists or not all(isinstance(n, str) for new, old in measured.items() for n in (new, *old)):
        raise ColumnError(
            f'Name for each new column the columns it is made of, for instance {{"score": ["score_1", "score_2"]}}, not {told_value(measured)}.'
        )
    for what in (name, case):
        if not isinstance(what, str) or not what.strip():
            raise ColumnError(f"A new column needs a name, not {told_value(what)}.")
    if not isinstance(labels, (list, tuple)) or not all(isinstance(label, str) and label.strip() for label in labels):
        raise ColumnError(
            f'The labels of the occasions are a list of texts, for instance ["before", "after"], not {told_value(labels)}.'
        )


def _occasion_column(name: str, occasions: list[str], rows: int) -> Column:
    """Return the column that tells the occasion: numbers where these are whole numbers, and so are in order of time, levels otherwise."""
    if all(o.isascii() and o.isdigit() for o in occasions):
        return Column(name, "numeric", np.tile(np.array([float(o) for o in occasions]), rows))
    turns = np.tile(np.arange(len(occasions), dtype=np.int32), rows)
    return with_default_base(Column(name, "categorical", turns, levels_of(occasions)))


def _check_names(
    columns: Mapping[str, Column], measured: Mapping[str, Sequence[str]], used: list[str], name: str
) -> None:
    """Refuse columns that are named twice, and new names that are taken."""
    twice = sorted({n for n in used if used.count(n) > 1})
    if twice:
        raise ColumnError(
            f"{listed(quoted(twice))} {'is' if len(twice) == 1 else 'are'} named twice; a column is measured on one occasion."
        )
    for new in (*measured, name):
        if not new.strip():
            raise ColumnError(f"A new column needs a name, not {new!r}.")
        if (new in columns and new not in used) or (new == name and new in (*measured, *used)):
            raise ColumnError(f"There is a column `{new}` already, and nothing is overwritten; choose another name.")


def _occasions(measured: Mapping[str, Sequence[str]], labels: Sequence[str]) -> list[str]:
    """Return what the occasions are called: as said, or by what is different in the names of the columns."""
    counts = {new: len(old) for new, old in measured.items()}
    if not counts or min(counts.values()) < 2:
        raise ColumnError(
            'Name for each new column two columns or more that it is made of, in the order of the occasions, for instance {"score": ["score_1", "score_2"]}.'
        )
    if len(set(counts.values())) > 1:
        told = listed([f"`{new}` {n}" for new, n in counts.items()])
        raise ColumnError(f"All columns need as many occasions as one another; here {told}.")
    if labels:
        if len(labels) != len(set(labels)) or len(labels) != next(iter(counts.values())):
            raise ColumnError(
                f"The occasions are {next(iter(counts.values()))}, and each needs a label of its own, not {listed(quoted(labels))}."
            )
        return list(labels)
    different = [what_differs(list(old)) for old in measured.values()]
    if not all(different[0]) or any(own != different[0] for own in different):
        raise ColumnError("The names of the columns do not say what the occasions are called; name these in `labels`.")
    return different[0]


def what_differs(names: list[str]) -> list[str]:
    """Return what is different in names that begin, or end, alike: `1` and `2` of `score_1` and `score_2`; the names themselves where nothing is."""
    begin = _alike(names)
    rests = [n[begin:] for n in names]
    end = _alike([n[::-1] for n in rests])
    found = [n[: len(n) - end].strip("_.- ") for n in rests]
    return found if len(set(found)) == len(found) else [""]


def _alike(names: list[str]) -> int:
    """Return how many first characters of all names are the same, without those of a word, or a number, that goes on in one of them."""
    same = 0
    for letters in zip(*names, strict=False):
        if len(set(letters)) > 1:
            break
        same += 1
    while same and any(_go_on(names[0][same - 1], n[same : same + 1]) for n in names):
        same -= 1
    return same


def _go_on(one: str, other: str) -> bool:
    """Return whether two characters beside one another are of one word, or one number: `scoreBefore` are two words."""
    return (one.isdigit() and other.isdigit()) or (
        one.isalpha() and other.isalpha() and one.isupper() == other.isupper()
    )


def _free(name: str, taken: set[str]) -> str:
    """Return a name that no column has."""
    found = name
    while found in taken:
        found += "_"
    return found


def _together(name: str, columns: Sequence[Column]) -> Column:
    """Return one column of several, the values of a row one after the other; refuse such as do not go into one."""
    first = columns[0]
    kinds = {c.is_categorical for c in columns}
    if len(kinds) > 1:
        numeric = listed(quoted(c.name for c in columns if not c.is_categorical))
        other = listed(quoted(c.name for c in columns if c.is_categorical))
        raise ColumnError(
            f"`{name}` cannot be made of numbers ({numeric}) and levels ({other}): declare these columns alike."
        )
    units = {c.unit.many for c in columns if c.unit is not None}
    if len(units) > 1:
        raise ColumnError(f"`{name}` would mix units: {listed(sorted(units))}.")
    faults = [c.fault for c in columns if c.fault]
    if faults:
        raise ColumnError(faults[0])
    why, codes = _reasons(columns)
    shared: dict[str, Any] = {
        "name": name,
        "why_missing": why,
        "missing_codes": codes,
        "made": None,
        "role": None,
        "notes": (),
    }
    shared["unit"] = next((c.unit for c in columns if c.unit is not None), None)
    guessed = {} if all(c.guess for c in columns) else _SURE
    if not first.is_categorical:
        values = np.column_stack([c.values for c in columns]).ravel()
        return replace(first, values=values, **shared, **guessed)
    if any([v.label for v in c.levels] != [v.label for v in first.levels] for c in columns) and first.kind == "ordinal":
        raise ColumnError(
            f"`{name}` would mix ordinal columns whose levels are not the same: {listed(quoted(c.name for c in columns))}."
        )
    levels = tuple({v.label: v for c in columns for v in c.levels}.values())
    places = {level.label: k for k, level in enumerate(levels)}
    tables = [np.array([*(places[v.label] for v in c.levels), -1], dtype=np.int32) for c in columns]
    values = np.column_stack([table[c.values] for table, c in zip(tables, columns, strict=True)]).ravel()
    whole = replace(first, values=values, levels=levels, **shared, **guessed)
    if first.base is not None and first.base.chosen:
        return whole
    return with_default_base(replace(whole, base=None))


def _reasons(columns: Sequence[Column]) -> tuple[NDArray[np.uint8] | None, tuple[MissingCode, ...]]:
    """Return why each value is missing, and what that can be; None where all are blank."""
    codes = tuple(dict.fromkeys(code for c in columns for code in c.missing_codes))
    if all(c.why_missing is None for c in columns):
        return None, codes
    own = []
    for c in columns:
        table = np.array([0, 1, *(FIRST_CODED + codes.index(code) for code in c.missing_codes)], dtype=np.uint8)
        own.append(table[c.reasons()])
    return np.column_stack(own).ravel(), codes


def _check(
    name: str,
    each: Mapping[str, Sequence[Column]],
    joined: Mapping[str, Column],
    occasions: list[str],
    used: Sequence[str],
) -> Check:
    """Count the values of each occasion before and after, and hold their means, or counts of levels, against one another."""
    rows, passed = [], True
    for new, own in each.items():
        for k, (occasion, old) in enumerate(zip(occasions, own, strict=True)):
            part = take(joined[new], np.arange(k, len(joined[new].values), len(occasions)))
            before, after = (
                [c.labels[v] for v in c.values[c.present]] if c.is_categorical else c.values[c.present].tolist()
                for c in (old, part)
            )
            passed &= before == after and np.array_equal(old.present, part.present)
            rows.append({"new": new, "occasion": occasion, "old": old.name, "before": old.valid, "after": part.valid})
    return Check(name, ", ".join(used), pd.DataFrame(rows), bool(passed))


def remark_on_occasions(columns: Sequence[Column]) -> Remark | None:
    """Say that columns are called alike but for an occasion, such as `pitch_2019` and `pitch_2020`; None where none are.

    Numbers alone (`item_1`, `item_2`) are no occasions: the items of a scale are called so.
    """
    occasions: dict[str, dict[str, Column]] = {}
    for column in (c for c in columns if c.made is None and c.role is None and c.valid):
        found = _OCCASION.search(column.name.lower())
        if found is not None:
            stem = (column.name[: found.start()] + column.name[found.end() :]).strip("_.- ").replace("__", "_")
            told = occasions.setdefault(stem, {})
            if found[0].strip("_.- ") not in told:
                told[found[0].strip("_.- ")] = column
    several = {
        stem: own for stem, own in occasions.items() if stem and len(own) > 1 and _go_together(list(own.values()))
    }
    if not several:
        return None
    first = next(iter(several.values()))
    alike = {stem: own for stem, own in several.items() if list(own) == list(first)}
    names = [c.name for own in alike.values() for c in own.values()]
    shown = some_of(quoted(names))
    taken = {c.name for c in columns}
    step: dict[str, Any] = {
        "do": "as_long",
        "columns": {_free(stem, taken): [c.name for c in own.values()] for stem, own in alike.items()},
        "name": _free("occasion", taken | {*alike}),
        "labels": list(first),
    }
    text = f"{shown} are called alike but for the occasion: measured more than once? what changed within persons is told of a row for each occasion (long form)"
    return Remark(text, (step,))


def _go_together(columns: Sequence[Column]) -> bool:
    """Return whether columns could be one: all numeric, or groups some of whose levels are the same."""
    if not columns[0].is_categorical:
        return not any(c.is_categorical for c in columns)
    return all(c.is_categorical and {*c.labels} & {*columns[0].labels} for c in columns)
