"""Exact collinearity among the terms of a model: found, held against the rows, and refused in a sentence."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from fractions import Fraction
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.moments import Moments
from markbase.core.design.terms import Term
from markbase.core.errors import CollinearityError, FitError, listed, quoted
from markbase.core.estimation.collinearity_names import Collinearity, named_dependence
from markbase.core.estimation.dependences import dependences
from markbase.core.estimation.least_squares_solution import Dependent, Swept
from markbase.core.estimation.thin_levels import thin_levels_error
from markbase.core.formatting import short
from markbase.core.rows.parts import each_part
from markbase.core.rows.row_functions import sample_of

Array = NDArray[np.float64]
_ROUNDINGS = 4
"""How many roundings of the products an identity may be off in a row."""
_MOST_MEMBERS = 60
_MOST_TOLD = 6
"""Collinearities that a refusal tells; of more it says how many."""


def find_collinearities(
    finding: Dependent, moments: Moments, terms: Sequence[Term], fixed_effects: Sequence[str] = ()
) -> list[Collinearity]:
    """Name the dependences among the columns of a model, one entry for each set of terms, in the order of the terms.

    Each dependence is held against the rows before it is told: members are left out one by one while what is left still
    holds in every row, so that all and only those that are part of it are named.
    """
    block_of = np.repeat(np.arange(len(moments.sizes)), moments.sizes)[finding.columns] - 1
    term_of = np.repeat(np.arange(len(terms)), [len(t.components) for t in terms])
    scales = moments.scales[block_of + 1]
    tolerance = finding.tolerance
    if not tolerance:
        pivots = np.abs(np.diag(np.linalg.qr(finding.factor, mode="r")))
        tolerance = float(pivots.min()) * len(pivots)
    found: dict[frozenset[int], Collinearity] = {}

    def search(columns: NDArray[np.intp]) -> None:
        """Name the dependences among some of the columns, unless a smaller set tells of them."""
        for weights in dependences(finding.factor[:, columns], tolerance / np.sqrt(len(columns))):
            raw = weights / finding.lengths[columns] / scales[columns]
            here = np.abs(weights) > 1e-13 * np.abs(weights).max()
            chosen, exact = columns[here], False
            if finding.blocks is not None and not fixed_effects:
                chosen, raw, exact = _verified(finding, moments, block_of, chosen, raw[here], weights[here])
            else:
                clear = np.abs(weights) > 1e-7 * np.abs(weights).max()
                chosen, raw, exact = columns[clear], raw[clear], True
            members = frozenset(int(term_of[b]) for b in block_of[chosen])
            if not any(smaller <= members for smaller in found):
                by_term = {int(term_of[block_of[c]]): float(w) for c, w in zip(chosen, raw, strict=True)}
                named = named_dependence(sorted(members), by_term, moments, terms, fixed_effects, exact)
                found[members] = named

    for pair in itertools.combinations(sorted(set(block_of.tolist())), 2):
        search(np.flatnonzero(np.isin(block_of, pair)))
    search(np.arange(len(block_of)))
    return [found[key] for key in sorted(found, key=sorted)]


def _verified(
    finding: Dependent, moments: Moments, block_of: NDArray[np.intp], columns: NDArray[np.intp], raw: Array, unit: Array
) -> tuple[NDArray[np.intp], Array, bool]:
    """Hold a dependence against the rows, and leave out what is no part of it.

    Returns its members, as places among the inner columns; their weights in the units of the data, snapped to simple
    fractions where these hold in every row; and whether it holds in every row, to within the rounding of the values.
    """
    assert finding.blocks is not None
    places = finding.columns[columns]
    values = [_column_values(finding, moments, int(block_of[k]), int(c)) for k, c in zip(columns, places, strict=True)]
    order = np.argsort(np.abs(unit), kind="stable")
    weights, exact = _best_weights(values, raw)
    keep = np.ones(len(columns), dtype=bool)
    for k in order[:-1] if exact or len(order) < _MOST_MEMBERS else ():
        trial = keep.copy()
        trial[k] = False
        if trial.sum() < 2:
            break
        fewer, still = _best_weights([v for v, t in zip(values, trial, strict=True) if t], raw[trial])
        if still or (not exact and abs(unit[k]) < 1e-7 * np.abs(unit).max()):
            keep = trial
            weights, exact = fewer, still or exact
    return columns[keep], weights, exact


def _column_values(finding: Dependent, moments: Moments, block: int, column: int) -> Array:
    """Return the values of one inner column in the rows used."""
    assert finding.blocks is not None
    coded, inside = finding.blocks[block], slice(None) if finding.used is None else finding.used
    values: Any = 1.0 if coded.multiplier is None else coded.multiplier
    if coded.codes is not None:
        values = np.where(coded.codes == column - int(moments.starts[block + 1]), values, 0.0)
    found: Array = values[inside]
    return found


def _best_weights(values: Sequence[Array], raw: Array) -> tuple[Array, bool]:
    """Return weights of columns whose sum is constant, and whether it is in every row, to within rounding."""
    left = int(np.argmax(np.abs(raw)))
    X = np.column_stack([sample_of(v) for v in values])
    for weights in (_snapped(raw / raw[left]) * raw[left], raw, _refitted(X, raw, left)):
        if all(each_part(partial(_constant_sum, weights, _totals(weights, X[:1])), list(values))):
            return weights, True
    return raw, False


def _totals(weights: Array, X: Array) -> tuple[NDArray[np.longdouble], NDArray[np.longdouble]]:
    """Return weighted sums of columns, and how far rounding may take each."""
    products = X.astype(np.longdouble) * weights.astype(np.longdouble)
    return products.sum(axis=1), _ROUNDINGS * np.finfo(np.float64).eps * np.abs(products).sum(axis=1)


def _constant_sum(
    weights: Array, first: tuple[NDArray[np.longdouble], NDArray[np.longdouble]], values: Sequence[Array]
) -> bool:
    """Return whether a weighted sum of columns is what it is in one row, in every row."""
    total, room = _totals(weights, np.column_stack(values))
    return bool(np.all(np.abs(total - first[0]) <= room + first[1]))


def _snapped(weights: Array) -> Array:
    """Return simple fractions where weights are close to them."""
    simple = np.array([float(Fraction(w).limit_denominator(1000)) for w in weights])
    return np.where(np.abs(simple - weights) <= 1e-7 * np.maximum(np.abs(weights), 1e-300), simple, weights)


def _refitted(X: Array, raw: Array, left: int) -> Array:
    """Return the weights taken again from the rows, by least squares on columns from their means."""
    centred = X - X.mean(axis=0)
    lengths = np.sqrt(np.einsum("ij,ij->j", centred, centred))
    lengths[lengths == 0] = 1.0
    others = np.arange(X.shape[1]) != left
    fitted = np.linalg.lstsq(centred[:, others] / lengths[others], centred[:, left] / lengths[left], rcond=None)[0]
    weights = np.empty_like(raw)
    weights[left] = raw[left]
    weights[others] = -fitted * lengths[left] / lengths[others] * raw[left]
    return np.asarray(_snapped(weights / raw[left]) * raw[left])


def collinearity_error(
    finding: Dependent, moments: Moments, terms: Sequence[Term], fixed_effects: Sequence[str] = ()
) -> FitError:
    """Say why the fit is refused, and what each way out would mean.

    A `CollinearityError` for an exact collinearity, with each named in its message, or the levels that have too few rows for
    an interaction; a `FitError` for terms so nearly dependent that digits would be noise.
    """
    if (thin := thin_levels_error(finding, terms)) is not None:
        return thin
    collinear = find_collinearities(finding, moments, terms, fixed_effects)
    if not finding.tolerance or not all(o.exact for o in collinear):
        collinear = [o for o in collinear if not o.exact] or collinear
        names = sorted({name for o in collinear for name in o.terms}, key=[t.name for t in terms].index)
        return FitError(
            f"{listed(quoted(names or [t.name for t in terms]))} are so nearly collinear (condition number "
            f"{short(finding.condition)}) that fewer than 7 digits of any result could be trusted: leave one out, "
            f"or centre and rescale a numeric column that was raised to a power."
        )
    told = "; ".join(o.statement for o in collinear[:_MOST_TOLD])
    if len(collinear) > _MOST_TOLD:
        told += f"; and {len(collinear) - _MOST_TOLD} more"
    return CollinearityError(
        f"Exact collinearity: {told}. These rows cannot tell such coefficients apart, so the fit stops, and it does not choose for you: which "
        f"one is left out decides what the others mean. {' '.join(o.advice for o in collinear[:_MOST_TOLD])}"
    )


def _told_alone(crossed: Term, without: str) -> str:
    """Say which column carries an interaction by itself: of groups, its columns are the combinations of levels that are no base."""
    names, numbers = listed(quoted(crossed.names)), len(crossed.numerics)
    if numbers == 0:
        how = f"combine {names} into one group, merge all its combinations with a base of either into one level, and enter it"
    else:
        how = f"enter the product of {names}{'' if numbers == 2 else ' (the group as 0 and 1)'}"
    return f" What `{crossed.name}` tells can be had all the same: {how} in place of the interaction, {without}."


def swept_error(
    finding: Swept, moments: Moments, terms: Sequence[Term], fixed_effects: Sequence[str], outcome: str
) -> FitError:
    """Say which terms, levels of them, or whether the outcome has nothing left once levels are taken out."""
    first = f"`{fixed_effects[0]}`"
    block_of = np.repeat(np.arange(len(moments.sizes)), moments.sizes)[finding.columns]
    if block_of[-1] == len(moments.sizes) - 1:
        return FitError(
            f"The outcome `{outcome}` has one value within each level of {first}, so nothing is left to explain once those "
            f"levels are taken out."
        )
    told, whole = [], True
    term_of = [t for t in terms for _ in t.components]
    for k in dict.fromkeys(block_of.tolist()):
        term, inside = term_of[k - 1], finding.columns[block_of == k] - moments.starts[k]
        if len(inside) >= moments.sizes[k] - 1:
            told.append(f"`{term.name}`")
            continue
        whole = False
        if term.is_categorical:
            told.append(f"{listed(quoted(term.labels[int(i)] for i in inside))} of `{term.name}`")
        else:
            told.append(f"part of `{term.name}`")
    one, apart = len(told) == 1, {term_of[k - 1].names for k in block_of.tolist()}
    crossed = [t for t in terms if any(set(names) < set(t.names) for names in apart) and t.names not in apart]
    simple = whole and crossed and crossed[0].degrees == (1, 1)
    panel = _told_alone(crossed[0], f"without {listed(told)}") if simple else ""
    return FitError(
        f"{listed(told)} {'does' if one else 'do'} not vary within the levels of {first}: once these are taken out, nothing is left "
        f"of {'it' if one else 'them'} to tell. Leave {'it' if one else 'them'} out, or fit without these fixed effects and cluster the errors by {first}.{panel}"
    )
