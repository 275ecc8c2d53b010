"""A study: all its columns, one of them, and its trail."""

from __future__ import annotations

import math
import shlex
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from typing import Any

import numpy as np
import pandas as pd

from markbase.core.errors import count_noun, listed, quoted
from markbase.core.formatting import decimals_for, number, plain, share, short, ungrouped
from markbase.core.rows.facts import MOST_DISTINCT
from markbase.core.study.coding import Coding
from markbase.core.study.column import Column
from markbase.core.study.group_remarks import span_of_dates
from markbase.core.study.remark import Remark
from markbase.core.study.study import Study
from markbase.core.study.trail import Trail, TrailStep, inline
from markbase.core.study.verification import Check
from markbase.core.tables import rows_of
from markbase.show.few_of_many import MOST_LISTED, few_of
from markbase.show.page import Facts, Page, Row, Section, Sentences, Table

_MOST_LEVELS, _OFTEN, _MOST_CODED, _MOST_WAYS, _LONG_RUN = 6, 3, 12, 6, 4

Mend = Callable[[Mapping[str, Any]], str]
"""How a step that would mend something is written."""


def as_option(step: Mapping[str, Any]) -> str:
    """Write a step as an option of the command: its short form where it has one, quoted for a shell."""
    rest = {k: v for k, v in step.items() if k not in ("do", "column")}
    column = str(step.get("column", ""))
    action = step["do"]
    if '"' not in column:
        column = _typed(column)
        if action == "as_categorical" and not rest:
            return f"--categorical {shlex.quote(column)}"
        if (
            action == "as_categorical"
            and set(rest) == {"labels"}
            and not any(c in str(v) for v in rest["labels"].values() for c in ",=")
        ):
            return f"--label {shlex.quote(column + ': ' + ', '.join(f'{k}={v}' for k, v in rest['labels'].items()))}"
        if action == "as_role" and rest == {"role": "identifier"}:
            return f"--as {shlex.quote(f'{column}=identifier')}"
        if (
            action == "derive"
            and set(rest) == {"name", "log"}
            and rest["name"] == f"log_{rest['log']}"
            and "," not in str(rest["log"])
        ):
            return f"--log {shlex.quote(str(rest['log']))}"
    if action == "calculate" and set(step) == {"do", "name", "expression"} and '"' not in str(step["name"]):
        return f"--calculate {shlex.quote(' = '.join((_typed(str(step['name'])), str(step['expression']))))}"
    return f"--prepare {shlex.quote(inline(step))}"


def as_options(steps: Sequence[Mapping[str, Any]]) -> list[str]:
    """Write steps as options of the command, columns that are only declared categorical in one."""
    names = [str(s["column"]) for s in steps if s["do"] == "as_categorical" and set(s) == {"do", "column"}]
    if len(names) < max(len(steps), 2) or any('"' in name for name in names):
        return [as_option(step) for step in steps]
    return [f"--categorical {shlex.quote(', '.join(_typed(name) for name in names))}"]


def _typed(column: str) -> str:
    return f'"{column}"' if any(mark in column for mark in ",=:") else column


def as_method(step: Mapping[str, Any]) -> str:
    """Write a step as the method of a study that makes it."""
    settings = ", ".join(
        [
            *([repr(step["column"])] if "column" in step else []),
            *(f"{k}={v!r}" for k, v in step.items() if k not in ("do", "column")),
        ]
    )
    return f"study.{step['do']}({settings})"


def study_page(study: Study, mend: Mend | None = as_method) -> Page:
    """Describe a study, a row a column, then the remarks; `mend` writes the step that would mend what was noticed."""
    overview = study.overview()
    rows = []
    for r in rows_of(overview):
        column = study[str(r.column)]
        missing = _gaps(column, int(r.missing), int(r.blank), int(r.coded))
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
    heads = ("column", "kind", "role", "rows", "missing", "levels, or low – mean – high")
    guessed = int(overview["guessed"].sum())
    note = "? marks a guessed kind: declare it in a codebook" if guessed else ""
    sections = [Section("What is there", note, (Table(heads, tuple(rows), frozenset({3}), wide=5),))]
    remarks = [(name or "(rows)", remark) for name, told in study.remarks().items() for remark in told]
    if remarks:
        mend = mend if any(remark.mend for _, remark in remarks) else None
        note = "→ add what follows to the command to mend it" if mend is as_option else "→ the step that would mend it"
        note = note if mend else ""
        sections.append(
            Section("What deserves a second look", note, (Facts(_said_once(remarks, mend, study.columns)),))
        )
    title = f"{study.name}: {count_noun(study.rows, 'row')}, {count_noun(len(study.columns), 'column')}"
    return Page(title, study.title, tuple(sections))


def _said_once(
    remarks: Sequence[tuple[str, Remark]], mend: Mend | None, columns: Sequence[str]
) -> tuple[tuple[str, str], ...]:
    """Lay out remarks, those of three columns or more in the same words once, where the first of these stands."""
    often = Counter(remark.text for _, remark in remarks)
    told: dict[tuple[str, str], list[tuple[str, Remark]]] = {}
    for name, remark in remarks:
        told.setdefault(("" if often[remark.text] >= _OFTEN else name, remark.text), []).append((name, remark))
    pairs: list[tuple[str, str]] = []
    for (_, text), those in told.items():
        others = listed(_in_runs([name for name, _ in those[1:]], columns))
        pairs.append((those[0][0], f"{text} (likewise {others})" if others else text))
        steps = [step for _, remark in those for step in remark.mend]
        written = as_options(steps) if mend is as_option else [mend(step) for step in steps] if mend else []
        if len(written) > _MOST_WAYS and len(those) > 1:
            own = written[: len(those[0][1].mend)]
            written = [*own, f"and so for the other {count_noun(len(those) - 1, 'column')}"]
        pairs += [("", f"→ {way}") for way in written]
    return tuple(pairs)


def _in_runs(names: Sequence[str], columns: Sequence[str]) -> list[str]:
    """Return names between backquotes; of several that follow one another in the study the first and the last."""
    place = {name: k for k, name in enumerate(columns)}
    runs: list[list[str]] = []
    for name in names:
        if runs and place[name] == place[runs[-1][-1]] + 1:
            runs[-1].append(name)
        else:
            runs.append([name])
    return [told for run in runs for told in (quoted(run) if len(run) < _LONG_RUN else [f"`{run[0]}` to `{run[-1]}`"])]


def _remark(name: str, remark: Remark, mend: Mend | None) -> list[tuple[str, str]]:
    return [(name, remark.text), *(("", f"→ {mend(step)}") for step in remark.mend if mend is not None)]


def _spread(column: Column, record) -> str:  # type: ignore[no-untyped-def]
    if not column.valid:
        return "nothing but missing"
    if column.is_categorical:
        if column.role == "identifier":
            return f"{int(record.levels):,} different"
        dates = span_of_dates(column)
        if dates is not None:
            return f"{count_noun(int(record.levels), 'date')}: {dates[0]} – {dates[1]}"
        shown = record.levels > _MOST_LEVELS
        places = np.argsort(-column.counts, kind="stable")[:3] if shown else np.flatnonzero(column.counts)
        names = ", ".join(f"{column.levels[k].shown} {column.counts[k]:,}" for k in places)
        return f"{count_noun(int(record.levels), 'level')}: {names}{', …' if shown else ''}"
    if record.low == record.high:
        return f"{plain(record.low)} throughout"
    if not math.isfinite(record.low):
        return "not finite"
    decimals = decimals_for(record.sd, 3)
    unit = f" {column.unit.many}" if column.unit else ""
    return f"{plain(record.low)} – {ungrouped(number(record.mean, decimals))} – {plain(record.high)}{unit}, sd {number(record.sd, decimals)}"


def column_page(study: Study, name: str, mend: Mend | None = as_method) -> Page:
    """Describe one column of a study: its levels with their counts, or the spread of a numeric column."""
    column = study.column(name)
    facts = [("kind", f"{column.kind} ({column.guess})" if column.guess else column.kind)]
    facts += [("role", column.role)] if column.role else []
    table = study.levels(name) if column.is_categorical else study.values(name)
    if column.is_categorical:
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
    for k, remark in enumerate(study.remarks().get(name, [])):
        facts += [("" if k else "second look", remark.text), *_remark("", remark, mend)[1:]]
    return Page(f"{name} in {study.name}", column.label, (Section("", blocks=(Facts(tuple(facts)), body)),))


def _level_row(r, coded: bool) -> Row:  # type: ignore[no-untyped-def]
    code = (str(r.code),) if coded else ()
    of_valid = "–" if r.missing else share(r.share_valid, 1)
    cells = (str(r.level), *code, f"{r.count:,}", share(r.share, 1), of_valid, str(r.remarks))
    return Row(cells, "aside" if r.missing else "base" if r.base else "plain")


def _measure(name: str, value: float) -> str:
    if name == "distinct values" and math.isnan(value):
        return f"more than {MOST_DISTINCT:,}"
    if name in ("rows", "distinct values") or name.startswith("missing"):
        return f"{int(value):,}"
    return plain(float(value), 4)


def trail_page(trail: Trail) -> Page:
    """Describe what was done to a study."""
    lines = tuple((f"{step.text}{_why(step)}", ()) for step in trail)
    return Page("What was done, in order", sections=(Section("", blocks=(Sentences(lines),)),))


def _why(step: TrailStep) -> str:
    """Return the reason of a step, unless its text gives it already."""
    return f" Why: {step.reason.rstrip('.')}." if step.reason and step.reason not in step.text else ""


def _gaps(column: Column, missing: int, blank: int, coded: int) -> str:
    """Count the gaps of a column: blank cells, codes, and what is missing for a reason that arose on the way."""
    if not coded:
        return f"{missing:,}"
    if any(reason.code for reason in column.missing_codes):
        return f"{missing:,} ({blank:,} blank, {coded:,} coded)"
    reasons = [reason for reason, _ in column.missing_counts() if reason != "blank"]
    why = reasons[0] if len(reasons) == 1 else f"for {len(reasons)} reasons"
    return f"{missing:,} ({f'{blank:,} blank, ' if blank else ''}{coded:,} {why})"


def check_page(check: Check) -> Page:
    """Describe the verification of a recoding."""
    made = check.column not in ("", check.source)
    title = f"{check.column}, made of {check.source}" if made else check.column
    result = "every row is accounted for" if check.passed else "the counts do not add up"
    facts = [("verified" if check.passed else "NOT VERIFIED", result), *(("noticed", note) for note in check.notes)]
    table, told = check.table, ""
    if "rows" in table:
        table, told = few_of(table, "rows", "largest", "counts", most=MOST_LISTED)
    facts += [("shown", told.removeprefix("; "))] if told else []
    return Page(title or "Rows kept", sections=(Section("", blocks=(_plain_table(table), Facts(tuple(facts)))),))


def coding_page(coding: Coding) -> Page:
    """Describe how a group becomes columns, and the verification."""
    sections = []
    for scheme, table in coding.grids.items():
        here = " (in force)" if scheme == coding.scheme else ""
        size = f"{len(table):,} levels, {count_noun(table.shape[1], 'column')}: more than can be read here; as data it is whole"
        laid = _plain_table(table.reset_index()) if len(table) <= _MOST_CODED else Facts((("not laid out here", size),))
        sections.append(Section(f"{scheme}{here}", coding.meaning[scheme].replace("`", ""), (laid,)))
    facts = [(what, f"{rows:,}") for what, rows in coding.row_sums.items()]
    facts.append(
        ("verified" if coding.passed else "NOT VERIFIED", "all counts agree" if coding.passed else "see the table")
    )
    check = coding.check.assign(agrees=["yes" if ok else "NO" for ok in coding.check["agrees"]])
    note = "the indicator columns, counted against the source"
    sections.append(Section("Verification", note, (_plain_table(check), Facts(tuple(facts)))))
    return Page(f"How {coding.column} becomes columns", sections=tuple(sections))


def _plain_table(table: pd.DataFrame) -> Table:
    right = frozenset(k for k, kind in enumerate(table.dtypes) if pd.api.types.is_numeric_dtype(kind))
    rows = []
    for record in table.itertuples(index=False):
        rows.append(Row(tuple(short(float(v), 4) if k in right else str(v) for k, v in enumerate(record))))
    return Table(tuple(str(name) for name in table.columns), tuple(rows), right, wide=-1)
