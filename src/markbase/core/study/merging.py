"""Merging levels of a group, and setting one level against the rest."""

from __future__ import annotations

import difflib
from collections.abc import Mapping, Sequence
from dataclasses import replace

import numpy as np

from markbase.core.errors import ColumnError, LevelError, count_noun, listed, named, quoted
from markbase.core.rows.row_functions import look_up
from markbase.core.study.column import Base, Column, Level
from markbase.core.study.column_types import with_default_base
from markbase.core.study.group_remarks import plain_form
from markbase.core.study.verification import Recode, old_by_new

_SAME_WORD = 0.8
"""Labels at least so alike are taken for spellings of one word."""
_MOST_NAMED = 40
"""Levels that went into another are named up to so many; a check has them all."""


def merge(column: Column, targets: Mapping[str, Sequence[object]], name: str) -> Recode:
    """Merge levels, by label or code, into new or existing ones.

    If the base was merged, the level it went into is the base, and that is said.
    """
    if not column.is_categorical:
        column.level_at("")
    goes: dict[int, str] = {}
    for target, members in targets.items():
        if isinstance(members, str) or not isinstance(members, Sequence):
            raise LevelError(f"Say which levels of `{column.name}` go into `{target}` as a list, not {members!r}.")
        for member in members:
            place = column.level_at(member)
            if goes.get(place, target) != target:
                raise LevelError(
                    f"`{column.levels[place].label}` of `{column.name}` is to go into `{goes[place]}` and into `{target}`; choose one."
                )
            goes[place] = target
    labels = [level.label for level in column.levels]
    for target in targets:
        if target in labels:
            place = labels.index(target)
            if goes.get(place, target) != target:
                raise LevelError(
                    f"`{target}` of `{column.name}` is to take levels in and to go into `{goes[place]}`; choose one."
                )
            goes[place] = target
    return _merged(column, goes, list(targets), name)


def _merged(column: Column, goes: Mapping[int, str], targets: Sequence[str], name: str) -> Recode:
    slot = np.full(len(column.levels) + 1, -1, dtype=np.int32)
    levels: list[Level] = []
    at: dict[str, int] = {}
    for k, level in enumerate(column.levels):
        target = goes.get(k)
        if target is None:
            slot[k] = len(levels)
            levels.append(level)
            continue
        if target not in at:  # the new level stands where the first of its members stood
            at[target] = len(levels)
            members = [column.levels[m] for m in goes if goes[m] == target]
            known = next((m for m in members if m.label == target), None)
            # another spelling of the target that goes home leaves no mixture behind
            mixed = tuple(m.label for m in members if m is known or not (known and _same_word(m, known)))
            levels.append(Level(known.code if known else target, target, True, mixed if len(mixed) > 1 else ()))
        slot[k] = at[target]
    new = replace(
        column, name=name, values=look_up(slot, column.values), levels=tuple(levels), base=None, event=None, doubt=""
    )
    new = with_default_base(new)
    notes = []
    base = column.base
    if base is not None and base.chosen:
        new = replace(new, base=replace(base, level=int(slot[base.level])))
        if base.level in goes:
            was, now = column.levels[base.level].label, levels[slot[base.level]].label
            if was != now:
                notes.append(f"the base `{was}` was merged: `{now}` is the base now")
    mixtures = [level for level in levels if level.mixture and level.label in targets]
    for level in mixtures:
        many = f"{len(level.mixture):,} levels" if len(level.mixture) > _MOST_NAMED else listed(quoted(level.mixture))
        notes.append(f"`{level.label}` is a mixture of {many}")
    told = [
        f"{named([column.levels[k].label for k in goes if goes[k] == t and column.levels[k].label != t], _MOST_NAMED)} into `{t}`"
        for t in targets
    ]
    text = (
        f"Merged {'; '.join(told)} in `{column.name}`{f' as `{name}`' if name != column.name else ''}: "
        f"{int(np.count_nonzero(column.counts)):,} levels before, {int(np.count_nonzero(new.counts)):,} after, "
        f"{count_noun(new.valid, 'row')} with a value before and after"
    )
    return Recode(new, old_by_new(column, new, tuple(notes)), text + (f" ({'; '.join(notes)})." if notes else "."))


def _same_word(level: Level, home: Level) -> bool:
    """Return whether a level is another spelling of the one it goes to."""
    forms = plain_form(level.label), plain_form(home.label)
    return not level.mixture and difflib.SequenceMatcher(None, *forms).ratio() >= _SAME_WORD


def thin_levels(column: Column, below: int | None, below_share: float | None, into: str) -> dict[str, list[str]]:
    """Find the levels with fewer rows, or a smaller share of the rows that have a value, than a limit: ``{into: labels}``, for `merge`."""
    if not column.is_categorical:
        column.level_at(into)
    if (below is None) == (below_share is None):
        raise LevelError(
            f"Say which levels of `{column.name}` are thin: below=30 (rows) or below_share=0.05, and one of them."
        )
    if below_share is not None and not 0 < below_share < 1:
        raise LevelError(f"below_share is a share between 0 and 1, not {below_share!r}; for 5 percent give 0.05.")
    limit = float(below) if below is not None else float(below_share or 0) * column.valid
    thin = [column.levels[k].label for k in range(len(column.levels)) if 0 < column.counts[k] < limit]
    if not thin or (len(thin) == 1 and into not in [v.label for v in column.levels]):
        what = f"`{thin[0]}` alone is" if thin else "No level is"
        raise LevelError(
            f"{what} below {limit:g} rows in `{column.name}`, so there is nothing to merge; name the levels, or raise the limit."
        )
    return {into: thin}


def one_level_against_rest(column: Column, level: object, name: str, rest: str) -> Recode:
    """Set one level of a group against all the others: a mixture, which is the base."""
    place = column.level_at(level)
    chosen = column.levels[place]
    if name == column.name:
        raise ColumnError(f"Give the two-level group a name of its own: `{name}` is the column it is made of.")
    if rest == chosen.label:
        raise LevelError(f"The rest of `{column.name}` cannot be called `{rest}`, like the level set against it.")
    others = [v for k, v in enumerate(column.levels) if k != place and column.counts[k]]
    values = np.where(column.values == place, 1, np.where(column.present, 0, -1)).astype(np.int32)
    levels = (Level(rest, rest, True, tuple(v.label for v in others)), chosen)
    base = Base(0, f"the rest, set against `{chosen.label}`", chosen=True)
    new = replace(
        column,
        name=name,
        values=values,
        levels=levels,
        base=base,
        kind="categorical",
        event=None,
        scheme="indicator",
        doubt="",
        guess="",
    )
    note = f"`{rest}` is a mixture of {listed(quoted([v.label for v in others]))}"
    text = (
        f"Set `{chosen.label}` ({count_noun(int(column.counts[place]), 'row')}) of `{column.name}` against the rest as `{name}`: "
        f"{note}."
    )
    return Recode(new, old_by_new(column, new, (note,)), text)
