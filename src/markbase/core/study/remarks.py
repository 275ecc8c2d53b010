"""What deserves a second look in a column, before anything is fitted, and what would mend it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

import numpy as np

from markbase.core.errors import listed, quoted
from markbase.core.study.column import Column
from markbase.core.study.exact_sums import find_totals
from markbase.core.study.group_remarks import group_remarks
from markbase.core.study.imputed import plausible_values, stacked
from markbase.core.study.joining import bare
from markbase.core.study.marked_numbers import marks_on
from markbase.core.study.numeric_remarks import looks_coded, numeric_remarks
from markbase.core.study.remark import Remark, about_blocks
from markbase.core.study.repeats import column_of_counts
from markbase.core.study.replicate_columns import replicate_columns
from markbase.core.study.written_numbers import decimals_in_doubt, numbers_as_written, signs_of_bounds


def remarks_on(columns: Sequence[Column]) -> dict[str, list[Remark]]:
    """Say what deserves a second look in each of some columns."""
    numeric = [c for c in columns if not c.is_categorical and c.role != "identifier"]
    totals, answers = find_totals(numeric), Counter(c.span for c in numeric if looks_coded(c))
    found = {
        c.name: _remarks(c, totals.get(c.name, ()), 0 if c.is_categorical else answers[c.span] - 1) for c in columns
    }
    weights, several = replicate_columns(numeric)
    found |= {c.name: [] for c in numeric if c.name in (*several, weights) and not c.fault}
    if several:
        text = f"{len(several)} replicate weights of `{weights}`, `{several[0]}` to `{several[-1]}`? a fit that is weighted by it takes its errors from them"
        found[several[0]].append(Remark(text))
    for column in numeric:
        several = plausible_values(column.name, [c.name for c in numeric])
        if several and column.name == several[0]:
            text = f"{len(several)} plausible values of one measurement, `{several[0]}` to `{several[-1]}`? a fit for each, combined (Rubin's rules), takes them as what they are"
            found[column.name].append(Remark(text))
    for column, other in _same_but_for_spelling(columns):
        mend = {"do": "coalesce", "columns": [other.name, column.name], "name": f"{other.name}_{column.name}"}
        text = (
            f"no row has both this and `{other.name}`, which is called the same but for spelling: are they one column?"
        )
        found[column.name].append(Remark(text, (mend,)))
    if column_of_counts(columns) is not None:  # of which a row is no case
        return {name: [r for r in told if not r.text.startswith("thin level")] for name, told in found.items()}
    return found


def _same_but_for_spelling(columns: Sequence[Column]) -> Iterator[tuple[Column, Column]]:
    """Return columns of which no row has a value that also has one of a column before them, of the same kind and name but for case, blanks and marks."""
    seen: dict[str, Column] = {}
    settled = {name for c in columns if c.made is not None and c.made.how == "coalesce" for name in c.made.of}
    for column in (c for c in columns if c.name not in settled):
        other = seen.setdefault(bare(column.name), column)
        alike = other is not column and column.is_categorical == other.is_categorical
        if alike and column.valid and other.valid and not bool(np.any(column.present & other.present)):
            yield column, other


def _remarks(column: Column, total_of: tuple[str, ...], alike: int) -> list[Remark]:
    """Say what deserves a second look in a column, in the order of weight.

    `total_of` has the parts of which it is the exact total; `alike` is how many other columns hold few whole numbers of the same range.
    """
    remarks = [Remark(column.fault)] if column.fault else []
    marks, bare = marks_on(column)
    if marks:
        gaps = {"do": "blank", "column": column.name, "codes": bare}
        off = {"do": "as_numeric", "column": column.name, "without": marks}
        text = f"numbers with marks beside them, {listed(quoted(marks))}: if they measure, take the marks off"
        if bare:
            text += f"; {listed(quoted(bare))} without a number: {'a missing answer' if len(bare) == 1 else 'missing answers'}?"
        return [*remarks, Remark(text, (gaps, off) if bare else (off,)), *map(Remark, column.notes)]
    if column.doubt:
        remarks.append(Remark(column.doubt, _out_of_doubt(column)))
        if column.is_categorical and column.valid:
            return [*remarks, *map(Remark, column.notes)]
    if (imputed := stacked(column)) is not None:
        text = (
            f"{imputed.imputations} imputations of the same cases, {imputed.rows:,} rows each? a fit to all of these rows counts each case {imputed.imputations} times: fit each, and combine them "
            "(Rubin's rules)"
        )
        return [*remarks, Remark(text), *map(Remark, column.notes)]
    if not column.valid:
        return [*remarks, Remark("every row is missing"), *map(Remark, column.notes)]
    if (blocks := about_blocks(column)) is not None:
        return [*remarks, blocks, *map(Remark, column.notes)]
    if column.role != "identifier":
        remarks += group_remarks(column) if column.is_categorical else numeric_remarks(column, alike)
    if total_of:
        words = f"equals {quoted(total_of)[0]}" if len(total_of) == 1 else f"exact total of {listed(quoted(total_of))}"
        remarks.append(Remark(words))
    if column.made is not None and column.made.how in ("difference", "mean", "sum") and not total_of:
        remarks.append(Remark(f"{column.made.words}: not to be entered together with all of them"))
    if column.event is not None:
        remarks.append(Remark(f"the event is `{column.levels[column.event].label}`"))
    return [*remarks, *map(Remark, column.notes)]


def _out_of_doubt(column: Column) -> tuple[Mapping[str, Any], ...]:
    """Return what makes numbers of a group that is in doubt."""
    codes = [level.code for level in column.levels]
    if decimals_in_doubt(codes):
        return ({"do": "as_numeric", "column": column.name, "decimal": "."},)
    texts = [codes[k] for k in np.flatnonzero(np.isnan(numbers_as_written(codes)))]
    if signs := signs_of_bounds(texts):
        return ({"do": "as_numeric", "column": column.name, "without": signs},)
    return {"do": "blank", "column": column.name, "codes": texts[:6]}, {"do": "as_numeric", "column": column.name}
