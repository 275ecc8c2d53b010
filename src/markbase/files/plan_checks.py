"""Whether an entry of a plan has the keys that it may have, each with what stands for it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import fields
from typing import Any

from markbase.core.design.fit_options import FitOptions
from markbase.core.errors import listed, near, quoted
from markbase.core.inference.corrections import CORRECTIONS
from markbase.files.plan_lines import Lines

_TYPES: dict[str, tuple[type, ...]] = {
    "level": (int, float),
    "cross_validate": (bool,),
    "dominance": (bool,),
    "figures": (bool,),
    "labels": (bool,),
    "standardised": (bool,),
    "hold_out": (int, float),
    "margin": (int, float),
    "replicates_scale": (int, float),
    "limit_r": (int, float),
    "limit_vif": (int, float),
    "limit": (int, float),
    "bootstrap": (int,),
    "seed": (int,),
}


def check_keys(entry: Mapping[str, Any], keys: Sequence[str], table: str, number: int, lines: Lines) -> None:
    """Refuse a key that an entry has not, and what cannot stand for one."""
    for key, value in entry.items():
        at = lines.within(table, number, key)
        if key not in keys:
            raise lines.error(f"unknown key `{key}` in [{table}]", at=at, hint=near(key, keys))
        wanted = _TYPES.get(key)
        if wanted and (not isinstance(value, wanted) or (bool not in wanted and isinstance(value, bool))):
            word = "true or false" if bool in wanted else "a number"
            raise lines.error(f"`{key}` is {word}, not {value!r}", at=at)


def check_choices(entry: Mapping[str, Any], table: str, number: int, lines: Lines) -> None:
    """Refuse what is none of the words that may stand for a key."""
    choices = {f.name: f.metadata["choices"] for f in fields(FitOptions) if f.metadata["choices"]}
    for key, known in {**choices, "correction": CORRECTIONS}.items():
        if key in entry and entry[key] not in known:
            told = f"`{key}` is {listed(quoted(known), 'or')}, not {entry[key]!r}"
            raise lines.error(told, at=lines.within(table, number, key))


def check_level(entry: Mapping[str, Any], table: str, number: int, lines: Lines) -> None:
    """Refuse a confidence level that is none."""
    if "level" in entry and not 0 < entry["level"] < 1:
        told = f"`level` is a confidence level between 0 and 1, not {entry['level']!r}"
        raise lines.error(told, at=lines.within(table, number, "level"))
