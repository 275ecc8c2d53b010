"""Terms of a model that are parts of one another: a total beside one of its items, a scale beside a part of it."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import Any

import numpy as np

from markbase.core.design.shared import Shared
from markbase.core.errors import listed, quoted
from markbase.core.rows.row_functions import sample_of
from markbase.core.study.column import Column

_MOST_TERMS, _MOST_COLUMNS, _ROWS = 60, 100, 256
"""So many terms, and columns of the data, are looked through, by so many rows at a first glance."""
_TOGETHER = 0.25
"""A whole and its part correlate at no less than that, or are not looked at."""
_FEWEST = 30
"""Rows of the first glance that tell."""


def among_terms(
    terms: Iterable[Column], columns: Sequence[Column], parts_of: Callable[[Column, Sequence[Column]], Any]
) -> list[Shared]:
    """Say that a term is the sum or mean of columns of the data of which another term is one, or the sum or mean of some.

    Columns that a preparing step made are told by how they were made. Of terms that hardly correlate nothing is asked.
    """
    terms, columns = ([c for c in some if not c.is_categorical and c.made is None] for some in (terms, columns))
    if not 2 <= len(terms) <= _MOST_TERMS or len(columns) > _MOST_COLUMNS or len(columns) < len(terms) + 1:
        return []
    first = np.array([sample_of(c.values)[:_ROWS] for c in terms])
    first = first[:, np.isfinite(first).all(axis=0)]
    if first.shape[1] < _FEWEST:
        return []
    first -= first.mean(axis=1, keepdims=True)
    with np.errstate(invalid="ignore", divide="ignore"):
        first /= np.sqrt(np.einsum("ij,ij->i", first, first))[:, None]
    near = np.abs(first @ first.T) >= _TOGETHER
    np.fill_diagonal(near, False)
    asked = [term for k, term in enumerate(terms) if near[k].any()]
    if not asked:
        return []
    found = {c.name: parts for c in asked if (parts := parts_of(c, [o for o in columns if o is not c])) is not None}
    told, inside = [], {c.name for c in terms}
    for name, parts in found.items():
        if set(parts.names) <= inside:  # exact collinearity, which says so itself
            continue
        for other in (c.name for c in asked if c.name != name):
            of = {other} if other in parts.names else set(found[other].names) if other in found else set()
            if not of or not of < set(parts.names):
                continue
            rest = quoted([n for n in parts.names if n not in of])
            rest = [*rest[:3], f"{len(rest) - 3} more"] if len(rest) > 4 else rest
            text = (
                f"`{name}` is {parts.words} in every row that has all of these, and `{other}`, which is in the model too, is {'one' if other in of else 'made of some'} of "
                f"them: with `{name}` held equal, more of `{other}` is less of the others, and its coefficient says by how much more it goes with the outcome than "
                f"these ({listed(rest)})."
            )
            told.append(Shared(other, text))
    return told
