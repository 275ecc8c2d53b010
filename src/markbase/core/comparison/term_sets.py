"""Terms, or blocks, that enter a model as wholes: every set of them, its R², and what each adds to the sets without it.

A set is told by its place, whose bits say which of them it holds.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from markbase.core.comparison.blocks import Blocks
from markbase.core.design.drawn import DrawnBy
from markbase.core.design.terms import Term, variables_of
from markbase.core.errors import FitError
from markbase.core.inference.standard_errors import Errors
from markbase.core.results.changes import AnyFit
from markbase.core.results.logistic import LogisticFit
from markbase.core.study.derived_values import origins

Array = NDArray[np.float64]


def terms_together(terms: Sequence[Term]) -> dict[str, tuple[Term, ...]]:
    """Return the terms by name, together with those that a higher one contains, or that a square or a product made by hand is made of."""
    sets, tied = list[list[Term]](), _ties(terms)
    for term in terms:
        own = [term]
        for other in [s for s in sets if any(tied(term, t) for t in s)]:
            sets.remove(other)
            own = [*other, *own]
        sets.append(own)
    at = {term.name: place for place, term in enumerate(terms)}
    ordered = [sorted(own, key=lambda t: at[t.name]) for own in sets]
    return {", ".join(t.name for t in own): tuple(own) for own in sorted(ordered, key=lambda own: at[own[0].name])}


def _ties(terms: Sequence[Term]) -> Callable[[Term, Term], bool]:
    """Return what tells whether one of two terms of a model has no meaning without the other."""
    inside = variables_of(terms)
    made = {name: origins(variable.column, inside) for name, variable in inside.items()}
    wholly = {name: set(own) for name, (own, outside) in made.items() if not outside}

    def within(lower: Term, higher: Term) -> bool:
        return set(lower.names) < set(higher.names) or any(
            set(lower.names) & wholly.get(n, set()) for n in higher.names
        )

    return lambda one, other: within(one, other) or within(other, one)


def terms_of_blocks(blocks: Blocks) -> dict[str, tuple[Term, ...]]:
    """Return the terms of each block; refuse blocks of which one cannot enter before another."""
    terms = {term.name: term for term in blocks.last.model_terms}
    found, is_tied = dict[str, tuple[Term, ...]](), _ties(blocks.last.model_terms)
    for name, added in zip(blocks.names, blocks.added, strict=True):
        lost = [term for term in added if term not in terms]
        own = tuple(terms[term] for term in added if term in terms)
        tied = [(b, t) for b, others in found.items() for t in others if any(is_tied(t, term) for term in own)]
        if lost or tied:
            there = (
                f"`{lost[0]}` of the block `{name}` is"
                if lost
                else f"`{tied[0][1].name}` of the block `{tied[0][0]}` is"
            )
            raise FitError(
                f"{there} part of a term of another block, which cannot enter before it: put both into one block."
            )
        found[name] = own
    return found


def _chosen(count: int) -> list[list[int]]:
    """Return every set of so many, at its place."""
    return [[k for k in range(count) if place >> k & 1] for place in range(1 << count)]


def fits_of_sets(fit: AnyFit, entering: Sequence[tuple[Term, ...]]) -> list[AnyFit]:
    """Return the fit of every set, the whole model for none of them as for all."""
    bare = replace(fit, **DrawnBy()._asdict(), errors=Errors("classical", fit.errors.df))
    chosen = _chosen(len(entering))[1:-1]
    return [fit, *(bare._with_only(tuple(t for k in own for t in entering[k])) for own in chosen), fit]


def averaging(count: int) -> Array:
    """Return what takes the averages over all orders of figures of every set, shape (count, 2 to the power of count)."""
    each = np.eye(1 << count)
    return np.array([[added_by_size(row, k, count).mean() for row in each] for k in range(count)])


def r2_of_sets(fit: AnyFit, entering: Sequence[tuple[Term, ...]]) -> Array:
    """Return R² of every set, shape (2 to the power of how many enter,): bit k of a place says whether k is in it."""
    chosen = _chosen(len(entering))
    if isinstance(fit, LogisticFit):
        if fit.penalty:
            raise FitError("A penalised likelihood has no pseudo-R² to share out among terms.")
        fits = fits_of_sets(fit, entering)[1:]
        return np.array([0.0, *(f.strength.mcfadden for f in fits if isinstance(f, LogisticFit))])
    if fit.exact:
        raise FitError("The terms reproduce the outcome exactly: what each of them adds is rounding.")
    solution, places = fit.solution, [fit.term_tests.places(own) for own in entering]
    hidden = np.setdiff1d(np.arange(len(solution.columns)), np.concatenate(places))  # of levels that are taken out
    explained = []
    for own in chosen:
        basis = np.linalg.qr(solution.factor[:, np.concatenate([hidden, *(places[k] for k in own)])])[0]
        explained.append(float(np.sum((basis.T @ solution.whitened) ** 2)))
    beyond = np.array(explained) - explained[0]
    shares: Array = beyond / (solution.explained + solution.residual - explained[0])
    return shares


def sets_without(ones: Sequence[int], count: int) -> NDArray[np.intp]:
    """Return the places of the sets that hold none of some."""
    places = np.arange(1 << count)
    found: NDArray[np.intp] = places[(places & sum(1 << k for k in ones)) == 0]
    return found


def added_by_size(figures: Array, k: int, count: int) -> Array:
    """Return what one adds on average to the sets of each size without it, shape (count,)."""
    sets = sets_without([k], count)
    sizes = np.array([int(place).bit_count() for place in sets])
    return np.bincount(sizes, weights=figures[sets | 1 << k] - figures[sets]) / np.bincount(sizes)
