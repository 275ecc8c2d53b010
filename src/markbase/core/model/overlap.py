"""Exact overlaps among the terms of a model, named in words."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction

import numpy as np
from numpy.typing import NDArray

from markbase.core.errors import FitError, OverlapError, listed, quoted
from markbase.core.model.moments import Moments
from markbase.core.model.solution import Dependent, Swept
from markbase.core.model.terms import Term
from markbase.core.study.totals import dependences
from markbase.core.wording import number, short


@dataclass(frozen=True)
class Overlap:
    """A set of terms of which one is fixed by the others."""

    terms: tuple[str, ...]
    """The names of the terms."""
    statement: str
    """How they overlap, as a clause."""
    advice: str
    """What leaving out the one or the other would mean."""


def find_overlaps(
    finding: Dependent, moments: Moments, terms: Sequence[Term], within: Sequence[str] = ()
) -> list[Overlap]:
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
    list of Overlap
        One entry for each set of terms, in the order of the terms.
    """
    block_of = np.repeat(np.arange(len(moments.sizes)), moments.sizes)[finding.columns] - 1
    scales = moments.scales[block_of + 1]
    tolerance = finding.tolerance
    if not tolerance:
        pivots = np.abs(np.diag(np.linalg.qr(finding.factor, mode="r")))
        tolerance = float(pivots.min()) * len(pivots)
    found: dict[frozenset[int], Overlap] = {}

    def search(columns: NDArray[np.intp]) -> None:
        """Name the dependences among some of the columns, unless a smaller set tells of them."""
        for weights in dependences(finding.factor[:, columns], tolerance / np.sqrt(len(columns))):
            here = np.abs(weights) > 1e-7 * np.abs(weights).max()
            members = frozenset(int(b) for b in block_of[columns[here]])
            if not any(smaller <= members for smaller in found):
                raw = weights / finding.lengths[columns] / scales[columns]
                amounts = {int(block_of[columns[k]]): float(raw[k]) for k in np.flatnonzero(here)}
                found[members] = _name(sorted(members), amounts, moments, terms, within)

    for pair in itertools.combinations(sorted(set(block_of.tolist())), 2):
        search(np.flatnonzero(np.isin(block_of, pair)))
    search(np.arange(len(block_of)))
    return [found[key] for key in sorted(found, key=sorted)]


def overlap_error(finding: Dependent, moments: Moments, terms: Sequence[Term], within: Sequence[str] = ()) -> FitError:
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
        An `OverlapError` for an exact overlap, with the overlaps in its message; a `FitError` for
        terms so nearly dependent that digits would be noise.
    """
    overlaps = find_overlaps(finding, moments, terms, within)
    if not finding.tolerance:
        names = sorted({name for o in overlaps for name in o.terms}, key=[t.name for t in terms].index)
        return FitError(
            f"{listed(quoted(names or [t.name for t in terms]))} overlap so nearly exactly (condition number "
            f"{number(finding.condition, 9)}) that fewer than 7 digits of any result could be trusted: leave one out, "
            f"or centre and rescale an amount that was raised to a power."
        )
    told = "; ".join(o.statement for o in overlaps)
    return OverlapError(
        f"Exact overlap: {told}. These rows cannot tell such coefficients apart, so the fit stops, and it does not "
        f"choose for you: which one is left out decides what the others mean. {' '.join(o.advice for o in overlaps)}"
    )


def swept_error(
    finding: Swept, moments: Moments, terms: Sequence[Term], within: Sequence[str], outcome: str
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
    first = f"`{within[0]}`"
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
        elif term.is_group:
            told.append(f"{listed(quoted(term.labels[int(i)] for i in inside))} of `{term.name}`")
        else:
            told.append(f"part of `{term.name}`")
    one = len(told) == 1
    return FitError(
        f"{listed(told)} {'does' if one else 'do'} not vary within the levels of {first}: once these are taken out, nothing is left "
        f"of {'it' if one else 'them'} to tell. Leave {'it' if one else 'them'} out, or fit without `within` and cluster the errors by {first}."
    )


def _name(
    members: Sequence[int], raw: dict[int, float], moments: Moments, terms: Sequence[Term], within: Sequence[str]
) -> Overlap:
    involved = [terms[k] for k in members]
    names = tuple(t.name for t in involved)
    if within:
        return _name_within(involved, [raw[k] for k in members], within)
    groups = [k for k in members if terms[k].is_group]
    composite = any(t.parts for t in involved)
    if not groups and not composite:
        return _equation(involved, [raw[k] for k in members])
    if len(members) == 2 and len(groups) == 2 and not composite:
        return _two_groups(members[0], members[1], moments, terms)
    if len(members) == 2 and not composite:
        group, amount = terms[groups[0]].name, next(t.name for t in involved if not t.is_group)
        return Overlap(
            names,
            f"`{amount}` is fixed by `{group}` (it has one value within each level, or follows from the levels exactly)",
            f"Without `{amount}`, the levels of `{group}` carry its differences too; without `{group}`, `{amount}` stands "
            f"for all that sets the levels apart.",
        )
    return Overlap(
        names,
        f"{listed(quoted(names))} fix one another (each is known exactly once the others are)",
        f"Leave out one of {listed(quoted(names), 'or')}; the others then carry what it had in common with them.",
    )


def _name_within(involved: Sequence[Term], raw: Sequence[float], within: Sequence[str]) -> Overlap:
    """Name a dependence that holds once the levels of some columns are taken out."""
    names = tuple(t.name for t in involved)
    once = f"once the levels of {listed(quoted(within))} are taken out"
    if all(t.kind == "amount" for t in involved):
        plain = _equation(involved, raw, constant=False)
        return Overlap(names, plain.statement.replace("in every row used", once), plain.advice)
    return Overlap(
        names,
        f"{listed(quoted(names))} fix one another {once}",
        f"Leave out one of {listed(quoted(names), 'or')}; the others then carry what it had in common with them.",
    )


def _equation(involved: Sequence[Term], weights: Sequence[float], constant: bool = True) -> Overlap:
    """Write a dependence of amounts with the total, or else the last of them, on the left."""
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
    return Overlap(tuple(t.name for t in involved), f"`{name}` equals {parts} in every row used", advice)


def _constant(involved: Sequence[Term], weights: Sequence[float], left: int) -> float:
    """Return what the left side exceeds the right by, from the rows where all are present."""
    rows = np.logical_and.reduce([t.column.present for t in involved])
    first = int(np.flatnonzero(rows)[0])
    values = np.array([t.column.values[first] for t in involved]) * np.asarray(weights) / weights[left]
    constant = float(values.sum())
    return 0.0 if abs(constant) <= 1e-9 * np.abs(values).max() else constant


def _two_groups(a: int, b: int, moments: Moments, terms: Sequence[Term]) -> Overlap:
    first, second = terms[a].name, terms[b].name
    counts = _crosstab(moments, a + 1, b + 1)
    by_first, by_second = np.sum(counts > 0, axis=1), np.sum(counts > 0, axis=0)
    if np.all(by_first == 1) and np.all(by_second == 1):
        return Overlap(
            (first, second),
            f"`{first}` and `{second}` sort the rows into the same groups",
            f"Keep the one of `{first}` and `{second}` whose labels your reader knows; the fit is the same with either.",
        )
    for fine, coarse, inside in ((first, second, by_first), (second, first, by_second)):
        if np.all(inside == 1):
            return Overlap(
                (first, second),
                f"every level of `{fine}` lies within one level of `{coarse}`",
                f"Without `{coarse}`, the levels of `{fine}` carry its differences; without `{fine}`, `{coarse}` stands "
                f"for its levels taken together.",
            )
    for k, m in np.argwhere((counts > 0) & (counts == counts.sum(0)) & (counts == counts.sum(1)[:, None])):
        return Overlap(
            (first, second),
            f"`{first}` is `{terms[a].labels[k]}` in exactly the rows where `{second}` is `{terms[b].labels[m]}`",
            f"Merge or blank that level in `{first}` or `{second}`, or leave one of the two out.",
        )
    return Overlap(
        (first, second),
        f"levels of `{first}` and `{second}` occur only together",
        f"Leave out `{first}` or `{second}`, or merge levels so that each occurs with several of the other.",
    )


def _crosstab(moments: Moments, a: int, b: int) -> NDArray[np.float64]:
    starts, sizes = moments.starts, moments.sizes
    return moments.cross[starts[a] : starts[a] + sizes[a], starts[b] : starts[b] + sizes[b]]
