"""A sentence about what a block adds, combined over imputations."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

from markbase.core.comparison.block_sentences import VERY_LITTLE, by_chance
from markbase.core.comparison.imputation_sentences import CombinedFits
from markbase.core.errors import listed, quoted
from markbase.core.formatting import as_percent, figures_of, p_phrase, points, without_zero
from markbase.core.results.fit_statistics import OverallTest
from markbase.core.results.statements import Statement

_LITTLE = 0.01
"""A change of R² that is very little."""


def adds_statement(
    found: CombinedFits, step: Any, terms: Sequence[str], test: OverallTest, *, first: bool
) -> Statement:
    """Say what a block adds.

    Parameters
    ----------
    found : CombinedFits
        The model that has it, combined.
    step : named tuple
        Its row of `ImputedBlocks.steps`.
    terms : sequence of str
        The terms it adds.
    test : OverallTest
        The test of the change.
    first : bool
        Whether it is the first.

    Returns
    -------
    Statement
        A sentence, with its cautions.
    """
    fit, outcome = found.fit, f"`{found.fit.outcome.name}`"
    clear = test.p < fit.alpha
    who = f"{listed(quoted(terms))} (block `{step.block}`)"
    who = who if first else f"Adding {who}"
    cautions = []
    what = f"combined over {len(found.fits)} {'imputations' if found.by else 'plausible values'}"
    figures = (
        f"not tested: {test.untested}"
        if math.isnan(test.statistic)
        else f"{figures_of(test.statistic, test.df, test.df_rest, 'Wald')}, {p_phrase(test.p)}"
    )
    if fit.family.ratios:
        raised = f"{'raise' if first and len(terms) > 1 else 'raises'} McFadden's R²{'' if first else f' by {without_zero(step.mcfadden_change)}'}"
        text = f"{who} {raised} to {without_zero(step.mcfadden)}, {what} (Tjur {without_zero(step.tjur)}; {figures})"
    else:
        names, added, whole = fit.fixed_effect_names, float(step.r2_change), without_zero(float(step.r2))
        within, measure = (
            f" within the levels of {listed(quoted(names))}" if names else "",
            f"R²{' within' if names else ''}",
        )
        text = (
            f"{who} {'explains' if len(terms) == 1 else 'explain'} {as_percent(added)} of the variance of {outcome}{within}, {what} ({measure} {whole}; {figures})"
            if first
            else f"{who} raises the share of the variance of {outcome}{within} that is explained by {points(added)} percentage points, {what}, to {measure} {whole} ({figures})"
        )
        if not clear and fit.errors.middle is None and not math.isnan(test.p):
            cautions += by_chance("Chance alone shows more", float(step.r2), added, test.df, fit.df_rest)
        if clear and added < _LITTLE:
            cautions.append(VERY_LITTLE)
    if math.isnan(test.p):
        return Statement(step.block, "", f"{text}.", tuple(cautions))
    nothing = f": no clear evidence that it {'says' if first else 'adds'} anything."
    return Statement(step.block, "", text + ("." if clear else nothing), tuple(cautions))
