"""What a column of a model has in common with the outcome, and by how much rounding may have moved a number."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np

ROUNDING = 1e-9
"""Of two numbers' sizes: what their sum may be off by."""
_DECIMALS = 4
"""A whole may be rounded to so many decimals."""


class Shared(NamedTuple):
    """What a column of a model has in common with the outcome, though nobody says so."""

    column: str
    """The name of the column; empty where it is of no column of the model."""
    text: str
    """What it is, as a sentence."""


def rounding_room(values: Any) -> float:
    """Return half a unit of the last decimal that values have, by which rounding may have moved each; 0 where they have more than four."""
    for decimals in range(_DECIMALS + 1):
        if np.all(np.abs(values - np.round(values, decimals)) <= ROUNDING * np.abs(values)):
            return 0.5 * 10.0**-decimals
    return 0.0
