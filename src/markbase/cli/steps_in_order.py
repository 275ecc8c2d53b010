"""Steps that were typed as options of several kinds, put into an order in which each finds the columns it names."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

Step = Mapping[str, Any]
_DECLARED = {"categorical": "as_categorical", "ordinal": "as_ordinal", "numeric": "as_numeric"}


def in_order(steps: Sequence[Step], calculations: Sequence[Step]) -> list[Step]:
    """Put each calculation before the first step that names its column, or behind all."""
    found = list(steps)
    for own in calculations:
        at = next(
            (k for k, step in enumerate(found) if _names(step, own["name"]) and step not in calculations), len(found)
        )
        found.insert(at, own)
    return found


def with_kinds(steps: Sequence[Step], kinds: Mapping[str, str]) -> tuple[list[Step], dict[str, str]]:
    """Put what a column is that a step makes behind that step; return the steps, and the kinds of all other columns."""
    found: list[Step] = []
    left = dict(kinds)
    for step in steps:
        found.append(step)
        kind = left.pop(step["name"], None) if isinstance(step.get("name"), str) else None
        if kind == "identifier":
            found.append({"do": "as_role", "column": step["name"], "role": kind})
        elif kind is not None:
            found.append({"do": _DECLARED.get(kind, kind), "column": step["name"]})
    return found, left


def _names(value: Any, name: str) -> bool:
    if isinstance(value, Mapping):
        return any(_names(own, name) for pair in value.items() for own in pair)
    if isinstance(value, (list, tuple)):
        return any(_names(own, name) for own in value)
    return isinstance(value, str) and value == name
