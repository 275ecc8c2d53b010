"""How a model does on rows it has not seen, beside how it does on its own."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from markbase.core.arguments import check_seed, checked, told_value
from markbase.core.checks.folds import folds_of, predicted_in_turn
from markbase.core.checks.hidden_groups import hidden_group
from markbase.core.checks.some_rows import as_single_cases
from markbase.core.diagnostics.error_measures import AREA, SLOPE, error_measures
from markbase.core.display import ShownTables
from markbase.core.errors import MarkbaseError
from markbase.core.results.changes import AnyFit

Array = NDArray[np.float64]


_MOST_REPEATS = 10_000
_BARE = {AREA: 0.5, SLOPE: math.nan}
"""What these are of no term at all, whatever the parts."""


@dataclass(frozen=True, eq=False, repr=False)
class CrossValidation(ShownTables):
    """Figures on rows held out, beside those on the rows of the fit."""

    outcome: str
    """What is explained."""
    folds: int
    """In how many parts rows were held out in turn."""
    repeats: int
    """How often, each time in another random order."""
    seed: int
    """The seed of the first order."""
    table: pd.DataFrame
    """`figure`, `of_the_fit`, `held_out` (mean over the repeats), `lowest`, `highest` (over the repeats), `without_terms` (with no term at all)."""
    left_out: int
    """Rows that could not be predicted in their turn, as their level occurs in no other part (most over the repeats)."""
    cluster: str = ""
    """The column whose whole levels were held out, where errors are clustered; empty where single rows were."""
    possible_cluster: str = ""
    """A column whose rows may go together, by its role or by what the model misses, and were held out apart from one another; empty for none."""
    counted: str = ""
    """By what rows count, in words; empty where all count alike."""


@checked
def cross_validate(fit: AnyFit, *, folds: int = 10, repeats: int = 5, seed: int = 0) -> CrossValidation:
    """Predict each row by a fit to the other parts of the rows.

    Parameters
    ----------
    fit : LinearFit or LogisticFit
        The fit; the rows it used are put at random into parts (folds) of equal size. Rows that are read in parts are put there each by
        a hash of its place, so that folds are of about equal size. Where errors are clustered whole clusters are put there, so that the
        figures are those of clusters the model has not seen. Cases that rows count for, by frequencies, are put there one by one.
    folds : int
        Into how many parts; clusters are put into no more than there are of them.
    repeats : int
        How often, in other random orders; at most 10,000 times.
    seed : int
        The seed.

    Returns
    -------
    CrossValidation
        Of a linear fit the residual standard deviation (root mean squared) and R²; of a logistic one the share classified correctly at 0.5, the area under the
        curve and the Brier score. Of both the mean error and the calibration slope. Each beside the same on the rows of the fit, and with no term at all.

    Raises
    ------
    MarkbaseError
        If the parts, repeats or seed cannot be used, or levels were taken out.
    FitError
        If the model cannot be fitted without one of the parts, or has the clusters that are to be held out whole among its terms; or if cases that
        rows count for come in parts, or are more than 2,000,000.

    Examples
    --------
    >>> import markbase as mb
    >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
    >>> fit = mb.fit_linear(study, "belonging", ["age", "voice"])
    >>> found = mb.cross_validate(fit, folds=5)
    >>> print(found.table.iloc[:, 0].tolist())
    ['root mean squared error', 'R²', 'mean error', 'calibration slope']
    """
    if isinstance(repeats, bool) or not isinstance(repeats, int) or not 1 <= repeats <= _MOST_REPEATS:
        raise MarkbaseError(
            f"Rows are held out in turn once or more, at most {_MOST_REPEATS:,} times, not {told_value(repeats)}."
        )
    check_seed(seed)
    if fit.fixed_effect_names:
        raise MarkbaseError(
            "A fit with levels taken out cannot predict rows of levels it has not seen; fit without fixed effects."
        )
    whole, fit = fit, as_single_cases(fit)
    y, parts = fit.observed_numbers, folds_of(fit, folds)
    seen, bare, left = [], [], 0
    for turn in range(repeats):
        predicted, means = predicted_in_turn(fit, parts, np.random.default_rng([seed, turn]))
        known = np.isfinite(predicted)
        left = max(left, fit.sample.used - int(np.count_nonzero(known)))
        seen.append(_figures(fit, known, y, predicted, means))
        bare.append(_figures(fit, known, y, means, means))
    own = whole.own_measures
    table = pd.DataFrame(
        {
            "figure": list(own),
            "of_the_fit": list(own.values()),
            "held_out": [float(np.mean([s[k] for s in seen])) for k in own],
            "lowest": [min(s[k] for s in seen) for k in own],
            "highest": [max(s[k] for s in seen) for k in own],
            "without_terms": [_BARE.get(k, float(np.mean([s[k] for s in bare]))) for k in own],
        }
    )
    about = fit.family.observed(fit.outcome), parts, repeats, seed, table, left
    return CrossValidation(
        *about, whole.errors.cluster, _apart(whole), whole.weighting.short if whole.weighting else ""
    )


def _apart(fit: AnyFit) -> str:
    """Name a column whose rows may go together, and were held out apart from one another; empty for none."""
    if fit.possible_cluster:
        return fit.possible_cluster.name
    hidden = None if fit.errors.cluster else hidden_group(fit)
    return hidden.column if hidden and not hidden.is_few else ""


def _figures(fit: AnyFit, rows: NDArray[np.bool_], y: Array, predicted: Array, mean: Array) -> dict[str, float]:
    """Measure how far predictions of some rows are off."""
    often = None if fit.weights is None else fit.weights.values[rows]
    return error_measures(
        fit.family.shares, y[rows], predicted[rows], mean[rows], often, fit.rows_used.times is not None
    )
