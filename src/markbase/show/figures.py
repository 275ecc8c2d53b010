"""Figures of a screening. Each takes the axes to draw on, or makes a figure of its own; nothing global is set."""

from __future__ import annotations

import functools
import io
import math
import warnings
from collections.abc import Callable, Iterator
from contextlib import contextmanager, nullcontext
from typing import TYPE_CHECKING, Any, TypeVar

import numpy as np

from markbase.core.arguments import checked
from markbase.core.errors import MarkbaseError
from markbase.core.formatting import short, without_zero
from markbase.core.rows.parts import in_parts
from markbase.core.rows.row_functions import sample_of
from markbase.core.screening.screen import Screen
from markbase.core.study.study import Study
from markbase.show.figure_names import fold_names, fold_words, folded

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

TEAL, AMBER, INK, PALE = "#0b6e8a", "#c8690a", "#22313a", "#e8eef0"
_MOST_POINTS = 2000
_MOST_COLUMNS = 10
F = TypeVar("F", bound=Callable[..., Any])


def _own(width: float, height: float) -> tuple[Figure, Axes]:
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
    return _own(width, height)[1]


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


@styled
def draw_correlations(screen: Screen, ax: Axes | None = None) -> Axes:
    """Draw the correlations as a table of tints: direction by tint, size by depth, and every number in its cell.

    Parameters
    ----------
    screen : Screen
        The screening.
    ax : matplotlib.axes.Axes, optional
        Where to draw; by default on a figure of its own (``ax.figure``).

    Returns
    -------
    matplotlib.axes.Axes
        The axes drawn on.

    Examples
    --------
    >>> import markbase as mb
    >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
    >>> screened = mb.screen(study, ["age", "travel_km", "travel_min"])
    >>> len(mb.draw_correlations(screened).get_xticks())
    2
    """
    from matplotlib.colors import LinearSegmentedColormap

    names = list(screen.correlations.columns)
    values = screen.correlations.to_numpy()
    if ax is None:
        _, ax = _own(2.2 + 0.62 * len(names), 1.6 + 0.5 * len(names))
    tints = LinearSegmentedColormap.from_list("markbase", [AMBER, "#ffffff", TEAL])
    lower = np.tril(np.ones_like(values, dtype=bool), -1)
    ax.imshow(np.where(lower, values, np.nan), cmap=tints, vmin=-1, vmax=1, aspect="auto")
    for a, b in np.argwhere(lower):
        r = values[a, b]
        outcome = screen.outcome is not None and b == 0
        flagged = abs(r) >= screen.limits.r and not outcome
        dark = abs(r) > 0.65
        weight = "bold" if flagged else "normal"
        text = f"{'▲' if flagged else ''}{without_zero(r, 2)}"
        ax.text(b, a, text, ha="center", va="center", fontsize=8, color="white" if dark else INK, weight=weight)
    ax.set_xticks(range(len(names) - 1), names[:-1], rotation=40, ha="right", fontsize=8)
    ax.set_yticks(range(1, len(names)), names[1:], fontsize=8)
    fold_names(ax)
    ax.set_xlim(-0.5, len(names) - 1.5)
    ax.set_ylim(len(names) - 0.5, 0.5)
    for side in ax.spines.values():
        side.set_visible(False)
    ax.tick_params(length=0)
    weighted = f", {screen.weighting.short.replace('`', '')}" if screen.weighting else ""
    title = (
        f"Correlations, {screen.sample.used:,} rows{weighted} (▲ from |r| = {short(screen.limits.r)} among predictors)"
    )
    ax.set_title(fold_words(ax, title, 9), fontsize=9, y=1, loc="left")
    return ax


@styled
def draw_vif(screen: Screen, ax: Axes | None = None) -> Axes:
    """Draw how many times each term's standard error is inflated, with the limits in use as lines.

    Parameters
    ----------
    screen : Screen
        The screening.
    ax : matplotlib.axes.Axes, optional
        Where to draw; by default on a figure of its own (``ax.figure``).

    Returns
    -------
    matplotlib.axes.Axes
        The axes drawn on.

    Examples
    --------
    >>> import markbase as mb
    >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
    >>> mb.draw_vif(mb.screen(study, ["age", "travel_km", "travel_min"])).get_xlabel()
    'standard error, times what it would be with nothing in common (limits are rules of thumb)'
    """
    from markbase.core.screening.limits import VIF_IN_USE

    table = screen.terms.iloc[::-1]
    if ax is None:
        _, ax = _own(7.2, 1.6 + 0.32 * len(table))
    values = table["comparable"].to_numpy(dtype=np.float64)
    finite = values[np.isfinite(values)]
    reach = max([*finite, math.sqrt(max(*VIF_IN_USE, screen.limits.vif))]) * 1.12
    shown = np.where(np.isfinite(values), values, reach)
    limit = math.sqrt(screen.limits.vif)
    over = shown >= limit
    y = np.arange(len(table))
    ax.barh(y, shown - 1, left=1, height=0.62, color=[AMBER if o else TEAL for o in over], hatch=None)
    for k, value in enumerate(values):
        text = f"{'▲ ' if over[k] else ''}{'infinite' if math.isinf(value) else f'{value:.2f}'}"
        ax.text(
            min(shown[k], reach * 0.985) + 0.015 * reach,
            k,
            text,
            va="center",
            fontsize=8,
            color=INK,
            ha="left",
            clip_on=False,
            bbox={"facecolor": "white", "edgecolor": "none", "pad": 0.6},
        )
    for vif in sorted({*VIF_IN_USE, screen.limits.vif}):
        chosen = vif == screen.limits.vif
        ax.axvline(
            math.sqrt(vif), color=INK, linewidth=1.4 if chosen else 0.7, linestyle="-" if chosen else ":", zorder=0
        )
        ax.text(
            math.sqrt(vif),
            len(table) - 0.35,
            f"√{short(vif)}",
            ha="center",
            va="bottom",
            fontsize=8,
            color=INK,
            weight="bold" if chosen else "normal",
        )
    ax.set_yticks(y, table["term"], fontsize=8)
    fold_names(ax)
    ax.set_xlim(1, reach * 1.1)
    ax.set_ylim(-0.6, len(table) - 0.4)
    ax.set_xlabel(
        "standard error, times what it would be with nothing in common (limits are rules of thumb)", fontsize=8
    )
    ax.tick_params(labelsize=8)
    for side in ("top", "right"):
        ax.spines[side].set_visible(False)
    ax.set_title(fold_words(ax, "Variance inflation of each term", 9), fontsize=9, loc="left", pad=18)
    return ax


def _bins(values: Any) -> Any:
    """Return one bin a value for few whole numbers, which would leave gaps in a comb otherwise; else 24."""
    low, high = values.min(), values.max()
    if high - low <= 40 and np.array_equal(values, np.round(values)):
        return np.arange(low - 0.5, high + 1.5)
    return 24


@styled
def draw_pairs(study: Study, screen: Screen) -> Figure:
    """Draw every pair of numeric columns: points below the diagonal, spreads on it, correlations above.

    Parameters
    ----------
    study : Study
        The data the screening was made of.
    screen : Screen
        The screening; its outcome, if a numeric column, stands first.

    Returns
    -------
    matplotlib.figure.Figure
        A figure of its own. Of more than 2,000 rows, 2,000 spread evenly are drawn as points; of more
        than 10 numeric columns, the first 10.

    Raises
    ------
    MarkbaseError
        If there are fewer than two numeric columns.

    Examples
    --------
    >>> import markbase as mb
    >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
    >>> screened = mb.screen(study, ["age", "travel_km", "travel_min"])
    >>> len(mb.draw_pairs(study, screened).figure.axes)
    9
    """
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.figure import Figure

    names = [n for n in screen.correlations.columns if not study[n].is_categorical][:_MOST_COLUMNS]
    if len(names) < 2:
        raise MarkbaseError("A grid of pairs needs two numeric columns or more among the columns screened.")
    shown = {n: sample_of(study[n].values) for n in names}  # of rows in parts, a sample of them
    used = None if screen.basis.used is None else sample_of(screen.basis.used)
    rows = np.arange(len(shown[names[0]])) if used is None else np.flatnonzero(used)
    some = rows[np.linspace(0, len(rows) - 1, min(_MOST_POINTS, len(rows))).astype(np.intp)]
    count = len(names)
    figure = Figure(figsize=(1.35 * count + 0.6, 1.2 * count + 0.6), layout="constrained")
    FigureCanvasAgg(figure)
    axes: Any = figure.subplots(count, count)
    for a in range(count):
        for b in range(count):
            ax = axes[a, b]
            ax.tick_params(labelsize=6, length=2)
            if a == b:
                ax.hist(shown[names[a]][rows], bins=_bins(shown[names[a]][rows]), color=TEAL)
                ax.set_yticks([])
            elif a > b:
                ax.plot(
                    shown[names[b]][some],
                    shown[names[a]][some],
                    ".",
                    color=INK,
                    markersize=1.6,
                    alpha=0.35,
                )
            else:
                r = float(screen.correlations.loc[names[a], names[b]])  # type: ignore[arg-type]
                flagged = abs(r) >= screen.limits.r and not (
                    a == 0 and screen.outcome is not None and names[0] == screen.outcome.name
                )
                ax.set_facecolor(PALE if flagged else "white")
                ax.text(
                    0.5,
                    0.5,
                    f"{'▲' if flagged else ''}{without_zero(r, 2)}",
                    transform=ax.transAxes,
                    ha="center",
                    va="center",
                    fontsize=7 + 6 * abs(r),
                    color=INK,
                )
                ax.set_xticks([])
                ax.set_yticks([])
            if a < count - 1:
                ax.set_xticklabels([])
            if b > 0:
                ax.set_yticklabels([])
            if a == count - 1:
                ax.set_xlabel(folded(names[b], 20), fontsize=7)
            if b == 0:
                ax.set_ylabel(folded(names[a], 20), fontsize=7)
    every = study.rows if screen.basis.used is None else int(np.count_nonzero(screen.basis.used))
    points = f"{len(some):,} of {every:,} rows drawn" if len(some) < every else f"{every:,} rows"
    points += f", correlations by {screen.weighting.short.replace('`', '')}" if screen.weighting else ""
    figure.suptitle(
        f"Pairs of numeric columns, {points} (▲ from |r| = {short(screen.limits.r)})", fontsize=9, x=0.01, ha="left"
    )
    return figure
