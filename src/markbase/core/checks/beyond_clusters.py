"""Whether rows go together by a column that clustered errors do not allow for: larger units, or others that cross the clusters.

References
----------
Clark (1973), Journal of Verbal Learning and Verbal Behavior 12(4), 335-359, doi:10.1016/S0022-5371(73)80014-3 (items as a sample).
Cameron & Miller (2015), Journal of Human Resources 50(2), 317-372, doi:10.3368/jhr.50.2.317 (at which level to cluster).
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

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


class Beyond(NamedTuple):
    """How alike rows of one level of a column are beyond the clusters of the errors."""

    alike: Alike
    """How alike; where each cluster lies in one level, the means of clusters."""
    cluster: str
    """The column of the clusters."""
    nested: bool
    """Whether each cluster lies in one level."""


def beyond_clusters(fit: AnyFit) -> Beyond | None:
    """Return the column by which rows go together most beyond the clusters of the errors; None where none is sure to, or it is not asked.

    Of levels that hold whole clusters the means of these are compared, one-way; of others rows less the mean of their cluster. Not asked of very
    many rows, of weighted ones, or where levels are taken out.
    """
    if fit.cluster is None or not fit.repeating or fit.weights is not None or fit.exact or fit.fixed_effect_names:
        return None
    if fit._on_some is not fit or len(fit.solution.columns) > MOST_COEFFICIENTS:
        return None
    e, inside, found = misses(fit), fit.rows_used.inside, list[Beyond]()
    clusters = np.unique(fit.cluster.values[inside], return_inverse=True)[1]
    if e is None:
        return None
    counts = np.bincount(clusters)
    means = np.bincount(clusters, weights=e) / counts
    for column in fit.repeating[:MOST_COLUMNS]:
        every = codes_of(column, slice(None))
        codes = every[inside]
        if codes.min() < 0 or same_within(clusters, codes) or ends_with_event(fit, every):
            continue
        nested = same_within(codes, clusters)
        if nested:
            of_clusters = np.zeros(len(counts), dtype=np.intp)
            of_clusters[clusters] = codes
            alike = one_way(column.name, means, of_clusters)
        else:
            alike = one_way(column.name, e - means[clusters], codes, taken=len(counts) - 1)
        alike = None if alike is None else alike._replace(same=same_in(fit, column))
        if alike is not None and is_told(alike):
            found.append(Beyond(alike, fit.cluster.name, nested))
    return max(found, key=lambda b: b.alike.design_effect, default=None)
