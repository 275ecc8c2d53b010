"""Steps that were typed as options of several kinds, put into an order in which each finds the columns it names."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from markbase.core.study.expressions import read

Step = Mapping[str, Any]
_DECLARED = {"categorical": "as_categorical", "ordinal": "as_ordinal", "numeric": "as_numeric"}


def in_order(steps: Sequence[Step], more: Sequence[Step]) -> list[Step]:
    """Put each of some steps before the first of the others that names a column it makes, or behind all."""
    found = list(steps)
    for own in more:
        first = next((step for step in steps if any(_names(step, name) for name in _made(own))), None)
        found.insert(len(found) if first is None else found.index(first), own)
    return found


def with_kinds(steps: Sequence[Step], kinds: Mapping[str, str]) -> tuple[list[Step], dict[str, str]]:
    """Put what a column is that a step makes behind that step; return the steps, and the kinds of all other columns."""
    found: list[Step] = []
    left = dict(kinds)
    for step in steps:
        found.append(step)
        for name in _made(step):
            kind = left.pop(name, None)
            if kind == "identifier":
                found.append({"do": "as_role", "column": name, "role": kind})
            elif kind is not None:
                found.append({"do": _DECLARED.get(kind, kind), "column": name})
    return found, left


def _made(step: Step) -> list[str]:
    """Return the columns that a step makes, or renames."""
    if step["do"] == "rename":
        return [str(name) for name in step["columns"].values()]
    return [step["name"]] if isinstance(step.get("name"), str) else []


def _names(step: Step, name: str) -> bool:
    return _holds(step, name) or (step["do"] == "calculate" and name in read(step["expression"]).columns)


def _holds(value: Any, name: str) -> bool:
    if isinstance(value, Mapping):
        return any(_holds(own, name) for pair in value.items() for own in pair)
    if isinstance(value, (list, tuple)):
        return any(_holds(own, name) for own in value)
    return isinstance(value, str) and value == name
