"""Tables of a manuscript with columns called by their labels, as a codebook has them."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import replace
from typing import Any

from markbase.core.comparison.blocks import Blocks
from markbase.core.comparison.coefficient_samples import CoefficientSamples
from markbase.core.comparison.comparison import Comparison
from markbase.core.comparison.dominance import Dominance
from markbase.core.comparison.imputations import Imputations
from markbase.core.comparison.imputed_blocks import ImputedBlocks
from markbase.core.comparison.subgroups import Subgroups
from markbase.core.results.fit import Fit
from markbase.core.screening.description import Description
from markbase.core.screening.reliability import Reliability
from markbase.core.screening.screen import Screen
from markbase.core.study.column import Column
from markbase.show.page import LEVEL_INDENT, Section, Table

_POWERS = ("(quadratic)", "(cubic)")
"""How terms end whose rows are powers of a column."""


def labels_of(result: Any) -> dict[str, str]:
    """Return the labels of the columns that a result tells of, by their names."""
    if isinstance(result, Reliability):
        return dict(result.wordings)
    return {column.name: column.label for column in _columns(result) if column.label}


def _columns(result: Any) -> Iterable[Column]:
    if isinstance(result, tuple):
        return _columns(result[0])
    if isinstance(result, (Blocks, ImputedBlocks)):
        return _columns(result.last)
    if isinstance(result, (CoefficientSamples, Dominance, Imputations)):
        return _columns(result.fit)
    if isinstance(result, Comparison):
        return [column for fit in result.fits for column in _columns(fit)]
    if isinstance(result, Subgroups):
        return [result.by, *(column for fit in result.fits.values() for column in _columns(fit))]
    if isinstance(result, Screen):
        return [c for c in (result.outcome, *(t.column for t in result.basis.terms)) if c is not None]
    if isinstance(result, Description):
        return [*result.columns, *([result.by] if result.by is not None else [])]
    assert isinstance(result, Fit)
    return [result.outcome, *(variable.column for variable in result.variables)]


def labelled(told: Section, labels: Mapping[str, str], of_levels: bool = False) -> Section:
    """Return a table in which columns have their labels: where rows begin, unless all are of levels, and in the caption; the note keeps their names."""
    if not labels:
        return told
    names = "|".join(re.escape(name) for name in sorted(labels, key=len, reverse=True))
    whole = re.compile(rf"(?<![\w.])({names})(?![^\W²³]|\.\w)")  # powers are letters to it
    in_caption = re.compile(rf"(^|\bby |\band |\bof )({names})(?=$|[:,=]| = | and )")
    (table,) = told.blocks
    assert isinstance(table, Table)
    rows, powers = [], False
    for row in table.rows:
        first = row.cells[0]
        if not first.startswith(LEVEL_INDENT):
            powers = first.endswith(_POWERS)
        if not of_levels and (powers or not first.startswith(LEVEL_INDENT)):
            first = whole.sub(lambda found: labels[found[1]], first)
        rows.append(replace(row, cells=(first, *row.cells[1:])))
    title = in_caption.sub(lambda found: f"{found[1]}{labels[found[2]]}", told.title)
    return replace(told, title=title, blocks=(replace(table, rows=tuple(rows)),))
