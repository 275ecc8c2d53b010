"""Figures into a folder."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

from markbase.core.comparison.blocks import Blocks
from markbase.core.comparison.score import Score
from markbase.core.errors import MarkbaseError
from markbase.core.results.any_fit import AnyFit
from markbase.core.screening.screen import Screen
from markbase.core.study.study import Study
from markbase.files.whole_files import refuse_to_replace, write_all
from markbase.reports.figure_sets import (
    figure_bytes,
    figures_of_blocks,
    figures_of_checks,
    figures_of_fit,
    figures_of_group,
    figures_of_slopes,
)
from markbase.show.figures import draw_correlations, draw_pairs, draw_vif
from markbase.show.slope_figures import draw_score


def write_screen_figures(study: Study, screen: Screen, folder: Path, replace: bool) -> None:
    """Draw the figures of a screening into a folder, each as PNG and SVG.

    Parameters
    ----------
    study : Study
        The data.
    screen : Screen
        The screening.
    folder : Path
        Where to; made if need be.
    replace : bool
        Whether files that are there may be written over.
    """
    figures: dict[str, Any] = {
        "correlations": draw_correlations(screen).figure,
        "vif": draw_vif(screen).figure,
    }
    if sum(not study[name].is_categorical for name in screen.correlations.columns) > 1:
        figures["pairs"] = draw_pairs(study, screen)
    _write(figures, folder, replace)


def draw_fit(fit: AnyFit, folder: Path, replace: bool) -> None:
    """Draw the figures of a fit into a folder, each as PNG and SVG.

    Parameters
    ----------
    fit : LinearFit or LogisticFit
        The fit.
    folder : Path
        Where to; made if need be.
    replace : bool
        Whether files that are there may be written over.
    """
    figures = figures_of_fit(fit)
    _write({name: figure for name, (_, figure) in figures.items()}, folder, replace)


def draw_groups_of(fit: AnyFit, groups: Sequence[str], folder: Path, replace: bool) -> None:
    """Draw the figures of some groups of a fit into a folder, each as PNG and SVG."""
    figures: dict[str, tuple[str, Any]] = {}
    for group in groups:
        figures |= figures_of_group(fit, fit.variable(group, "categorical"))
    _write({name: figure for name, (_, figure) in figures.items()}, folder, replace)


def draw_slopes_of(fit: AnyFit, asked: Sequence[tuple[str, str | None]], folder: Path, replace: bool) -> None:
    """Draw simple slopes into a folder, each as PNG and SVG."""
    _write({name: figure for name, (_, figure) in figures_of_slopes(fit, asked).items()}, folder, replace)


def draw_checks_of(fit: AnyFit, folder: Path, replace: bool) -> None:
    """Draw what checks a fit into a folder, each as PNG and SVG."""
    _write({name: figure for name, (_, figure) in figures_of_checks(fit).items()}, folder, replace)


def draw_score_of(scored: Score, folder: Path, replace: bool) -> None:
    """Draw predictions of rows held out against what was observed into a folder, as PNG and SVG."""
    _write({"predicted-observed": draw_score(scored).figure}, folder, replace)


def draw_steps(hierarchy: Blocks, folder: Path, replace: bool) -> None:
    """Draw the figures of a blockwise entry into a folder, each as PNG and SVG.

    Parameters
    ----------
    hierarchy : Blocks
        The blockwise entry.
    folder : Path
        Where to; made if need be.
    replace : bool
        Whether files that are there may be written over.
    """
    figures = figures_of_blocks(hierarchy)
    if not figures:
        raise MarkbaseError(
            "The first block has too many estimates to draw, and a logistic blockwise entry has no R²; there is no figure."
        )
    _write({name: figure for name, (_, figure) in figures.items()}, folder, replace)


def _write(figures: dict[str, Any], folder: Path, replace: bool) -> None:
    contents = {
        folder / f"{name}.{kind}": figure_bytes(figure, kind)
        for name, figure in figures.items()
        for kind in ("png", "svg")
    }
    for path in contents:
        refuse_to_replace(path, replace)
    write_all(contents)
