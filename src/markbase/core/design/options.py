"""What is asked for in a fit, checked: columns, rows, weights and errors. The same for every kind of fit."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.design.checked_terms import check_usable, requested_terms
from markbase.core.design.complete_cases import CompleteCases, Loss, complete_rows
from markbase.core.design.drawn import DrawnBy
from markbase.core.design.errors_asked import (
    check_dyads,
    check_errors,
    check_replicates,
    check_time,
    names_of_clusters,
    replicates_unused,
    strata_column,
)
from markbase.core.design.fit_options import FitOptions
from markbase.core.design.repeated_rows import are_dyads, may_repeat, remark_on_repeated_rows
from markbase.core.design.replicates import take_replicates
from markbase.core.design.requested_terms import AllBut, TermRequest, names_of
from markbase.core.design.same_in_combinations import remark_on_combinations
from markbase.core.design.shared import Shared
from markbase.core.design.shared_changes import Beginning, beginning_of
from markbase.core.design.shared_sources import remark_on_shared
from markbase.core.design.terms import Term, look_over, make_terms, make_variable
from markbase.core.design.weights import Weights, take_weights, without_no_weight
from markbase.core.errors import ColumnError, FitError, MarkbaseError, count_noun, listed, quoted, remark
from markbase.core.study.column import Column
from markbase.core.study.declarations import as_levels, with_levels, with_shared_levels
from markbase.core.study.imputed import Stacked, plausible_values, remark_on_stacked
from markbase.core.study.repeats import column_of_counts
from markbase.core.study.study import Study
from markbase.core.study.time_order import columns_of_times, periods_of

Array = NDArray[np.float64]


MOST_COLUMNS, WIDE = 10_000, 2_500
"""A fit has at most so many columns; with more than the second number it says that it takes long."""
_MATRICES = 22
"""A fit holds about so many square matrices of its columns, with their tests."""


@dataclass(frozen=True, eq=False)
class Request:
    """A fit that can be made."""

    specs: tuple[TermRequest, ...]
    """The terms wanted."""
    columns: tuple[Column, ...]
    """The columns they are made of."""
    used: NDArray[np.bool_] | None
    """Shape (rows,): the rows with a value everywhere; None for all."""
    sample: CompleteCases
    """Their account."""
    weights: Weights | None
    """With how much each row counts."""
    drawn_by: DrawnBy
    """The columns that errors allow for."""
    errors: str
    """The kind of errors."""
    level: float
    """Confidence level."""
    identifier: Column | None
    """The column that names the cases."""
    possible_cluster: Column | None
    """A column with the role of a cluster that is not made use of; None for none."""
    possible_weights: str
    """The same of weights."""
    index: pd.Index[Any] | None = None
    """The index of the rows of the study."""
    repeating: tuple[Column, ...] = ()
    """Columns outside the model whose rows may go together, where no other column is named, or has the role, for that."""
    timed_by: tuple[Column, ...] = ()
    """Columns that may tell when rows were measured."""
    shared: tuple[Shared, ...] = ()
    """What columns of the model have in common with the outcome by construction, as the rows say."""
    began: Beginning | None = None
    """What the outcome began from, where it is a change of a column outside the model; None for none."""
    stacked: Stacked | None = None
    """Imputations of the same cases that the rows hold one below another; None for none."""
    plausible: tuple[str, ...] = ()
    """Plausible values of which the outcome, or a term, is one, or the mean of several; empty for none."""

    @property
    def heavy(self) -> Array | None:
        """Shape (rows,): the weights as numbers; None if all rows count alike."""
        return self.weights.values if self.weights else None

    @property
    def counted_rows(self) -> int:
        """Rows used, each as often as a frequency weight says."""
        if self.weights is None or self.weights.kind != "frequency":
            return self.sample.used
        return self.weights.counted()

    def terms(self) -> tuple[Term, ...]:
        """Make the terms, on the rows used."""
        shifted = {name for spec in self.specs if not isinstance(spec, str) for name in names_of(spec)}
        look_over(self.columns, self.used)
        made = {c.name: make_variable(c, self.used, c.name in shifted) for c in self.columns}
        terms = make_terms(self.specs, made)
        check_width(terms)
        return terms


def check_request(
    study: Study,
    target: Column,
    terms: Sequence[TermRequest] | AllBut,
    options: FitOptions,
    controls: Sequence[Column] = (),
) -> Request:
    """Check what is asked for, and find the rows, in which the `controls` have a value too."""
    if not isinstance(options.level, (int, float)) or not 0 < options.level < 1:
        raise MarkbaseError(
            f"The confidence level is {options.level!r}; it must lie between 0 and 1, for instance 0.95."
        )
    specs, wanted = requested_terms(study, terms, target.name, options.main_effects)
    columns = list(wanted.values())
    weighing = weight_column(study, options.weights)
    shared = remark_on_shared(study, target.name, wanted, weighing is not None)
    sampled = weighing is not None and options.weights_are == "sampling"
    if sampled and options.errors == "classical" and not (options.cluster or options.strata or options.time):
        raise MarkbaseError("Sampling weights need robust or clustered errors; leave `errors` out, or cluster.")
    clusters = names_of_clusters(options.cluster)
    check_errors(options.errors, clusters, options.strata)
    check_time(options, clusters)
    alone = "HC1" if options.strata is not None else "robust" if sampled else "classical"
    if options.replicates is not None:
        check_replicates(options, clusters, bool(controls))
    elif options.replicates_are is not None or options.replicates_scale is not None:
        raise MarkbaseError("Name the replicate weights themselves as well: it was only said how they were made.")
    kind = options.errors or ("HAC" if options.time else "classical" if clusters else alone)
    groupings = [as_levels(study.column(name), "clusters") for name in clusters]
    if len(groupings) == 2 and kind != "dyadic" and are_dyads(groupings[0], groupings[1]):
        remark(
            f"{listed(quoted(clusters))} name the same members, and never one twice in a row: rows of a member that stands in `{clusters[0]}` here and in `{clusters[1]}` "
            f"there are taken as independent. Dyadic errors allow for them."
        )
    if kind == "dyadic":
        groupings = list(with_shared_levels(groupings[0], groupings[1]))
    one, other = (*groupings, None, None)[:2]
    time = None if options.time is None else periods_of(study.column(options.time))
    drawn = DrawnBy(one, other, strata_column(study, options.strata), time)
    if any(column.name == target.name for column in drawn.columns):
        raise MarkbaseError(
            f"`{target.name}` is the outcome: what tells which rows go together, or when they were measured, is another column."
        )
    wanted_too = dict.fromkeys((*drawn.columns, weighing, *controls))
    extra = [c for c in wanted_too if c is not None and c not in columns]
    used, sample = complete_rows([target, *columns, *extra])
    if kind == "dyadic":
        check_dyads(groupings, used)
    counted = None if weighing is None else take_weights(weighing, options.weights_are, used)
    if options.replicates is not None:
        kind = "replicates"
        chosen = options.replicates_are, options.replicates_scale
        own = {target.name, *(c.name for c in columns)}
        taken = take_replicates(study, options.replicates, *chosen, weighing, used, own)
        counted = None if counted is None else replace(counted, replicates=taken)
    elif weighing is not None and sampled and (seen := replicates_unused(study, weighing, columns, drawn)):
        remark(
            f"`{seen[0]}` to `{seen[-1]}` may be {len(seen)} replicate weights, of which these errors make no use: they hold how the sample was drawn."
        )
    inside = {column.name for column in columns}
    names = [study[n] for n in study.columns if study[n].role == "identifier"]
    possible = [study[n] for n in study.columns if study[n].role == "cluster" and n not in inside and not groupings]
    hint = next((found for column in possible if (found := with_levels(column)) is not None), None)
    unused = [n for n in study.columns if study[n].role == "weight" and n not in inside | {target.name}]
    counting = column_of_counts([study[n] for n in study.columns]) if weighing is None and not unused else None
    if counting is not None and counting.name != target.name:
        remark(
            f"Each combination of the other columns stands in one row, beside a whole number in `{counting.name}`: if this is a table of counts, let rows "
            f"count by it (weights `{counting.name}`, which are frequencies). Each counts as one case here."
        )
    if sampled and weighing is not None:
        columns_there = [
            replace(c, role=None) if c.name == weighing.name else c for c in (study[n] for n in study.columns)
        ]
        found = column_of_counts(columns_there)
        if found is not None and found.name == weighing.name:
            remark(
                f"`{weighing.name}` is taken as sampling weights, so that {count_noun(sample.used, 'row')} are as many cases. It is a whole number beside combinations of the "
                f"other columns, each of which stands in one row: if this is a table of counts, its weights are frequencies."
            )
    imputed = remark_on_stacked(study[n] for n in study.columns if n != target.name)
    quiet = bool(controls) or imputed is not None
    repeating, unsaid = remark_on_repeated_rows(study, columns, target, used, drawn, quiet=quiet)
    times = columns_of_times(study, target.name)
    if unsaid and not drawn.clusters and drawn.time is None:  # whose rows may go together at each time
        groups = [c for c in columns if c.is_categorical and may_repeat(c)]
        remark_on_combinations(columns, list({c.name: c for c in (*repeating, *times, *groups)}.values()), used)
    return Request(
        tuple(specs),
        tuple(columns),
        used,
        sample,
        counted,
        drawn,
        kind,
        options.level,
        names[0] if names else None,
        hint,
        unused[0] if unused and weighing is None else "",
        study.index,
        () if quiet else repeating,
        times,
        shared,
        None if controls else _beginning(study, target, inside),
        imputed,
        next((pv for c in (target, *columns) if (pv := _plausible(c, study.columns))), ()),
    )


def _plausible(column: Column, columns: Collection[str]) -> tuple[str, ...]:
    """Return the plausible values of which a column is one, or the mean of several; none where it is not."""
    made = column.made
    first = made.of[0] if made is not None and made.how == "mean" and made.of else column.name
    return plausible_values(first, columns)


def _beginning(study: Study, target: Column, inside: Collection[str]) -> Beginning | None:
    numbers = [study[n] for n in study.columns if n != target.name and not study[n].is_categorical]
    return beginning_of(target, inside, numbers)


def check_width(terms: Sequence[Term]) -> None:
    """Refuse more columns than a fit can hold (`MOST_COLUMNS`), and remark on so many that it takes long (`WIDE`)."""
    columns = sum(term.size for term in terms)
    widest = max(terms, key=lambda term: term.size, default=None)
    if columns > MOST_COLUMNS and widest is not None:
        way = (
            f"Take the levels of `{widest.name}` out as fixed effects, which need no columns, or merge them."
            if len(widest.groups) == 1 and not widest.numerics and widest.size > WIDE
            else "Screen the columns first, or fit them in several models."
        )
        raise FitError(
            f"The terms have {columns:,} columns (a level of a group is one), and a fit has at most {MOST_COLUMNS:,}: its time grows with "
            f"the third power of them, and its memory with the second. {way}"
        )
    if columns > WIDE:
        remark(
            f"The terms have {columns:,} columns: about {_MATRICES * 8 * columns**2 / 1e9:.1f} GB of memory, and minutes rather than seconds."
        )


def check_room(rows: int, wanted: int, losses: Sequence[Loss] = ()) -> None:
    """Refuse to estimate more coefficients, the intercept among them, than rows can carry; say to what most were lost."""
    if rows <= wanted:
        most = max(losses, key=lambda loss: loss.rows, default=None)
        lost = (
            ""
            if most is None
            else f" `{most.column}` alone lacks a value in {count_noun(most.rows, 'row')} ({most.reason})."
        )
        raise FitError(
            f"{count_noun(rows, 'row')} with a value in every column cannot carry {wanted} coefficients (the intercept "
            f"among them): at least {wanted + 1} are needed, and far more to be of use. Leave terms out or merge levels.{lost}"
        )


def weight_column(study: Study, name: str | None) -> Column | None:
    """Return the column of the weights that are asked for, in which 0 is missing; raises a `ColumnError` for what holds none."""
    if name is None:
        return None
    column = study.column(name)
    if column.is_categorical:
        raise ColumnError(f"`{name}` is categorical; weights are a numeric column.")
    check_usable(column)
    return without_no_weight(column)
