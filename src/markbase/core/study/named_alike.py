"""Columns whose names have something in common but for a number, such as replicate weights and plausible values."""

from __future__ import annotations

import fnmatch
import re
from collections.abc import Collection, Sequence

from markbase.core.errors import ColumnError, near

NUMBERED = re.compile(r"^(.*?)(\d+)$")
"""A name that ends in a number."""
_PARTS = re.compile(r"(\d+)")


def is_pattern(name: str) -> bool:
    """Return whether a name stands for all that fit it, as ``w_rep*`` does."""
    return bool(set(name) & set("*?"))


def names_like(given: str | Sequence[str], columns: Collection[str]) -> tuple[str, ...]:
    """Return the columns that are named, or whose names fit a pattern such as ``w_rep*``, in the order of the numbers in them.

    Raises a `ColumnError` if none fits a pattern.
    """
    found: list[str] = []
    for name in [given] if isinstance(given, str) else given:
        if name in columns or not is_pattern(name):
            found.append(name)
            continue
        fitting = [c for c in columns if fnmatch.fnmatchcase(c, name)]
        if not fitting:
            raise ColumnError(f"No column has a name that fits `{name}`.{near(name.replace('*', '1'), columns)}")
        found += sorted(fitting, key=in_order)
    return tuple(dict.fromkeys(found))


def in_order(name: str) -> tuple[tuple[str, int], ...]:
    """Return by what names are put in the order of the numbers in them."""
    parts = _PARTS.split(name)
    return tuple((text, int(number or 0)) for text, number in zip(parts[::2], [*parts[1::2], 0], strict=True))
