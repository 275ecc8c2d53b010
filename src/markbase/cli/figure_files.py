"""Figures into a folder."""

from __future__ import annotations

import io
import re
from pathlib import Path
from typing import TYPE_CHECKING, Any

from markbase.core.comparison.blocks import Blocks
from markbase.core.errors import FitError, MarkbaseError, remark
from markbase.core.results.linear import LinearFit
from markbase.core.results.logistic import LogisticFit
from markbase.core.screening.screen import Screen
from markbase.core.study.study import Study
from markbase.files.whole_files import refuse_to_replace, write_whole
from markbase.show.check_figures import draw_checks
from markbase.show.figures import draw_correlations, draw_pairs, draw_vif
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


def draw_fit(fit: LinearFit | LogisticFit, folder: str, replace: bool) -> None:
    """Draw the figures of a fit into a folder, each as PNG and SVG.

    Parameters
    ----------
    fit : LinearFit or LogisticFit
        The fit.
    folder : str
        Where to; made if need be.
    replace : bool
        Whether files that are there may be written over.
    """
    figures = figures_of_fit(fit)
    if not figures:
        raise MarkbaseError(
            "A fit of numeric columns alone with levels taken out has no figure; draw with `screen --figures`."
        )
    _write({name: figure for name, (_, figure) in figures.items()}, Path(folder), replace)


def figures_of_fit(fit: LinearFit | LogisticFit) -> dict[str, tuple[str, Any]]:
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
    figures: dict[str, tuple[str, Any]] = {}
    singles = {p.name: p for t in fit.model_terms for p in t.variables}.values()
    numerics = [p.name for p in singles if not p.is_categorical]
    for group in (p for p in singles if p.is_categorical):
        name = _safe(group.name)
        figures[f"{name}-differences"] = (
            f"Differences of the levels of {group.name} from {group.base_label}",
            draw_groups(fit, group.name).figure,
        )
        figures[f"{name}-adjusted"] = (
            f"{group.name}: adjusted as if all rows had the level, beside what was observed",
            draw_adjusted(fit, group.name).figure,
        )
        for numeric in numerics[:2] if group.size <= MOST_LEVELS else ():
            figures[f"{_safe(numeric)}-by-{name}"] = (
                f"{fit.explained} along {numeric}, a line for each level of {group.name}",
                draw_lines(fit, numeric, group.name).figure,
            )
    if isinstance(fit, LogisticFit):
        figures["classification"] = ("How many are classified correctly at every cut", _classification(fit))
        figures["calibration"] = ("Observed shares against predicted probabilities", draw_calibration(fit).figure)
    elif fit.fixed_effects is None and not fit.exact:
        figures["checks"] = ("Four views of the residuals", draw_checks(fit))
    return figures


def _classification(fit: LogisticFit) -> Any:
    """Draw the classification with rows held out, or, where the model cannot be fitted without a part, that of the fit alone."""
    try:
        return draw_classification(fit, folds=10).figure
    except FitError as problem:
        remark(f"The figure of the classification shows the rows of the fit only. {problem}")
        return draw_classification(fit).figure


def draw_steps(hierarchy: Blocks, folder: str, replace: bool) -> None:
    """Draw the figures of a blockwise entry into a folder, each as PNG and SVG.

    Parameters
    ----------
    blockwise entry : Blocks
        The blockwise entry.
    folder : str
        Where to; made if need be.
    replace : bool
        Whether files that are there may be written over.
    """
    figures = figures_of_blocks(hierarchy)
    if not figures:
        raise MarkbaseError(
            "The first block has too many estimates to draw, and a logistic blockwise entry has no R²; there is no figure."
        )
    _write({name: figure for name, (_, figure) in figures.items()}, Path(folder), replace)


def figures_of_blocks(hierarchy: Blocks) -> dict[str, tuple[str, Any]]:
    """Draw every figure that suits a blockwise entry: for each its name, a caption, and the figure."""
    figures: dict[str, tuple[str, Any]] = {}
    if not hierarchy.logistic:
        figures["blockwise entry"] = ("What each block adds to R²", draw_blocks(hierarchy).figure)
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
    for path, content in contents.items():
        write_whole(path, content)


def figure_bytes(figure: Figure, kind: str) -> bytes:
    """Return a figure as bytes that are the same each time."""
    import matplotlib as mpl

    buffer = io.BytesIO()
    with mpl.rc_context({"svg.hashsalt": "markbase"}):
        figure.savefig(buffer, format=kind, dpi=140, metadata={"Date": None} if kind == "svg" else {"Software": None})
    return buffer.getvalue()
