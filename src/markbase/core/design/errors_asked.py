"""What standard errors are to allow for, checked: kinds of errors, clusters, strata, times, replicate weights, and what goes with what."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.drawn import DrawnBy
from markbase.core.design.fit_options import KINDS_OF_ERRORS, OF_CLUSTERS, FitOptions
from markbase.core.errors import FitError, MarkbaseError, count_noun, listed, near, quoted, remark
from markbase.core.study.column import Column
from markbase.core.study.declarations import as_levels
from markbase.core.study.replicate_columns import unused_replicates
from markbase.core.study.study import Study


def names_of_clusters(given: str | Sequence[str] | None) -> tuple[str, ...]:
    """Return the columns to cluster by, one or two; refuse more, and the same one twice."""
    names = () if given is None else (given,) if isinstance(given, str) else tuple(given)
    if len(names) > 2 or len(set(names)) < len(names):
        raise MarkbaseError(
            f"Errors are clustered by one group, or by two different ones that cross, not by {listed(quoted(names))}; where one lies within another, name the "
            f"larger."
        )
    return names


def check_errors(kind: str | None, clusters: Sequence[str], strata: str | None) -> None:
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


def check_dyads(members: Sequence[Column], used: NDArray[np.bool_] | None) -> None:
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


def check_time(options: FitOptions, clusters: Sequence[str]) -> None:
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


def strata_column(study: Study, name: str | None) -> Column | None:
    """Return the column of the strata; say so where a column has this role and none is named."""
    told = [n for n in study.columns if study[n].role == "stratum"]
    if name is None and told:
        remark(
            f"`{told[0]}` holds the strata the sample was drawn within (its role), of which these errors take no account: name it as the strata, "
            f"or take its role away."
        )
    return None if name is None else as_levels(study.column(name), "strata")


def replicates_unused(study: Study, weighing: Column, columns: Sequence[Column], drawn: DrawnBy) -> tuple[str, ...]:
    """Return the columns that may be replicate weights of which no use is made; none where errors allow for how rows were drawn by clusters or strata."""
    if drawn.clusters or drawn.strata is not None:
        return ()
    inside = {c.name for c in columns}
    return unused_replicates([study[n] for n in study.columns if n not in inside], weighing)


def check_replicates(options: FitOptions, clusters: Sequence[str], taken_out: bool) -> None:
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
