"""Numbers that are the codes of a classification, by what their column is called: occupations, industries, regions, post."""

from __future__ import annotations

import math
import re
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from markbase.core.study.column import Column
from markbase.core.study.expressions import Part
from markbase.core.study.remark import Remark


class _Classification(NamedTuple):
    what: str
    """What its codes are, in the plural."""
    called: re.Pattern[str]
    """What columns of it are called."""
    by_digits: bool = False
    """Whether the first digits of a code are a coarser group."""


def as_words(of: str) -> re.Pattern[str]:
    """Return what finds some words in the name of a column, also with a number behind them."""
    return re.compile(rf"(?<![a-z])({of})[ _-]?\d{{0,4}}(?![a-z])", re.IGNORECASE)


_KNOWN = (
    _Classification(
        "postal codes",
        re.compile(
            r"\b(post(al)?[ _-]?(code)?|zip([ _-]?code)?|plz|postcode)\b|postcode|postal|zipcode", re.IGNORECASE
        ),
    ),
    _Classification(
        "codes of occupations",
        as_words("isco|kldb|soc(?=[ _-]?[0-9])|occupation[ _-]?codes?|job[ _-]?codes?"),
        by_digits=True,
    ),
    _Classification("codes of industries", as_words("isic|nace|naics|sic|wz|industry[ _-]?codes?"), by_digits=True),
    _Classification(
        "codes of regions", as_words("nuts|fips|ags|insee|(area|region|country|county|district)[ _-]?codes?")
    ),
    _Classification("codes of diagnoses", as_words("icd|diagnosis[ _-]?codes?")),
)
_FEWEST, _LOWEST = 3, 10
"""So many different numbers, and one of at least this, has a classification; a scale that is called alike has less."""
_MOST_LEVELS, _FEW_LEVELS = 1000, 12
"""So many levels a group may have that is proposed, and so few need no coarser ones."""


def is_named_as_codes(column: Column) -> bool:
    """Return whether a column is called as one of codes of a classification."""
    return any(own.called.search(f"{column.name} {column.label}") for own in _KNOWN)


def codes_of(column: Column, values: NDArray[np.float64]) -> str:
    """Say of what a numeric column holds the codes, by its name and its values (all, or some of them); empty for none."""
    known = _known(column, values)
    return known.what if known is not None else ""


def _known(column: Column, values: NDArray[np.float64]) -> _Classification | None:
    if (
        column.is_categorical
        or not column.guess
        or column.unit is not None
        or not len(values)
        or values.max() < _LOWEST
    ):
        return None
    known = next((own for own in _KNOWN if own.called.search(f"{column.name} {column.label}")), None)
    if known is None or not np.array_equal(values, np.round(values)) or len(np.unique(values)) < _FEWEST:
        return None
    return known


def remark_on_codes(column: Column, values: NDArray[np.float64]) -> Remark | None:
    """Say that a numeric column holds codes of a classification, with the steps that make a group of them, or of their first digits."""
    known = _known(column, values)
    if known is None:
        return None
    distinct, digits = len(np.unique(values)), int(math.log10(values.max()))
    text = f"{known.what}, by its name: they sort and do not measure"
    if known.by_digits and distinct > _FEW_LEVELS and digits:
        name, of = f"{column.name}_group", Part("column", text=column.name).shown
        mend = (
            {"do": "calculate", "name": name, "expression": f"floor({of} / {10**digits})"},
            {"do": "as_categorical", "column": name},
        )
        return Remark(f"{text}; their first digit is a coarser group", mend)
    return Remark(text, ({"do": "as_categorical", "column": column.name},) if distinct <= _MOST_LEVELS else ())
