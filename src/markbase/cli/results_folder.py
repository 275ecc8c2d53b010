"""Carrying out a plan: every fit made, every file of its results prepared, nothing written yet."""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import pandas as pd

from markbase import __version__
from markbase.cli.figure_files import figure_bytes, figures_of_blocks, figures_of_fit
from markbase.core.comparison.backward_elimination import backward_elimination
from markbase.core.comparison.blocks import Blocks
from markbase.core.comparison.comparison import compare
from markbase.core.comparison.cross_validation import cross_validate
from markbase.core.comparison.score import score
from markbase.core.reading.methods import Procedure, methods_paragraph
from markbase.core.results.linear import LinearFit
from markbase.core.results.logistic import LogisticFit
from markbase.core.screening.limits import Limits
from markbase.core.screening.screen import screen
from markbase.core.study.study import Study
from markbase.files.data_writing import table_bytes
from markbase.files.document import can_write_documents, document_bytes
from markbase.files.manuscript import Result
from markbase.files.plan import Plan, moved_plan
from markbase.files.plan_analysis import check_columns
from markbase.files.plan_entries import Analysis, FitEntry
from markbase.show.blocks import blocks_page, comparison_page, cross_validation_page, elimination_page, score_page
from markbase.show.group_tables import groups_section, guide_section, pairs_section, slopes_section
from markbase.show.page import Page
from markbase.show.records import (
    blocks_record,
    comparison_record,
    elimination_record,
    groups_record,
    score_record,
    screen_record,
    table_record,
    to_json,
    trail_record,
)
from markbase.show.regression import regression_page, regression_record
from markbase.show.report import Part, ReportFigure, report_html
from markbase.show.screen import screen_page
from markbase.show.slope_figures import draw_score
from markbase.show.study import study_page, trail_page

_FOLDS = 10
Progress = Callable[[str], None]


@dataclass
class Results:
    """What a plan comes to."""

    study: Study
    """The prepared study."""
    parts: list[Part] = field(default_factory=list)
    """The parts of the report."""
    record: dict[str, Any] = field(default_factory=dict)
    """Everything at full precision."""
    tables: dict[str, pd.DataFrame] = field(default_factory=dict)
    """Tables by file name."""
    figures: dict[str, dict[str, bytes]] = field(default_factory=dict)
    """Figures by name: ``png`` and ``svg``."""
    manuscript: list[Result] = field(default_factory=list)
    """What has a table for a manuscript, in the order of the tables."""
    methods: list[str] = field(default_factory=list)
    """The methods paragraphs."""

    def files(self, plan: Plan, remarks: list[str], into: Path) -> dict[str, bytes]:
        """Return every file of the results folder by its name in it."""
        title = plan.analysis.title or self.study.title or f"Results for {self.study.name}"
        methods = "\n\n".join(self.methods)
        parts = [*self.parts, Part("Methods", paragraphs=tuple(self.methods))] if self.methods else self.parts
        record = {"title": title, "version": __version__, "methods": self.methods, **self.record, "remarks": remarks}
        found = {
            "report.html": report_html(title, self.study.name, parts, __version__).encode(),
            "results.json": to_json(record).encode() + b"\n",
            "methods.txt": methods.replace("`", "").encode() + b"\n",
            "trail.json": to_json(trail_record(self.study)).encode() + b"\n",
            "plan.toml": moved_plan(plan, into).encode(),
        }
        if self.manuscript and can_write_documents():
            found["tables.docx"] = document_bytes(self.manuscript, title)
        found |= {f"tables/{name}.csv": table_bytes(table, ".csv") for name, table in self.tables.items()}
        found |= {
            f"figures/{name}.{kind}": content for name, kinds in self.figures.items() for kind, content in kinds.items()
        }
        return found


def carry_out(plan: Plan, progress: Progress) -> Results:
    """Open, prepare, screen and fit as a plan says.

    Parameters
    ----------
    plan : Plan
        The plan.
    progress : callable
        Told what is being done.

    Returns
    -------
    Results
        Everything there is to write.

    Raises
    ------
    MarkbaseError
        If a step, a column or a fit is refused; the message names the plan's line or the fit.
    """
    analysis = plan.analysis
    progress("opening and preparing the data")
    study = plan.open()
    check_columns(analysis, study.columns, plan.text, plan.source)
    results = Results(study)
    results.parts.append(Part("The data, prepared", (study_page(study, None), trail_page(study.trail))))
    if analysis.screen:
        progress("screening")
        _screened(analysis, study, results)
    used: set[str] = set()
    named: dict[str, LinearFit | LogisticFit | Blocks] = {}
    for entry in analysis.fits:
        progress(f"fitting {entry.name}")
        with plan.naming(entry.table, entry.number, f"fit `{entry.name}`"):
            made = named[entry.name] = entry.made_from(study)
            _told(made, entry, _file_name(entry.name, used), results, analysis.figures)
    for number, wanted in enumerate(analysis.comparisons):
        progress(f"comparing {wanted.name}")
        with plan.naming("compare", number, f"comparison `{wanted.name}`"):
            fits = [m.last if isinstance(m, Blocks) else m for m in (named[n] for n in wanted.fits)]
            found = compare(*fits, names=wanted.fits)
        results.parts.append(Part(wanted.name, (comparison_page(found),)))
        results.manuscript.append(found)
        results.record.setdefault("comparisons", {})[wanted.name] = comparison_record(found)
        results.tables[f"{_file_name(wanted.name, used)}-estimates"] = found.estimates
    for number, shortened in enumerate(analysis.eliminations):
        progress(f"leaving terms out: {shortened.name}")
        with plan.naming("backward_elimination", number, f"backward elimination `{shortened.name}`"):
            whole = named[shortened.fit]
            left = backward_elimination(
                whole.last if isinstance(whole, Blocks) else whole, limit=shortened.limit, keep=shortened.keep
            )
        results.parts.append(Part(shortened.name, (elimination_page(left), regression_page(left.fit))))
        results.record.setdefault("eliminated", {})[shortened.name] = elimination_record(left)
        results.manuscript.append(left.fit)
        name = _file_name(shortened.name, used)
        results.tables |= {f"{name}-steps": left.steps, f"{name}-coefficients": left.fit.coefficients}
    return results


def _screened(analysis: Analysis, study: Study, results: Results) -> None:
    entry = analysis.screen
    assert entry is not None
    chosen = {k: v for k, v in (("r", entry.limit_r), ("vif", entry.limit_vif)) if v is not None}
    found = screen(study, list(entry.terms), entry.outcome, limits=Limits(**chosen))
    results.parts.append(Part("Screening", (screen_page(found),)))
    results.manuscript.append(found)
    results.record["screen"] = screen_record(found)
    results.tables["screen-correlations"] = found.correlations.rename_axis("column").reset_index()
    results.tables["screen-vif"] = found.vif


def _told(made: LinearFit | LogisticFit | Blocks, entry: FitEntry, name: str, results: Results, draws: bool) -> None:
    """Put what a fit says into the parts, tables, figures and records."""
    fit = made.last if isinstance(made, Blocks) else made
    record: dict[str, Any]
    if isinstance(made, Blocks):
        pages: list[Page] = [blocks_page(made), regression_page(fit)]
        record = blocks_record(made)
        results.tables |= {f"{name}-steps": made.steps, f"{name}-moves": made.moves}
        drawn = figures_of_blocks(made) if draws else {}
    else:
        pages = [regression_page(fit)]
        record = regression_record(fit)
        drawn = figures_of_fit(fit) if draws else {}
    guide = Page("In short", sections=(guide_section(fit.guide()),))
    results.tables |= {f"{name}-coefficients": fit.coefficients, f"{name}-terms": fit.terms}
    for group in entry.groups:
        sections = (groups_section(fit, group), pairs_section(fit, group, entry.correction))
        pages.append(Page(f"{fit.explained}, by {group}", sections=sections))
        record.setdefault("groups", {})[group] = groups_record(fit, group, entry.correction)
        results.tables |= {
            f"{name}-{group}-levels": fit.groups(group),
            f"{name}-{group}-pairs": fit.between(group, entry.correction),
        }
    held = {name: list(values) for name, values in entry.at.items()} or None
    if entry.slopes:
        asked = [(numeric, by or None) for numeric, by in entry.slopes]
        pages.append(
            Page(f"{fit.explained}: simple slopes", sections=tuple(slopes_section(fit, n, by, held) for n, by in asked))
        )
        told = {f"{n} by {by}" if by else n: fit.simple_slopes(n, by=by, at=held) for n, by in asked}
        record["slopes"] = {what: table_record(table) for what, table in told.items()}
        results.tables |= {f"{name}-slopes-{_file_name(what, set())}": table for what, table in told.items()}
    if entry.hold_out:
        kept, test = results.study.hold_out(share=entry.hold_out, seed=entry.seed)
        scored = score(entry.fitted_to(kept), test)
        pages.append(score_page(scored))
        record["hold_out"] = score_record(scored)
        drawn = drawn | (
            {"predicted-observed": ("Predicted and observed, in rows held out", draw_score(scored).figure)}
            if draws
            else {}
        )
    if entry.cross_validate:
        found = cross_validate(fit, folds=_FOLDS)
        pages.append(cross_validation_page(found))
        record["cross_validate"] = table_record(found.table)
    figures = []
    for figure, (caption, drawing) in drawn.items():
        kinds = {kind: figure_bytes(drawing, kind) for kind in ("png", "svg")}
        results.figures[f"{name}-{figure}"] = kinds
        figures.append(ReportFigure(f"{name}-{figure}", caption, kinds["svg"]))
    results.manuscript += [made, *((fit, group) for group in entry.groups)]
    results.parts.append(Part(entry.name, (guide, *pages), entry.question, (), tuple(figures)))
    results.record.setdefault("fits", {})[entry.name] = json.loads(to_json(record))
    did = Procedure(
        results.study.trail,
        groups=entry.groups,
        correction=entry.correction,
        folds=_FOLDS if entry.cross_validate else 0,
        held_out=entry.hold_out,
    )
    if isinstance(made, Blocks):
        sampled = made.bootstrapped
        did = replace(
            did,
            blocks=tuple(zip(made.names, made.added, strict=True)),
            test=made.changes[-1].kind,
            draws=sampled.draws if sampled else 0,
            seed=sampled.seed if sampled else 0,
        )
    results.methods.append(methods_paragraph(fit, __version__, did))


def _file_name(name: str, used: set[str]) -> str:
    """Return a name that is one on every file system, and no other fit has."""
    plain = re.sub(r"[^\w.-]+", "-", name).strip("-.").lower() or "fit"
    found, number = plain, 1
    while found in used:
        number += 1
        found = f"{plain}-{number}"
    used.add(found)
    return found
