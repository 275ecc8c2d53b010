"""Figures into a folder."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from markbase.core.comparison.blocks import Blocks
from markbase.core.comparison.dominance import Dominance
from markbase.core.comparison.imputations import Imputations
from markbase.core.comparison.imputed_blocks import ImputedBlocks
from markbase.core.comparison.score import Score
from markbase.core.errors import MarkbaseError
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.stored_fit import StoredFit
from markbase.core.screening.screen import Screen
from markbase.core.study.study import Study
from markbase.files.whole_files import refuse_to_replace, write_all
from markbase.reports.figure_sets import (
    KINDS,
    Drawn,
    Figures,
    figure_of_cells,
    figures_of_blocks,
    figures_of_checks,
    figures_of_dominance,
    figures_of_fit,
    figures_of_group,
    figures_of_imputations,
    figures_of_slopes,
)
from markbase.show.screen_figures import draw_correlations, draw_pairs, draw_vif
from markbase.show.slope_figures import draw_score


def write_screen_figures(study: Study, screen: Screen, folder: Path, replace: bool) -> None:
    """Draw the figures of a screening into a folder, each as PNG and SVG."""
    figures: Figures = {
        "correlations": Drawn("Correlations", draw_correlations(screen).figure),
        "vif": Drawn("Variance inflation factors", draw_vif(screen).figure),
    }
    if sum(not study[name].is_categorical for name in screen.correlations.columns) > 1:
        figures["pairs"] = Drawn("Pairs of numeric columns", draw_pairs(study, screen))
    _write(figures, folder, replace)


def draw_fit(fit: AnyFit, folder: Path, replace: bool) -> None:
    """Draw the figures of a fit into a folder, each as PNG and SVG."""
    _write(figures_of_fit(fit), folder, replace)


def draw_groups_of(
    fit: AnyFit, groups: Sequence[str], crossed: Sequence[tuple[str, str]], folder: Path, replace: bool
) -> None:
    """Draw the figures of some groups of a fit, and of some two together, into a folder, each as PNG and SVG."""
    figures: Figures = {}
    for group in groups:
        figures |= figures_of_group(fit, fit.variable(group, "categorical"))
    for first, second in crossed:
        figures |= figure_of_cells(fit, first, second)
    _write(figures, folder, replace)


def draw_slopes_of(
    fit: AnyFit | StoredFit, asked: Sequence[tuple[str, str | None]], folder: Path, replace: bool
) -> None:
    """Draw simple slopes into a folder, each as PNG and SVG."""
    _write(figures_of_slopes(fit, asked), folder, replace)


def draw_checks_of(fit: AnyFit, folder: Path, replace: bool) -> None:
    """Draw what checks a fit into a folder, each as PNG and SVG."""
    _write(figures_of_checks(fit), folder, replace)


def draw_score_of(scored: Score, folder: Path, replace: bool) -> None:
    """Draw predictions of rows held out against what was observed into a folder, as PNG and SVG."""
    _write({"predicted-observed": Drawn("Predicted and observed", draw_score(scored).figure)}, folder, replace)


def draw_dominance_of(found: Dominance, folder: Path, replace: bool) -> None:
    """Draw what terms, or blocks, add over all orders of entry into a folder, as PNG and SVG."""
    _write(figures_of_dominance(found), folder, replace)


def draw_combined(found: Imputations, folder: Path, replace: bool) -> None:
    """Draw the figures of a model over imputations into a folder, each as PNG and SVG."""
    _write(figures_of_imputations(found), folder, replace)


def draw_steps(hierarchy: Blocks | ImputedBlocks, folder: Path, replace: bool) -> None:
    """Draw the figures of a blockwise entry into a folder, each as PNG and SVG."""
    figures = figures_of_blocks(hierarchy)
    if not figures:
        raise MarkbaseError(
            "The first block has too many estimates to draw, and a logistic blockwise entry has no R²; there is no figure."
        )
    _write(figures, folder, replace)


def _write(figures: Figures, folder: Path, replace: bool) -> None:
    for name in figures:
        for kind in KINDS:
            refuse_to_replace(folder / f"{name}.{kind}", replace)
    write_all(
        {folder / f"{n}.{kind}": content for n, drawn in figures.items() for kind, content in drawn.files.items()}
    )
