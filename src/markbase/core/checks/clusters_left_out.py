"""What estimates would be without each cluster: whether what a fit says rests on one of them."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING

import numpy as np
import pandas as pd

from markbase.core.diagnostics.residuals import Finding
from markbase.core.errors import FitError, MarkbaseError, count_noun, listed
from markbase.core.formatting import decimals_for, number
from markbase.core.inference.clustered_errors import cluster_sums, moves_without, nested_in, refuse_crossed
from markbase.core.inference.covariance import scored_rows
from markbase.core.inference.dyadic_errors import over_members
from markbase.core.inference.standard_errors import MEMBER, ClusterKind, rest_on
from markbase.core.results.coefficient_rows import label_of
from markbase.core.results.logistic import LogisticFit
from markbase.core.results.logistic_estimate import scored_rows as logistic_rows
from markbase.core.tables import rows_of, table_of

if TYPE_CHECKING:
    from markbase.core.inference.standard_errors import Over
    from markbase.core.results.any_fit import AnyFit
    from markbase.core.study.column import Column

_MOST = 0.75
"""A cluster with a larger share of the squared movements of an estimate is one that it hangs on."""
_MOST_NAMED = 4
"""So many coefficients that one cluster tells alone are named."""
_FEW_ENOUGH = 1_000
"""Of more clusters none decides much, and to leave each out takes long: they are looked at only where that is asked for."""


def kinds_left_out(fit: AnyFit) -> tuple[tuple[ClusterKind, Column], ...]:
    """Return what is left out in turn: clusters of one kind or two, with their column, or the members of dyads, by the column whose levels they all are."""
    if fit.errors.members is not None:
        return ((fit.errors.members, fit.drawn_by.clusters[0]),)
    return tuple(zip(fit.errors.by, fit.drawn_by.clusters, strict=True))


def clusters_looked_at(fit: AnyFit) -> tuple[tuple[ClusterKind, Column], ...]:
    """Return those that the checks of a fit look at unasked: not too many, and with coefficients that leaving them out moves."""
    return tuple(own for own in kinds_left_out(fit) if own[0].clusters <= _FEW_ENOUGH) if _told(fit) else ()


def _told(fit: AnyFit) -> list[int]:
    """Return which coefficients are told: none where no row has the bases together."""
    told = fit.coefficient_map.told
    return told[1:] if fit.fixed_effect_names else told  # the start is then a mean over the levels, that nobody reads


def without_clusters(fit: AnyFit) -> pd.DataFrame:
    """Tell every coefficient without each cluster, as `Fit.without_clusters` has it."""
    if not fit.drawn_by.clusters:
        raise MarkbaseError(
            "The fit has no clusters that could be left out; fit it with errors clustered by the group whose rows go together."
        )
    if not _told(fit):
        raise FitError("From these bases no coefficient can be told, so that none moves; tell the fit from others.")
    return _together(fit, {kind.name: _without_each(fit, column) for kind, column in kinds_left_out(fit)})


def _together(fit: AnyFit, tables: Mapping[str, pd.DataFrame]) -> pd.DataFrame:
    """Return one table of the clusters of each kind, named with their kind where there are two."""
    if len(kinds_left_out(fit)) == 1:
        return next(iter(tables.values()))
    named = [table.assign(cluster=f"{name}: " + table["cluster"]) for name, table in tables.items()]
    return pd.concat(named, ignore_index=True)


def _without_each(fit: AnyFit, cluster: Column) -> pd.DataFrame:
    """Tell every coefficient without each cluster of a kind."""
    told, p, over = _told(fit), len(fit.solution.columns), scored_rows_of(fit, cluster)
    if fit.errors.members is not None and fit.crossed is not None:
        over = over_members(over, fit.crossed)
    sums = cluster_sums(over, cluster, p)
    moved, alone = moves_without(over, cluster, sums, p)
    roots = fit.coefficient_rows.roots[told]
    without = fit.coefficient_rows.estimates[told] - moved @ roots.T
    for place, directions in alone:
        without[place, rest_on(roots, directions)] = np.nan
    places = np.flatnonzero(sums.rows)
    rows = [fit.coefficient_map.rows[k] for k in told]
    estimate, se = fit.coefficient_rows.estimates[told], fit.coefficient_rows.se[told]
    with np.errstate(divide="ignore", invalid="ignore"):
        moves = (without[places] - estimate) / se
    return table_of(
        {
            "cluster": np.repeat([cluster.levels[k].label for k in places], len(told)).tolist(),
            "rows": np.repeat(sums.rows[places], len(told)),
            "term": [row.term for row in rows] * len(places),
            "level": [row.compared.level for row in rows] * len(places),
            "estimate": np.tile(estimate, len(places)),
            "se": np.tile(se, len(places)),
            "without": without[places].ravel(),
            "moves": moves.ravel(),
        }
    )


def scored_rows_of(fit: AnyFit, cluster: Column | None = None) -> Over:
    """Return what applies a function to the scored rows of every part of a fit; refuses clusters that cut through levels taken out."""
    if isinstance(fit, LogisticFit):
        return logistic_rows(fit.likelihood, fit.passed, fit.information, fit.weights)
    fixed = fit.fixed_effects
    over = scored_rows(fit.moments, fit._blocks(fit.model_terms), fit.solution, fit.used, fit.weights, fixed)
    if fixed is not None and cluster is not None and not nested_in(cluster, fixed, over):
        refuse_crossed(cluster, fixed)
    return over


def moved_most(table: pd.DataFrame) -> pd.DataFrame:
    """Return of each cluster the coefficient that leaving it out would move most, the largest movement first.

    Where none has a movement it is one that cannot be estimated without the cluster, if there is such a one.
    """
    table = table[table["term"] != "(intercept)"]  # of which nobody asks
    unmoved = np.where(table["without"].isna(), -1.0, -2.0)  # the last have no error to count in
    size = table["moves"].abs().fillna(pd.Series(unmoved, table.index))
    own = table.assign(size=size)
    most = own.loc[own.groupby("cluster", sort=False)["size"].idxmax()]
    ordered = most.sort_values("size", ascending=False, kind="stable")
    return ordered.drop(columns="size").reset_index(drop=True)


def clusters_finding(fit: AnyFit) -> tuple[pd.DataFrame | None, list[Finding]]:
    """Return what leaving out each cluster would move most, and what is to be said of it; None without clusters."""
    tables, findings = dict[str, pd.DataFrame](), list[Finding]()
    for kind, column in clusters_looked_at(fit):
        try:
            table = _without_each(fit, column)
        except FitError:  # levels taken out lie in several clusters
            continue
        findings += _on_those_alone(kind.name, table[table["without"].isna()])
        findings += _on_largest(kind.name, table, fit.family.ratios)
        tables[kind.name] = table
    return (moved_most(_together(fit, tables)) if tables else None), findings


def _on_those_alone(name: str, alone: pd.DataFrame) -> list[Finding]:
    if not len(alone):
        return []
    by = {label_of(row.term, row.level): row.cluster for row in reversed(rows_of(alone)) if row.term != "(intercept)"}
    told = [f"`{what}` by `{cluster}`" for what, cluster in reversed(by.items())]
    more = [] if len(told) <= _MOST_NAMED else [f"{count_noun(len(told) - _MOST_NAMED, 'other')}"]
    return [
        Finding(
            f"{_about(name)} alone",
            f"told by one `{name}` alone: {listed(told[:_MOST_NAMED] + more)}",
            "without it there is no such estimate, and no clustered error says how sure it is",
            "say so beside it, or merge its level",
        )
    ]


def _about(name: str) -> str:
    """Return what a finding is about."""
    return "members" if name == MEMBER else "clusters"


def _on_largest(name: str, table: pd.DataFrame, ratios: bool) -> list[Finding]:
    known = table[table["moves"].notna() & (table["term"] != "(intercept)")]
    if not len(known):
        return []
    squares = known["moves"] ** 2
    share = squares / squares.groupby([known["term"], known["level"]]).transform("sum")
    hangs = bool(share.max() > _MOST)
    first = rows_of(known)[int(np.argmax(share if hangs else squares))]
    decimals = decimals_for(first.se)
    figures = (
        f"largest movement {number(first.moves, 2)} standard errors: `{label_of(first.term, first.level)}` is {number(first.estimate, decimals)}{' in log odds' if ratios else ''}, "
        f"and {number(first.without, decimals)} without `{name}` `{first.cluster}`"
    )
    if not hangs:
        return [Finding(_about(name), figures, f"no single {_about(name)[:-1]} decides how sure an estimate is", "")]
    return [
        Finding(
            _about(name),
            figures,
            f"this {_about(name)[:-1]} moves it more than three times as much, in squares, as all others together: the estimate, and how sure it is, hang on it",
            "look at what is different about it, and tell the fit with and without it",
        )
    ]
