"""The table of comparisons: differences, their intervals and p values, corrected for how many they are."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence

import numpy as np
import pandas as pd
import scipy.special as sp
from numpy.typing import NDArray

from markbase.core.design.terms import Variable
from markbase.core.errors import FitError, LevelError, MarkbaseError, near
from markbase.core.inference.corrections import check_correction
from markbase.core.inference.distributions import p_of_t
from markbase.core.inference.joint_t import LargestOf
from markbase.core.inference.joint_tests import too_few_together
from markbase.core.inference.multiplicity import Together
from markbase.core.results.equivalence import with_equivalence
from markbase.core.results.estimates import Estimated

Array = NDArray[np.float64]
OTHERS = "others"
_SUMS_TO_ZERO = 1e-9
_MOST_PAIRS = 50_000
_MOST_TOGETHER = 100
"""Comparisons with one level of which the joint distribution is worked out."""


def check_pairs(group: Variable) -> None:
    """Refuse the pairs of a group that are too many to be held, or read."""
    count = group.size * (group.size - 1) // 2
    if count > _MOST_PAIRS:
        raise MarkbaseError(
            f"`{group.name}` has {group.size:,} levels, and {count:,} pairs of them are more than the {_MOST_PAIRS:,} that are compared: plan the "
            f"comparisons that the question is about, compare each level with the base, or merge levels."
        )


def planned_weights(
    group: Variable, comparisons: Mapping[str, Mapping[str, float]] | Sequence[str]
) -> list[tuple[str, str, Array]]:
    """Return of each planned comparison its name, what is compared with, and the weights of the levels, shape (levels,)."""
    if isinstance(comparisons, str):
        comparisons = [comparisons]
    labels, others = group.labels, group.size - 1
    if not isinstance(comparisons, Mapping):
        comparisons = {
            level: {v: 1.0 if v == level else -1.0 / others for v in labels} if level in labels else {level: 1.0}
            for level in comparisons
        }
    if not comparisons:
        raise MarkbaseError(f"Name at least one comparison of the levels of `{group.name}`.")
    found = []
    for name, weights in comparisons.items():
        full = np.zeros(group.size)
        for level, weight in weights.items():
            if level not in labels:
                raise LevelError(f"`{group.name}` has no level `{level}` in the rows used.{near(str(level), labels)}")
            full[labels.index(level)] = weight
        if abs(full.sum()) > _SUMS_TO_ZERO * np.abs(full).max(initial=0) or not full.any():
            raise FitError(
                f"The weights of a comparison sum to 0, and those of `{name}` sum to {full.sum():g}: for instance "
                f"{{{labels[0]!r}: 1, {labels[-1]!r}: -1}}."
            )
        against = [v for v, w in zip(labels, full, strict=True) if w < 0]
        found.append((name, f"mean of {OTHERS}" if len(against) == others > 1 else " + ".join(against), full))
    return found


def pairs_table(
    fit: Estimated,
    names: Sequence[tuple[str, str]],
    combos: Array,
    correction: str,
    levels: int,
    margin: float | None = None,
) -> pd.DataFrame:
    """Compare pairs by combinations of the columns of the moments, shape (pairs, columns): a row a pair.

    `levels` is how many are compared with one another, for ``tukey`` and ``scheffe``; with a `margin` it is told which are smaller.
    """
    check_correction(correction)
    if correction == "tukey" and (math.isinf(fit.df_rest) or fit.errors.middle is not None):
        raise MarkbaseError(
            "Tukey-Kramer rests on one variance for all rows: it is for linear models with classical errors. Use `holm`."
        )
    if correction == "scheffe" and fit.errors.rest_on_few and levels - 1 >= fit.errors.df:
        why = too_few_together(fit.errors, levels - 1)
        raise MarkbaseError(f"Scheffé's correction rests on the joint test of all {levels} levels: {why}. Use `holm`.")
    chooser, starts = combos[:, fit.solution.columns], np.zeros(len(combos), dtype=bool)
    difference, roots = fit.inner.estimates(chooser, starts), fit.inner.roots(chooser, starts)
    se = fit.inner.se(roots)
    with np.errstate(divide="ignore", invalid="ignore"):
        statistic = difference / se
    p = p_of_t(statistic, fit.df_rest)
    largest = _largest_of(fit, roots, se) if correction == "dunnett" else None
    together = Together(levels, fit.errors, largest)
    half = together.half_width(correction, fit.level, len(combos))
    low, high, judged = difference - half * se, difference + half * se, statistic
    own = fit._by_likelihood(chooser, roots, half)
    if own is not None:
        known, said = own
        p, low, high = (np.where(known, a, b) for a, b in ((said.p, p), (said.low, low), (said.high, high)))
        judged = np.sign(difference) * -sp.ndtri(p / 2)  # the signed root of the likelihood ratio
    table = pd.DataFrame(
        {
            "level": [a for a, _ in names],
            "against": [b for _, b in names],
            "difference": difference,
            "se": se,
            fit.statistic_name: statistic,
            "low": low,
            "high": high,
            "p": p,
            "p_corrected": together.corrected(p, correction, judged),
        }
    )
    table = fit.family.with_ratios(table, "difference")
    return table if margin is None else with_equivalence(table, fit, margin, correction)


def _largest_of(fit: Estimated, roots: Array, se: Array) -> LargestOf:
    """Return the distribution of the largest statistic of several comparisons, by their roots; of those that have an error."""
    if len(roots) > _MOST_TOGETHER:
        raise MarkbaseError(
            f"Dunnett's correction takes up to {_MOST_TOGETHER} comparisons with one level, and there are {len(roots):,}: use `holm`."
        )
    told = np.flatnonzero(np.isfinite(se) & (se > 0))
    if not len(told):
        return LargestOf(np.eye(1), fit.df_rest)
    covariance = fit.inner.covariance(roots[told])
    return LargestOf(covariance / np.outer(se[told], se[told]), fit.df_rest)
