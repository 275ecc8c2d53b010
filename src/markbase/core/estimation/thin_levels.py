"""Levels of a group that have too few rows, or one value of a numeric column, for what an interaction asks for there."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.coefficient_map import components_of
from markbase.core.design.terms import CodedColumns, Component, Term, cell_label
from markbase.core.errors import CollinearityError, count_noun, listed, quoted
from markbase.core.estimation.least_squares_solution import Dependent
from markbase.core.formatting import plain
from markbase.core.rows.parts import each_part

Array = NDArray[np.float64]
_MOST_TOLD = 4


class _Cells(NamedTuple):
    """What the rows used have in each level of some groups."""

    rows: NDArray[np.int64]
    """Shape (levels,): how many."""
    low: Array
    """Shape (columns, levels): the lowest value of each numeric column; ∞ of no row."""
    high: Array
    """The highest; −∞ of no row."""


def thin_levels_error(finding: Dependent, terms: Sequence[Term]) -> CollinearityError | None:
    """Say in which levels an interaction asks for more than their rows tell; None where there are none."""
    if finding.blocks is None:
        return None
    crossed: dict[tuple[str, ...], list[tuple[Component, CodedColumns]]] = {}
    for component, block in zip(components_of(terms), finding.blocks, strict=False):  # the outcome stands last
        if component.groups:
            crossed.setdefault(tuple(g.name for g in component.groups), []).append((component, block))
    told, causes = list[str](), list[str]()
    for names, own in crossed.items():
        slopes = [(c, b) for c, b in own if c.degree == 1]
        if not slopes:
            continue
        groups, asked = own[0][0].groups, [t.name for t in terms if {g.name for g in t.groups} == set(names)]
        cells = _cells(own[0][1], [b.multiplier for _, b in slopes], finding.used)
        found = len(told)
        for level in np.flatnonzero((cells.rows > 0) & (cells.rows < len(own))):
            where = f"`{' × '.join(names)}` is {cell_label(groups, int(level))} in {count_noun(int(cells.rows[level]), 'row')} used"
            told.append(f"{where}, fewer than the {len(own)} coefficients that {listed(quoted(asked))} have there")
        for (component, _), low, high in zip(slopes, cells.low, cells.high, strict=True):
            numeric = component.numerics[0][0].name
            for level in np.flatnonzero((cells.rows >= len(own)) & (low == high)):
                where = f"in each of the {cells.rows[level]:,} rows used where `{' × '.join(names)}` is {cell_label(groups, int(level))}"
                told.append(f"`{numeric}` is {plain(low[level], 6)} {where}, so that they tell no slope of it")
        if len(told) > found:
            causes += [name for name in asked if name not in causes and name != " × ".join(names)]
    if not told:
        return None
    more = f"; and {len(told) - _MOST_TOLD} more" if len(told) > _MOST_TOLD else ""
    return CollinearityError(
        f"{'; '.join(told[:_MOST_TOLD])}{more}. Merge such a level with one like it, leave its rows out, or leave {listed(quoted(causes), 'or')} out."
    )


def _cells(group: CodedColumns, columns: Sequence[Any], used: NDArray[np.bool_] | None) -> _Cells:
    levels = group.levels

    def seen(codes: NDArray[np.integer], columns: Sequence[Array], used: NDArray[np.bool_] | None) -> _Cells:
        here = codes >= 0 if used is None else used & (codes >= 0)
        own = codes[here]
        low = np.full((len(columns), levels), np.inf)
        high = -low
        for k, column in enumerate(columns):
            np.minimum.at(low[k], own, column[here])
            np.maximum.at(high[k], own, column[here])
        return _Cells(np.bincount(own, minlength=levels), low, high)

    rows, low, high = zip(*each_part(seen, group.codes, list(columns), used), strict=True)
    return _Cells(np.sum(rows, axis=0), np.min(low, axis=0), np.max(high, axis=0))
