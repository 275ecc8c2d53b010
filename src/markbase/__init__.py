"""Mark Base: regression for coded survey data, every group compared against a base you chose.

Start with `open_study` or `demo.choirs`, choose bases with `Study.mark`, fit with `fit_linear`,
and print what comes back. The names below are loaded when first used, so that importing the
package stays quick.
"""

from __future__ import annotations

import importlib
from typing import TYPE_CHECKING, Any

from markbase.core.display import Renderer, set_renderer

if TYPE_CHECKING:
    from markbase import demo
    from markbase.core.checking.classification import Classification
    from markbase.core.checking.residuals import Checks
    from markbase.core.comparing.blocks import fit_blocks
    from markbase.core.comparing.compare import Comparison, compare
    from markbase.core.comparing.held_out import HeldOut, held_out
    from markbase.core.comparing.ladder import Ladder
    from markbase.core.comparing.trim import Trimmed, trim
    from markbase.core.errors import (
        CodebookError,
        ColumnError,
        FileError,
        FitError,
        LevelError,
        MarkbaseError,
        MarkbaseWarning,
        OverlapError,
        SeparationError,
    )
    from markbase.core.model.fitting import fit_linear
    from markbase.core.model.fitting_logistic import fit_logistic
    from markbase.core.model.linear import LinearFit
    from markbase.core.model.logistic import LogisticFit
    from markbase.core.model.specs import all_but, cross, slope
    from markbase.core.reading.guide import Guide
    from markbase.core.reading.told import Equation, Lines, Reading
    from markbase.core.screening.limits import Limits
    from markbase.core.screening.screen import Screen, screen, screen_fit
    from markbase.core.screening.sensitivity import sensitivity
    from markbase.core.study.codebook import Codebook
    from markbase.core.study.coding import Coding
    from markbase.core.study.recoding import Check
    from markbase.core.study.study import Study
    from markbase.core.study.trail import Trail
    from markbase.files.codebook import codebook_text, read_codebook, write_codebook
    from markbase.files.data import open_study
    from markbase.files.document import write_document
    from markbase.files.plan import Plan, read_plan
    from markbase.files.plan_writing import write_plan
    from markbase.files.writing import write_data
    from markbase.show.check_figures import draw_checks
    from markbase.show.figures import draw_correlations, draw_inflation, draw_pairs
    from markbase.show.fit_figures import (
        draw_adjusted,
        draw_calibration,
        draw_groups,
        draw_ladder,
        draw_lines,
        draw_paths,
        draw_sorting,
    )

__version__ = "0.1.0"

_HOMES = {
    "Check": "markbase.core.study.recoding",
    "Checks": "markbase.core.checking.residuals",
    "Classification": "markbase.core.checking.classification",
    "Codebook": "markbase.core.study.codebook",
    "CodebookError": "markbase.core.errors",
    "Coding": "markbase.core.study.coding",
    "ColumnError": "markbase.core.errors",
    "Comparison": "markbase.core.comparing.compare",
    "Equation": "markbase.core.reading.told",
    "FileError": "markbase.core.errors",
    "FitError": "markbase.core.errors",
    "Guide": "markbase.core.reading.guide",
    "HeldOut": "markbase.core.comparing.held_out",
    "Ladder": "markbase.core.comparing.ladder",
    "LevelError": "markbase.core.errors",
    "Limits": "markbase.core.screening.limits",
    "LinearFit": "markbase.core.model.linear",
    "Lines": "markbase.core.reading.told",
    "LogisticFit": "markbase.core.model.logistic",
    "MarkbaseError": "markbase.core.errors",
    "MarkbaseWarning": "markbase.core.errors",
    "OverlapError": "markbase.core.errors",
    "Plan": "markbase.files.plan",
    "Reading": "markbase.core.reading.told",
    "Screen": "markbase.core.screening.screen",
    "SeparationError": "markbase.core.errors",
    "Study": "markbase.core.study.study",
    "Trail": "markbase.core.study.trail",
    "Trimmed": "markbase.core.comparing.trim",
    "all_but": "markbase.core.model.specs",
    "codebook_text": "markbase.files.codebook",
    "compare": "markbase.core.comparing.compare",
    "cross": "markbase.core.model.specs",
    "draw_adjusted": "markbase.show.fit_figures",
    "draw_calibration": "markbase.show.fit_figures",
    "draw_checks": "markbase.show.check_figures",
    "draw_correlations": "markbase.show.figures",
    "draw_groups": "markbase.show.fit_figures",
    "draw_inflation": "markbase.show.figures",
    "draw_ladder": "markbase.show.fit_figures",
    "draw_lines": "markbase.show.fit_figures",
    "draw_pairs": "markbase.show.figures",
    "draw_paths": "markbase.show.fit_figures",
    "draw_sorting": "markbase.show.fit_figures",
    "fit_blocks": "markbase.core.comparing.blocks",
    "fit_linear": "markbase.core.model.fitting",
    "fit_logistic": "markbase.core.model.fitting_logistic",
    "held_out": "markbase.core.comparing.held_out",
    "open_study": "markbase.files.data",
    "read_codebook": "markbase.files.codebook",
    "read_plan": "markbase.files.plan",
    "screen": "markbase.core.screening.screen",
    "screen_fit": "markbase.core.screening.screen",
    "sensitivity": "markbase.core.screening.sensitivity",
    "slope": "markbase.core.model.specs",
    "trim": "markbase.core.comparing.trim",
    "write_codebook": "markbase.files.codebook",
    "write_data": "markbase.files.writing",
    "write_document": "markbase.files.document",
    "write_plan": "markbase.files.plan_writing",
}

__all__ = [
    "Check",
    "Checks",
    "Classification",
    "Codebook",
    "CodebookError",
    "Coding",
    "ColumnError",
    "Comparison",
    "Equation",
    "FileError",
    "FitError",
    "Guide",
    "HeldOut",
    "Ladder",
    "LevelError",
    "Limits",
    "LinearFit",
    "Lines",
    "LogisticFit",
    "MarkbaseError",
    "MarkbaseWarning",
    "OverlapError",
    "Plan",
    "Reading",
    "Screen",
    "SeparationError",
    "Study",
    "Trail",
    "Trimmed",
    "__version__",
    "all_but",
    "codebook_text",
    "compare",
    "cross",
    "demo",
    "draw_adjusted",
    "draw_calibration",
    "draw_checks",
    "draw_correlations",
    "draw_groups",
    "draw_inflation",
    "draw_ladder",
    "draw_lines",
    "draw_pairs",
    "draw_paths",
    "draw_sorting",
    "fit_blocks",
    "fit_linear",
    "fit_logistic",
    "held_out",
    "open_study",
    "read_codebook",
    "read_plan",
    "screen",
    "screen_fit",
    "sensitivity",
    "slope",
    "trim",
    "write_codebook",
    "write_data",
    "write_document",
    "write_plan",
]


def __getattr__(name: str) -> Any:
    if name == "demo":
        return importlib.import_module("markbase.demo")
    if name not in _HOMES:
        raise AttributeError(f"module 'markbase' has no attribute {name!r}")
    return getattr(importlib.import_module(_HOMES[name]), name)


def __dir__() -> list[str]:
    return __all__


def _renderer() -> Renderer:
    from markbase.show.renderer import RENDERER

    return RENDERER


set_renderer(_renderer)
