"""Columns of a survey's design that figures take no account of."""

from __future__ import annotations

from collections.abc import Collection, Sequence

from markbase.core.errors import listed
from markbase.core.study.study import Study

_HELD = {"cluster": "clusters", "stratum": "strata", "weight": "weights"}


def unheeded_in(study: Study, used: Collection[str | None]) -> tuple[str, ...]:
    """Return the columns with the role of clusters, strata or weights that are not used, each with what it holds."""
    drawn = (study[name] for name in study.columns if name not in used)
    return tuple(f"the {_HELD[c.role]} in `{c.name}`" for c in drawn if c.role in _HELD)


def unheeded_words(unheeded: Sequence[str], lead: str) -> str:
    """Say, after what rows are taken for, that no account is taken of these columns."""
    role = "its role" if len(unheeded) == 1 else "their roles"
    return f"{lead}: no account is taken of {listed(unheeded)} ({role})."
