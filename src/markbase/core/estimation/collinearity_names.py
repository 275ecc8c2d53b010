"""What an exact collinearity is, in words: a total beside its parts, two groups that sort the rows alike, levels that occur only together."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction

import numpy as np
from numpy.typing import NDArray

from markbase.core.design.moments import Moments
from markbase.core.design.terms import Term
from markbase.core.errors import listed, quoted
from markbase.core.formatting import short
from markbase.core.rows.row_functions import all_of, first_true


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


def named_dependence(
    members: Sequence[int],
    raw: dict[int, float],
    moments: Moments,
    terms: Sequence[Term],
    fixed_effects: Sequence[str],
    exact: bool,
) -> Collinearity:
    """Name what some terms have to do with one another, by their weights in a combination that is the same in every row."""
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
    if len(involved) == 1 and involved[0].kind == "polynomial":
        return _few_values(involved[0], fixed_effects)
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


def _few_values(curve: Term, fixed_effects: Sequence[str]) -> Collinearity:
    """Name a curve of which the column has too few different values for its powers."""
    within = f" within levels of {listed(quoted(fixed_effects))}" if fixed_effects else ""
    name = curve.names[0]
    return Collinearity(
        (curve.name,),
        f"`{name}` has too few different values{within} for `{curve.name}`: its powers are each known exactly once the others are",
        f"Enter `{name}` with a power less, or declared categorical.",
    )


def _removable(members: Sequence[int], terms: Sequence[Term]) -> list[str]:
    """Return the members that can be left out by themselves, those that no other term contains; all if there are none."""
    alone = [terms[k].name for k in members if not any(set(terms[k].names) < set(t.names) for t in terms)]
    return alone or [terms[k].name for k in members]


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
    if len(names) == 1 and involved[0].is_categorical:
        return Collinearity(
            names,
            f"some levels of `{names[0]}` together do not vary {once}: rows there go between some of its levels, and never to the others",
            f"Merge levels of `{names[0]}` across that divide, or fit without these fixed effects and cluster the errors instead.",
        )
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
