"""Figures into a folder."""

from __future__ import annotations

import io
import re
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from markbase.core.comparison.blocks import Blocks
from markbase.core.comparison.score import Score
from markbase.core.design.terms import Variable
from markbase.core.errors import FitError, MarkbaseError, remark
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.logistic import LogisticFit
from markbase.core.screening.screen import Screen
from markbase.core.study.study import Study
from markbase.files.whole_files import refuse_to_replace, write_all
from markbase.show.check_figures import draw_checks
from markbase.show.coefficient_figure import draw_coefficients
from markbase.show.figures import draw_correlations, draw_pairs, draw_vif, own_style
from markbase.show.fit_figures import (
    MOST_LEVELS,
    draw_adjusted,
    draw_blocks,
    draw_calibration,
    draw_classification,
    draw_groups,
    draw_lines,
    draw_paths,
)
from markbase.show.slope_figures import draw_score, draw_slopes

if TYPE_CHECKING:
    from matplotlib.figure import Figure


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


def figures_of_fit(fit: AnyFit) -> dict[str, tuple[str, Any]]:
    """Draw every figure that suits a fit.

    Parameters
    ----------
    fit : LinearFit or LogisticFit
        The fit.

    Returns
    -------
    dict
        For each figure its name: a caption, and the figure.
    """
    figures: dict[str, tuple[str, Any]] = {
        "coefficients": (
            f"{fit.family.observed(fit.outcome)}: every level against its base, numeric columns per standard deviation",
            draw_coefficients(fit).figure,
        )
    }
    for group in (v for v in fit.variables if v.is_categorical):
        figures |= _group(fit, group)
    return figures | _slopes(fit) | _checks(fit)


def _checks(fit: AnyFit) -> dict[str, tuple[str, Any]]:
    """Draw what checks a fit."""
    if isinstance(fit, LogisticFit):
        return {
            "classification": ("How many are classified correctly at every cut", _classification(fit)),
            "calibration": ("Observed shares against predicted probabilities", draw_calibration(fit).figure),
        }
    return {} if fit.exact else {"checks": ("Four views of the residuals", draw_checks(fit))}


def _slopes(fit: AnyFit, asked: Sequence[tuple[str, str | None]] | None = None) -> dict[str, tuple[str, Any]]:
    """Draw the slopes asked for, or those that differ along a numeric column in the model."""
    figures = {}
    for numeric, by in differing_slopes(fit) if asked is None else asked:
        if asked is None and by is not None and fit.variables[[v.name for v in fit.variables].index(by)].is_categorical:
            continue  # the lines by group show it
        told = f" by {by}" if by else ""
        figures[_safe(f"{numeric}-slope{told}")] = (
            f"The slope of {numeric}{told}, and where it is clear",
            draw_slopes(fit, numeric, by).figure,
        )
    return figures


def differing_slopes(fit: AnyFit) -> list[tuple[str, str | None]]:
    """Return the slopes that differ in a model: of a curve along itself, of an interaction of two by its other column."""
    found: dict[tuple[str, str | None], None] = {}
    for term in fit.model_terms:
        if term.kind == "polynomial":
            found[term.names[0], None] = None
        elif len(term.names) == 2 and term.numerics:
            numeric = term.numerics[0].name
            found[numeric, next(n for n in term.names if n != numeric)] = None
    return list(found)


def draw_groups_of(fit: AnyFit, groups: Sequence[str], folder: Path, replace: bool) -> None:
    """Draw the figures of some groups of a fit into a folder, each as PNG and SVG."""
    figures: dict[str, tuple[str, Any]] = {}
    for group in groups:
        figures |= _group(fit, fit.variable(group, "categorical"))
    _write({name: figure for name, (_, figure) in figures.items()}, folder, replace)


def draw_slopes_of(fit: AnyFit, asked: Sequence[tuple[str, str | None]], folder: Path, replace: bool) -> None:
    """Draw simple slopes into a folder, each as PNG and SVG."""
    _write({name: figure for name, (_, figure) in _slopes(fit, asked).items()}, folder, replace)


def draw_checks_of(fit: AnyFit, folder: Path, replace: bool) -> None:
    """Draw what checks a fit into a folder, each as PNG and SVG."""
    _write({name: figure for name, (_, figure) in _checks(fit).items()}, folder, replace)


def draw_score_of(scored: Score, folder: Path, replace: bool) -> None:
    """Draw predictions of rows held out against what was observed into a folder, as PNG and SVG."""
    _write({"predicted-observed": draw_score(scored).figure}, folder, replace)


def _group(fit: AnyFit, group: Variable) -> dict[str, tuple[str, Any]]:
    """Draw a group of a fit: its differences, its adjusted means, and lines along the first two numeric columns."""
    name = _safe(group.name)
    figures: dict[str, tuple[str, Any]] = {
        f"{name}-differences": (
            f"Differences of the levels of {group.name} from {group.base_label}",
            draw_groups(fit, group.name).figure,
        ),
        f"{name}-adjusted": (
            f"{group.name}: adjusted as if all rows had the level, beside what was observed",
            draw_adjusted(fit, group.name).figure,
        ),
    }
    numerics = [v.name for v in fit.variables if not v.is_categorical]
    for numeric in numerics[:2] if group.size <= MOST_LEVELS else ():
        figures[f"{_safe(numeric)}-by-{name}"] = (
            f"{fit.explained} along {numeric}, a line for each level of {group.name}",
            draw_lines(fit, numeric, group.name).figure,
        )
    return figures


def _classification(fit: LogisticFit) -> Any:
    """Draw the classification with rows held out, or, where the model cannot be fitted without a part, that of the fit alone."""
    try:
        return draw_classification(fit, folds=10).figure
    except FitError as problem:
        remark(f"The figure of the classification shows the rows of the fit only. {problem}")
        return draw_classification(fit).figure


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


def figures_of_blocks(hierarchy: Blocks) -> dict[str, tuple[str, Any]]:
    """Draw every figure that suits a blockwise entry: for each its name, a caption, and the figure."""
    figures: dict[str, tuple[str, Any]] = {}
    if not hierarchy.logistic:
        figures["blocks"] = ("What each block adds to R²", draw_blocks(hierarchy).figure)
    first = hierarchy.moves[hierarchy.moves["term"].isin(hierarchy.added[0]) & ~hierarchy.moves["base"]]
    if 0 < len(first) <= MOST_LEVELS:
        figures["paths"] = ("How estimates of the first block move as others enter", draw_paths(hierarchy).figure)
    return figures


def _safe(name: str) -> str:
    """Return a name that is one on every file system."""
    return re.sub(r"[^\w.-]+", "_", name)


def _write(figures: dict[str, Any], folder: Path, replace: bool) -> None:
    contents = {
        folder / f"{name}.{kind}": figure_bytes(figure, kind)
        for name, figure in figures.items()
        for kind in ("png", "svg")
    }
    for path in contents:
        refuse_to_replace(path, replace)
    write_all(contents)


def figure_bytes(figure: Figure, kind: str) -> bytes:
    """Return a figure as bytes that are the same each time."""
    import matplotlib as mpl

    buffer = io.BytesIO()
    with own_style(), mpl.rc_context({"svg.hashsalt": "markbase"}):
        figure.savefig(buffer, format=kind, dpi=140, metadata={"Date": None} if kind == "svg" else {"Software": None})
    return buffer.getvalue()
