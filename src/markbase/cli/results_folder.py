"""Carrying out a plan: every fit made, every file of its results prepared, nothing written yet."""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import pandas as pd

from markbase.cli.opening import open_plan
from markbase.core.checks.folds import usual_folds
from markbase.core.comparison.backward_elimination import backward_elimination
from markbase.core.comparison.blocks import Blocks
from markbase.core.comparison.coefficient_samples import bootstrap
from markbase.core.comparison.comparison import compare
from markbase.core.comparison.cross_validation import cross_validate
from markbase.core.comparison.dominance import dominance
from markbase.core.comparison.imputed_blocks import ImputedBlocks
from markbase.core.comparison.score import score
from markbase.core.comparison.several_analyses import said_together
from markbase.core.errors import FitError, remark
from markbase.core.reading.methods import Procedure
from markbase.core.results.linear import LinearFit
from markbase.core.results.logistic import LogisticFit
from markbase.core.screening.description import describe
from markbase.core.screening.limits import Limits
from markbase.core.screening.reliability import reliability
from markbase.core.screening.screen import screen
from markbase.core.study.study import Study
from markbase.core.version import FORMAT_VERSION, VERSION
from markbase.files.data_writing import table_bytes
from markbase.files.plan import Plan, moved_plan
from markbase.files.plan_analysis import check_columns
from markbase.files.plan_entries import Analysis, FitEntry
from markbase.reports.document import manuscript_bytes, written_kinds
from markbase.reports.figure_sets import Figures, figures_of, figures_of_fit
from markbase.reports.manuscript import Result
from markbase.reports.parts import (
    Part,
    Wanted,
    analysis_part,
    illustrated,
    imputations_part,
    methods_of,
    methods_over_imputations,
    told_together,
)
from markbase.reports.remarked import remarked
from markbase.reports.report import report_html
from markbase.show.blocks import comparison_page, cross_validation_page, elimination_page, score_page
from markbase.show.coefficient_samples import samples_page, samples_record
from markbase.show.description import description_page, description_record
from markbase.show.dominance import dominance_page, dominance_record
from markbase.show.imputations import imputations_record
from markbase.show.imputed_blocks import imputed_blocks_record
from markbase.show.page import Page
from markbase.show.records import (
    blocks_record,
    cells_record,
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
from markbase.show.reliability import reliability_page, reliability_record
from markbase.show.screen import screen_page
from markbase.show.study import study_page, trail_page
from markbase.show.subgroups import subgroups_page, subgroups_record

Progress = Callable[[str], None]


ALWAYS = ("report.html", "results.json", "methods.txt", "trail.json", "plan.toml")
"""The files that every folder of results has."""


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
    figures: Figures = field(default_factory=dict)
    """Figures by name."""
    manuscript: list[Result] = field(default_factory=list)
    """What has a table for a manuscript, in the order of the tables."""
    methods: list[str] = field(default_factory=list)
    """The methods paragraphs."""
    together: tuple[str, ...] = ()
    """What the analyses do not say together that each says by itself."""

    def drawn(self, page: Page, result: object, name: str) -> Page:
        """Keep the figures that suit a result, and return its page with them."""
        found = figures_of(result)
        self.figures |= {f"{name}-{figure}": drawn for figure, drawn in found.items()}
        return illustrated(page, found, name)

    def files(self, plan: Plan, remarks: list[str], into: Path) -> dict[str, bytes]:
        """Return every file of the results folder by its name in it."""
        title = plan.analysis.title or self.study.title or f"Results for {self.study.name}"
        methods = "\n\n".join(self.methods)
        parts = [*self.parts, *remarked(remarks, self.parts, self.together)]
        if self.methods:
            parts.append(Part("Methods", paragraphs=tuple(self.methods)))
        record = {
            "format_version": FORMAT_VERSION,
            "title": title,
            "version": VERSION,
            "methods": self.methods,
            **self.record,
            "remarks": remarks,
        }
        found = {
            "report.html": report_html(title, self.study.name, parts, VERSION, together=self.together).encode(),
            "results.json": to_json(record).encode() + b"\n",
            "methods.txt": methods.replace("`", "").encode() + b"\n",
            "trail.json": to_json(trail_record(self.study)).encode() + b"\n",
            "plan.toml": moved_plan(plan, into).encode(),
        }
        if self.manuscript:
            kinds = written_kinds()
            found |= {
                f"tables{kind}": manuscript_bytes(
                    self.manuscript, kind, title, plan.analysis.labels, plan.analysis.standardised
                )
                for kind in kinds
            }
        found |= {f"tables/{name}.csv": table_bytes(table, ".csv") for name, table in self.tables.items()}
        found |= {
            f"figures/{name}.{kind}": content
            for name, drawn in self.figures.items()
            for kind, content in drawn.files.items()
        }
        return found


def carry_out(plan: Plan, progress: Progress) -> Results:
    """Open, prepare, screen and fit as a plan says; a refusal names the plan's line or the fit."""
    analysis = plan.analysis
    progress("opening and preparing the data")
    study = open_plan(plan)
    check_columns(analysis, study.columns, plan.text, plan.source)
    results = Results(study)
    results.parts.append(Part("The data, prepared", (study_page(study, None), trail_page(study.trail))))
    used: set[str] = set()
    for number, sample in enumerate(analysis.samples):
        with plan.naming("describe", number, f"description `{sample.name}`"):
            described = describe(study, sample.columns, by=sample.by, weights=sample.weights)
        results.parts.append(Part(sample.name, (description_page(described),)))
        results.record.setdefault("describe", {})[sample.name] = description_record(described)
        file = _file_name(sample.name, used)
        results.tables |= {file: described.table, f"{file}-differences": described.differences}
        results.manuscript.append(described)
    if analysis.screen:
        progress("screening")
        _screened(analysis, study, results)
    for number, scale in enumerate(analysis.scales):
        with plan.naming("reliability", number, f"reliability `{scale.name}`"):
            items = reliability(study, list(scale.items), level=scale.level)
        results.parts.append(Part(scale.name, (reliability_page(items, None),)))
        results.record.setdefault("reliability", {})[scale.name] = reliability_record(items)
        results.tables[_file_name(scale.name, used)] = items.table
        results.manuscript.append(items)
    named: dict[str, LinearFit | LogisticFit | Blocks] = {}
    for entry in analysis.fits:
        progress(f"fitting {entry.name}")
        with plan.naming(entry.table, entry.number, f"fit `{entry.name}`"):
            made = named[entry.name] = entry.made_from(study)
            _told(made, entry, _file_name(entry.name, used), results, analysis.figures)
    for entry in analysis.imputations:
        progress(f"fitting {entry.name}")
        with plan.naming(entry.table, entry.number, f"imputations `{entry.name}`"):
            _combined(entry, _file_name(entry.name, used), results, analysis.figures)
    results.together = said_together([(n, m.last if isinstance(m, Blocks) else m) for n, m in named.items()])
    for text in results.together:
        remark(text)
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
    found = screen(
        study,
        list(entry.terms),
        entry.outcome,
        limits=Limits(**chosen),
        weights=entry.weights,
        weights_are=entry.weights_are,
    )
    page = screen_page(found)
    results.parts.append(Part("Screening", (results.drawn(page, found, "screen") if analysis.figures else page,)))
    results.manuscript.append(found)
    results.record["screen"] = screen_record(found)
    results.tables["screen-correlations"] = found.correlations.rename_axis("column").reset_index()
    results.tables["screen-vif"] = found.vif


def _combined(entry: FitEntry, name: str, results: Results, draws: bool) -> None:
    """Put what the fits of several imputations say combined into the parts, tables, figures and records."""
    found = entry.combined_in(results.study)
    figures = figures_of(found) if draws else {}
    results.figures |= {f"{name}-{figure}": drawn for figure, drawn in figures.items()}
    slopes, at = tuple((n, by or None) for n, by in entry.slopes), {n: list(v) for n, v in entry.at.items()}
    wanted = Wanted(entry.groups, entry.correction, slopes, at)
    results.parts.append(imputations_part(found, entry.name, entry.question, wanted, figures))
    results.manuscript.append(found)
    told = methods_over_imputations(found, VERSION, entry.groups, entry.correction, results.study.trail)
    results.methods.append(told)
    if isinstance(found, ImputedBlocks):
        record = imputed_blocks_record(found)
        results.tables |= {f"{name}-steps": found.steps, f"{name}-moves": found.moves}
        found = found.last
    else:
        record = imputations_record(found, entry.groups, entry.correction, slopes, at or None)
    for numeric, by in slopes:
        what = _file_name(f"{numeric} by {by}" if by else numeric, set())
        results.tables[f"{name}-slopes-{what}"] = found.simple_slopes(numeric, by=by, at=at or None)
    results.record.setdefault("imputations", {})[entry.name] = json.loads(to_json(record))
    results.tables |= {f"{name}-coefficients": found.coefficients, f"{name}-terms": found.terms}
    for group in (g for g in entry.groups if not found.not_averaged(g)):
        results.tables |= {
            f"{name}-{group}-levels": found.groups(group),
            f"{name}-{group}-pairs": found.between(group, entry.correction),
        }


def _told(made: LinearFit | LogisticFit | Blocks, entry: FitEntry, name: str, results: Results, draws: bool) -> None:
    """Put what a fit says into the parts, tables, figures and records."""
    fit = made.last if isinstance(made, Blocks) else made
    record: dict[str, Any]
    if isinstance(made, Blocks):
        record = blocks_record(made)
        results.tables |= {f"{name}-steps": made.steps, f"{name}-moves": made.moves}
    else:
        record = regression_record(fit)
    slopes = tuple((numeric, by or None) for numeric, by in entry.slopes)
    figures: Figures = {}
    if draws:
        figures = figures_of(made) if isinstance(made, Blocks) else figures_of_fit(made, slopes)
    results.tables |= {f"{name}-coefficients": fit.coefficients, f"{name}-terms": fit.terms}
    for group in entry.groups:
        if reason := fit.not_averaged(group):
            record.setdefault("groups", {})[group] = {"not_averaged": reason}
            continue
        record.setdefault("groups", {})[group] = groups_record(fit, group, entry.correction, margin=entry.margin)
        results.tables |= {
            f"{name}-{group}-levels": fit.groups(group),
            f"{name}-{group}-pairs": fit.between(group, entry.correction, margin=entry.margin),
        }
    for first, second in told_together(fit, entry.groups):
        both = f"{first}:{second}"
        try:
            means, pairs = fit.cell_means(first, second, correction=entry.correction)
        except FitError as problem:
            record["groups"][both] = {"not_averaged": str(problem)}
            continue
        record["groups"][both] = cells_record(fit, first, second, entry.correction)
        results.tables |= {f"{name}-{first}-and-{second}-cells": means, f"{name}-{first}-and-{second}-pairs": pairs}
        effects = pd.concat([fit.simple_effects(first, by=second), fit.simple_effects(second, by=first)])
        results.tables[f"{name}-{first}-and-{second}-effects"] = effects
    if slopes:
        held = {name: list(values) for name, values in entry.at.items()} or None
        told = {f"{n} by {by}" if by else n: fit.simple_slopes(n, by=by, at=held) for n, by in slopes}
        record["slopes"] = {what: table_record(table) for what, table in told.items()}
        results.tables |= {f"{name}-slopes-{_file_name(what, set())}": table for what, table in told.items()}
    more = []
    if entry.hold_out:
        kept, test = results.study.hold_out(share=entry.hold_out, seed=entry.seed, whole=entry.cluster or None)
        smaller = entry.fitted_to(kept)
        scored = score(smaller, test)
        page = score_page(scored, cluster=entry.cluster)
        record["hold_out"] = score_record(scored)
        more.append(results.drawn(page, scored, name) if draws else page)
    folds = 0
    if entry.cross_validate:
        found = cross_validate(fit, folds=usual_folds(fit))
        folds = found.folds
        more.append(cross_validation_page(found))
        record["cross_validate"] = table_record(found.table)
    within = [entry.subgroups_by(results.study, group) for group in entry.subgroups]
    for group, each in zip(entry.subgroups, within, strict=True):
        more.append(subgroups_page(each))
        record.setdefault("subgroups", {})[group] = subgroups_record(each)
        results.tables |= {f"{name}-by-{group}-estimates": each.estimates, f"{name}-by-{group}-tests": each.tests}
    samples = None
    if entry.bootstrap and not isinstance(made, Blocks):
        samples = bootstrap(made, entry.bootstrap, seed=entry.seed)
        more.append(samples_page(samples))
        record["bootstrap"] = samples_record(samples)
        results.tables[f"{name}-bootstrap"] = samples.table
    shares = None
    if entry.dominance:
        shares = dominance(made, draws=entry.bootstrap, seed=entry.seed)
        page = dominance_page(shares)
        more.append(results.drawn(page, shares, name) if draws else page)
        record["dominance"] = dominance_record(shares)
        results.tables[f"{name}-dominance"] = shares.table
    results.figures |= {f"{name}-{figure}": drawn for figure, drawn in figures.items()}
    wanted = Wanted(tuple(entry.groups), entry.correction, slopes, entry.at, entry.margin)
    results.parts.append(analysis_part(made, entry.name, entry.question, wanted, figures, more))
    results.manuscript += [
        made,
        *((fit, g) for g in entry.groups if not fit.not_averaged(g)),
        *within,
        *([samples] if samples else []),
        *([shares] if shares else []),
    ]
    results.record.setdefault("fits", {})[entry.name] = json.loads(to_json(record))
    did = Procedure(
        results.study.trail,
        groups=entry.groups,
        subgroups=tuple(group for group, each in zip(entry.subgroups, within, strict=True) if each.pooled is not None),
        correction=entry.correction,
        margin=entry.margin,
        folds=folds,
        held_out=entry.hold_out,
        dominance=entry.dominance,
        draws=entry.bootstrap,
        seed=entry.seed,
    )
    results.methods.append(methods_of(made, did, VERSION))


def _file_name(name: str, used: set[str]) -> str:
    """Return a name that is one on every file system, and no other fit has."""
    plain = re.sub(r"[^\w.-]+", "-", name).strip("-.").lower() or "fit"
    found, number = plain, 1
    while found in used:
        number += 1
        found = f"{plain}-{number}"
    used.add(found)
    return found
