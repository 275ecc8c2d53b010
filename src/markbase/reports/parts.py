"""The parts of a report: what an analysis answers, then its pages with their figures, told from every base."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

from markbase.core.comparison.answers import answers
from markbase.core.comparison.blocks import Blocks
from markbase.core.comparison.imputation_sentences import imputation_answers
from markbase.core.comparison.imputations import Imputations
from markbase.core.comparison.imputed_blocks import ImputedBlocks
from markbase.core.errors import FitError
from markbase.core.inference.corrections import WITH_ONE_LEVEL
from markbase.core.reading.methods import Procedure, methods_paragraph
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.linear import LinearFit
from markbase.core.results.logistic import LogisticFit
from markbase.core.results.statements import Statement
from markbase.core.study.trail import Trail
from markbase.reports.figure_sets import Drawn, Figures, crossed_groups, safe_name
from markbase.reports.inline import inline
from markbase.show.bases import versions_of
from markbase.show.blocks import blocks_page
from markbase.show.fit import checks_page
from markbase.show.fit_figures import draw_groups
from markbase.show.group_tables import cells_sections, groups_section, margin_section, pairs_grid, pairs_section
from markbase.show.guide import guide_section
from markbase.show.html import Versions
from markbase.show.imputations import imputations_page
from markbase.show.imputed_blocks import imputed_blocks_page
from markbase.show.logistic import logistic_checks_page
from markbase.show.page import Drawing, Page, Picture, Section, Sentences
from markbase.show.regression import regression_page
from markbase.show.slope_tables import slopes_section

_WIDEST = 12
"""Groups of more levels are too wide for a grid."""
_MOST_CELLS = 36
"""Two groups of more combinations have too many pairs for a page."""


@dataclass(frozen=True)
class Part:
    """One part of a report."""

    heading: str
    """Its heading."""
    pages: tuple[Page, ...] = ()
    """What stands in it."""
    question: str = ""
    """The question it answers."""
    paragraphs: tuple[str, ...] = ()
    """Text before the pages; names between backquotes."""
    answers: tuple[Statement, ...] = ()
    """What it answers, in a few sentences."""
    lead: Picture | None = None
    """The figure that shows the answer."""
    versions: Versions | None = None
    """The pages told from other bases."""
    pointed_at: str = ""
    """What points at it from where the answers stand; empty for nothing."""


@dataclass(frozen=True)
class Wanted:
    """What is told of an analysis beside the fit itself."""

    groups: tuple[str, ...] = ()
    """Groups whose levels and pairs are told."""
    correction: str = "holm"
    """Of the p of the pairs."""
    slopes: tuple[tuple[str, str | None], ...] = ()
    """Numeric columns whose slopes are told, and by what they differ."""
    at: Mapping[str, Sequence[float]] = field(default_factory=dict)
    """Where numeric columns are held."""
    margin: float | None = None
    """The smallest difference of levels that would matter; None for none told."""


def analysis_part(
    made: AnyFit | Blocks,
    name: str,
    question: str = "",
    wanted: Wanted | None = None,
    figures: Figures | None = None,
    more: Sequence[Page] = (),
) -> Part:
    """Tell a fit, or a blockwise entry, as a part of a report.

    The answers, the figure that shows them, the pages with their `figures` (by the names that `figures_of_fit` and
    `figures_of_blocks` give), what is `wanted` beside the fit, the pages from every other base, and `more` pages.
    """
    wanted = wanted or Wanted()
    figures = dict(figures or {})
    pictures = {key: inline(drawn.svg, f"{name} {key}", drawn.caption) for key, drawn in figures.items()}
    lead = pictures.pop("blocks" if "blocks" in pictures else "coefficients", None)
    shown = {key: drawn.groups for key, drawn in figures.items()}
    own = _pages(made, wanted, pictures, shown)
    versions = _versions(made, wanted, pictures, shown, name)
    whole = replace(versions, others=tuple(replace(v, pages=(*v.pages, *more)) for v in versions.others))
    return Part(
        name,
        (*own, *more),
        question,
        answers=answers(made, wanted.groups),
        lead=lead,
        versions=whole if whole.others else None,
    )


def imputations_part(
    found: Imputations | ImputedBlocks, name: str, question: str, wanted: Wanted, figures: Figures | None = None
) -> Part:
    """Tell a model over imputations as a part of a report, or several in blocks: the answers, and its pages with what is wanted beside it, and their `figures`."""
    pictures = {key: inline(drawn.svg, f"{name} {key}", drawn.caption) for key, drawn in (figures or {}).items()}
    lead = pictures.pop("blocks" if "blocks" in pictures else "coefficients", None)
    shown = {key: drawn.groups for key, drawn in (figures or {}).items()}
    model = found.last if isinstance(found, ImputedBlocks) else found
    groups, slopes = wanted.groups, wanted.slopes
    page = imputations_page(model, groups, wanted.correction, slopes, wanted.at or None)
    for k, group in enumerate(groups, len(page.sections) - 1 - len(groups) - len(slopes)):
        page = beside(page, k, _taken(pictures, [key for key in pictures if shown[key] == (group,)]))
    pages = [_folded(page)]
    told = imputation_answers(model)
    if isinstance(found, ImputedBlocks):
        pages.insert(0, beside(imputed_blocks_page(found), 2, _taken(pictures, ["paths"])))
        told = (*(s for s in found.reading().statements if not s.level and s.term in found.names), *told[1:])
    if pictures:
        drawn = Section("More figures", blocks=tuple(Drawing((p,)) for p in pictures.values()), folded=True)
        pages.append(Page("", sections=(drawn,)))
    pages[0] = replace(pages[0], title="" if pages[0].title == name else pages[0].title)
    return Part(name, tuple(pages), question, answers=told, lead=lead)


def methods_over_imputations(
    found: Imputations | ImputedBlocks,
    version: str,
    groups: Sequence[str],
    correction: str,
    trail: Trail | None = None,
) -> str:
    """Say in sentences what was done where a model was fitted in each of several imputations, or for each plausible value."""
    model = found.last if isinstance(found, ImputedBlocks) else found
    did = Procedure(
        trail,
        groups=tuple(groups),
        correction=correction,
        imputations=len(model.fits),
        plausible=() if found.by else tuple(model.fits),
    )
    if isinstance(found, ImputedBlocks):
        did = replace(did, blocks=tuple(zip(found.names, found.added, strict=True)), test="combined")
    return methods_paragraph(model.fit, version, did)


_PLACES = {"correlations": 1, "vif": 3}
"""The sections of pages that figures stand in; others stand in the first."""


def illustrated(page: Page, figures: Figures, name: str) -> Page:
    """Put the figures of a result on its page, beside what they show; `name` tells them from those of other results."""
    for key, drawn in figures.items():
        page = beside(page, _PLACES.get(key, 0), [inline(drawn.svg, f"{name} {key}", drawn.caption)])
    return page


def methods_of(made: AnyFit | Blocks, did: Procedure, version: str) -> str:
    """Say in sentences what was done; the blocks are added to what was done besides."""
    if not isinstance(made, Blocks):
        return methods_paragraph(made, version, did)
    sampled = made.bootstrapped
    did = replace(
        did,
        blocks=tuple(zip(made.names, made.added, strict=True)),
        test=made.changes[-1].kind,
        draws=sampled.draws if sampled else 0,
        seed=sampled.seed if sampled else 0,
    )
    return methods_paragraph(made.last, version, did)


def _pages(
    made: AnyFit | Blocks, wanted: Wanted, pictures: Mapping[str, Picture], shown: Mapping[str, Sequence[str]]
) -> tuple[Page, ...]:
    """Return the pages of an analysis, its figures beside what they show: the groups that each shows level by level."""
    fit = made.last if isinstance(made, Blocks) else made
    left = dict(pictures)
    pages = []
    if isinstance(made, Blocks):
        page = blocks_page(made)
        pages.append(beside(page, 2, _taken(left, ["paths"])))
    pages.append(_folded(regression_page(fit)))
    for group in wanted.groups:
        if reason := fit.not_averaged(group):
            told = Section("", blocks=(Sentences(((reason, ()),)),))
            pages.append(Page(f"{fit.explained}, by {group}", sections=(told,)))
            continue
        own = _taken(left, [k for k in left if shown[k] == (group,)])
        sections: tuple[Section, ...] = (groups_section(fit, group), pairs_section(fit, group, wanted.correction))
        if 2 < fit.variable(group, "categorical").size <= _WIDEST and wanted.correction not in WITH_ONE_LEVEL:
            sections += (pairs_grid(fit, group, wanted.correction),)
        if wanted.margin is not None:
            sections += (margin_section(fit, group, wanted.margin, wanted.correction),)
        pages.append(beside(Page(f"{fit.explained}, by {group}", sections=sections), 0, own))
    for first, second in told_together(fit, wanted.groups):
        own = _taken(left, [k for k in left if set(shown[k]) == {first, second}])
        try:
            sections = tuple(cells_sections(fit, first, second, wanted.correction))
        except FitError as problem:  # averaged over a third group, of which some combinations have no row
            sections = (Section("", blocks=(Sentences(((str(problem), ()),)),)),)
        pages.append(beside(Page(f"{fit.explained}, by {first} and {second} together", sections=sections), 0, own))
    if wanted.slopes:
        held = {name: list(values) for name, values in wanted.at.items()} or None
        sections = tuple(slopes_section(fit, numeric, by, held) for numeric, by in wanted.slopes)
        own = _taken(left, [k for k in left if "-slope" in k])
        pages.append(beside(Page(f"{fit.explained}: simple slopes", sections=sections), len(sections) - 1, own))
    looked = _taken(left, ["checks", "clusters", "classification", "calibration"])
    if isinstance(fit, LinearFit) and not fit.exact:
        sections = tuple(replace(s, folded=True) for s in checks_page(fit.checks()).sections)
        pages.append(beside(Page("Checks of the fit", sections=sections), 0, looked))
    elif isinstance(fit, LogisticFit):
        sections = tuple(replace(s, folded=True) for s in logistic_checks_page(fit.checks()).sections)
        pages.append(beside(Page("Checks of the fit", sections=sections), 0, looked))
    elif looked:
        pages.append(beside(Page("Checks of the fit", sections=(Section("Figures", folded=True),)), 0, looked))
    if left:
        drawn = Section("More figures", blocks=tuple(Drawing((p,)) for p in left.values()), folded=True)
        pages.append(Page("", sections=(drawn,)))
    guide = replace(guide_section(fit.guide()), folded=True)
    return (*pages, Page("", sections=(guide,)))


def told_together(fit: AnyFit, groups: Sequence[str]) -> list[tuple[str, str]]:
    """Return the pairs of some groups that are in an interaction of a fit, and have no more combinations than a page holds."""
    sizes = {v.name: v.size for v in fit.variables if v.name in groups}
    return [(a, b) for a, b in crossed_groups(fit) if {a, b} <= set(sizes) and sizes[a] * sizes[b] <= _MOST_CELLS]


def _folded(page: Page) -> Page:
    """Fold what only a specialist wants of the page of a fit: its equation, in which every number stands once more."""
    return replace(page, sections=tuple(replace(s, folded=True) if _holds_equation(s) else s for s in page.sections))


def _holds_equation(section: Section) -> bool:
    return any(type(block).__name__ == "Formula" for block in section.blocks)


def _taken(left: dict[str, Picture], names: Sequence[str]) -> list[Picture]:
    """Take figures out of those that are left."""
    return [left.pop(name) for name in names if name in left]


def beside(page: Page, place: int, pictures: Sequence[Picture]) -> Page:
    """Put figures below what stands in a section."""
    sections = list(page.sections)
    blocks = (*sections[place].blocks, *(Drawing((picture,)) for picture in pictures))
    sections[place] = replace(sections[place], blocks=blocks)
    return replace(page, sections=tuple(sections))


def _versions(
    made: AnyFit | Blocks,
    wanted: Wanted,
    pictures: Mapping[str, Picture],
    shown: Mapping[str, Sequence[str]],
    name: str,
) -> Versions:
    def pages(other: AnyFit | Blocks, group: str) -> tuple[Page, ...]:
        fit = other.last if isinstance(other, Blocks) else other
        drawn = dict(pictures)
        key = f"{safe_name(group)}-differences"
        if key in drawn and group in wanted.groups:
            base = fit.variable(group, "categorical").base_label
            told = Drawn(f"Differences of the levels of {group} from {base}", draw_groups(fit, group).figure)
            drawn[key] = inline(told.svg, f"{name} {key} {base}", told.caption)
        return _pages(other, wanted, drawn, shown)

    return versions_of(made, pages)
