"""A sample as a page: which rows, numeric columns, groups, and what the figures do not say."""

from __future__ import annotations

import math
from typing import Any

from markbase.core.errors import count_noun, listed, quoted
from markbase.core.formatting import as_percent, decimals_for, number, p_value, share, ungrouped, without_zero
from markbase.core.screening.description import Description
from markbase.core.study.column import Column
from markbase.core.tables import rows_of
from markbase.show.page import Facts, Page, Row, Section, Sentences, Table
from markbase.show.records import table_record

_WIDE = 98
"""Columns whose levels would be wider beside one another have them below one another."""


def description_page(found: Description) -> Page:
    """Describe what a sample is like."""
    numeric = [c for c in found.columns if not c.is_categorical]
    groups = [c for c in found.columns if c.is_categorical]
    sections = [Section("1  Which rows", blocks=(Facts(tuple(_which_rows(found))),))]
    if numeric:
        table = beside_one_another(found, numeric)
        beside = found.by is not None and _width(table) <= _WIDE
        table = table if beside else _below(found, numeric)
        words = "mean (standard deviation)" if beside else "" if found.medians else "no medians: rows come in parts"
        tested = "; p of Welch's F; correlation ratio η" if len(found.compared) else ""
        sections.append(Section("2  Numeric columns", f"{words}{tested}".removeprefix("; "), (table,)))
    if groups:
        words = f"shares within each level of {found.by.name}" if found.by is not None else ""
        tested = "; p of Pearson's chi²; Cramér's V" if len(found.compared) else ""
        table = beside_one_another(found, groups) if found.by is not None else _levels(found, groups)
        table = _levels(found, groups) if _width(table) > _WIDE else table
        sections.append(Section(f"{len(sections) + 1}  Groups", f"{words}{tested}", (table,)))
    said = Sentences(tuple((text, ()) for text in found.statements))
    sections.append(Section(f"{len(sections) + 1}  What to mind", blocks=(said,)))
    by = f" by {found.by.name}" if found.by is not None else ""
    return Page(f"The sample{by}: {count_noun(len(found.columns), 'column')}", found.data_name, tuple(sections))


def _which_rows(found: Description) -> list[tuple[str, str]]:
    told = [("rows", f"{found.rows:,}")]
    if found.by is not None:
        levels = ", ".join(f"{label} {n:,}" for label, n in found.counts)
        which = f"{found.used:,} of {found.rows:,} ({share(found.used, found.rows)}): those with a level of `{found.by.name}`"
        told = [("rows", which), ("levels", levels)]
    whole = found.table[found.table["group"] == ""].drop_duplicates("column")
    gaps = [f"`{r.column}` {r.missing:,}" for r in rows_of(whole) if r.missing]
    told.append(("missing", listed(gaps) if gaps else "nothing, in any of these columns"))
    if found.weights:
        told.append(("weights", f"`{found.weights}`: means, standard deviations and shares are weighted"))
    if found.left_out:
        why = "with a role, dates, numbers of persons or groups, or too many levels; name what is wanted"
        told.append(("left out", f"{listed(quoted(found.left_out))}: {why}"))
    return told


def _below(found: Description, columns: list[Column]) -> Table:
    """Return numeric columns a row each, or each level of the group below them."""
    tests = {r.column: r for r in rows_of(found.differences)}
    rows = []
    for column in columns:
        own = found.table[found.table["column"] == column.name]
        decimals = decimals_for(own["sd"].iloc[0] or 1.0, 3)
        for r in rows_of(own):
            figures = [_number(v, decimals) for v in (r.mean, r.sd, r.median, r.low, r.high)]
            shown = figures if found.medians else [*figures[:2], *figures[3:]]
            tested = _tested(tests.get(column.name)) if not r.group else ("", "")
            cells = (f"  {r.group}" if r.group else column.name, f"{r.n:,}", *shown, *(tested if len(tests) else ()))
            rows.append(Row(cells, "plain" if r.group or found.by is None else "group"))
    heads = (
        "column" if found.by is None else "column, level",
        "rows",
        "mean",
        "sd",
        *(("median",) * found.medians),
        "lowest",
        "highest",
    )
    heads += ("p", "η") if len(tests) else ()
    return Table(heads, tuple(rows), frozenset(range(1, len(heads))), 0)


def _levels(found: Description, columns: list[Column]) -> Table:
    """Return groups with the rows of each level, and below it in each level of the group by which they are told."""
    tests = {r.column: r for r in rows_of(found.differences)}
    rows = []
    for column in columns:
        own = found.table[found.table["column"] == column.name]
        tested = _tested(tests.get(column.name)) if len(tests) else ()
        rows.append(Row((column.name, f"{own['n'].iloc[0]:,}" if len(own) else "0", "", *tested), "group"))
        for level in dict.fromkeys(own["level"]):
            rows += [
                Row(
                    (
                        f"    {r.group}" if r.group else f"  {level}",
                        f"{int(r.count):,}",
                        _share(r.share),
                        *([""] * len(tested)),
                    )
                )
                for r in rows_of(own[own["level"] == level])
            ]
    heads = ("column, level", "rows", "share", *(("p", "V") if len(tests) else ()))
    return Table(heads, tuple(rows), frozenset(range(1, len(heads))), 0)


def beside_one_another(found: Description, columns: list[Column], formal: bool = False) -> Table:
    """Return columns with all rows and the levels of the group, if there is one, beside one another; `formal` as a manuscript has them."""
    levels = [label for label, _ in found.counts]
    of = {(r.column, r.level, r.group): r for r in rows_of(found.table)}
    tests = {r.column: r for r in rows_of(found.differences)}
    rows = []
    for column in columns:
        tested = _tested(tests.get(column.name)) if len(tests) else ()
        if not column.is_categorical:
            some = [of[column.name, "", group] for group in ("", *levels)]
            spread = some[0].sd or 1.0
            decimals = decimals_for(spread, 3) if formal else max(decimals_for(spread, 2), 1)
            cells = [f"{_number(r.mean, decimals)} ({_number(r.sd, decimals)})" if r.n else "–" for r in some]
            rows.append(Row((f"{column.name}, M (SD)" if formal else column.name, *cells, *tested)))
            continue
        inside = [level for level in column.labels if (column.name, level, "") in of]
        rows.append(
            Row((f"{column.name}, n (%)" if formal else column.name, *([""] * (1 + len(levels))), *tested), "group")
        )
        for level in inside:
            every = [of[column.name, level, group] for group in ("", *levels)]
            counts = [
                f"{int(r.count):,} ({_share(r.share)})" if formal or not r.group else _share(r.share) for r in every
            ]
            rows.append(Row((f"  {level}", *counts, *([""] * len(tested)))))
    n = (
        (f", n = {found.used:,}", *(f", n = {rows:,}" for _, rows in found.counts))
        if formal
        else ("",) * (1 + len(levels))
    )
    size = "size" if formal else "V" if columns[0].is_categorical else "η"
    named = (f"{label}{own}" for label, own in zip(("all", *levels), n, strict=True))
    first = "" if formal else "column, level" if columns[0].is_categorical else "column"
    heads = (first, *named, *(("p", size) if len(tests) else ()))
    return Table(heads, tuple(rows), frozenset(range(1, len(heads))), 0)


def _width(table: Table) -> int:
    columns = zip(table.heads, *(row.cells for row in table.rows), strict=True)
    return sum(2 + max(map(len, own)) for own in columns)


def _tested(test: Any) -> tuple[str, ...]:
    """Return p of a test and how much the levels differ; blanks where nothing could be tested."""
    if test is None:
        return "", ""
    return tuple(
        "" if math.isnan(v) else told(v) for v, told in ((test.p, p_value), (test.size, lambda v: without_zero(v, 2)))
    )


def _share(value: float) -> str:
    return "–" if math.isnan(value) else as_percent(value)


def _number(value: float, decimals: int) -> str:
    return "–" if math.isnan(value) else ungrouped(number(value, decimals))  # as years are written


def description_record(found: Description) -> dict[str, Any]:
    """Return it as plain data."""
    return {
        "rows": found.rows,
        "used": found.used,
        "by": found.by.name if found.by is not None else None,
        "weights": found.weights or None,
        "left_out": list(found.left_out),
        "table": table_record(found.table),
        "differences": table_record(found.differences),
        "statements": list(found.statements),
    }
