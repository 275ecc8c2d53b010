"""Cautions about the levels of a group, the same in every kind of model."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple

import numpy as np
import pandas as pd

from markbase.core.design.term_remarks import odd_values
from markbase.core.design.terms import Term, Variable
from markbase.core.errors import count_noun, named
from markbase.core.formatting import as_percent, decimals_for, figures_of, number, p_phrase, plain
from markbase.core.reading.cell_cautions import about_rows
from markbase.core.reading.clauses import is_share
from markbase.core.reading.left_out_words import lost_sentences
from markbase.core.reading.overlap_words import about_held, about_overlap
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.statements import Statement
from markbase.core.results.stored_fit import StoredFit
from markbase.core.rows.row_functions import some_of
from markbase.core.study.column import Column, Level
from markbase.core.study.numeric_remarks import (
    cycle_in,
    looks_coded,
    looks_like_identifier,
    looks_like_years,
    whose_numbers,
)
from markbase.core.study.remark import THIN_ROWS
from markbase.core.tables import TableRow, records_of

_FEW_WITH_LEVEL = 10
"""With fewer clusters that have a level, clustered errors of its difference are too small."""
_FAR = 20
"""So many times as many as are few, by some of the rows, need not be counted."""
_NEARLY_ALL = 0.75
"""The share of rows with the same value from which on the others are counted."""
EQUAL_STEPS = "A trend takes levels as equally far apart; with other distances it would be another one."
"""What must be known of the coefficients of a trend."""


def one_verdict(whole: Statement, single: list[Statement]) -> list[Statement]:
    """Return the statements of a group: of two levels the one comparison, with what must be known of the base, and no second verdict."""
    if len(single) != 1:
        return [whole, *single]
    return [replace(single[0], cautions=(*whole.cautions, *single[0].cautions))]


def levels_told(term: Term, rows: pd.DataFrame) -> str:
    """Name the levels that the joint test of a group compares: all, or those of which the rows used tell something where it is held."""
    known = int((rows["base"] | rows["estimate"].notna()).sum())
    if known == len(rows):
        return f"the {len(term.labels)} levels of `{term.name}`"
    return f"the {known} levels of `{term.name}` that can be compared, of {len(term.labels)},"


def none_compared(rows: pd.DataFrame) -> bool:
    """Return whether the rows used tell no level of a group apart from its base where it is held."""
    return bool((rows["base"] | rows["estimate"].isna()).all())


def beside_joint(sure: bool, rows: pd.DataFrame, alpha: float, instead: str = "compare the pairs") -> list[str]:
    """Say where the joint test of a term and those of its coefficients disagree; `instead` is what would do where none of them is clear."""
    others = rows[~rows["base"] & rows["estimate"].notna()]
    clear = int((others["p"] < alpha).sum())
    if len(others) < 2 or sure == (clear > 0):
        return []
    if sure:
        return [f"They differ somewhere, though no single row below is clear: {instead}."]
    return [
        f"{clear} clear {'row' if clear == 1 else 'rows'} among {len(others)} comparisons is weak evidence while the joint test is not clear."
    ]


def beside_overall(fit: AnyFit) -> list[str]:
    """Say that terms are clear while all of them together are not."""
    test = fit.overall
    if fit.exact or len(fit.terms) < 2 or not fit._judged("", test.p) >= fit.alpha:
        return []
    clear = sum(fit._judged(str(row["term"]), row["p"]) < fit.alpha for row in records_of(fit.terms))
    if not clear:
        return []
    figures = f"{figures_of(test.statistic, test.df, test.df_rest, test.kind)}, {p_phrase(test.p)}"
    return [
        f"All terms together are not clear ({figures}): {count_noun(clear, 'clear term')} among {len(fit.terms)} is weak evidence while that is so."
    ]


def trend_step(term: Term) -> float:
    """Return what a linear trend rises from a level to the next, per unit of its coefficient: 1/√Σ(x − x̄)² of the places x of the levels."""
    places = term.variables[0].places.astype(np.float64)
    return float(1 / np.linalg.norm(places - places.mean()))


def about_codes(column: Column) -> list[str]:
    """Say of a numeric column that it holds what may be codes, or two units; of one whose kind was guessed, that all of it may be codes, or numbers of something."""
    told = odd_values(column)
    whose = "numbers that tell rows apart" if column.guess and looks_like_identifier(column) else whose_numbers(column)
    if whose:
        return [
            *told,
            f"`{column.name}` looks like {whose}, which measure nothing: if that is what it holds, this slope means nothing.",
        ]
    if not looks_coded(column) or looks_like_years(column) or cycle_in(column) is not None:
        return told
    low, high = column.span
    if column.two_values is not None:
        return [
            *told,
            f"`{column.name}` holds only {plain(low)} and {plain(high)}; declared categorical, its base would stand in the table.",
        ]
    return [
        *told,
        f"`{column.name}` was guessed numeric, but holds few whole numbers ({plain(low)} to {plain(high)}): if they are codes, this slope "
        f"means nothing; declare it categorical.",
    ]


def about_few(fit: AnyFit, column: Column) -> list[str]:
    """Say that a numeric column has one value in nearly all rows used, so that what is told of it rests on the few others."""
    values, times = fit.rows_used.values(column.name), fit.rows_used.times
    some = some_of(values)
    common = float(np.median(some))
    if column.two_values is None and np.mean(some == common) < _NEARLY_ALL:
        return []
    low, high = column.two_values or (common, common)
    share = float(np.mean(some == low))
    if len(some) < len(values) and min(share, 1 - share) * len(values) > _FAR * THIN_ROWS:
        return []
    those = (values == low, values == high) if column.two_values else (values != common,)
    counts = [int((here if times is None else here * times[fit.rows_used.inside]).sum()) for here in those]
    few = min(counts)
    if few >= THIN_ROWS:
        return []
    rows = count_noun(few, "row")
    if column.two_values:
        return [
            f"Only {rows} used {'has' if few == 1 else 'have'} `{column.name}` = {plain((low, high)[counts.index(few)])}."
        ]
    return [
        f"`{column.name}` is {plain(common)} in all but {rows} used: its slope rests on {'that one' if few == 1 else 'these'}."
    ]


def about_step(fit: AnyFit, column: Column) -> list[str]:
    """Say that a step of 1 is more than a numeric column spans in the rows used, so that no row shows it."""
    low, high, _ = fit.rows_used.spread(column.name)
    if high - low >= 1:
        return []
    return [
        f"A whole {column.step_one} is more than `{column.name}` spans in these rows ({plain(low)} to {plain(high)}): this is how steep it "
        f"is there, and no difference that rows show."
    ]


@dataclass(frozen=True)
class GroupFacts:
    """What is asked for every level of a group, found out once."""

    levels: Mapping[str, Level]
    """The levels by their labels."""
    together: Mapping[str, float]
    """The p of every comparison, corrected after Holm."""
    clusters: Mapping[str, InFew]
    """The levels that occur in few of the clusters, each with their number."""
    reversals: Mapping[str, str]
    """The levels whose rows as they are differ from the base the other way, each with what is to be said."""

    @classmethod
    def of(cls, fit: AnyFit, term: Term, rows: Sequence[TableRow]) -> GroupFacts:
        """Find it out from the rows of a group in the table of coefficients."""
        own = [row for row in rows if not row["base"] and not math.isnan(row["estimate"])]
        corrected = fit.corrected_p([row["p"] for row in own])
        together = dict(zip([str(row["level"]) for row in own], corrected, strict=True))
        levels, variable = {level.label: level for level in term.column.levels}, term.variables[0]
        return cls(levels, together, in_few_clusters(fit, variable), about_reversals(fit, variable, own))


def about_levels(fit: AnyFit, term: Term, row: TableRow, facts: GroupFacts) -> list[str]:
    """Say what must be known of the levels that a coefficient compares.

    That a level is thin, undeclared or a mixture, and that its difference does not survive the correction for all
    comparisons of the group.
    """
    level = str(row["level"])
    cautions = about_rows(fit, {term.name: level}, int(row["n"]))
    if not math.isnan(row["se"]):  # else there is no interval to be read
        cautions += _in_few(fit, term, level, facts.clusters)
    known = facts.levels
    if not known[level].declared:
        cautions.append(f"`{level}` is not a level of the codebook; if it is a misspelling, mend it before reading on.")
    for label in (level, str(row["against"])):
        mixture = known[label].mixture if label in known else ()
        if mixture:
            cautions.append(f"`{label}` is a mixture of {named(mixture, 12)}; the difference is an average over them.")
    if row["p"] < fit.alpha:
        together = facts.together[level]
        if together >= fit.alpha:
            cautions.append(
                f"Among the {len(facts.together)} comparisons of `{term.name}` together it is not clear (corrected after Holm, {p_phrase(together)})."
            )
    return [*cautions, *filter(None, [facts.reversals.get(level)])]


def about_reversals(fit: AnyFit | StoredFit, variable: Variable, rows: Iterable[TableRow]) -> dict[str, str]:
    """Say of the levels that clearly differ from the base, the other terms held equal, and the other way as they are, how far.

    Less than two standard errors the other way are not told; nor is anything where differences depend on another column.
    """
    alone = [t.names for t in fit.model_terms if variable.name in t.names] == [(variable.name,)]
    if not alone or variable.column.scheme != "indicator":
        return {}
    shares = fit.family.shares or is_share(fit.outcome)
    means = fit._plain(variable)
    with np.errstate(divide="ignore", invalid="ignore"):  # a level without an event
        scale = np.log(means / (1 - means)) if fit.family.ratios else means
        others = (scale[variable.base] - scale).tolist()
    base, told = variable.base, {}
    for row in rows:
        level = variable.labels.index(str(row["level"]))
        if row["p"] < fit.alpha and others[level] * np.sign(row["estimate"]) > 2 * row["se"]:
            decimals = decimals_for(float(row["se"]))
            here, there = (as_percent(m) if shares else number(m, decimals) for m in means[[level, base]])
            told[str(row["level"])] = (
                f"As they are, rows of `{row['level']}` have a {'lower' if row['estimate'] > 0 else 'higher'} {'share' if shares else 'mean'} than those of "
                f"the base ({here} against {there}): with the other terms held equal the difference turns round (Simpson's paradox)."
            )
    return told


def _thin(term: Term, level: str, n: int) -> list[str]:
    verb = "has" if n == 1 else "have"
    return [f"Only {count_noun(n, 'row')} used {verb} `{term.name}` `{level}`."] if n < THIN_ROWS else []


def _in_few(fit: AnyFit, term: Term, level: str, clusters: Mapping[str, InFew]) -> list[str]:
    return [_few_clusters(fit, term.variables[0], level, clusters[level])] if level in clusters else []


class InFew(NamedTuple):
    """In how many clusters of a kind something occurs."""

    name: str
    """The column of the clusters."""
    clusters: int
    """How many there are."""
    there: int
    """In how many of them it occurs."""


def in_few_clusters(fit: AnyFit, variable: Variable) -> dict[str, InFew]:
    """Return the levels of a group, or the values of a numeric column of two, that occur in few clusters and not in most, with the kind and number of these.

    References
    ----------
    MacKinnon & Webb (2018), Econometrics Journal 21(2), 114-135, doi:10.1111/ectj.12107 (few treated clusters).
    """
    if fit.cluster is None or not (variable.is_categorical or variable.column.two_values):
        return {}
    labels = variable.labels if variable.is_categorical else [plain(v) for v in variable.column.two_values or ()]
    found = dict[str, InFew]()
    for column, kind in zip(fit.drawn_by.clusters, fit.errors.by, strict=True):
        most = min(_FEW_WITH_LEVEL, kind.clusters // 2)
        for label, n in zip(labels, fit.rows_used.clusters_with(variable.name, column), strict=True):
            if n < most and (label not in found or n < found[label].there):
                found[label] = InFew(kind.name, kind.clusters, int(n))
    return found


def _few_clusters(fit: AnyFit, variable: Variable, level: str, clusters: InFew) -> str:
    what = f"`{level}` of `{variable.name}`" if variable.is_categorical else f"`{variable.name}` = {level}"
    if fit.errors.members is not None:
        return (
            f"{what} occurs with {clusters.there} of {clusters.clusters} members in `{clusters.name}` only: even errors from leaving out one at a time can be far off "
            f"for what so few tell, so read its interval as a rough one."
        )
    told = (
        "even errors from leaving out one cluster at a time can be far off for what so few tell, so read its interval as a rough one."
        if fit.errors.kind == "CR3"
        else f"errors clustered by `{clusters.name}` tend to be too small for what so few tell, so read its interval as narrower than it should be."
    )
    return f"{what} occurs in {clusters.there} of {count_noun(clusters.clusters, 'cluster')} only: {told}"


def about_clusters(fit: AnyFit, variable: Variable) -> list[str]:
    """Say of levels of a group, or of values of a numeric column of two, that they occur in few clusters."""
    return [_few_clusters(fit, variable, level, n) for level, n in in_few_clusters(fit, variable).items()]


def default_base(fit: AnyFit, variable: Variable) -> str:
    """Say why a level that nobody chose is the base: the largest level, or one of several as large, counted on the rows used."""
    counts = fit.rows_used.counts_at((variable.name,))
    own, most = counts[variable.base], counts.max()
    if own < most:
        return "the largest level of the data, though not of the rows used"
    return "the largest level" if np.count_nonzero(counts == most) == 1 else "one of the largest levels"


def unnamed_levels(term: Term) -> Sequence[str]:
    """Return the levels of a group that no coefficient's sentence is about: the base, the first of steps, all behind trends."""
    return {"indicator": [term.base_label], "adjacent": term.labels[:1], "trend": term.labels, "effect": []}[
        term.column.scheme
    ]


def about_group(fit: AnyFit, term: Term, rows: pd.DataFrame) -> list[str]:
    """Say what must be known of the levels of a group that no coefficient's sentence is about."""
    variable = term.variables[0]
    apart = [*lost_sentences(variable), *about_overlap(fit, variable), *about_held(fit, variable)]
    if term.column.scheme == "indicator":
        return [*_about_base(fit, term, rows), *apart]
    counts = dict(zip(term.labels, fit.rows_used.counts_at((term.name,)).tolist(), strict=True))
    few = in_few_clusters(fit, term.variables[0])
    told = [
        caution
        for level in unnamed_levels(term)
        for caution in (*_thin(term, level, counts[level]), *_in_few(fit, term, level, few))
    ]
    return [*told, *apart]


def _about_base(fit: AnyFit, term: Term, rows: pd.DataFrame) -> list[str]:
    """Say of the base of a group that it is thin, was not chosen, or was chosen by looking at the outcome."""
    cautions = []
    base, label = term.column.base, term.base_label
    n = int(rows.loc[rows["base"], "n"].iloc[0])
    if n < THIN_ROWS:
        cautions.append(f"The base `{label}` has only {count_noun(n, 'row')}, on which every comparison with it rests.")
    cautions += _in_few(fit, term, label, in_few_clusters(fit, term.variables[0]))
    if base is None or not base.chosen:
        why = default_base(fit, term.variables[0])
        cautions.append(f"The base `{label}` was not chosen: it is {why}. Mark the one your question needs.")
    elif base.looked_at and base.looked_at in (fit.outcome.name, *(fit.outcome.made.of if fit.outcome.made else ())):
        cautions.append(
            f"The base `{label}` was chosen by looking at the outcome: differences from it come out larger than they are, and "
            f"their p values too small."
        )
    return cautions
