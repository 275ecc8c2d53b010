"""Which page belongs to which result."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from markbase.core.checking.classification import Classification
from markbase.core.checking.residuals import Checks
from markbase.core.comparing.compare import Comparison
from markbase.core.comparing.held_out import HeldOut
from markbase.core.comparing.ladder import Ladder
from markbase.core.comparing.trim import Trimmed
from markbase.core.display import Renderer
from markbase.core.model.linear import LinearFit
from markbase.core.model.logistic import LogisticFit
from markbase.core.reading.guide import Guide
from markbase.core.reading.told import Equation, Lines, Reading
from markbase.core.screening.prune import Pruned
from markbase.core.screening.screen import Screen
from markbase.core.screening.sensitivity import Sensitivity
from markbase.core.study.coding import Coding
from markbase.core.study.recoding import Check
from markbase.core.study.study import Study
from markbase.core.study.trail import Trail
from markbase.show.equation import equation_page
from markbase.show.fit import checks_page, fit_page, reading_page
from markbase.show.groups import guide_page, lines_page
from markbase.show.html import to_html
from markbase.show.ladder import comparison_page, held_out_page, ladder_page, trimmed_page
from markbase.show.logistic import classification_page, logistic_page
from markbase.show.page import Page
from markbase.show.screen import pruned_page, screen_page, sensitivity_page
from markbase.show.study import check_page, coding_page, study_page, trail_page
from markbase.show.text import to_text

_PAGES: dict[type, Callable[[Any], Page]] = {
    Check: check_page,
    Coding: coding_page,
    Equation: equation_page,
    Guide: guide_page,
    LinearFit: fit_page,
    Lines: lines_page,
    LogisticFit: logistic_page,
    Checks: checks_page,
    Classification: classification_page,
    Comparison: comparison_page,
    HeldOut: held_out_page,
    Ladder: ladder_page,
    Trimmed: trimmed_page,
    Pruned: pruned_page,
    Reading: reading_page,
    Screen: screen_page,
    Sensitivity: sensitivity_page,
    Study: study_page,
    Trail: trail_page,
}


def page_of(result: object) -> Page:
    """Return the page of a result.

    Parameters
    ----------
    result : object
        A study, a fit, or a part of one that can be shown.

    Returns
    -------
    Page
        Its description.

    Raises
    ------
    TypeError
        If there is no page for results of this type.
    """
    for kind in type(result).__mro__:
        if kind in _PAGES:
            return _PAGES[kind](result)
    raise TypeError(f"There is no page for a {type(result).__name__}.")


class _Rendering:
    def text(self, result: object) -> str:
        return to_text(page_of(result))

    def html(self, result: object) -> str:
        return to_html(page_of(result))


RENDERER: Renderer = _Rendering()
