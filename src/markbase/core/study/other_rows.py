"""What was done to a study, done again on other rows: of a later wave, of newcomers, of another place."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping
from dataclasses import replace
from typing import Any, TypeVar

from markbase.core.errors import MarkbaseError, remark
from markbase.core.study.column import Column, levels_of
from markbase.core.study.preparing import Preparing
from markbase.core.study.replay import carry_out
from markbase.core.study.trail import TrailStep
from markbase.core.tables import rows_of

S = TypeVar("S", bound=Preparing)

_OF_THOSE_ROWS = ("hold_out", "keep", "lag", "leave_out_repeats", "sample")
"""Steps that choose rows, or look at rows beside."""
_CHANGES_NOTHING = ("mark", "keep_levels")
"""Another base changes no prediction, and a level that was left out is none a fit has seen."""
_LEVELS_IN = {
    "against_rest": ("level",),
    "as_categorical": ("order",),
    "as_numeric": ("scores",),
    "as_ordinal": ("order",),
}
"""The settings of steps on one column that name its levels."""


def prepared_like(study: S, steps: Iterable[TrailStep], needed: Collection[str] | None) -> S:
    """Carry out on a study the steps that were carried out on another; a step may fail where what it makes is not `needed` (None: all is).

    Levels are merged that were merged there, whatever the rule, as far as they are here, and levels that steps name may be those of no row. Steps that
    choose rows, or look at other rows, are left out with a remark.
    """
    for done in steps:
        if done.action == "open" or done.action in _CHANGES_NOTHING:
            continue
        step, column = done.record(), str(done.settings.get("name") or done.settings.get("column") or "")
        of_levels = done.action == "derive" and "within" in step
        if of_levels or done.action in _OF_THOSE_ROWS:
            if needed is None or column in needed or not (of_levels or done.action == "lag"):
                remark(
                    f"The step `{done.action}` is not carried out on `{study._name}`: it looks at other rows, or chooses them."
                )
            continue
        made = _here(study, done, step)
        if made is None:
            continue
        step, new = made
        try:
            study = carry_out(_with_levels(study, step), step, "")
        except MarkbaseError as problem:
            if needed is None or new & {*needed}:
                what = f" of `{column}`" if column else ""
                raise type(problem)(f"{study._name}, step `{done.action}`{what}: {problem}") from None
    return study


def _here(study: Preparing, done: TrailStep, step: Mapping[str, Any]) -> tuple[dict[str, Any], set[str]] | None:
    """Return a step as it is for these rows, and the columns it makes; None where there is nothing to do."""
    columns = study._columns
    new = {str(step.get("name") or step.get("column") or "")}
    if done.action == "as_long" and new & {*columns}:
        return None  # these rows are in long form
    if done.action == "join" and {*step["columns"]} <= {*columns}:
        return None  # these columns are here by themselves
    if done.action == "join":
        return {**step}, {*step["columns"]}
    if done.action == "rename":
        names = {old: name for old, name in step["columns"].items() if old in columns}
        return (
            ({**step, "columns": names}, {*names.values()}) if names else None
        )  # the new names are here, or none of them
    if done.action == "merge_levels" and step["column"] in columns:
        merged = _merged_alike(done, columns[step["column"]])
        return (merged, new) if merged["targets"] else None
    if done.action == "event" and step["column"] in columns and _all_alike(columns[step["column"]], step["event"]):
        return _merged_alike(done, columns[step["column"]]), new
    step = {key: value for key, value in step.items() if key != "expect"}  # how many rows were expected there
    if "order" in step and step["column"] in columns and not columns[step["column"]].is_categorical:
        labels = step.get("labels", {})  # numbers that are codes, of which a label makes a level without a row
        step["labels"] = {
            **labels,
            **{str(code): str(code) for code in step["order"] if str(code) not in labels.values()},
        }
    return step, new


def _all_alike(column: Column, event: Any) -> bool:
    """Return whether all rows of a group have an event, or none has it, which nothing could be fitted to."""
    if not column.is_categorical:
        return False
    members = {*map(str, _values(event))}
    rows = sum(
        int(n) for level, n in zip(column.levels, column.counts, strict=True) if members & {level.label, level.code}
    )
    return rows in (0, column.valid)


def _merged_alike(done: TrailStep, column: Column) -> dict[str, Any]:
    """Return the step that merges those levels of a column that a step merged in other rows."""
    there = [level.label for level in column.levels]
    targets: dict[str, list[str]] = {}
    for row in rows_of(done.check.table) if done.check is not None else ():
        if row.old != row.new and row.old in there:
            targets.setdefault(str(row.new), []).append(str(row.old))
    if "name" in done.settings and not targets and there:
        targets = {there[0]: there[:1]}  # a column of that name is made all the same
    kept = {key: value for key, value in done.settings.items() if key in ("column", "name")}
    return {"do": "merge_levels", **kept, "targets": targets}


def _with_levels(study: S, step: Mapping[str, Any]) -> S:
    """Return a study of which groups have the levels that a step names, also where no row has them."""
    columns = dict(study._columns)
    for name, wanted in _levels_named(step):
        column = columns.get(name)
        if column is None or not column.is_categorical:
            continue
        known = {text for level in column.levels for text in (level.label, level.code)}
        absent = [text for text in dict.fromkeys(map(str, wanted)) if text not in known]
        columns[name] = replace(column, levels=(*column.levels, *levels_of(absent))) if absent else column
    return study._of_columns(columns)


def _levels_named(step: Mapping[str, Any]) -> Iterator[tuple[str, list[Any]]]:
    """Return the columns of which a step names levels, each with these."""
    for key in _LEVELS_IN.get(step["do"], ()):
        yield step["column"], _values(step.get(key, []))
    if step["do"] == "classify":
        for several in step["levels"].values():
            for conditions in several if isinstance(several, (list, tuple)) else [several]:
                for name, tests in conditions.items():
                    yield name, _values([*tests.values()] if isinstance(tests, Mapping) else tests)


def _values(given: Any) -> list[Any]:
    """Return the values in a setting: one, a list, the keys of a table, or lists within a list."""
    if isinstance(given, Mapping):
        return list(given)
    if isinstance(given, (list, tuple)):
        return [value for own in given for value in _values(own)]
    return [given]
