"""Which page belongs to which result."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from markbase.core.comparison.backward_elimination import Elimination
from markbase.core.comparison.blocks import Blocks
from markbase.core.comparison.coefficient_samples import CoefficientSamples
from markbase.core.comparison.comparison import Comparison
from markbase.core.comparison.cross_validation import CrossValidation
from markbase.core.comparison.dominance import Dominance
from markbase.core.comparison.imputations import Imputations
from markbase.core.comparison.imputed_blocks import ImputedBlocks
from markbase.core.comparison.score import Score
from markbase.core.comparison.subgroups import Subgroups
from markbase.core.diagnostics.classification import Classification
from markbase.core.diagnostics.log_odds import LogisticChecks
from markbase.core.diagnostics.residuals import Checks
from markbase.core.display import Renderer, suiting
from markbase.core.results.linear import LinearFit
from markbase.core.results.logistic import LogisticFit
from markbase.core.results.statements import Equation, Guide, Lines, Reading
from markbase.core.results.stored_fit import StoredFit
from markbase.core.results.turning_points import TurningPoint
from markbase.core.screening.description import Description
from markbase.core.screening.prune import Pruned
from markbase.core.screening.reliability import Reliability
from markbase.core.screening.screen import Screen
from markbase.core.screening.specifications import Specifications
from markbase.core.study.coding import Coding
from markbase.core.study.study import Study
from markbase.core.study.trail import Trail
from markbase.core.study.verification import Check
from markbase.show.bases import versions_of
from markbase.show.blocks import (
    blocks_page,
    comparison_page,
    cross_validation_page,
    elimination_page,
    score_page,
    turning_point_page,
)
from markbase.show.coefficient_samples import samples_page
from markbase.show.description import description_page
from markbase.show.dominance import dominance_page
from markbase.show.equation import equation_page, lines_page
from markbase.show.fit import checks_page, fit_page, reading_page
from markbase.show.guide import guide_page
from markbase.show.html import to_html
from markbase.show.imputations import imputations_page
from markbase.show.imputed_blocks import imputed_blocks_page
from markbase.show.logistic import classification_page, logistic_checks_page, logistic_page
from markbase.show.page import Page
from markbase.show.reliability import reliability_page
from markbase.show.screen import pruned_page, screen_page, specifications_page
from markbase.show.shortened import shortened
from markbase.show.stored import stored_page
from markbase.show.study import check_page, coding_page, study_page, trail_page
from markbase.show.subgroups import subgroups_page
from markbase.show.text import to_text

_PAGES: dict[type, Callable[[Any], Page]] = {
    Check: check_page,
    CoefficientSamples: samples_page,
    Coding: coding_page,
    Equation: equation_page,
    Guide: guide_page,
    Imputations: imputations_page,
    ImputedBlocks: imputed_blocks_page,
    LinearFit: fit_page,
    Lines: lines_page,
    LogisticFit: logistic_page,
    Checks: checks_page,
    LogisticChecks: logistic_checks_page,
    Classification: classification_page,
    Comparison: comparison_page,
    CrossValidation: cross_validation_page,
    Blocks: blocks_page,
    Description: description_page,
    Dominance: dominance_page,
    Elimination: elimination_page,
    Pruned: pruned_page,
    Reading: reading_page,
    Reliability: reliability_page,
    Score: score_page,
    Screen: screen_page,
    TurningPoint: turning_point_page,
    Specifications: specifications_page,
    StoredFit: stored_page,
    Subgroups: subgroups_page,
    Study: study_page,
    Trail: trail_page,
}


def page_of(result: object) -> Page:
    """Return the page of a result; a `TypeError` if there is none for results of this type."""
    page = suiting(result, _PAGES)
    if page is None:
        raise TypeError(f"There is no page for a {type(result).__name__}.")
    return page(result)


class _Rendering:
    def text(self, result: object, short: bool = False) -> str:
        page = page_of(result)
        return to_text(shortened(page) if short else page)

    def html(self, result: object) -> str:
        if isinstance(result, LinearFit | LogisticFit | Blocks):
            return to_html(page_of(result), versions_of(result, lambda other, _: (page_of(other),)), folds=True)
        return to_html(page_of(result))


RENDERER: Renderer = _Rendering()
