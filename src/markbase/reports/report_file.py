"""Reports made from Python: results laid out as one page in a file."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace as changed
from pathlib import Path
from typing import Any

from markbase.core.arguments import checked, told_value
from markbase.core.comparison.blocks import Blocks
from markbase.core.comparison.imputations import Imputations
from markbase.core.comparison.imputed_blocks import ImputedBlocks
from markbase.core.comparison.several_analyses import said_together
from markbase.core.display import Shown
from markbase.core.errors import ColumnError, FileError, MarkbaseError, near
from markbase.core.reading.methods import Procedure
from markbase.core.results.equivalence import check_margin
from markbase.core.results.linear import LinearFit
from markbase.core.results.logistic import LogisticFit
from markbase.core.screening.reliability import Reliability
from markbase.core.study.study import Study
from markbase.core.version import VERSION
from markbase.files.whole_files import refuse_to_replace, write_whole
from markbase.reports.figure_sets import figures_of
from markbase.reports.parts import (
    Part,
    Wanted,
    analysis_part,
    illustrated,
    imputations_part,
    methods_of,
    methods_over_imputations,
)
from markbase.reports.report import report_html
from markbase.show.bases import MOST_LEVELS
from markbase.show.page import Page
from markbase.show.reliability import reliability_page
from markbase.show.renderer import page_of
from markbase.show.study import study_page

_SUFFIXES = (".html", ".htm")
_FITTED = (LinearFit, LogisticFit, Blocks)


@checked
def report(
    results: Shown | Sequence[Shown] | Mapping[str, Shown],
    path: str | Path,
    *,
    title: str = "",
    groups: Sequence[str] | None = None,
    correction: str = "holm",
    margin: float | Mapping[str, float] | None = None,
    figures: bool = True,
    replace: bool = False,
) -> None:
    """Write a report: one page that opens with what the analyses answer, then tells each in full.

    Parameters
    ----------
    results : fit, blocks or another result, a sequence of them, or a mapping
        What is told, in its order: fits and blockwise entries with their answers, figures, tables and every other base of their
        groups; a study, a screening, a comparison and any other result that prints as the page it prints, with the figures
        that suit it. In a mapping the keys are the headings.
    path : str or Path
        A file that ends in ``.html``.
    title : str
        The heading of the whole page; by default that of the only part, or ``Results``.
    groups : sequence of str, optional
        Groups whose levels and pairs are told, where a fit has them; by default every group of at most 12 levels.
    correction : str
        Of the p of the pairs, as for `between`.
    margin : float or mapping of float, optional
        The smallest difference that would matter, as for `between`: of every pair it is told whether it differs by less, by
        more, or whether these rows leave it open. One number where all fits are of one outcome; otherwise by outcome.
    figures : bool
        Whether figures are drawn.
    replace : bool
        Whether a file that is there may be written over.

    Raises
    ------
    FileError
        If the file does not end in ``.html``, is there already, or cannot be written.
    ColumnError
        If no fit has one of the groups, or an outcome that a margin is given for.
    MarkbaseError
        If there is nothing to tell, or something that is no result, or the margin is none.

    Examples
    --------
    >>> import markbase as mb
    >>> import tempfile
    >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
    >>> fit = mb.fit_linear(study, "belonging", ["age", "voice"])
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     mb.report(fit, f"{folder}/belonging.html", figures=False)
    """
    path = Path(path)
    if path.suffix.lower() not in _SUFFIXES:
        raise FileError(f"`{path}` does not end in {_SUFFIXES[0]}; reports are written as such.")
    told = _named(results)
    refuse_to_replace(path, replace)
    fits = [_last(result) for _, result in told if isinstance(result, _FITTED)]
    for group in groups or ():
        if fits and not any(v.name == group for fit in fits for v in fit.variables):
            fits[0].variable(group, "categorical")  # says which there are
    margins = _margins(fits, margin)
    parts: list[Part] = []
    methods: dict[str, None] = {}
    for heading, result in told:
        if isinstance(result, (Imputations, ImputedBlocks)):
            model = result.last if isinstance(result, ImputedBlocks) else result
            within = [g for g in _groups(model.fit, groups) if not model.not_averaged(g)]
            parts.append(
                imputations_part(
                    result, heading, "", Wanted(tuple(within), correction), figures_of(result) if figures else {}
                )
            )
            methods[methods_over_imputations(result, VERSION, within, correction)] = None
            continue
        if not isinstance(result, _FITTED):
            parts.append(_other_part(heading, result, figures))
            continue
        own = margins.get(_last(result).outcome.name)
        wanted = Wanted(_groups(result, groups), correction, margin=own)
        parts.append(analysis_part(result, heading, "", wanted, figures_of(result) if figures else {}))
        did = Procedure(groups=wanted.groups, correction=correction, margin=own if wanted.groups else None)
        methods[methods_of(result, did, VERSION)] = None
    if methods:
        parts.append(Part("Methods", paragraphs=tuple(methods)))
    fitted = [(heading, _last(result)) for heading, result in told if isinstance(result, _FITTED)]
    title = title or (parts[0].heading if len(told) == 1 else "Results")
    content = report_html(title, "", parts, VERSION, beside=False, together=said_together(fitted))
    write_whole(path, content.encode())


def _named(results: Any) -> list[tuple[str, Shown]]:
    """Return what is told with its headings, no two alike."""
    if isinstance(results, Mapping):
        pairs = [(str(name), result) for name, result in results.items()]
    else:
        several = list(results) if isinstance(results, Sequence) and not isinstance(results, str) else [results]
        pairs = [("", result) for result in several]
    if not pairs:
        raise MarkbaseError("Give at least one result to tell of.")
    headings: list[str] = []
    for name, result in pairs:
        if not isinstance(result, Shown):
            raise MarkbaseError(
                f"A report tells of results, such as a fit, a blockwise entry, a screening or a study; not of {told_value(result)}."
            )
        headings.append(name or page_of(result).title)
    numbers = [headings[: place + 1].count(heading) for place, heading in enumerate(headings)]
    apart = [h if number == 1 else f"{h}, {number}" for h, number in zip(headings, numbers, strict=True)]
    return [(heading, result) for heading, (_, result) in zip(apart, pairs, strict=True)]


def _last(made: Any) -> LinearFit | LogisticFit:
    fit: LinearFit | LogisticFit = made.last if isinstance(made, Blocks) else made
    return fit


def _groups(made: Any, groups: Sequence[str] | None) -> tuple[str, ...]:
    """Return the groups of a fit that are told."""
    own = [v for v in _last(made).variables if v.is_categorical]
    if groups is None:
        return tuple(v.name for v in own if v.size <= MOST_LEVELS)
    return tuple(group for group in groups if any(v.name == group for v in own))


def _margins(fits: Sequence[LinearFit | LogisticFit], margin: float | Mapping[str, float] | None) -> dict[str, float]:
    """Return the margin of each outcome that has one, made sure of before anything is drawn."""
    outcomes = list(dict.fromkeys(fit.outcome.name for fit in fits))
    if margin is None:
        return {}
    if not isinstance(margin, Mapping):
        if len(outcomes) > 1:
            raise MarkbaseError(
                f"What difference would matter depends on the outcome, of which there are {len(outcomes)}; give the margin "
                f"of each by its name: {{{outcomes[0]!r}: {margin!r}, …}}."
            )
        margin = dict.fromkeys(outcomes, margin)
    for name in margin:
        if name not in outcomes:
            raise ColumnError(f"No result has the outcome `{name}` that a margin is given for.{near(name, outcomes)}")
    for fit in fits:
        if fit.outcome.name in margin:
            check_margin(margin[fit.outcome.name], fit.family.ratios)
    return dict(margin)


_WITHOUT_STEPS: dict[type, Callable[[Any], Page]] = {
    Study: lambda study: study_page(study, None),
    Reliability: lambda found: reliability_page(found, None),
}
"""Pages that write steps for a front end, of which a report has none."""


def _other_part(heading: str, result: Shown, figures: bool) -> Part:
    """Tell a result that is none of a fit: the page it prints, with its figures."""
    page: Page = _WITHOUT_STEPS.get(type(result), page_of)(result)
    page = changed(page, title="" if page.title == heading else page.title)
    return Part(heading, (illustrated(page, figures_of(result), heading) if figures else page,))
