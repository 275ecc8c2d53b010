"""The means of every combination of two groups, and the pairs within each."""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.design.terms import Variable
from markbase.core.errors import MarkbaseError
from markbase.core.inference.corrections import WITH_ONE_LEVEL
from markbase.core.inference.joint_tests import JointTest
from markbase.core.results.compared_pairs import pairs_table
from markbase.core.results.estimates import Estimated
from markbase.core.results.fit_statistics import OverallTest

Array = NDArray[np.float64]
EVERY_LEVEL = "every level"
_UNTESTED = OverallTest(math.nan, 0, math.nan, math.nan)


def simple_effects_of(fit: Estimated, group: str, by: str, whole: Callable[[str], OverallTest]) -> pd.DataFrame:
    """Test the differences between the levels of a group within each level of another, as `simple_effects`."""
    compared = _differences(fit, group, by)
    if not any({group, by} <= set(t.names) for t in fit.model_terms):
        tests = {EVERY_LEVEL: whole(group)}
    else:
        tests = {
            within: fit._as_overall(fit.inner.joint(each)) if len(each) else _UNTESTED
            for within, each in compared.items()
        }
    records = [[within, group, t.df, t.statistic, t.df_rest, t.p] for within, t in tests.items()]
    return pd.DataFrame(records, columns=["within", "of", "df", "statistic", "df_rest", "p"])


def overstated_effects(fit: Estimated, group: str, by: str) -> dict[str, JointTest]:
    """Return the levels of `by` whose simple effect is clear only as the rows are few for its robust errors, each with Hotelling's test of it."""
    compared = {within: each for within, each in _differences(fit, group, by).items() if len(each)}
    found = fit._overstated_among([(each, fit.inner.joint(each)) for each in compared.values()])
    return {within: test for within, test in zip(compared, found, strict=True) if test is not None}


def _differences(fit: Estimated, group: str, by: str) -> dict[str, Array]:
    """Return the combinations of the inner coefficients that are the differences of a group from its first level within each level of another.

    Shape (levels less one, p) each, none where one level alone has rows there.
    """
    inner, outer = fit.variable(group, "categorical"), fit.variable(by, "categorical")
    rows = _cell_rows(fit, inner, outer)
    found = {}
    for j, within in enumerate(outer.labels):
        here = np.array([row for (_, other), row in rows.items() if other == j])[:, fit.solution.columns]
        found[within] = here[1:] - here[:1]
    return found


def _cell_rows(fit: Estimated, first: Variable, second: Variable) -> dict[tuple[int, int], Array]:
    """Return the mean columns of every combination of two groups that rows have, by the places of its levels."""
    if first.name == second.name:
        raise MarkbaseError(f"Name two different groups; `{first.name}` was given twice.")
    counts = fit.rows_used.counts_at((first.name, second.name))
    return {
        (int(i), int(j)): fit._sample.row({first.name: np.eye(first.size)[i], second.name: np.eye(second.size)[j]})
        for i, j in np.argwhere(counts > 0)
    }


def cell_means_of(
    fit: Estimated, first: str, second: str, correction: str, between: Callable[[str, str], pd.DataFrame]
) -> tuple[pd.DataFrame, pd.DataFrame]:
    """Tell the adjusted mean of every combination of two groups, and the pairs within each, as `cell_means`."""
    a, b = fit.variable(first, "categorical"), fit.variable(second, "categorical")
    rows, counts = _cell_rows(fit, a, b), fit.rows_used.counts_at((first, second))
    keys = list(rows)
    settings = [{first: np.eye(a.size)[i], second: np.eye(b.size)[j]} for i, j in keys]
    adjusted, se, low, high = fit._adjusted(settings)
    means = pd.DataFrame(
        {
            first: [a.labels[i] for i, _ in keys],
            second: [b.labels[j] for _, j in keys],
            "n": [int(counts[k]) for k in keys],
            "adjusted": adjusted,
            "se": se,
            "low": low,
            "high": high,
        }
    )
    families = []
    depends = any({first, second} <= set(t.names) for t in fit.model_terms)
    for outer, inner, turned in ((b, a, False), (a, b, True)):
        names, combos, within = [], [], []
        for j in range(outer.size if depends else 0):
            here = [i for i in range(inner.size) if ((i, j) if not turned else (j, i)) in rows]
            pairs = [*itertools.combinations(here, 2)]
            if correction in WITH_ONE_LEVEL:
                pairs = [(inner.base, k) for k in here if k != inner.base and inner.base in here]
            for i, k in pairs:
                here_at, there_at = ((i, j), (k, j)) if not turned else ((j, i), (j, k))
                names.append((inner.labels[k], inner.labels[i]))
                combos.append(rows[there_at] - rows[here_at])
                within.append(outer.labels[j])
        if depends:
            # those with one level have a distribution of their own within each level
            apart = list(dict.fromkeys(within)) if correction in WITH_ONE_LEVEL else [None]
            some = [[p for p, label in enumerate(within) if own in (None, label)] for own in apart]
            tables = [
                pairs_table(fit, [names[p] for p in places], np.array(combos)[places], correction, inner.size)
                for places in some
                if places
            ]
            if not tables:
                continue
            table = pd.concat(tables, ignore_index=True)
        else:
            table = between(inner.name, correction)
            within = [EVERY_LEVEL] * len(table)
        table.insert(0, "of", inner.name)
        table.insert(0, "within", within)
        families.append(table)
    return means, pd.concat(families, ignore_index=True) if families else pd.DataFrame()
