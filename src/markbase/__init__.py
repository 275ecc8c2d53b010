"""Mark Base: regression for coded survey data, every group compared against a base you chose.

Start with `open_study` or `demo.choirs`, choose bases with `Study.mark`, fit with `fit_linear`,
and print what comes back. The names below are loaded when first used, so that importing the
package stays quick.
"""

from __future__ import annotations

import importlib
from typing import TYPE_CHECKING, Any

from markbase.core.address_space import ask_as_needed
from markbase.core.display import Renderer, set_renderer
from markbase.core.results.readers import Readers, set_readers
from markbase.core.rows.spread import set_spread_look
from markbase.core.version import VERSION

if TYPE_CHECKING:
    from markbase import demo
    from markbase.core.comparison.backward_elimination import Elimination, backward_elimination
    from markbase.core.comparison.blocks import Blocks
    from markbase.core.comparison.coefficient_samples import CoefficientSamples, bootstrap
    from markbase.core.comparison.comparison import Comparison, compare
    from markbase.core.comparison.cross_validation import CrossValidation, cross_validate
    from markbase.core.comparison.dominance import Dominance, dominance
    from markbase.core.comparison.fit_blocks import fit_blocks
    from markbase.core.comparison.fit_imputations import fit_imputations, fit_imputed_blocks
    from markbase.core.comparison.imputations import Imputations
    from markbase.core.comparison.imputed_blocks import ImputedBlocks
    from markbase.core.comparison.score import Score, score
    from markbase.core.comparison.subgroups import Subgroups, fit_subgroups
    from markbase.core.design.requested_terms import all_but, interaction, polynomial
    from markbase.core.diagnostics.calibration_test import CalibrationTest
    from markbase.core.diagnostics.classification import Classification
    from markbase.core.diagnostics.log_odds import LogisticChecks
    from markbase.core.diagnostics.residuals import Checks
    from markbase.core.errors import (
        CodebookError,
        CollinearityError,
        ColumnError,
        FileError,
        FitError,
        LevelError,
        MarkbaseError,
        MarkbaseWarning,
        SeparationError,
    )
    from markbase.core.results.fit_linear import fit_linear
    from markbase.core.results.fit_logistic import fit_logistic
    from markbase.core.results.linear import LinearFit
    from markbase.core.results.logistic import LogisticFit
    from markbase.core.results.statements import Equation, Guide, Lines, Reading
    from markbase.core.results.stored_fit import StoredFit
    from markbase.core.screening.description import Description, describe
    from markbase.core.screening.limits import Limits
    from markbase.core.screening.reliability import Reliability, reliability
    from markbase.core.screening.screen import Screen, screen, screen_fit
    from markbase.core.screening.specifications import specifications
    from markbase.core.study.codebook import Codebook
    from markbase.core.study.coding import Coding
    from markbase.core.study.study import Study
    from markbase.core.study.trail import Trail
    from markbase.core.study.verification import Check
    from markbase.files.codebook import codebook_text, read_codebook, write_codebook
    from markbase.files.data import open_study
    from markbase.files.data_writing import write_data
    from markbase.files.fit_files import read_fit, write_fit
    from markbase.files.plan import Plan, read_plan
    from markbase.files.plan_writing import write_plan
    from markbase.reports.document import write_document
    from markbase.reports.report_file import report
    from markbase.show.block_figures import draw_blocks, draw_paths
    from markbase.show.cell_figure import draw_cells
    from markbase.show.check_figures import draw_checks
    from markbase.show.classification_figures import draw_calibration, draw_classification
    from markbase.show.cluster_figure import draw_clusters
    from markbase.show.coefficient_figure import draw_coefficients
    from markbase.show.dominance_figure import draw_dominance
    from markbase.show.fit_figures import draw_adjusted, draw_groups, draw_lines
    from markbase.show.screen_figures import draw_correlations, draw_pairs, draw_vif
    from markbase.show.slope_figures import draw_score, draw_slopes

__version__ = VERSION

_HOMES = {
    "Blocks": "markbase.core.comparison.blocks",
    "CalibrationTest": "markbase.core.diagnostics.calibration_test",
    "Check": "markbase.core.study.verification",
    "Checks": "markbase.core.diagnostics.residuals",
    "Classification": "markbase.core.diagnostics.classification",
    "Codebook": "markbase.core.study.codebook",
    "CodebookError": "markbase.core.errors",
    "Coding": "markbase.core.study.coding",
    "CoefficientSamples": "markbase.core.comparison.coefficient_samples",
    "CollinearityError": "markbase.core.errors",
    "ColumnError": "markbase.core.errors",
    "Comparison": "markbase.core.comparison.comparison",
    "CrossValidation": "markbase.core.comparison.cross_validation",
    "Dominance": "markbase.core.comparison.dominance",
    "Elimination": "markbase.core.comparison.backward_elimination",
    "Equation": "markbase.core.results.statements",
    "FileError": "markbase.core.errors",
    "FitError": "markbase.core.errors",
    "Guide": "markbase.core.results.statements",
    "LevelError": "markbase.core.errors",
    "Limits": "markbase.core.screening.limits",
    "LinearFit": "markbase.core.results.linear",
    "Lines": "markbase.core.results.statements",
    "LogisticChecks": "markbase.core.diagnostics.log_odds",
    "LogisticFit": "markbase.core.results.logistic",
    "MarkbaseError": "markbase.core.errors",
    "MarkbaseWarning": "markbase.core.errors",
    "Plan": "markbase.files.plan",
    "Reading": "markbase.core.results.statements",
    "Description": "markbase.core.screening.description",
    "Reliability": "markbase.core.screening.reliability",
    "Score": "markbase.core.comparison.score",
    "Screen": "markbase.core.screening.screen",
    "SeparationError": "markbase.core.errors",
    "StoredFit": "markbase.core.results.stored_fit",
    "Study": "markbase.core.study.study",
    "Trail": "markbase.core.study.trail",
    "all_but": "markbase.core.design.requested_terms",
    "backward_elimination": "markbase.core.comparison.backward_elimination",
    "bootstrap": "markbase.core.comparison.coefficient_samples",
    "codebook_text": "markbase.files.codebook",
    "compare": "markbase.core.comparison.comparison",
    "cross_validate": "markbase.core.comparison.cross_validation",
    "dominance": "markbase.core.comparison.dominance",
    "draw_adjusted": "markbase.show.fit_figures",
    "draw_blocks": "markbase.show.block_figures",
    "draw_calibration": "markbase.show.classification_figures",
    "draw_cells": "markbase.show.cell_figure",
    "draw_checks": "markbase.show.check_figures",
    "draw_classification": "markbase.show.classification_figures",
    "draw_clusters": "markbase.show.cluster_figure",
    "draw_coefficients": "markbase.show.coefficient_figure",
    "draw_correlations": "markbase.show.screen_figures",
    "draw_dominance": "markbase.show.dominance_figure",
    "draw_groups": "markbase.show.fit_figures",
    "draw_lines": "markbase.show.fit_figures",
    "draw_pairs": "markbase.show.screen_figures",
    "draw_paths": "markbase.show.block_figures",
    "draw_score": "markbase.show.slope_figures",
    "draw_slopes": "markbase.show.slope_figures",
    "draw_vif": "markbase.show.screen_figures",
    "fit_blocks": "markbase.core.comparison.fit_blocks",
    "Imputations": "markbase.core.comparison.imputations",
    "ImputedBlocks": "markbase.core.comparison.imputed_blocks",
    "fit_imputations": "markbase.core.comparison.fit_imputations",
    "fit_imputed_blocks": "markbase.core.comparison.fit_imputations",
    "Subgroups": "markbase.core.comparison.subgroups",
    "fit_subgroups": "markbase.core.comparison.subgroups",
    "fit_linear": "markbase.core.results.fit_linear",
    "fit_logistic": "markbase.core.results.fit_logistic",
    "interaction": "markbase.core.design.requested_terms",
    "open_study": "markbase.files.data",
    "polynomial": "markbase.core.design.requested_terms",
    "read_codebook": "markbase.files.codebook",
    "read_fit": "markbase.files.fit_files",
    "read_plan": "markbase.files.plan",
    "describe": "markbase.core.screening.description",
    "reliability": "markbase.core.screening.reliability",
    "report": "markbase.reports.report_file",
    "score": "markbase.core.comparison.score",
    "screen": "markbase.core.screening.screen",
    "screen_fit": "markbase.core.screening.screen",
    "specifications": "markbase.core.screening.specifications",
    "write_codebook": "markbase.files.codebook",
    "write_data": "markbase.files.data_writing",
    "write_document": "markbase.reports.document",
    "write_fit": "markbase.files.fit_files",
    "write_plan": "markbase.files.plan_writing",
}

__all__ = [
    "Blocks",
    "CalibrationTest",
    "Check",
    "Checks",
    "Classification",
    "Codebook",
    "CodebookError",
    "Coding",
    "CoefficientSamples",
    "CollinearityError",
    "ColumnError",
    "Comparison",
    "CrossValidation",
    "Description",
    "Dominance",
    "Elimination",
    "Equation",
    "FileError",
    "FitError",
    "Guide",
    "Imputations",
    "ImputedBlocks",
    "LevelError",
    "Limits",
    "LinearFit",
    "Lines",
    "LogisticChecks",
    "LogisticFit",
    "MarkbaseError",
    "MarkbaseWarning",
    "Plan",
    "Reading",
    "Reliability",
    "Score",
    "Screen",
    "SeparationError",
    "StoredFit",
    "Study",
    "Subgroups",
    "Trail",
    "__version__",
    "all_but",
    "backward_elimination",
    "bootstrap",
    "codebook_text",
    "compare",
    "cross_validate",
    "demo",
    "describe",
    "dominance",
    "draw_adjusted",
    "draw_blocks",
    "draw_calibration",
    "draw_cells",
    "draw_checks",
    "draw_classification",
    "draw_clusters",
    "draw_coefficients",
    "draw_correlations",
    "draw_dominance",
    "draw_groups",
    "draw_lines",
    "draw_pairs",
    "draw_paths",
    "draw_score",
    "draw_slopes",
    "draw_vif",
    "fit_blocks",
    "fit_imputations",
    "fit_imputed_blocks",
    "fit_linear",
    "fit_logistic",
    "fit_subgroups",
    "interaction",
    "open_study",
    "polynomial",
    "read_codebook",
    "read_fit",
    "read_plan",
    "reliability",
    "report",
    "score",
    "screen",
    "screen_fit",
    "specifications",
    "write_codebook",
    "write_data",
    "write_document",
    "write_fit",
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


ask_as_needed()
set_renderer(_renderer)


def _readers() -> Readers:
    from markbase.core.reading.readers import READERS

    return READERS


set_spread_look(lambda: importlib.import_module("markbase.files.parts.cluster").table_of_spread_frame)
set_readers(_readers)
