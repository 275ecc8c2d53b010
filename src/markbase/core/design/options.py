"""What is asked for in a fit, checked: columns, rows, weights and errors. The same for every kind of fit."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass, field, fields, replace
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.design.checked_terms import check_usable, requested_terms
from markbase.core.design.complete_cases import CompleteCases, Loss, complete_rows
from markbase.core.design.drawn import DrawnBy
from markbase.core.design.repeated_rows import are_dyads, may_repeat, remark_on_repeated_rows
from markbase.core.design.replicates import METHODS, take_replicates, unused_replicates
from markbase.core.design.requested_terms import AllBut, TermRequest, names_of
from markbase.core.design.same_in_combinations import remark_on_combinations
from markbase.core.design.shared import Shared
from markbase.core.design.shared_changes import Beginning, beginning_of
from markbase.core.design.shared_sources import remark_on_shared
from markbase.core.design.terms import Term, look_over, make_terms, make_variable
from markbase.core.design.weights import Weights, take_weights, without_no_weight
from markbase.core.errors import ColumnError, FitError, MarkbaseError, count_noun, listed, near, quoted, remark
from markbase.core.study.column import Column
from markbase.core.study.declarations import as_levels, with_levels, with_shared_levels
from markbase.core.study.imputed import Stacked, plausible_values, stacked_in
from markbase.core.study.repeats import column_of_counts
from markbase.core.study.study import Study
from markbase.core.study.time_order import columns_of_times, periods_of

Array = NDArray[np.float64]


KINDS = ("linear", "logistic")
"""The kinds of regression."""
KINDS_OF_ERRORS = ("classical", "robust", "HC0", "HC1", "HC2", "HC3", "CR1", "CR3", "dyadic", "HAC")
OF_CLUSTERS = ("CR1", "CR3", "dyadic")
"""Those that need clusters; the first is what clusters get by themselves."""


def _setting(
    default: Any,
    told: str,
    kinds: tuple[str, ...] = KINDS,
    choices: tuple[str, ...] = (),
    names: str = "",
    several: bool = False,
    number: bool = False,
) -> Any:
    number = number or isinstance(default, float)
    about = {"told": told, "kinds": kinds, "choices": choices, "names": names, "several": several, "number": number}
    return field(default=default, metadata=about)


MOST_COLUMNS, WIDE = 10_000, 2_500
"""A fit has at most so many columns; with more than the second number it says that it takes long."""
_MATRICES = 22
"""A fit holds about so many square matrices of its columns, with their tests."""


@dataclass(frozen=True, eq=False, kw_only=True)
class FitOptions:
    """How a fit is to be made, beside its outcome and terms.

    The one description of these settings: `fit_linear` and `fit_logistic` take those of their kind as arguments, plans as keys and
    the command as options, each of these from here.
    """

    level: float = _setting(0.95, "Confidence level of the intervals.")
    errors: str | None = _setting(
        None,
        "Standard errors; robust is HC3, CR3 is for few clusters, dyadic for rows about two members, HAC for rows in time. The default is classical, with sampling weights robust, with clusters CR1, with a time HAC.",
        choices=KINDS_OF_ERRORS,
    )
    cluster: str | Sequence[str] | None = _setting(
        None,
        "Cluster the errors by this group, such as the choir of a singer; twice for groups that cross (two-way).",
        names="GROUP",
        several=True,
    )
    strata: str | None = _setting(
        None, "The sample was drawn within each level of this group: whole clusters of it, or rows.", names="GROUP"
    )
    time: str | None = _setting(
        None,
        "What tells when: rows of one time, and of those that follow one another, may go together (HAC).",
        names="COLUMN",
    )
    weights: str | None = _setting(None, "With how much each row counts.", names="COLUMN")
    weights_are: str = _setting("sampling", "What the weights are.", choices=("sampling", "frequency"))
    replicates: str | Sequence[str] | None = _setting(
        None,
        "Replicate weights of a survey: what their names have in common, as 'w_rep*', or a column; several times for several.",
        names="COLUMNS",
        several=True,
    )
    replicates_are: str | None = _setting(None, "How the replicate weights were made.", choices=METHODS)
    replicates_scale: float | None = _setting(
        None,
        "What squared differences between replicates are multiplied with, where it is not usual for these.",
        number=True,
    )
    main_effects: str = _setting(
        "add", "Where an interaction lacks the terms it is made of: add them, or refuse.", choices=("add", "refuse")
    )
    fixed_effects: str | Sequence[str] | None = _setting(
        None,
        "Control for all levels of this group without listing them; once or twice.",
        kinds=("linear",),
        names="GROUP",
        several=True,
    )
    event: object = _setting(
        None, "The level of the outcome whose odds are modelled.", kinds=("logistic",), names="LEVEL"
    )
    penalty: str | None = _setting(
        None,
        "Penalised likelihood, finite also where levels foretell the outcome.",
        kinds=("logistic",),
        choices=("firth",),
    )

    @classmethod
    def names(cls, kind: str | None = None) -> tuple[str, ...]:
        """Return the settings a kind of regression has; all of them for None."""
        return tuple(f.name for f in fields(cls) if kind is None or kind in f.metadata["kinds"])

    @classmethod
    def other_kind(cls, name: str, kind: str) -> str:
        """Return the kind of regression that a setting belongs to, if it is not this one; else an empty text."""
        own = next(f.metadata["kinds"] for f in fields(cls) if f.name == name)
        return "" if kind in own else str(own[0])


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
    clusters = _names_of_clusters(options.cluster)
    _check_errors(options.errors, clusters, options.strata)
    _check_time(options, clusters)
    alone = "HC1" if options.strata is not None else "robust" if sampled else "classical"
    if options.replicates is not None:
        _check_replicates(options, clusters, bool(controls))
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
    drawn = DrawnBy(one, other, _strata_column(study, options.strata), time)
    if any(column.name == target.name for column in drawn.columns):
        raise MarkbaseError(
            f"`{target.name}` is the outcome: what tells which rows go together, or when they were measured, is another column."
        )
    wanted_too = dict.fromkeys((*drawn.columns, weighing, *controls))
    extra = [c for c in wanted_too if c is not None and c not in columns]
    used, sample = complete_rows([target, *columns, *extra])
    if kind == "dyadic":
        _check_dyads(groupings, used)
    counted = None if weighing is None else take_weights(weighing, options.weights_are, used)
    if options.replicates is not None:
        kind = "replicates"
        chosen = options.replicates_are, options.replicates_scale
        own = {target.name, *(c.name for c in columns)}
        taken = take_replicates(study, options.replicates, *chosen, weighing, used, own)
        counted = None if counted is None else replace(counted, replicates=taken)
    elif weighing is not None and sampled and (seen := _replicates_unused(study, weighing, columns, drawn)):
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
    imputed = stacked_in(study[n] for n in study.columns if n != target.name)
    if imputed is not None:
        remark(
            f"These rows hold {imputed.imputations} imputations of the same cases (`{imputed.column}`), and each counts as a case of its own: errors are too small, as if there were "
            f"{imputed.imputations} times as many. Fit each and combine them."
        )
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


def _replicates_unused(study: Study, weighing: Column, columns: Sequence[Column], drawn: DrawnBy) -> tuple[str, ...]:
    """Return the columns that may be replicate weights of which no use is made; none where errors allow for how rows were drawn by clusters or strata."""
    if drawn.clusters or drawn.strata is not None:
        return ()
    inside = {c.name for c in columns}
    return unused_replicates([study[n] for n in study.columns if n not in inside], weighing)


def _check_replicates(options: FitOptions, clusters: Sequence[str], taken_out: bool) -> None:
    """Refuse what replicate weights do not go with."""
    beside = [f"clusters ({listed(quoted(clusters))})"] if clusters else []
    beside += [f"{what} (`{name}`)" for what, name in (("strata", options.strata), ("times", options.time)) if name]
    beside += [f"`{options.errors}` errors"] if options.errors else []
    if beside:
        raise MarkbaseError(
            f"Errors from replicate weights hold how the sample was drawn; leave {listed(beside)} out, or the replicate weights."
        )
    if taken_out:
        raise MarkbaseError(
            "With replicate weights levels are not taken out (fixed effects): make the group a term, or leave the replicate weights out."
        )
    if options.weights_are != "sampling":
        raise MarkbaseError("Replicate weights go with sampling weights, not with frequencies.")


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


def _names_of_clusters(given: str | Sequence[str] | None) -> tuple[str, ...]:
    """Return the columns to cluster by, one or two; refuse more, and the same one twice."""
    names = () if given is None else (given,) if isinstance(given, str) else tuple(given)
    if len(names) > 2 or len(set(names)) < len(names):
        raise MarkbaseError(
            f"Errors are clustered by one group, or by two different ones that cross, not by {listed(quoted(names))}; where one lies within another, name the "
            f"larger."
        )
    return names


def _check_errors(kind: str | None, clusters: Sequence[str], strata: str | None) -> None:
    """Refuse a kind of errors that does not exist, or not with clusters or strata, or not without."""
    cluster, both = next(iter(clusters), None), listed(quoted(clusters))
    if kind == "dyadic" and len(clusters) != 2:
        raise MarkbaseError(
            "Dyadic errors need the two columns that name the members of each row, such as who asks and who is asked: name both as clusters."
        )
    if kind == "dyadic" and strata is not None:
        raise MarkbaseError(f"Dyadic errors are not taken within strata of `{strata}`: leave the strata out.")
    if len(clusters) > 1 and (kind == "CR3" or strata is not None):
        what, way = (
            ("that leave out one at a time (CR3)", "take CR1")
            if strata is None
            else (f"within strata of `{strata}`", "leave the strata out")
        )
        raise MarkbaseError(f"Errors {what} are clustered by one group, not by {both}: name one, or {way}.")
    if strata is not None and strata in clusters:
        raise MarkbaseError(
            f"`{strata}` is named as clusters and as strata: clusters are what was drawn, strata what they were drawn within."
        )
    if kind is None:
        return
    if kind not in KINDS_OF_ERRORS:
        close = near(kind, KINDS_OF_ERRORS)
        raise MarkbaseError(
            f"There are no errors `{kind}`; there are {listed(quoted(sorted(KINDS_OF_ERRORS)))}.{close if close.startswith(' Did') else ''}"
        )
    if cluster is None and kind in OF_CLUSTERS:
        raise MarkbaseError(f"`{kind}` errors are those of clusters: name the group to cluster by, or take HC3.")
    if cluster is not None and kind not in OF_CLUSTERS:
        raise MarkbaseError(
            f"Errors are either `{kind}` or clustered by {both}; leave one of the two out, or ask for {'CR1 or CR3' if len(clusters) == 1 else 'CR1 or dyadic'} errors, which are clustered."
        )
    if strata is not None and kind not in ("HC1", "CR1"):
        raise MarkbaseError(
            f"Within strata (`{strata}`) errors are those of scores: CR1 with clusters, HC1 without, and not {kind}; leave `errors` out."
        )


def _check_dyads(members: Sequence[Column], used: NDArray[np.bool_] | None) -> None:
    """Refuse columns that name nobody in common, and rows about one member alone."""
    inside: Any = slice(None) if used is None else used
    one, other = members
    if not np.any((one.counts > 0) & (other.counts > 0)):
        raise MarkbaseError(
            f"No member that `{one.name}` names is one that `{other.name}` names: rows that have a member in common are then told by clusters of both (CR1)."
        )
    alone = int(np.count_nonzero(one.values[inside] == other.values[inside]))
    if alone:
        raise FitError(
            f"`{one.name}` and `{other.name}` name the same member in {count_noun(alone, 'row')} used, where dyadic errors need two: keep the rows in which they differ."
        )


def _check_time(options: FitOptions, clusters: Sequence[str]) -> None:
    """Refuse errors that allow for serial correlation without a time, and a time beside other errors."""
    if options.time is None:
        if options.errors == "HAC":
            raise MarkbaseError(
                "Errors that allow for serial correlation (HAC) need to know what tells the order of rows: name the column of the time."
            )
        return
    beside = [f"clustered by {listed(quoted(clusters))}"] if clusters else []
    beside += [f"those of strata (`{options.strata}`)"] if options.strata else []
    beside += [f"`{options.errors}`"] if options.errors not in (None, "HAC") else []
    if beside:
        raise MarkbaseError(
            f"Errors either allow for serial correlation by `{options.time}` (HAC), or are {listed(beside)}: leave one of the two out. Where there are several series, "
            f"errors clustered by what each is of allow for both."
        )


def _strata_column(study: Study, name: str | None) -> Column | None:
    """Return the column of the strata; say so where a column has this role and none is named."""
    told = [n for n in study.columns if study[n].role == "stratum"]
    if name is None and told:
        remark(
            f"`{told[0]}` holds the strata the sample was drawn within (its role), of which these errors take no account: name it as the strata, "
            f"or take its role away."
        )
    return None if name is None else as_levels(study.column(name), "strata")


def weight_column(study: Study, name: str | None) -> Column | None:
    """Return the column of the weights that are asked for, in which 0 is missing; raises a `ColumnError` for what holds none."""
    if name is None:
        return None
    column = study.column(name)
    if column.is_categorical:
        raise ColumnError(f"`{name}` is categorical; weights are a numeric column.")
    check_usable(column)
    return without_no_weight(column)
