"""Columns that all go together with one another: one finding, where their pairs would be many."""

from __future__ import annotations

import itertools
from collections.abc import Iterable, Sequence

from markbase.core.errors import named
from markbase.core.formatting import from_to, without_zero

FEWEST = 4
"""So many columns of which every pair is flagged are told as one set."""


def sets_of(pairs: Iterable[tuple[str, str]], order: Sequence[str]) -> list[tuple[str, ...]]:
    """Return the sets of columns, of four or more and in order, in which every two are a pair and none is a pair with a column outside."""
    beside: dict[str, set[str]] = {}
    for a, b in pairs:
        beside.setdefault(a, {a}).add(b)
        beside.setdefault(b, {b}).add(a)
    complete = [
        own for n in order if (own := beside.get(n)) and len(own) >= FEWEST and all(beside[o] == own for o in own)
    ]
    return sorted(dict.fromkeys(tuple(n for n in order if n in own) for own in complete), key=len, reverse=True)


def words_of_set(names: Sequence[str], r: dict[tuple[str, str], float]) -> str:
    """Say that columns go together; `r` is the correlation of each pair."""
    values = [r[pair] if pair in r else r[pair[::-1]] for pair in itertools.combinations(names, 2)]
    sizes = sorted(abs(v) for v in values)
    against = "; some the other way round" if min(values) < 0 else ""
    return f"{named(names)} go together, each with every other (|r| {from_to(without_zero(sizes[0], 2), without_zero(sizes[-1], 2))}{against})."


WHAT_WOULD_DO = (
    "Where the columns of such a set measure one thing, enter their mean as one scale (its reliability tells whether they do), or choose one by the question; beside one another each is "
    "told by what the others lack."
)
