"""What is known of a study as it was opened: from where, and why columns lack values that their file never had."""

from __future__ import annotations

from collections.abc import Mapping
from copy import copy
from dataclasses import replace
from typing import Any, TypeVar

import numpy as np

from markbase.core.rows.parts import row_numbers
from markbase.core.rows.row_functions import look_up
from markbase.core.study.column import FIRST_CODED, MissingCode
from markbase.core.study.steps.base_step import Stepping

S = TypeVar("S", bound=Stepping)
_MOST_REASONS = 20
"""Files without a column that are each told as the reason of its gaps."""


def opened_as(study: S, settings: Mapping[str, Any]) -> S:
    """Return a study, as it is now, with what a step of a plan that joins it would say of the file it was opened from."""
    study = copy(study)
    study._opened = settings, len(study._trail)
    return study


def lacking_in(study: S, lacking: Mapping[str, Mapping[str, slice]]) -> S:
    """Return a study whose columns have a reason for gaps in some stretches of rows, such as those of a file without that column.

    The stretches of a column follow one another. Of more than 20 they have one reason together.
    """
    study = copy(study)
    for name, there in lacking.items():
        column, numbers = study._columns[name], row_numbers(study._columns[name].values)
        reasons = [*there] if len(there) <= _MOST_REASONS else [f"not in {len(there):,} of the files"] * len(there)
        codes = [*column.missing_codes, *(MissingCode("", reason) for reason in dict.fromkeys(reasons))]
        begins, ends = (np.array([getattr(rows, end) for rows in there.values()]) for end in ("start", "stop"))
        at = np.searchsorted(begins, numbers, side="right") - 1
        inside = (at >= 0) & (numbers < look_up(ends, at))
        places = np.array([FIRST_CODED + codes.index(MissingCode("", reason)) for reason in reasons])
        why = np.where(inside, look_up(places, at), column.reasons()).astype(np.uint8)
        study._columns = {**study._columns, name: replace(column, why_missing=why, missing_codes=tuple(codes))}
    return study
