"""Errors from replicate weights: how estimates differ from one set of weights to the next.

In whitened columns the estimates with other weights V are where they are with the first ones, and (QᵀVQ)⁻¹QᵀVe besides, e being the residuals;
those of a likelihood are reached by Newton's steps from there.

References
----------
Wolter (2007), Introduction to Variance Estimation, 2nd ed., ch. 3 to 5, doi:10.1007/978-0-387-35099-8.
Judkins (1990), Journal of Official Statistics 6(3), 223-239 (Fay's method). Fay & Train (1995), Proceedings of the Section on Government Statistics, American
Statistical Association, 154-159 (successive differences).
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np
import scipy.linalg
import scipy.special as sp
from numpy.typing import NDArray

from markbase.core.design.replicates import Replicates
from markbase.core.errors import FitError
from markbase.core.inference.standard_errors import Errors, Over, ScoredRows
from markbase.core.rows.sums import totals_of

Array = NDArray[np.float64]
_ROWS = 4096
"""So many rows are taken at a time: products of every two columns are held of them."""
_STEPS, _DONE, _FAR = 40, 1e-8, 1e3
"""Newton's steps; the length of the last one, in standard errors, after which the square of it is left; and of one that leads nowhere."""
_TOLD = 1e-9
"""Of what the columns tell with the first weights, no less than such a share is told in each direction."""
_STEEPEST = 36.0
"""Log odds beyond which a probability is 0 or 1 to the last digit."""


def replicate_errors(
    over: Over, replicates: Replicates, p: int, event: Any = None, weights: Any = None, *, likelihood: bool = False
) -> Errors:
    """Return the errors from replicate weights.

    Parameters
    ----------
    over : callable
        Applies a function to scored rows, as `sandwich` takes it.
    replicates : Replicates
        The weights.
    p : int
        Columns without the intercept.
    event : array_like, shape (rows,), optional
        1 for the event, 0 otherwise, of a logistic fit.
    weights : array_like, shape (rows,), optional
        The first weights, of a logistic fit; None where rows count alike.
    likelihood : bool
        Whether the fit is logistic.

    Returns
    -------
    Errors
        With the sum of squared movements.

    Raises
    ------
    FitError
        If rows that count in a replicate do not tell all coefficients, or its largest likelihood is nowhere.
    """
    count, size = len(replicates.names), p + 1
    pairs = np.triu_indices(size)
    moved = np.zeros((size, count))

    def summed(rows: Iterator[ScoredRows], happened: Any, heavy: Any, *values: Array) -> tuple[Array, Array]:
        products, slopes = np.zeros((len(pairs[0]), count)), np.zeros((size, count))
        for chunk, Q, score, _, share, _ in rows:
            V = np.column_stack([own[chunk] for own in values])
            y = happened[chunk] if likelihood else None
            w = share if not likelihood else np.ones(len(score)) if heavy is None else heavy[chunk]
            for start in range(0, len(score), _ROWS):
                at = slice(start, start + _ROWS)
                rest, curved = score[at] / w[at], V[at]
                if y is not None:
                    first = np.clip(sp.logit(np.clip(y[at] - rest, 0.0, 1.0)), -_STEEPEST, _STEEPEST)
                    chance = sp.expit(first[:, None] + Q[at] @ moved)
                    curved = V[at] * chance * (1 - chance)
                    slopes += Q[at].T @ (V[at] * (y[at][:, None] - chance))
                else:
                    slopes += Q[at].T @ (V[at] * rest[:, None])
                products += (Q[at][:, pairs[0]] * Q[at][:, pairs[1]]).T @ curved
        return products, slopes

    far = replicates.names[0]
    for taken in range(_STEPS if likelihood else 1):
        products, slopes = totals_of(over(summed, event, weights, *replicates.values))
        step = _steps(products, slopes, pairs, size)
        if (flat := np.isnan(step).any(axis=0)).any():
            far = replicates.names[int(np.argmax(flat))]
            if not taken:
                raise FitError(
                    f"With the replicate weights `{far}` the rows do not tell all coefficients: a level, or what a term varies by, is in no row that counts in them. Merge levels, or leave the "
                    "term out."
                )
            break
        moved = moved + step
        length = np.sqrt(np.square(step).sum(axis=0))
        far = replicates.names[int(np.argmax(length))]
        if (length > _FAR * np.sqrt(size)).any():
            break
        if not likelihood or (length < _DONE).all():
            return _errors(replicates, moved)
    raise FitError(
        f"With the replicate weights `{far}` the likelihood has no largest value, or none is found: merge levels with few events."
    )


def _steps(products: Array, slopes: Array, pairs: tuple[NDArray[np.intp], NDArray[np.intp]], size: int) -> Array:
    """Return how far each replicate moves, shape (p + 1, replicates); NaN where its rows leave a direction open."""
    found = np.full_like(slopes, np.nan)
    for k in range(slopes.shape[1]):
        own = np.zeros((size, size))
        own[pairs] = products[:, k]
        own = own + np.triu(own, 1).T
        scale = np.trace(own) / size
        values, vectors = scipy.linalg.eigh(own)
        if scale > 0 and np.abs(values).min() >= _TOLD * scale:
            found[:, k] = vectors @ ((vectors.T @ slopes[:, k]) / values)
    return found


def _errors(replicates: Replicates, moved: Array) -> Errors:
    return Errors(
        "replicates",
        replicates.df,
        middle=replicates.scale * moved @ moved.T,
        replicates=len(replicates.names),
        replicated=replicates.words,
    )
