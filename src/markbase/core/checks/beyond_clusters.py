"""Whether rows go together by a column that clustered errors do not allow for: larger units, or others that cross the clusters.

References
----------
Clark (1973), Journal of Verbal Learning and Verbal Behavior 12(4), 335-359, doi:10.1016/S0022-5371(73)80014-3 (items as a sample).
Cameron & Miller (2015), Journal of Human Resources 50(2), 317-372, doi:10.3368/jhr.50.2.317 (at which level to cluster).
"""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from markbase.core.checks.hidden_groups import (
    MOST_COEFFICIENTS,
    MOST_COLUMNS,
    Alike,
    ends_with_event,
    is_told,
    misses,
    one_way,
    same_in,
)
from markbase.core.design.repeated_rows import codes_of, same_within
from markbase.core.results.any_fit import AnyFit
from markbase.core.study.column import Column


class Beyond(NamedTuple):
    """How alike rows of one level of a column are beyond the clusters of the errors."""

    alike: Alike
    """How alike; where each cluster lies in one level, the means of clusters."""
    cluster: str
    """The column of the clusters."""
    nested: bool
    """Whether each cluster lies in one level."""


class _Kind(NamedTuple):
    """Clusters of one kind."""

    name: str
    """Their column."""
    clusters: NDArray[np.intp]
    """Shape (rows used,): the cluster of each row."""
    means: NDArray[np.float64]
    """Shape (clusters,): the mean of what the model misses."""

    @classmethod
    def of(cls, column: Column, missed: NDArray[np.float64], inside: Any) -> _Kind:
        clusters = np.unique(column.values[inside], return_inverse=True)[1]
        return cls(column.name, clusters, np.bincount(clusters, weights=missed) / np.bincount(clusters))


def beyond_clusters(fit: AnyFit) -> Beyond | None:
    """Return the column by which rows go together most beyond the clusters of the errors; None where none is sure to, or it is not asked.

    Of levels that hold whole clusters the means of these are compared, one-way; of others, where clusters are of one kind, rows less the mean of their cluster. Not asked of very
    many rows, of weighted ones, or where levels are taken out.
    """
    if fit.cluster is None or not fit.repeating or fit.weights is not None or fit.exact or fit.fixed_effect_names:
        return None
    if fit._on_some is not fit or len(fit.solution.columns) > MOST_COEFFICIENTS:
        return None
    e, inside, found = misses(fit), fit.rows_used.inside, list[Beyond]()
    if e is None:
        return None
    kinds = [_Kind.of(column, e, inside) for column in fit.drawn_by.clusters]
    for column in fit.repeating[:MOST_COLUMNS]:
        every = codes_of(column, slice(None))
        codes = every[inside]
        if codes.min() < 0 or ends_with_event(fit, every):
            continue
        if any(same_within(kind.clusters, codes) for kind in kinds):
            continue
        inner = next((kind for kind in kinds if same_within(codes, kind.clusters)), None)
        if inner is not None:
            of_clusters = np.zeros(len(inner.means), dtype=np.intp)
            of_clusters[inner.clusters] = codes
            alike = one_way(column.name, inner.means, of_clusters)
        elif len(kinds) == 1:
            (kind,) = kinds
            alike = one_way(column.name, e - kind.means[kind.clusters], codes, taken=len(kind.means) - 1)
        else:
            continue
        alike = None if alike is None else alike._replace(same=same_in(fit, column))
        if alike is not None and is_told(alike):
            found.append(Beyond(alike, (inner or kinds[0]).name, inner is not None))
    return max(found, key=lambda b: b.alike.design_effect, default=None)
