"""Figures into a folder."""

from __future__ import annotations

import io
from pathlib import Path
from typing import TYPE_CHECKING, Any

from markbase.core.screening.screen import Screen
from markbase.core.study.study import Study
from markbase.files.whole import refuse_to_replace, write_whole
from markbase.show.figures import draw_correlations, draw_inflation, draw_pairs

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
        "inflation": draw_inflation(screen).figure,
    }
    if sum(not study[name].is_group for name in screen.correlations.columns) > 1:
        figures["pairs"] = draw_pairs(study, screen)
    contents = {
        folder / f"{name}.{kind}": _drawn(figure, kind) for name, figure in figures.items() for kind in ("png", "svg")
    }
    for path in contents:
        refuse_to_replace(path, replace)
    for path, content in contents.items():
        write_whole(path, content)


def _drawn(figure: Figure, kind: str) -> bytes:
    """Return a figure as bytes that are the same each time."""
    import matplotlib as mpl

    buffer = io.BytesIO()
    with mpl.rc_context({"svg.hashsalt": "markbase"}):
        figure.savefig(buffer, format=kind, dpi=140, metadata={"Date": None} if kind == "svg" else {"Software": None})
    return buffer.getvalue()
