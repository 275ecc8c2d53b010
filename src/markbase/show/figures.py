"""Figures of a screening. Each takes the axes to draw on, or makes a figure of its own; nothing global is set."""

from __future__ import annotations

import functools
import io
import warnings
from collections.abc import Callable, Iterator
from contextlib import contextmanager, nullcontext
from typing import TYPE_CHECKING, Any, TypeVar

from markbase.core.arguments import checked
from markbase.core.rows.parts import in_parts
from markbase.show.figure_names import fold_names, fold_words

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

TEAL, AMBER, INK, PALE = "#0b6e8a", "#c8690a", "#22313a", "#e8eef0"
F = TypeVar("F", bound=Callable[..., Any])


def sheet_of_one(width: float, height: float) -> tuple[Figure, Axes]:
    """Return a figure with one pair of axes, sized in inches."""
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.figure import Figure

    figure = Figure(figsize=(width, height), layout="constrained")
    FigureCanvasAgg(figure)
    axes = figure.subplots()
    _shown_in_notebooks(figure, figure, axes)
    return figure, axes


def _shown_in_notebooks(figure: Figure, *drawn: Any) -> None:
    """Let a notebook show a figure where it, or its axes, are the last line of a cell: no window manager knows of them."""

    def picture() -> bytes:
        engine = figure.get_layout_engine()
        drawn = drawn_as(figure, "png", dpi=110)
        figure.set_layout_engine(engine)  # what is changed in the next cell finds its place then
        return drawn

    for thing in drawn:
        thing._repr_png_ = picture


def drawn_as(figure: Figure, kind: str, *, dpi: int = 140) -> bytes:
    """Return a figure as the contents of a ``png`` or ``svg``, the same bytes each time; everything on it has its place from now on.

    In an SVG text stays text, to be searched and changed.
    """
    import matplotlib as mpl

    buffer = io.BytesIO()
    with own_style(), mpl.rc_context({"svg.hashsalt": "markbase", "svg.fonttype": "none"}):
        engine = figure.get_layout_engine()
        if engine is not None:  # saving would draw everything twice to find the places
            engine.execute(figure)
            figure.set_layout_engine(None)
        figure.savefig(buffer, format=kind, dpi=dpi, metadata={"Date": None} if kind == "svg" else {"Software": None})
    return buffer.getvalue()


def own_sheet(width: float, height: float, rows: int, columns: int) -> tuple[Figure, Any]:
    """Return a figure of a size in inches, and its axes, shape (rows, columns)."""
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.figure import Figure

    figure = Figure(figsize=(width, height), layout="constrained")
    FigureCanvasAgg(figure)
    _shown_in_notebooks(figure, figure)
    return figure, figure.subplots(rows, columns)


def styled(function: F) -> F:
    """Draw under settings of our own, whatever those of the user are; on axes that were given theirs hold. Names stand as they are."""
    looked_over = checked(function)

    @functools.wraps(function)
    def drawn(*args: Any, **kwargs: Any) -> Any:
        given = next((a for a in (kwargs.get("ax"), *args) if type(a).__name__.endswith("Axes")), None)
        before = {text: text.get_text() for text in _texts_in(given)}
        with nullcontext() if given is not None else own_style():
            made = looked_over(*args, **kwargs)
            for text in _texts_in(made):
                if before.get(text) != text.get_text():
                    text.set_parse_math(False)  # dollar signs in names are such, and nothing between them is a formula
        return made

    return drawn  # type: ignore[return-value]


def _texts_in(drawn: Any) -> list[Any]:
    """Return the texts of axes or of a figure, but for the ticks of logarithmic axes, which are no names."""
    from matplotlib.text import Text
    from matplotlib.ticker import LogFormatter

    if drawn is None:
        return []
    axes = drawn.axes if isinstance(drawn.axes, list) else [drawn]
    own = [ax.get_xaxis() for ax in axes] + [ax.get_yaxis() for ax in axes]
    ticks = [axis.get_ticklabels(which="both") for axis in own if isinstance(axis.get_major_formatter(), LogFormatter)]
    numbers = {id(label) for labels in ticks for label in labels}
    return [text for text in drawn.findobj(Text) if id(text) not in numbers]


@contextmanager
def own_style() -> Iterator[None]:
    """Set what matplotlib comes with, for the time of a drawing; what is global is put back."""
    import matplotlib as mpl

    kept = {
        k: v
        for k, v in mpl.rcParamsDefault.items()
        if not k.startswith(("backend", "interactive", "toolbar", "webagg", "date.epoch"))
    }
    with mpl.rc_context(), warnings.catch_warnings():
        warnings.simplefilter("ignore")  # about settings that are going away
        mpl.rcParams.update(kept)
        yield


def own_axes(width: float, height: float) -> Axes:
    """Return axes on a figure of their own, of a size in inches."""
    return sheet_of_one(width, height)[1]


def finish(ax: Axes, title: str) -> None:
    """Put the title above axes, fold what is too long for a line, and take away the lines that say nothing."""
    ax.tick_params(labelsize=9)
    fold_names(ax)
    ax.set_title(fold_words(ax, title), fontsize=10, y=1, loc="left", color=INK)
    for side in ("top", "right"):
        ax.spines[side].set_visible(False)


def say_sample(ax: Axes, values: Any, shown: int) -> None:
    """Say in a corner of axes that the points are a sample, where rows come in parts."""
    if in_parts(values):
        words = f"points: {shown:,} of {len(values):,} rows, taken at random"
        ax.text(0.995, 0.01, words, transform=ax.transAxes, fontsize=8, color=INK, ha="right", va="bottom")
