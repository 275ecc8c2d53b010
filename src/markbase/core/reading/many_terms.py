"""What is clear among very many terms: some of them by chance."""

from __future__ import annotations

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
    tests = {name: p for name, p in tests_of(fit).items() if not np.isnan(p)}
    if fit.exact or len(tests) * fit.alpha < 1 or not fit._judged("", fit.overall.p) < fit.alpha:
        return []
    adjusted = corrected(np.array(list(tests.values())), "holm")
    clear = sum(p < fit.alpha for p in tests.values())
    still = [name for name, p in zip(tests, adjusted, strict=True) if p < fit.alpha]
    if len(still) == clear:
        return []
    level, stays = short(fit.alpha, 3).removeprefix("0"), "stays" if len(still) == 1 else "stay"
    return [
        f"Of {count_noun(len(tests), 'term')} {clear} {'has' if clear == 1 else 'have'} p below {level}; if none of them went with the outcome, {short(len(tests) * fit.alpha, 2)} "
        f"would on average. Corrected for all these tests (Holm) {f'{named(still)} {stays}' if still else 'none stays'} clear."
    ]
