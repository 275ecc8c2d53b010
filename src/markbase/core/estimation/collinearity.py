"""Exact collinearity among the terms of a model, named in words."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.moments import Moments
from markbase.core.design.terms import Term
from markbase.core.errors import CollinearityError, FitError, listed, quoted
from markbase.core.estimation.least_squares_solution import Dependent, Swept
from markbase.core.formatting import number, short
from markbase.core.study.exact_sums import dependences


@dataclass(frozen=True)
class Collinearity:
    """A set of terms of which one is fixed by the others."""

    terms: tuple[str, ...]
    """The names of the terms."""
    statement: str
    """How they depend on one another, as a clause."""
    advice: str
    """What leaving out the one or the other would mean."""


def find_collinearities(
    finding: Dependent, moments: Moments, terms: Sequence[Term], fixed_effects: Sequence[str] = ()
) -> list[Collinearity]:
    """Name the dependences among the columns of a model.

    Parameters
    ----------
    finding : Dependent
        What the solver found.
    moments : Moments
        The moments of the terms; block k + 1 is ``terms[k]``.
    terms : sequence of Term
        The terms.
    within : sequence of str
        The columns whose levels are taken out.

    Returns
    -------
    list of Collinearity
        One entry for each set of terms, in the order of the terms.
    """
    block_of = np.repeat(np.arange(len(moments.sizes)), moments.sizes)[finding.columns] - 1
    scales = moments.scales[block_of + 1]
    tolerance = finding.tolerance
    if not tolerance:
        pivots = np.abs(np.diag(np.linalg.qr(finding.factor, mode="r")))
        tolerance = float(pivots.min()) * len(pivots)
    found: dict[frozenset[int], Collinearity] = {}

    def search(columns: NDArray[np.intp]) -> None:
        """Name the dependences among some of the columns, unless a smaller set tells of them."""
        for weights in dependences(finding.factor[:, columns], tolerance / np.sqrt(len(columns))):
            here = np.abs(weights) > 1e-7 * np.abs(weights).max()
            members = frozenset(int(b) for b in block_of[columns[here]])
            if not any(smaller <= members for smaller in found):
                raw = weights / finding.lengths[columns] / scales[columns]
                numerics = {int(block_of[columns[k]]): float(raw[k]) for k in np.flatnonzero(here)}
                found[members] = _name(sorted(members), numerics, moments, terms, fixed_effects)

    for pair in itertools.combinations(sorted(set(block_of.tolist())), 2):
        search(np.flatnonzero(np.isin(block_of, pair)))
    search(np.arange(len(block_of)))
    return [found[key] for key in sorted(found, key=sorted)]


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
    within : sequence of str
        The columns whose levels are taken out.

    Returns
    -------
    FitError
        A `CollinearityError` for an exact collinearity, with each named in its message; a `FitError` for
        terms so nearly dependent that digits would be noise.
    """
    collinear = find_collinearities(finding, moments, terms, fixed_effects)
    if not finding.tolerance:
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
    within : sequence of str
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
    for k in dict.fromkeys(block_of.tolist()):
        term, inside = terms[k - 1], finding.columns[block_of == k] - moments.starts[k]
        if len(inside) >= term.size - 1:
            told.append(f"`{term.name}`")
        elif term.is_categorical:
            told.append(f"{listed(quoted(term.labels[int(i)] for i in inside))} of `{term.name}`")
        else:
            told.append(f"part of `{term.name}`")
    one = len(told) == 1
    return FitError(
        f"{listed(told)} {'does' if one else 'do'} not vary within the levels of {first}: once these are taken out, nothing is left "
        f"of {'it' if one else 'them'} to tell. Leave {'it' if one else 'them'} out, or fit without `within` and cluster the errors by {first}."
    )


def _name(
    members: Sequence[int], raw: dict[int, float], moments: Moments, terms: Sequence[Term], fixed_effects: Sequence[str]
) -> Collinearity:
    involved = [terms[k] for k in members]
    names = tuple(t.name for t in involved)
    if fixed_effects:
        return _name_absorbed(involved, [raw[k] for k in members], fixed_effects)
    groups = [k for k in members if terms[k].is_categorical]
    composite = any(t.parts for t in involved)
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
        f"Leave out one of {listed(quoted(names), 'or')}; the others then carry what it had in common with them.",
    )


def _name_absorbed(involved: Sequence[Term], raw: Sequence[float], fixed_effects: Sequence[str]) -> Collinearity:
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
    rows = np.logical_and.reduce([t.column.present for t in involved])
    first = int(np.flatnonzero(rows)[0])
    values = np.array([t.column.values[first] for t in involved]) * np.asarray(weights) / weights[left]
    constant = float(values.sum())
    return 0.0 if abs(constant) <= 1e-9 * np.abs(values).max() else constant


def _two_groups(a: int, b: int, moments: Moments, terms: Sequence[Term]) -> Collinearity:
    first, second = terms[a].name, terms[b].name
    counts = _crosstab(moments, a + 1, b + 1)
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
