"""What is known of a study as it was opened: from where, and why columns lack values that their file never had."""

from __future__ import annotations

from collections.abc import Mapping
from copy import copy
from dataclasses import replace
from typing import Any, TypeVar

from markbase.core.study.column import FIRST_CODED, MissingCode
from markbase.core.study.steps.base_step import Stepping

S = TypeVar("S", bound=Stepping)


def opened_as(study: S, settings: Mapping[str, Any]) -> S:
    """Return a study, as it is now, with what a step of a plan that joins it would say of the file it was opened from."""
    study = copy(study)
    study._opened = settings, len(study._trail)
    return study


def lacking_in(study: S, lacking: Mapping[str, Mapping[str, slice]]) -> S:
    """Return a study in memory whose columns have a reason for gaps in some stretches of rows, such as those of a file without that column."""
    study = copy(study)
    for name, reasons in lacking.items():
        column = study._columns[name]
        why, codes = column.reasons().copy(), list(column.missing_codes)
        for reason, rows in reasons.items():
            why[rows] = FIRST_CODED + len(codes)
            codes.append(MissingCode("", reason))
        study._columns = {**study._columns, name: replace(column, why_missing=why, missing_codes=tuple(codes))}
    return study
