"""What the standards share: the part of an entry that they have no place for, and values written as JSON."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from typing import Any

from markbase.core.errors import CodebookError, listed, quoted
from markbase.core.study.codebook import ColumnSpec

OURS = "markbase"
"""What the field of ours is called."""


def entry_of(spec: ColumnSpec) -> dict[str, Any]:
    """Return an entry as `Codebook.from_mapping` takes it, without what is empty."""
    found: dict[str, Any] = {}
    if spec.label:
        found["label"] = spec.label
    if spec.kind:
        found["kind"] = spec.kind
    if spec.role:
        found["role"] = spec.role
    if spec.unit:
        found["unit"] = spec.unit.one if spec.unit.one == spec.unit.many else [spec.unit.one, spec.unit.many]
    if spec.levels:
        alike = all(level.code == level.label for level in spec.levels)
        found["levels"] = [v.code for v in spec.levels] if alike else {v.code: v.label for v in spec.levels}
    if spec.missing:
        told = any(code.label for code in spec.missing)
        found["missing"] = {c.code: c.label or c.code for c in spec.missing} if told else [c.code for c in spec.missing]
    if spec.base:
        found["base"] = spec.base
    if spec.made:
        how, of = spec.made
        found["made"] = {how: of[0] if len(of) == 1 else list(of)}
    return found


def rest_of(entry: Mapping[str, Any], held: Mapping[str, Any], guess: str) -> dict[str, Any]:
    """Return what of an entry is not held already, or is held otherwise, and that it was guessed."""
    rest = {key: value for key, value in entry.items() if held.get(key) != value or not _same_order(held[key], value)}
    return rest | ({"guessed": guess} if guess else {})


def _same_order(one: Any, other: Any) -> bool:
    return not isinstance(one, Mapping) or not isinstance(other, Mapping) or list(one) == list(other)


def with_ours(found: dict[str, Any], ours: object, where: str) -> dict[str, Any]:
    """Return an entry completed by what a field of ours says."""
    if ours is None:
        return found
    if not isinstance(ours, Mapping):
        raise CodebookError(f"{where}: `{OURS}` must be a table, not {ours!r}.")
    whole = found | {str(k): v for k, v in ours.items() if k != "guessed"}
    return {key: value for key, value in whole.items() if value is not None}


def whole_codes(codes: list[str]) -> bool:
    """Return whether codes are whole numbers, each in the one form it has."""
    return bool(codes) and all(re.fullmatch(r"-?[0-9]{1,15}", code) and str(int(code)) == code for code in codes)


def parsed_json(text: str, where: str) -> Mapping[str, Any]:
    """Read JSON whose top is a table; raises CodebookError."""
    try:
        found = json.loads(text)
    except (ValueError, RecursionError) as problem:
        raise CodebookError(f"{where} is not JSON that can be read: {str(problem).splitlines()[0]}.") from None
    if not isinstance(found, Mapping):
        raise CodebookError(f"{where} describes no columns: at its top stands {type(found).__name__}, no table.")
    return found


def tables_in(value: object, key: str, where: str) -> list[Mapping[str, Any]]:
    """Return a list of tables; raises CodebookError if it is none."""
    if not isinstance(value, list) or not all(isinstance(v, Mapping) for v in value):
        raise CodebookError(f"{where}: `{key}` must be a list of tables, not {str(value)[:80]!r}.")
    return value


def named(entry: Mapping[str, Any], key: str, where: str) -> str:
    """Return a text that must be there; raises CodebookError."""
    value = entry.get(key)
    if not isinstance(value, str) or not value.strip():
        raise CodebookError(f"{where}: a column has no `{key}`; it must be a text.")
    return value


def chosen(names: list[str], data: str, where: str, what: str) -> int:
    """Return which of several tables describes a data file: the one of its name, or the only one."""
    for place, name in enumerate(names):
        if data and name.replace("\\", "/").rsplit("/", 1)[-1] == data:
            return place
    if len(names) == 1:
        return 0
    raise CodebookError(
        f"{where}: none of its {what} is of `{data}`; there are {listed(quoted(names))}."
        if names
        else f"{where} describes no columns."
    )


def to_json(value: object) -> str:
    """Write JSON as people read it."""
    return json.dumps(value, ensure_ascii=False, indent=2) + "\n"
