"""Exact collinearity among the terms of a model, named in words."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.moments import Moments
from markbase.core.design.terms import Term
from markbase.core.errors import CollinearityError, FitError, listed, quoted
from markbase.core.estimation.dependences import dependences
from markbase.core.estimation.least_squares_solution import Dependent, Swept
from markbase.core.formatting import number, short
from markbase.core.rows.parts import each_part
from markbase.core.rows.row_functions import all_of, first_true, sample_of

Array = NDArray[np.float64]
_ROUNDINGS = 4
"""How many roundings of the products an identity may be off in a row."""
_MOST_MEMBERS = 60


@dataclass(frozen=True)
class Collinearity:
    """A set of terms of which one is fixed by the others."""

    terms: tuple[str, ...]
    """The names of the terms."""
    statement: str
    """How they depend on one another, as a clause."""
    advice: str
    """What leaving out the one or the other would mean."""
    exact: bool = True
    """Whether every row used bears it out, to within the rounding of the values; false if it holds nearly."""


def find_collinearities(
    finding: Dependent, moments: Moments, terms: Sequence[Term], fixed_effects: Sequence[str] = ()
) -> list[Collinearity]:
    """Name the dependences among the columns of a model.

    Parameters
    ----------
    finding : Dependent
        What the solver found.
    moments : Moments
        The moments of the terms.
    terms : sequence of Term
        The terms.
    fixed_effects : sequence of str
        The columns whose levels are taken out.

    Returns
    -------
    list of Collinearity
        One entry for each set of terms, in the order of the terms.

    Notes
    -----
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
                named = _name(sorted(members), by_term, moments, terms, fixed_effects, exact)
                found[members] = named

    for pair in itertools.combinations(sorted(set(block_of.tolist())), 2):
        search(np.flatnonzero(np.isin(block_of, pair)))
    search(np.arange(len(block_of)))
    return [found[key] for key in sorted(found, key=sorted)]


def _verified(
    finding: Dependent, moments: Moments, block_of: NDArray[np.intp], columns: NDArray[np.intp], raw: Array, unit: Array
) -> tuple[NDArray[np.intp], Array, bool]:
    """Hold a dependence against the rows, and leave out what is no part of it.

    Returns
    -------
    columns : ndarray of int
        Its members, as places among the inner columns.
    raw : ndarray
        Their weights in the units of the data; snapped to simple fractions where these hold in every row.
    exact : bool
        Whether it holds in every row, to within the rounding of the values.
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

    Parameters
    ----------
    finding : Dependent
        What the solver found.
    moments : Moments
        The moments of the terms.
    terms : sequence of Term
        The terms.
    fixed_effects : sequence of str
        The columns whose levels are taken out.

    Returns
    -------
    FitError
        A `CollinearityError` for an exact collinearity, with each named in its message; a `FitError` for
        terms so nearly dependent that digits would be noise.
    """
    collinear = find_collinearities(finding, moments, terms, fixed_effects)
    if not finding.tolerance or not all(o.exact for o in collinear):
        collinear = [o for o in collinear if not o.exact] or collinear
        names = sorted({name for o in collinear for name in o.terms}, key=[t.name for t in terms].index)
        return FitError(
            f"{listed(quoted(names or [t.name for t in terms]))} are so nearly collinear (condition number "
            f"{number(finding.condition, 9)}) that fewer than 7 digits of any result could be trusted: leave one out, "
            f"or centre and rescale a numeric column that was raised to a power."
        )
    told = "; ".join(o.statement for o in collinear)
    return CollinearityError(
        f"Exact collinearity: {told}. These rows cannot tell such coefficients apart, so the fit stops, and it does not "
        f"choose for you: which one is left out decides what the others mean. {' '.join(o.advice for o in collinear)}"
    )


def swept_error(
    finding: Swept, moments: Moments, terms: Sequence[Term], fixed_effects: Sequence[str], outcome: str
) -> FitError:
    """Say which terms have nothing left once levels are taken out.

    Parameters
    ----------
    finding : Swept
        What the solver found.
    moments : Moments
        The moments of the terms, the outcome last.
    terms : sequence of Term
        The terms.
    fixed_effects : sequence of str
        The columns whose levels are taken out.
    outcome : str
        The name of the outcome.

    Returns
    -------
    FitError
        That names the terms, or the levels of them, or the outcome.
    """
    first = f"`{fixed_effects[0]}`"
    block_of = np.repeat(np.arange(len(moments.sizes)), moments.sizes)[finding.columns]
    if block_of[-1] == len(moments.sizes) - 1:
        return FitError(
            f"The outcome `{outcome}` has one value within each level of {first}, so nothing is left to explain once those "
            f"levels are taken out."
        )
    told = []
    term_of = [t for t in terms for _ in t.components]
    for k in dict.fromkeys(block_of.tolist()):
        term, inside = term_of[k - 1], finding.columns[block_of == k] - moments.starts[k]
        if len(inside) >= moments.sizes[k] - 1:
            told.append(f"`{term.name}`")
        elif term.is_categorical:
            told.append(f"{listed(quoted(term.labels[int(i)] for i in inside))} of `{term.name}`")
        else:
            told.append(f"part of `{term.name}`")
    one = len(told) == 1
    return FitError(
        f"{listed(told)} {'does' if one else 'do'} not vary within the levels of {first}: once these are taken out, nothing is left "
        f"of {'it' if one else 'them'} to tell. Leave {'it' if one else 'them'} out, or fit without these fixed effects and cluster the errors by {first}."
    )


def _name(
    members: Sequence[int],
    raw: dict[int, float],
    moments: Moments,
    terms: Sequence[Term],
    fixed_effects: Sequence[str],
    exact: bool,
) -> Collinearity:
    if not exact:
        names = tuple(terms[k].name for k in members)
        return Collinearity(
            names,
            f"{listed(quoted(names))} are so nearly collinear that hardly a digit of their coefficients could be trusted, though no row "
            f"bears out an exact equation",
            f"Leave out one of {listed(quoted(_removable(members, terms)), 'or')}; the others then carry what it had in common with them.",
            False,
        )
    involved = [terms[k] for k in members]
    names = tuple(t.name for t in involved)
    if fixed_effects:
        return _name_with_fixed_effects(involved, [raw[k] for k in members], fixed_effects)
    groups = [k for k in members if terms[k].is_categorical]
    composite = any(len(t.names) > 1 or t.kind == "polynomial" for t in involved)
    if not groups and not composite:
        return _equation(involved, [raw[k] for k in members])
    if len(members) == 2 and len(groups) == 2 and not composite:
        return _two_groups(members[0], members[1], moments, terms)
    if len(members) == 2 and not composite:
        group, numeric = terms[groups[0]].name, next(t.name for t in involved if not t.is_categorical)
        return Collinearity(
            names,
            f"`{numeric}` is fixed by `{group}` (it has one value within each level, or follows from the levels exactly)",
            f"Without `{numeric}`, the levels of `{group}` carry its differences too; without `{group}`, `{numeric}` stands "
            f"for all that sets the levels apart.",
        )
    return Collinearity(
        names,
        f"{listed(quoted(names))} fix one another (each is known exactly once the others are)",
        f"Leave out {_one_of(_removable(members, terms))}; the others then carry what it had in common with them.",
    )


def _removable(members: Sequence[int], terms: Sequence[Term]) -> list[str]:
    """Return the members that can be left out by themselves: those that no other term contains."""
    return [terms[k].name for k in members if not any(set(terms[k].names) < set(t.names) for t in terms)]


def _one_of(names: Sequence[str]) -> str:
    return f"`{names[0]}`" if len(names) == 1 else f"one of {listed(quoted(names), 'or')}"


def _name_with_fixed_effects(
    involved: Sequence[Term], raw: Sequence[float], fixed_effects: Sequence[str]
) -> Collinearity:
    """Name a dependence that holds once the levels of some columns are taken out."""
    names = tuple(t.name for t in involved)
    once = f"once the levels of {listed(quoted(fixed_effects))} are taken out"
    if all(t.kind == "numeric" for t in involved):
        plain = _equation(involved, raw, constant=False)
        return Collinearity(names, plain.statement.replace("in every row used", once), plain.advice)
    return Collinearity(
        names,
        f"{listed(quoted(names))} fix one another {once}",
        f"Leave out one of {listed(quoted(names), 'or')}; the others then carry what it had in common with them.",
    )


def _equation(involved: Sequence[Term], weights: Sequence[float], constant: bool = True) -> Collinearity:
    """Write a dependence of numeric columns with the total, or else the last of them, on the left."""
    signs = np.sign(weights)
    alone = [k for k in range(len(weights)) if np.sum(signs == signs[k]) == 1]
    left = alone[0] if len(weights) > 2 and len(alone) == 1 else len(weights) - 1
    name = involved[left].name
    parts, plain = "", True
    for k, term in enumerate(involved):
        if k == left:
            continue
        factor = -weights[k] / weights[left]
        nice = float(Fraction(factor).limit_denominator(1000))
        factor = nice if abs(nice - factor) <= 1e-9 * abs(factor) else factor
        sign = ("−" if factor < 0 else "+") if parts else ("−" if factor < 0 else "")
        size = "" if abs(factor) == 1 else f"{short(abs(factor), 6)}·"
        plain = plain and factor == 1
        parts += f" {sign} {size}`{term.name}`" if parts else f"{sign}{size}`{term.name}`"
    shift = _constant(involved, weights, left) if constant else 0.0
    if shift:
        parts += f" {'+' if shift > 0 else '−'} {short(abs(shift), 6)}"
    others = [t.name for k, t in enumerate(involved) if k != left]
    if plain and len(others) > 1:
        advice = (
            f"Without `{name}`, each part is read with the other parts held equal; without `{others[0]}`, the coefficient of "
            f"`{name}` is that of one more in `{others[0]}`, and {'that' if len(others) == 2 else 'those'} of "
            f"{listed(quoted(others[1:]))} how much one more there differs from it."
        )
    else:
        advice = f"Leave out one of {listed(quoted([*others, name]), 'or')}; the others then carry its part as well."
    return Collinearity(tuple(t.name for t in involved), f"`{name}` equals {parts} in every row used", advice)


def _constant(involved: Sequence[Term], weights: Sequence[float], left: int) -> float:
    """Return what the left side exceeds the right by, from the rows where all are present."""
    first = first_true(all_of([t.column.present for t in involved]))
    values = np.array([t.column.values[first] for t in involved]) * np.asarray(weights) / weights[left]
    constant = float(values.sum())
    return 0.0 if abs(constant) <= 1e-9 * np.abs(values).max() else constant


def _two_groups(a: int, b: int, moments: Moments, terms: Sequence[Term]) -> Collinearity:
    first, second = terms[a].name, terms[b].name
    first_of = np.concatenate([[0], np.cumsum([len(t.components) for t in terms])])
    counts = _crosstab(moments, int(first_of[a]) + 1, int(first_of[b]) + 1)
    by_first, by_second = np.sum(counts > 0, axis=1), np.sum(counts > 0, axis=0)
    if np.all(by_first == 1) and np.all(by_second == 1):
        return Collinearity(
            (first, second),
            f"`{first}` and `{second}` sort the rows into the same groups",
            f"Keep the one of `{first}` and `{second}` whose labels your reader knows; the fit is the same with either.",
        )
    for fine, coarse, inside in ((first, second, by_first), (second, first, by_second)):
        if np.all(inside == 1):
            return Collinearity(
                (first, second),
                f"every level of `{fine}` lies within one level of `{coarse}`",
                f"Without `{coarse}`, the levels of `{fine}` carry its differences; without `{fine}`, `{coarse}` stands "
                f"for its levels taken together.",
            )
    for k, m in np.argwhere((counts > 0) & (counts == counts.sum(0)) & (counts == counts.sum(1)[:, None])):
        return Collinearity(
            (first, second),
            f"`{first}` is `{terms[a].labels[k]}` in exactly the rows where `{second}` is `{terms[b].labels[m]}`",
            f"Merge or blank that level in `{first}` or `{second}`, or leave one of the two out.",
        )
    return Collinearity(
        (first, second),
        f"levels of `{first}` and `{second}` occur only together",
        f"Leave out `{first}` or `{second}`, or merge levels so that each occurs with several of the other.",
    )


def _crosstab(moments: Moments, a: int, b: int) -> NDArray[np.float64]:
    starts, sizes = moments.starts, moments.sizes
    return moments.cross[starts[a] : starts[a] + sizes[a], starts[b] : starts[b] + sizes[b]]
