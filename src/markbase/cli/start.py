"""`markbase start`: draft a plan from a data file, with the guesses marked."""

from __future__ import annotations

import os
import sys
from pathlib import Path
from typing import Any

import numpy as np
import rich_click as click

from markbase.cli.help import examples
from markbase.cli.options import data_options, replace_option
from markbase.cli.output import remarks
from markbase.cli.progress import report_progress
from markbase.cli.source import Source
from markbase.core.design.repeated_rows import are_dyads
from markbase.core.errors import MarkbaseError
from markbase.core.inference.serial_errors import FEWEST_PERIODS
from markbase.core.rows.row_functions import sample_of
from markbase.core.study.column import Column
from markbase.core.study.exact_sums import find_totals
from markbase.core.study.group_remarks import holds_dates, holds_times, separator_of_answers
from markbase.core.study.imputed import plausible_values, stacked
from markbase.core.study.numeric_remarks import (
    classification_of,
    looks_like_group_numbers,
    looks_like_identifier,
    looks_like_weight,
    numbers_rows_of_one,
    whose_numbers,
)
from markbase.core.study.repeats import column_of_counts
from markbase.core.study.replicate_columns import replicate_columns
from markbase.core.study.study import Study
from markbase.core.study.time_order import are_times, columns_of_times
from markbase.core.study.trail import inline
from markbase.files.joined_tables import seen_steps
from markbase.files.plan_writing import plan_text
from markbase.files.text_files import STANDARD
from markbase.files.whole_files import refuse_to_replace, write_whole
from markbase.show.study import as_option

_MOST_TERMS, _MOST_NAMED = 12, 6
_MOST_LEVELS = 12
_ALIKE = 0.95
_EVEN = 2
"""Times at which rows were measured have at most so many times as many rows as the middle one."""


@click.command(
    "start",
    epilog=examples(
        "markbase start choirs.csv --codebook choirs.codebook.toml --outcome belonging --into my.plan.toml",
    ),
)
@data_options
@click.option("--outcome", required=True, help="What to explain: a numeric column, or a yes/no column.")
@click.option(
    "--into", type=click.Path(path_type=Path), metavar="PLAN", help="Write the plan here; by default it is printed."
)
@replace_option
def command(outcome: str, into: Path | None, replaces: bool, **source: Any) -> None:
    """Draft a plan for FILE: data, steps that would mend what was noticed, screening, a fit. Guesses are marked."""
    with remarks():
        given = Source(**source)
        if given.file == STANDARD:
            raise click.UsageError("A plan names its data file; name one instead of `-`.")
        study = given.open()
        text = draft(study, outcome, given, into)
    if into is None or into == STANDARD:
        sys.stdout.write(text)
        return
    refuse_to_replace(into, replaces)
    write_whole(into, text.encode())
    report_progress(
        f"`{into}` is drafted. Read it, settle what is marked GUESS, then: markbase run {into} --into results"
    )


def draft(study: Study, outcome: str, given: Source, into: Path | None) -> str:
    """Return the text of a plan that `run` carries out once the guesses are settled; its files named as seen from where it will be."""
    column = study.column(outcome)
    levels = [v.label for k, v in enumerate(column.levels) if column.is_categorical and column.counts[k]]
    if column.two_values == (0.0, 1.0):
        levels = ["0", "1"]
    logistic = len(levels) == 2
    mends = [r for r in study.remarks().get(outcome, ()) if any(step["do"] == "as_numeric" for step in r.mend)]
    if column.is_categorical and not logistic and mends:
        steps = " ".join(as_option(step) for step in mends[0].mend)
        raise MarkbaseError(f"`{outcome}` cannot be the outcome as it is: {mends[0].text}. Add {steps}")
    if column.is_categorical and not logistic:
        raise MarkbaseError(
            f"`{outcome}` has {len(levels)} levels: an outcome is numeric, or has two. Make a yes/no column of it first (`event`, `split_at`)."
        )
    plan = given.plan()
    folder = Path.cwd() if into is None else into.resolve().parent
    text = "# A plan: settle every GUESS, then carry it out with: markbase run THIS_FILE --into results\n\n"
    text += plan_text(
        _from(plan.file, folder),
        _from(plan.codebook, folder) if plan.codebook else None,
        seen_steps(plan.prepare, folder),
        plan.missing,
        opened_with=plan.opened_with,
        in_parts=study.in_parts,
        kinds=plan.kinds,
    )
    text += _mends(study, outcome)
    terms, left = _terms(study, outcome)
    explained = _toml(outcome)
    text += _marked(study, terms)
    by = next((name for name in terms if study[name].is_categorical), "")
    imputed, values = _imputation(study, outcome), _plausible(study, outcome)
    if imputed:
        text += "\n# A description and a screening are of one imputation: keep its rows, in a plan of its own.\n"
    else:
        text += f"\n[[describe]]\ncolumns = {_toml([outcome, *terms])}\n"
        text += f"# by = {_toml(by)}   # each level of it, beside all rows\n" if by else ""
        text += f"\n[screen]\noutcome = {explained}\nterms = {_toml(terms)}\n{_about_weights(study, outcome)}"
    text += f'\n[[{"imputations" if imputed or values else "fit"}]]\nname = "all together"\n'
    if values:
        text += f"outcomes = {_toml(values)}   # GUESS: plausible values of one measurement, a fit for each, combined\n"
    else:
        text += f"outcome = {explained}\n"
    if imputed:
        text += f"imputation = {_toml(imputed)}   # GUESS: it numbers imputations of the same cases, a fit for each, combined\n"
    if logistic:
        told = " or ".join(map(_toml, levels))
        settled = column.event is not None and column.event < len(levels)
        known = levels[column.event] if settled and column.event is not None else levels[-1]
        text += f'kind = "logistic"\nevent = {_toml(known)}{"" if settled else f"   # GUESS: {told}"}\n'
    text += f"terms = {_toml(terms)}   # GUESS: every column that could be a term\n"
    if left:
        text += f"# Left out: {_one_line('; '.join(left))}.\n"
    text += _about_rows(study, outcome)
    groups = [name for name in terms if study[name].is_categorical][:2]
    if groups:
        text += f"groups = {_toml(groups)}   # GUESS: told level by level and pair by pair\n"
    if len(terms) > 1 and not (imputed or values):
        half = (len(terms) + 1) // 2
        first, second = _toml(terms[:half]), _toml(terms[half:])
        kind = f'# kind = "logistic"\n# event = {_toml(known)}\n' if logistic else ""
        text += (
            f'\n# Block by block, if your question has an order:\n# [[blocks]]\n# name = "in blocks"\n# outcome = {explained}\n{kind}'
            f'# entry = [\n#   {{name = "first", terms = {first}}},\n#   {{name = "then", terms = {second}}},\n# ]\n'
        )
    text += f"\n[output]\ntitle = {explained}\nfigures = true\n"
    return text


def _about_rows(study: Study, outcome: str) -> str:
    """Return, as comments, the clusters, strata, times and weights that a fit may take: columns with such a role, or that look like it."""
    text, clusters = "", list[str]()
    for column in (study[name] for name in study.columns if name != outcome):
        levels = int((column.counts > 0).sum()) if column.is_categorical and column.role is None else 0
        shared = column.valid >= 2 * levels and not column.doubt
        many = levels > _MOST_LEVELS and shared  # too many for a term, and rows share them
        if column.role == "cluster" or many or whose_numbers(column):
            clusters.append(column.name)
            text += (
                f"# cluster = {_toml(column.name)}   # if rows with the same {_one_line(column.name)} may go together\n"
            )
        if column.role == "stratum":
            text += (
                f"# strata = {_toml(column.name)}   # if the sample was drawn within each {_one_line(column.name)}\n"
            )
    if len(clusters) > 1 and are_dyads(study[clusters[0]], study[clusters[1]]):
        text += f"# cluster = {_toml(clusters[:2])}   # dyadic: they name the same members, and rows with one in common may go together\n"
        text += '# errors = "dyadic"\n'
    elif len(clusters) > 1:
        text += f"# cluster = {_toml(clusters[:2])}   # two ways, if they cross and rows that share either may go together\n"
    for column in columns_of_times(study, outcome):
        counts = np.unique(column.values[column.present], return_counts=True)[1]
        even = len(counts) >= FEWEST_PERIODS and counts.max() <= _EVEN * np.median(
            counts
        )  # how long something took is not
        if even and are_times(column):
            text += f"# time = {_toml(column.name)}   # if rows of one {_one_line(column.name)}, and of those that follow one another, may go together (HAC)\n"
    text += _about_weights(study, outcome)
    weights, several = _replicates(study, outcome)
    if several:
        if "# weights =" not in text:
            text += f"# weights = {_toml(weights)}   # if these are the weights of the sample\n"
        stem = several[0].rstrip("0123456789")
        text += f"# replicates = {_toml(f'{stem}*')}   # if these are the replicate weights of the survey: errors are from them, and from no clusters or strata\n"
        text += '# replicates_are = "BRR"   # or "Fay", "JK1", "JK2", "SDR", "bootstrap": its documentation says\n'
    return text


def _imputation(study: Study, outcome: str) -> str:
    """Name the column that numbers imputations of the same cases; empty for none."""
    return next((name for name in study.columns if name != outcome and stacked(study[name]) is not None), "")


def _naming_cases(study: Study, imputation: str) -> list[str]:
    """Name the columns of whole numbers that each case has its own of, the same in every imputation."""
    told = None if study.in_parts else stacked(study[imputation])
    if told is None:
        return []
    numeric = [study[n] for n in study.columns if not study[n].is_categorical and study[n].valid == study.rows]
    own = [c for c in numeric if c.distinct_count == told.rows]
    return [c.name for c in own if np.array_equal(sample_of(c.values), np.round(sample_of(c.values)))]


def _plausible(study: Study, outcome: str) -> list[str]:
    """Name the plausible values of which the outcome is one; none where it is not."""
    return list(plausible_values(outcome, study.columns))


def _replicates(study: Study, outcome: str) -> tuple[str, tuple[str, ...]]:
    """Name the weights of a sample, and the columns that may be their replicate weights; an empty name, and none, where there are none."""
    return replicate_columns([study[name] for name in study.columns if name != outcome])


def _about_weights(study: Study, outcome: str) -> str:
    """Return the weights that a screening or a fit may take, as comments but for those of a table of counts."""
    if counting := _counting(study, outcome):
        return f'weights = {_toml(counting)}   # GUESS: a table of counts, of which a row stands for so many cases\nweights_are = "frequency"\n'
    return "".join(
        f'# weights = {_toml(name)}   # if rows count differently\n# weights_are = "sampling"   # or "frequency"\n'
        for name in study.columns
        if name != outcome and (study[name].role == "weight" or looks_like_weight(study[name]))
    )


def _toml(value: Any) -> str:
    """Write a value as TOML has it, in one line."""
    return inline({"value": value}).partition(" = ")[2]


def _one_line(text: str) -> str:
    """Return a text that a comment can hold."""
    return " ".join(text.split())


def _from(path: Path, folder: Path) -> str:
    """Return a path as seen from a folder."""
    return Path(os.path.relpath(path.resolve(), folder)).as_posix()


def _mends(study: Study, outcome: str) -> str:
    """Return the steps that would mend what was noticed, as comments to be taken up or not."""
    text = ""
    for name, remark in ((n or "rows", r) for n, told in study.remarks().items() for r in told):
        for step in remark.mend:
            if step.get("column") != outcome or step.get("do") != "as_categorical":
                text += f"\n# {_one_line(f'{name}: {remark.text}')}\n# [[prepare]]\n# {_lines(step)}\n"
    return f"\n# What was noticed, and what would mend it. Take up what is right.\n{text}" if text else ""


def _lines(step: Any) -> str:
    keys = inline(dict(step))
    return keys if len(step) < 2 else "\n# ".join(f"{key} = {_toml(value)}" for key, value in step.items())


def _terms(study: Study, outcome: str) -> tuple[list[str], list[str]]:
    terms: list[str] = []
    left: list[str] = []
    totals = find_totals(
        [c for c in map(study.column, study.columns) if not c.is_categorical and c.role != "identifier"]
    )
    source, counting = study[outcome].made, _counting(study, outcome)
    weights, several = _replicates(study, outcome)
    apart = dict.fromkeys(several, "may be replicate weights")
    if several and study[weights].role is None:
        apart[weights] = "may be the weights that these go with"
    apart |= dict.fromkeys(_plausible(study, outcome), "plausible values of the same")
    apart |= {
        name: "plausible values: fit with one of them after another"
        for name in study.columns
        if plausible_values(name, study.columns) and name not in apart
    }
    if name := _imputation(study, outcome):
        apart |= {name: "it numbers imputations"} | dict.fromkeys(_naming_cases(study, name), "it names the cases")
    for name in study.columns:
        column = study[name]
        why = (
            "counts of cases"
            if name == counting
            else apart.get(name) or _why_not(column, name, outcome, source.of if source else ())
        )
        if why is None and len(terms) < _MOST_TERMS:
            terms.append(name)
        elif name != outcome:
            left.append(f"{name} ({why or 'more than ' + str(_MOST_TERMS) + ' terms'})")
    left = _several_at_once(left)
    for name in list(terms):
        near = _reproduces(study[outcome], study[name])
        if near or (outcome in totals and name in totals[outcome]):
            terms.remove(name)
            left.append(f"{name} ({near or 'part of the exact total that the outcome is'})")
    for name in [n for n in terms if set(totals.get(n, ())) & set(terms)]:
        terms.remove(name)
        left.append(f"{name} (the exact total of {' and '.join(totals[name])})")
    if not terms:
        why = f": {'; '.join(left[:6])}" if left else ""
        raise MarkbaseError(f"No column of the data could explain `{outcome}`{why}.")
    return terms, left


def _several_at_once(left: list[str]) -> list[str]:
    """Put columns that were left out for the same reason, many of them, together."""
    by_reason: dict[str, list[str]] = {}
    for text in left:
        name, _, why = text.rpartition(" (")
        by_reason.setdefault(why, []).append(name)
    return [
        f"{names[0]} ({why}"
        if len(names) == 1
        else f"{', '.join(names)} ({why}"
        if len(names) <= _MOST_NAMED
        else f"{names[0]} to {names[-1]}, {len(names)} columns ({why}"
        for why, names in by_reason.items()
    ]


def _counting(study: Study, outcome: str) -> str:
    """Name the column that seems to say how many cases a row stands for; empty for none."""
    counting = column_of_counts([study[name] for name in study.columns])
    return counting.name if counting is not None and counting.name != outcome else ""


def _reproduces(outcome: Column, column: Column) -> str:
    """Say of a numeric column that it all but reproduces the outcome, as a score made of it or an old prediction does; empty if not."""
    if column.is_categorical:
        return ""
    y, x = sample_of(outcome.values).astype(np.float64), sample_of(column.values)
    both = sample_of(outcome.present) & sample_of(column.present)
    if both.sum() < 3 or np.ptp(y[both]) == 0 or np.ptp(x[both]) == 0:
        return ""
    r = float(np.corrcoef(y[both], x[both])[0, 1])
    return f"it all but reproduces the outcome (r {r:.2f}): was it made of it?" if abs(r) >= _ALIKE else ""


def _why_not(column: Column, name: str, outcome: str, parts: tuple[str, ...]) -> str | None:
    if name == outcome:
        return "the outcome"
    if name in parts or (column.made is not None and outcome in column.made.of):
        return "made of the outcome, or the outcome of it"
    if column.role is not None:
        return str(column.role)
    if column.fault or not column.valid:
        return "cannot be used as it is"
    levels = int((column.counts > 0).sum()) if column.is_categorical else 0
    if holds_dates(column):
        return "dates: make a number of them"
    if holds_times(column):
        return "times of a clock: make a number of them"
    if separator_of_answers(column) is not None:
        return "several answers in a cell: make a column of each"
    if column.doubt:
        return "perhaps numeric: see what was noticed"
    if column.is_categorical and not 2 <= levels <= _MOST_LEVELS:
        return f"{levels} levels"
    if not column.is_categorical and column.span[0] == column.span[1]:
        return "constant"
    if looks_like_identifier(column):
        return "looks like an identifier"
    if looks_like_group_numbers(column):
        return "looks like numbers of groups: a cluster of the errors, or fixed effects"
    if told := classification_of(column):
        return f"looks like {told}: a group, or a cluster of the errors"
    if numbers_rows_of_one(column):
        return "looks like numbers of persons measured more than once: a cluster of the errors"
    if looks_like_weight(column):
        return "named like a weight of the rows"
    return None


def _marked(study: Study, terms: list[str]) -> str:
    """Return, as a comment, a step for each base that nobody chose: what stays a comment is told as not chosen."""
    text = ""
    for name in terms:
        base = study[name].base
        if base is None or base.chosen:
            continue
        label = study[name].levels[base.level].label
        text += (
            f"\n# GUESS: nobody chose a base for {_one_line(name)}, so its largest level stands in. Choose the one your question needs:\n"
            f'# [[prepare]]\n# do = "mark"\n# column = {_toml(name)}\n# base = {_toml(label)}\n'
        )
    return text
