"""What is clear among very many terms: some of them by chance."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from markbase.core.errors import count_noun, named
from markbase.core.formatting import short
from markbase.core.inference.multiplicity import corrected
from markbase.core.reading.averages import tests_of
from markbase.core.results.any_fit import AnyFit


def among_many(fit: AnyFit) -> list[str]:
    """Say how many terms of a model would be clear by chance, where that is one or more, and which stay clear among all (Holm 1979).

    Nothing where all of those that are clear stay so, or all terms together are not clear.
    """
    if fit.exact or not fit._judged("", fit.overall.p) < fit.alpha:
        return []
    return clear_among(tests_of(fit), fit.alpha, "term", "none of them went with the outcome")


def clear_among(tests: Mapping[str, float], alpha: float, noun: str, nothing: str) -> list[str]:
    """Say the same of the p of several tests by name, each of a `noun`; `nothing` is what would be if all were chance."""
    tests = {name: p for name, p in tests.items() if not np.isnan(p)}
    if len(tests) * alpha < 1:
        return []
    adjusted = corrected(np.array(list(tests.values())), "holm")
    clear = sum(p < alpha for p in tests.values())
    still = [name for name, p in zip(tests, adjusted, strict=True) if p < alpha]
    if len(still) == clear:
        return []
    level, stays = short(alpha, 3).removeprefix("0"), "stays" if len(still) == 1 else "stay"
    return [
        f"Of {count_noun(len(tests), noun)} {clear} {'has' if clear == 1 else 'have'} p below {level}; if {nothing}, {short(len(tests) * alpha, 2)} "
        f"would on average. Corrected for all these tests (Holm) {f'{named(still)} {stays}' if still else 'none stays'} clear."
    ]
