"""Several groups combined into one, of which every combination that occurs is a level."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from markbase.core.errors import ColumnError, LevelError, count_noun, listed, quoted
from markbase.core.rows.row_functions import all_of, counted, look_up
from markbase.core.study.column import Base, Column, Level, Made
from markbase.core.study.column_types import with_default_base
from markbase.core.study.verification import Recode, old_by_new, with_missing

_MOST = 1 << 24
"""So many combinations may be looked for."""
_THIN = 10
"""Combinations with fewer rows are pointed out."""


def combined(columns: Sequence[Column], name: str, between: str) -> Recode:
    """Make one group of several, verified; missing where one of them is. Its base is the combination of theirs, if these were chosen."""
    names = [column.name for column in columns]
    if len(columns) < 2 or len(set(names)) < len(names):
        raise ColumnError(f"Two different groups or more are combined, not {listed(quoted(names)) or 'none'}.")
    numeric = [column.name for column in columns if not column.is_categorical]
    if numeric:
        raise ColumnError(
            f"{listed(quoted(numeric))} is numeric: groups are combined, so declare it one or cut it first."
        )
    sizes = [len(column.levels) for column in columns]
    if math.prod(sizes) > _MOST:
        raise ColumnError(
            f"{listed(quoted(names))} have {' · '.join(f'{size:,}' for size in sizes)} combinations, and at most {_MOST:,} are looked for."
        )
    present = all_of([column.present for column in columns])
    joint = columns[0].values.astype(np.int64)
    for column, size in zip(columns[1:], sizes[1:], strict=True):
        joint = joint * size + column.values
    joint = np.where(present, joint, -1)
    counts = counted(joint, math.prod(sizes))
    here = np.flatnonzero(counts)
    if not len(here):
        raise LevelError(f"No row has a value in each of {listed(quoted(names))}, so there is nothing to combine.")
    places = np.unravel_index(here, sizes)
    labels = [
        between.join(column.levels[k].label for column, k in zip(columns, own, strict=True))
        for own in zip(*places, strict=True)
    ]
    if len(set(labels)) < len(labels):
        twice = next(label for label in labels if labels.count(label) > 1)
        raise LevelError(
            f"Two combinations would both be called `{twice}`: put something else than `{between}` between their levels."
        )
    slot = np.full(math.prod(sizes) + 1, -1, dtype=np.int32)
    slot[here] = np.arange(len(here))
    new = Column(
        name,
        "categorical",
        look_up(slot, joint),
        levels=tuple(Level(label, label, True) for label in labels),
        label=" and ".join(column.label or column.name for column in columns),
        made=Made("combination", tuple(names)),
    )
    new = with_default_base(new)
    bases = [column.base for column in columns]
    if all(base is not None and base.chosen for base in bases):
        at = slot[np.ravel_multi_index([base.level for base in bases if base is not None], sizes)]
        if at >= 0:
            new = replace(new, base=Base(int(at), f"the bases of {listed(quoted(names))}", chosen=True))
    empty = math.prod(int(np.count_nonzero(column.counts)) for column in columns) - len(here)
    notes = [f"{count_noun(empty, 'combination')} without a row"] if empty else []
    thin = [f"`{label}` ({n:,})" for label, n in zip(labels, counts[here], strict=True) if n < _THIN]
    if thin:
        notes.append(f"thin: {listed([*thin[:4], *([f'{len(thin) - 4} more'] if len(thin) > 4 else [])])}")
    gone = {f"`{column.name}` missing": ~column.present for column in columns[1:]}
    new = with_missing(new, columns[0], gone)
    text = f"Combined {listed(quoted(names))} into `{name}`: {count_noun(len(labels), 'level')}, {count_noun(new.valid, 'row')} with a value"
    check = replace(old_by_new(columns[0], new, tuple(notes)), source=", ".join(names))
    return Recode(new, check, text + (f" ({'; '.join(notes)})." if notes else "."))
