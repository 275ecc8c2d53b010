"""Reports made from Python: results laid out as one page in a file."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace as changed
from pathlib import Path
from typing import Any

from markbase.core.arguments import checked, told_value
from markbase.core.comparison.blocks import Blocks
from markbase.core.display import Shown
from markbase.core.errors import FileError, MarkbaseError
from markbase.core.reading.methods import Procedure
from markbase.core.results.linear import LinearFit
from markbase.core.results.logistic import LogisticFit
from markbase.core.version import VERSION
from markbase.files.whole_files import refuse_to_replace, write_whole
from markbase.reports.figure_sets import figures_of
from markbase.reports.parts import Part, Wanted, analysis_part, methods_of
from markbase.reports.report import report_html
from markbase.show.bases import MOST_LEVELS
from markbase.show.page import Page
from markbase.show.renderer import page_of

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
    figures: bool = True,
    replace: bool = False,
) -> None:
    """Write a report: one page that opens with what the analyses answer, then tells each in full.

    Parameters
    ----------
    results : fit, blocks or another result, a sequence of them, or a mapping
        What is told, in its order: fits and blockwise entries with their answers, figures, tables and every other base of their
        groups; a study, a screening, a comparison and any other result that prints as the page it prints. In a mapping the
        keys are the headings.
    path : str or Path
        A file that ends in ``.html``.
    title : str
        The heading of the whole page; by default that of the only part, or ``Results``.
    groups : sequence of str, optional
        Groups whose levels and pairs are told, where a fit has them; by default every group of at most 12 levels.
    correction : str
        Of the p of the pairs, as for `between`.
    figures : bool
        Whether figures are drawn.
    replace : bool
        Whether a file that is there may be written over.

    Raises
    ------
    FileError
        If the file does not end in ``.html``, is there already, or cannot be written.
    ColumnError
        If no fit has one of the groups.
    MarkbaseError
        If there is nothing to tell, or something that is no result.

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
    parts = [_part(heading, result, groups, correction, figures) for heading, result in told]
    methods = dict.fromkeys(
        methods_of(result, Procedure(groups=_groups(result, groups), correction=correction), VERSION)
        for _, result in told
        if isinstance(result, _FITTED)
    )
    if methods:
        parts.append(Part("Methods", paragraphs=tuple(methods)))
    content = report_html(
        title or (parts[0].heading if len(told) == 1 else "Results"), "", parts, VERSION, beside=False
    )
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


def _part(heading: str, result: Shown, groups: Sequence[str] | None, correction: str, figures: bool) -> Part:
    """Tell one result."""
    if not isinstance(result, _FITTED):
        page: Page = page_of(result)
        return Part(heading, (changed(page, title="" if page.title == heading else page.title),))
    wanted = Wanted(_groups(result, groups), correction)
    return analysis_part(result, heading, "", wanted, figures_of(result) if figures else {})
