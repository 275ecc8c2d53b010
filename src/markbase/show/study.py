"""A study: all its columns, one of them, and its trail."""

from __future__ import annotations

import math

from markbase.core.errors import count_noun
from markbase.core.study.column import Column
from markbase.core.study.study import Study
from markbase.core.study.trail import Trail
from markbase.core.tables import rows_of
from markbase.core.wording import decimals_for, number, share, short
from markbase.show.page import Facts, Page, Row, Section, Sentences, Table

_MOST_LEVELS = 6


def study_page(study: Study) -> Page:
    """Describe a study.

    Parameters
    ----------
    study : Study
        The study.

    Returns
    -------
    Page
        A row a column, then the remarks.
    """
    overview = study.overview()
    rows, remarks = [], []
    for r in rows_of(overview):
        column = study[str(r.column)]
        missing = f"{r.missing:,}" if not r.coded else f"{r.missing:,} ({r.blank:,} blank, {r.coded:,} coded)"
        kind = f"{r.kind}?" if r.guessed else str(r.kind)
        rows.append(
            Row(
                (
                    str(r.column),
                    kind,
                    str(r.role),
                    f"{r.rows:,}",
                    missing if r.missing else "0",
                    _spread(column, r),
                )
            )
        )
        if r.remarks:
            remarks.append((str(r.column), str(r.remarks)))
    heads = ("column", "kind", "role", "rows", "missing", "levels, or low – mean – high")
    guessed = int(overview["guessed"].sum())
    note = "? marks a guessed kind: declare it in a codebook" if guessed else ""
    sections = [Section("What is there", note, (Table(heads, tuple(rows), frozenset({3}), wide=5),))]
    if remarks:
        sections.append(Section("What deserves a second look", blocks=(Facts(tuple(remarks)),)))
    title = f"{study.name}: {count_noun(study.rows, 'row')}, {count_noun(len(study.columns), 'column')}"
    return Page(title, study.title, tuple(sections))


def _spread(column: Column, record) -> str:  # type: ignore[no-untyped-def]
    if not column.valid:
        return "nothing but missing"
    if column.is_group:
        if column.role == "identifier":
            return f"{record.levels:,} different"
        shown = (
            sorted(range(len(column.levels)), key=lambda k: -int(column.counts[k]))
            if record.levels > _MOST_LEVELS
            else None
        )
        places = shown[:3] if shown else [k for k in range(len(column.levels)) if column.counts[k]]
        names = ", ".join(f"{column.levels[k].shown} {column.counts[k]:,}" for k in places)
        return f"{count_noun(record.levels, 'level')}: {names}{', …' if shown else ''}"
    if record.low == record.high:
        return f"{short(record.low)} throughout"
    if not math.isfinite(record.low):
        return "not finite"
    decimals = decimals_for(record.sd, 3)
    unit = f" {column.unit.many}" if column.unit else ""
    return f"{short(record.low)} – {number(record.mean, decimals)} – {short(record.high)}{unit}, sd {number(record.sd, decimals)}"


def column_page(study: Study, name: str) -> Page:
    """Describe one column of a study.

    Parameters
    ----------
    study : Study
        The study.
    name : str
        The name of the column.

    Returns
    -------
    Page
        Its levels with their counts, or the spread of an amount.
    """
    column = study.column(name)
    facts = [("kind", f"{column.kind} ({column.guess})" if column.guess else column.kind)]
    facts += [("role", column.role)] if column.role else []
    table = study.levels(name) if column.is_group else study.values(name)
    if column.is_group:
        shown = table if len(table) <= 60 else table.head(60)
        coded = any(level.code != level.label for level in column.levels)
        rows = tuple(_level_row(r, coded) for r in rows_of(shown))
        heads = ("level", *(("code",) if coded else ()), "count", "share of all", "share of valid", "remarks")
        body = Table(heads, rows, frozenset(range(1, len(heads) - 1)), wide=len(heads) - 1)
        if len(table) > 60:
            facts.append(("shown", f"the first 60 of {len(table):,} levels"))
    else:
        rows = tuple(Row((str(r.measure), _measure(str(r.measure), r.value))) for r in rows_of(table))
        facts += [("unit", column.unit.many)] if column.unit else []
        body = Table(("measure", "value"), rows, frozenset({1}))
    remarks = study.overview().set_index("column").loc[name, "remarks"]
    facts += [("second look", str(remarks))] if remarks else []
    return Page(f"{name} in {study.name}", column.label, (Section("", blocks=(Facts(tuple(facts)), body)),))


def _level_row(r, coded: bool) -> Row:  # type: ignore[no-untyped-def]
    code = (str(r.code),) if coded else ()
    of_valid = "–" if r.missing else share(r.share_valid, 1)
    cells = (str(r.level), *code, f"{r.count:,}", share(r.share, 1), of_valid, str(r.remarks))
    return Row(cells, "aside" if r.missing else "base" if r.base else "plain")


def _measure(name: str, value: float) -> str:
    if name in ("rows", "distinct values") or name.startswith("missing"):
        return f"{int(value):,}"
    return short(float(value), 4)


def trail_page(trail: Trail) -> Page:
    """Describe what was done to a study."""
    lines = tuple((step.text, ()) for step in trail)
    return Page("What was done, in order", sections=(Section("", blocks=(Sentences(lines),)),))
