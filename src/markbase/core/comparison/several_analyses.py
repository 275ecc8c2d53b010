"""What several analyses do not say together: a test clear in one of many, a term clear in one part of the rows and not in another."""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Sequence
from typing import NamedTuple

import numpy as np

from markbase.core.design.terms import keys_of
from markbase.core.errors import count_noun, listed, quoted
from markbase.core.formatting import p_phrase
from markbase.core.inference.multiplicity import corrected
from markbase.core.reading.averages import tests_of
from markbase.core.results.any_fit import AnyFit
from markbase.core.rows.parts import InParts

_FEWEST = 3
"""Fewer outcomes are no search among outcomes."""
_MOST = 3
"""So many terms are told in a sentence of their own."""


class Tested(NamedTuple):
    """A term, or all of them, tested in one of several analyses."""

    analysis: str
    """What the analysis is called."""
    fit: AnyFit
    """Its fit."""
    p: float
    """The p it is judged by."""

    @property
    def clear(self) -> bool:
        """Whether it is clear by itself."""
        return self.p < self.fit.alpha

    def told(self, p: float | None = None) -> str:
        """Name the analysis with p, or with another p."""
        return f"`{self.analysis}` ({p_phrase(self.p if p is None else p)})"


def said_together(fits: Sequence[tuple[str, AnyFit]]) -> tuple[str, ...]:
    """Say what analyses do not say together that each says by itself; nothing of fewer than two.

    A term, or all terms, tested in analyses of three outcomes or more and clear in some of them only until its p are corrected
    (Holm 1979) for how many they are. A term clear in one of two fits of one model to different rows and not in the other, which is
    no evidence of a difference (Gelman & Stern 2006).

    Parameters
    ----------
    fits : sequence of (str, fit)
        What each analysis is called, and its fit, in the order of the report.

    Returns
    -------
    tuple of str
        Sentences; names between backquotes.
    """
    told = [text for name, tests in _by_term(fits) if (text := _among_outcomes(name, tests))]
    if len(told) > _MOST:
        told[_MOST:] = [
            f"So it is with {count_noun(len(told) - _MOST, 'more term')}: not all that is clear by itself stays clear among all analyses."
        ]
    return (*told, *_of_different_rows(fits))


def _by_term(fits: Sequence[tuple[str, AnyFit]]) -> Iterator[tuple[str, list[Tested]]]:
    """Yield all terms together, then every term by its name, with the analyses that test it."""
    if any(len(fit.model_terms) > 1 for _, fit in fits):
        yield "", [Tested(name, fit, fit._judged("", fit.overall.p)) for name, fit in fits]
    found: dict[str, list[Tested]] = {}
    for name, fit in fits:
        for term, p in tests_of(fit).items():
            found.setdefault(term, []).append(Tested(name, fit, p))
    yield from found.items()


def _among_outcomes(term: str, tests: Sequence[Tested]) -> str:
    """Say that a term clear by itself in analyses of several outcomes is not clear among all of them; empty where it is, or in none."""
    tests = [t for t in tests if not np.isnan(t.p)]
    outcomes = len({t.fit.outcome.name for t in tests})
    adjusted = corrected(np.array([t.p for t in tests]), "holm") if outcomes >= _FEWEST else np.ones(len(tests))
    clear = [(t, float(p)) for t, p in zip(tests, adjusted, strict=True) if t.clear]
    stays, lost = ([(t, p) for t, p in clear if (p < t.fit.alpha) == still] for still in (True, False))
    if outcomes < _FEWEST or not lost:
        return ""
    alpha = max(t.fit.alpha for t in tests)
    still = f"stays clear in {listed([t.told(p) for t, p in stays])}, but not in" if stays else "is no longer clear in"
    who = f"`{term}` is tested" if term else "All terms together are tested"
    of = f"{len(tests)} analyses, of {outcomes} outcomes"
    return (
        f"{who} in {of}, and clear by {'itself' if term else 'themselves'} in {listed([t.told() for t, _ in clear])}. Among these {len(tests)} tests (corrected after "
        f"Holm) {'it' if term else 'that'} {still} {listed([t.told(p) for t, p in lost], 'or' if stays else 'and')}: where there is nothing, at least one of "
        f"{len(tests)} tests is clear in up to {100 * min(1.0, alpha * len(tests)):.0f}% of samples."
    )


def _of_different_rows(fits: Sequence[tuple[str, AnyFit]]) -> Iterator[str]:
    """Say of every two fits of one model to different rows which terms are clear in one only, and what that is no evidence of."""
    for (one, first), (other, second) in itertools.combinations(fits, 2):
        alike = type(first) is type(second) and first.explained == second.explained
        if not alike or keys_of(first.model_terms) != keys_of(second.model_terms):
            continue
        if of_the_same_rows(first, second) or _holds_rows_of(first, second) or _holds_rows_of(second, first):
            continue
        theirs, apart = tests_of(second), []
        for term, p in tests_of(first).items():
            clear, not_clear = sorted(
                [Tested(one, first, p), Tested(other, second, theirs[term])], key=lambda t: not t.clear
            )
            if clear.clear and not not_clear.clear:
                apart.append(f"`{term}` is clear in {clear.told()}, not in {not_clear.told()}")
        if apart:
            more = f"; and so for {count_noun(len(apart) - _MOST, 'more term')}" if len(apart) > _MOST else ""
            yield (
                f"{listed(quoted([one, other]))} are one model of different rows. {'; '.join(apart[:_MOST])}{more}. That is no evidence of a difference between "
                f"the two: whether there is one is tested in one fit to all these rows, with an interaction of the group that tells them apart."
            )


def _holds_rows_of(whole: AnyFit, part: AnyFit) -> bool:
    """Return whether the rows of one fit are among those of another: by their index, and the outcome there."""
    theirs, ours = part.outcome.values, whole.outcome.values
    if part.index is None or whole.index is None or isinstance(theirs, InParts) or isinstance(ours, InParts):
        return False
    if not whole.index.is_unique:
        return False
    at = whole.index.get_indexer(part.index)
    return bool((at >= 0).all()) and np.array_equal(ours[at], theirs, equal_nan=True)


def of_the_same_rows(one: AnyFit, other: AnyFit) -> bool:
    """Return whether two fits are of the same rows of the same data: their index and, if they explain the same, the outcome itself."""
    if (one.data_name, one.sample.rows) != (other.data_name, other.sample.rows):
        return False
    ours, theirs = one.outcome.values, other.outcome.values
    if isinstance(ours, InParts) or isinstance(theirs, InParts):
        return isinstance(ours, InParts) and isinstance(theirs, InParts) and ours.mask is theirs.mask
    if one.index is not None and other.index is not None and not one.index.equals(other.index):
        return False
    return one.explained != other.explained or np.array_equal(ours, theirs, equal_nan=True)
