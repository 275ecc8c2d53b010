"""Bases that are the same in several parts of a study."""

from __future__ import annotations

from collections.abc import Iterable

from markbase.core.errors import without_remarks
from markbase.core.study.study import Study


def with_one_base(study: Study, names: Iterable[str]) -> tuple[Study, dict[str, str]]:
    """Mark the bases that nobody chose, so that they are the same in every part of the rows; return these too, by the names of their groups."""
    bases = {}
    for column in (study.column(name) for name in names):
        if column.is_categorical and column.base is not None and not column.base.chosen and not column.fault:
            bases[column.name] = column.labels[column.base.level]
    with without_remarks():
        for name, base in bases.items():
            study = study.mark(name, base, reason="the largest level of all rows, and nobody's choice")
    return study, bases
