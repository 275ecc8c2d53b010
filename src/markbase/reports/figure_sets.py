"""Which figures suit a result, each with its caption."""

from __future__ import annotations

import itertools
import re
from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any

from markbase.core.checks.clusters_left_out import clusters_looked_at, kinds_left_out
from markbase.core.checks.folds import usual_folds
from markbase.core.comparison.blocks import Blocks
from markbase.core.comparison.dominance import Dominance
from markbase.core.comparison.imputations import Imputations, stands_for
from markbase.core.comparison.imputed_blocks import ImputedBlocks
from markbase.core.comparison.score import Score
from markbase.core.design.terms import Variable
from markbase.core.display import suiting
from markbase.core.errors import FitError, remark
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.linear import LinearFit
from markbase.core.results.logistic import LogisticFit
from markbase.core.results.stored_fit import StoredFit
from markbase.core.rows.parts import in_parts
from markbase.core.screening.screen import Screen
from markbase.show.block_figures import draw_blocks, draw_paths
from markbase.show.cell_figure import draw_cells
from markbase.show.check_figures import draw_checks
from markbase.show.classification_figures import draw_calibration, draw_classification
from markbase.show.cluster_figure import draw_clusters
from markbase.show.coefficient_figure import draw_coefficients
from markbase.show.dominance_figure import draw_dominance
from markbase.show.figures import drawn_as
from markbase.show.fit_figures import MOST_LEVELS, draw_adjusted, draw_groups, draw_lines
from markbase.show.screen_figures import draw_correlations, draw_vif
from markbase.show.slope_figures import draw_score, draw_slopes

if TYPE_CHECKING:
    from matplotlib.figure import Figure, SubFigure

KINDS = ("png", "svg")
"""The endings of a figure's files."""
_MOST_CORRELATED = 30
"""Columns of a screening whose correlations are drawn unasked."""
_MOST_SLOPES = 40
"""Levels of a group by which slopes are drawn unasked."""


@dataclass(frozen=True, eq=False)
class Drawn:
    """A figure, drawn once for all that show it."""

    caption: str
    """What it shows."""
    figure: Figure | SubFigure
    """The figure, as axes give it."""
    groups: tuple[str, ...] = ()
    """The groups it shows level by level: it stands beside what is told of these, of two of them together."""

    @cached_property
    def svg(self) -> bytes:
        """The figure as SVG, the same bytes each time."""
        return drawn_as(self.figure.figure, "svg")

    @cached_property
    def files(self) -> dict[str, bytes]:
        """The contents of its files, by their ending."""
        return {kind: self.svg if kind == "svg" else drawn_as(self.figure.figure, kind) for kind in KINDS}


Figures = dict[str, Drawn]
"""Figures by their names."""


def figures_of(result: object) -> Figures:
    """Draw every figure that suits a result; none of one that has none."""
    draw = suiting(result, _SUITING)
    return draw(result) if draw else {}


def figures_of_fit(fit: AnyFit, slopes: Sequence[tuple[str, str | None]] = ()) -> Figures:
    """Draw every figure that suits a fit, by name; of the two slopes of an interaction those that are asked for."""
    figures = figure_of_coefficients(fit)
    for group in (v for v in fit.variables if v.is_categorical):
        figures |= figures_of_group(fit, group)
    for pair in crossed_groups(fit):
        if min(fit.variable(name, "categorical").size for name in pair) <= MOST_LEVELS:
            with suppress(FitError):  # averaged over a third group, of which some combinations have no row
                figures |= figure_of_cells(fit, *pair)
    for slope in _slopes_drawn(fit, slopes):
        with suppress(FitError):  # likewise
            figures |= figures_of_slopes(fit, [slope])
    return figures | figures_of_checks(fit)


def _slopes_drawn(fit: AnyFit, asked: Sequence[tuple[str, str | None]]) -> list[tuple[str, str | None]]:
    """Return the slopes that differ and that no lines by group show, those of an interaction of numbers as they are asked for."""
    found: list[tuple[str, str | None]] = []
    for numeric, by in differing_slopes(fit):
        size = next((v.size for v in fit.variables if v.name == by and v.is_categorical), 0)
        if not size:
            either = [(numeric, by)] if by is None else [(numeric, by), (by, numeric)]
            found += [pair for pair in either if pair in asked] or either[:1]
        elif MOST_LEVELS < size <= _MOST_SLOPES:
            found.append((numeric, by))
    return found


def figures_of_imputations(found: Imputations) -> Figures:
    """Draw every figure that suits a model over imputations, by name."""
    figures = figure_of_coefficients(found)
    for group in (v for v in found.fit.variables if v.is_categorical):
        figures |= figures_of_group(found, group)
    return figures


def figure_of_coefficients(made: AnyFit | Imputations) -> Figures:
    """Draw a whole fit on one scale."""
    fit = stands_for(made)
    caption = (
        f"{fit.family.observed(fit.outcome)}: every level against its base, numeric columns per standard deviation"
    )
    return {"coefficients": Drawn(caption, draw_coefficients(made).figure)}


def figures_of_screen(screen: Screen) -> Figures:
    """Draw correlations and variance inflation of a screening, where they are of the same rows and not too many to read."""
    if screen.basis.fixed_effects is not None or len(screen.correlations) > _MOST_CORRELATED:
        return {}
    return {
        "correlations": Drawn(
            "Correlations: their direction by tint, their size by depth", draw_correlations(screen).figure
        ),
        "vif": Drawn(
            "What terms have in common: by how much it raises the standard error of each", draw_vif(screen).figure
        ),
    }


def figures_of_score(scored: Score) -> Figures:
    """Draw what was predicted against what was observed; nothing of a single row, or of rows in parts, whose predictions are not kept."""
    if min(scored.rows, len(scored.predictions)) < 2:
        return {}
    return {
        "predicted-observed": Drawn("Predicted and observed, in rows the fit has not seen", draw_score(scored).figure)
    }


def figures_of_dominance(found: Dominance) -> Figures:
    """Draw what terms, or blocks, add over all orders of entry."""
    return {"dominance": Drawn(f"What each {found.what} adds over all orders of entry", draw_dominance(found).figure)}


def figures_of_checks(fit: AnyFit) -> Figures:
    """Draw what checks a fit."""
    return _figures_of_rows(fit) | _figure_of_clusters(fit)


def _figure_of_clusters(fit: AnyFit) -> Figures:
    """Draw what leaving out each cluster moves most; nothing where there are none, or none that could be left out."""
    looked_at = clusters_looked_at(fit)
    if not looked_at or len(looked_at) < len(kinds_left_out(fit)):  # the drawing leaves out clusters of both kinds
        return {}
    either = " or ".join(kind.name for kind, _ in looked_at)
    try:
        return {"clusters": Drawn(f"What leaving out each {either} would move most", draw_clusters(fit).figure)}
    except FitError:  # as the page of the checks says it
        return {}


def _figures_of_rows(fit: AnyFit) -> Figures:
    if isinstance(fit, LogisticFit):
        return {
            "classification": Drawn("How many are classified correctly at every cut", _classification(fit)),
            "calibration": Drawn("Observed shares against predicted probabilities", draw_calibration(fit).figure),
        }
    return {} if fit.exact else {"checks": Drawn("Four views of the residuals", draw_checks(fit))}


def figures_of_slopes(fit: AnyFit | StoredFit, asked: Sequence[tuple[str, str | None]]) -> Figures:
    """Draw the slopes asked for."""
    figures = {}
    for numeric, by in asked:
        told = f" by {by}" if by else ""
        figures[safe_name(f"{numeric}-slope{told}")] = Drawn(
            f"The slope of {numeric}{told}, and where it is clear",
            draw_slopes(fit, numeric, by).figure,
        )
    return figures


def differing_slopes(fit: AnyFit | StoredFit) -> list[tuple[str, str | None]]:
    """Return the slopes that differ in a model: of a curve along itself, of an interaction of two by its other column."""
    found: dict[tuple[str, str | None], None] = {}
    for term in fit.model_terms:
        if term.kind == "polynomial":
            found[term.names[0], None] = None
        elif len(term.names) == 2 and term.numerics:
            numeric = term.numerics[0].name
            by, depends = next(n for n in term.names if n != numeric), fit.slope_depends_on(numeric)
            if by in depends or numeric in depends:  # what moves with a column is not held beside it
                found[numeric, by if by in depends else None] = None
    return list(found)


def figures_of_group(made: AnyFit | Imputations, group: Variable) -> Figures:
    """Draw a group of a fit: its differences, its adjusted means, and lines along numeric columns, as `_along` chooses them."""
    if made.not_averaged(group.name):
        return {}
    fit, name, shown = stands_for(made), safe_name(group.name), (group.name,)
    figures: Figures = {
        f"{name}-differences": Drawn(
            f"Differences of the levels of {group.name} from {group.base_label}",
            draw_groups(made, group.name).figure,
            shown,
        ),
        f"{name}-adjusted": Drawn(
            f"{group.name}: adjusted as if all rows had the level, beside what was observed",
            draw_adjusted(made, group.name).figure,
            shown,
        ),
    }
    for numeric in _along(fit, group):
        figures[f"{safe_name(numeric)}-by-{name}"] = Drawn(
            f"{fit.explained} along {numeric}, a line for each level of {group.name}",
            draw_lines(made, numeric, group.name).figure,
            shown,
        )
    return figures


def _along(fit: AnyFit, group: Variable) -> list[str]:
    """Return the numeric columns along which lines by a group are drawn: whose slope differs by it, and by the first group also curves.

    Lines that are parallel by construction show what a number says; where there are no others, one figure of them is drawn, for
    its rows.
    """
    if group.size > MOST_LEVELS:
        return []
    numerics = [v.name for v in fit.variables if not v.is_categorical]
    depends = {name: fit.slope_depends_on(name) for name in numerics}
    own = [name for name in numerics if group.name in depends[name]]
    first = next(v.name for v in fit.variables if v.is_categorical and v.size <= MOST_LEVELS) == group.name
    if first:
        groups = {v.name for v in fit.variables if v.is_categorical}
        own += [name for name in numerics if name in depends[name] and not groups & set(depends[name])]
    return own or (numerics[:1] if first and not any(depends.values()) else [])


def crossed_groups(fit: AnyFit) -> list[tuple[str, str]]:
    """Return the pairs of groups that are in an interaction of a fit, in the order of its terms."""
    pairs = (pair for term in fit.model_terms for pair in itertools.combinations([g.name for g in term.groups], 2))
    return list(dict.fromkeys(pairs))


def figure_of_cells(fit: AnyFit, first: str, second: str) -> Figures:
    """Draw two groups of a fit together, the one of more levels as rows; raises as `draw_cells`."""
    if fit.variable(second, "categorical").size > fit.variable(first, "categorical").size:
        first, second = second, first
    caption = f"{first} and {second} together: adjusted as if all rows had both levels"
    drawn = Drawn(caption, draw_cells(fit, first, second).figure, (first, second))
    return {f"{safe_name(first)}-and-{safe_name(second)}": drawn}


def _classification(fit: LogisticFit) -> Figure | SubFigure:
    """Draw the classification with rows held out, or, where the model cannot be fitted without a part, that of the fit alone."""
    try:
        return draw_classification(fit, folds=None if in_parts(fit.outcome.values) else usual_folds(fit)).figure
    except FitError as problem:
        remark(f"The figure of the classification shows the rows of the fit only. {problem}")
        return draw_classification(fit).figure


def figures_of_blocks(hierarchy: Blocks | ImputedBlocks) -> Figures:
    """Draw what blocks add, and how estimates move."""
    figures: Figures = {}
    if not hierarchy.logistic:
        figures["blocks"] = Drawn("What each block adds to R²", draw_blocks(hierarchy).figure)
    first = hierarchy.moves[hierarchy.moves["term"].isin(hierarchy.added[0]) & ~hierarchy.moves["base"]]
    if 0 < len(first) <= MOST_LEVELS:
        figures["paths"] = Drawn("How estimates of the first block move as others enter", draw_paths(hierarchy).figure)
    return figures


def _figures_of_entry(hierarchy: Blocks | ImputedBlocks) -> Figures:
    """Draw every figure that suits a blockwise entry; of a logistic one also the last fit as a whole."""
    return figures_of_blocks(hierarchy) | (figure_of_coefficients(hierarchy.last) if hierarchy.logistic else {})


_SUITING: dict[type, Callable[[Any], Figures]] = {
    Blocks: _figures_of_entry,
    Dominance: figures_of_dominance,
    Imputations: figures_of_imputations,
    ImputedBlocks: _figures_of_entry,
    LinearFit: figures_of_fit,
    LogisticFit: figures_of_fit,
    Score: figures_of_score,
    Screen: figures_of_screen,
}


def safe_name(name: str) -> str:
    """Return a name that is one on every file system."""
    return re.sub(r"[^\w.-]+", "_", name)
