"""`markbase check`: what the residuals, the cases and the classification say of a fit."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

import rich_click as click

from markbase.cli.help import examples
from markbase.cli.model_options import model_of, model_options, only_for
from markbase.cli.options import figure_options, json_option, names_argument
from markbase.cli.output import answer, remarks
from markbase.cli.sampling_options import seed_option
from markbase.core.checks.folds import usual_folds
from markbase.core.diagnostics.classification import Classification
from markbase.core.errors import FitError, remark
from markbase.core.results.linear import LinearFit
from markbase.core.results.logistic import LogisticFit
from markbase.core.rows.parts import in_parts
from markbase.show.fit import checks_page
from markbase.show.logistic import calibration_section, classification_page, logistic_checks_page
from markbase.show.records import checks_record, classification_record, logistic_checks_record, table_record
from markbase.show.regression import regression_record


@click.command(
    "check",
    epilog=examples(
        "markbase check choirs.plan.toml --outcome belonging --terms age,voice,rehearsals",
        "markbase check choirs.plan.toml --kind logistic --outcome stays --event yes --terms age,voice --cut 0.4",
    ),
)
@model_options
@names_argument("[FIT]")
@click.option(
    "--cases",
    type=click.IntRange(min=1),
    metavar="N",
    help="How many of the cases that weigh most.  [default: 10]",
    panel="Checks",
)
@click.option(
    "--order",
    metavar="COLUMN",
    help="What puts the rows in order, to look for serial correlation; by default a column of dates, or years, that tells rows apart.",
    panel="Checks",
)
@click.option(
    "--cut",
    type=float,
    help="Logistic: the probability from which the event is predicted.  [default: 0.5]",
    panel="Checks",
)
@click.option(
    "--folds",
    type=int,
    help="Logistic: into how many parts rows are put to be held out.  [default: 10]",
    panel="Checks",
)
@seed_option("Checks", "the parts")
@figure_options
@json_option
def command(
    cases: int | None,
    order: str | None,
    cut: float | None,
    folds: int | None,
    seed: int | None,
    figures: Path | None,
    replaces: bool,
    as_json: bool,
    **given: Any,
) -> None:
    """Check a fit. Linear: residuals, spread, straight lines, cases. Logistic: straight lines in the log odds, classification, calibration, cases."""
    with remarks() as told:
        model = model_of(given)
        model.rest(0)
        study, fit = model.fit()
        only_for("logistic", fit, [("--cut", cut), ("--folds", folds), ("--seed", seed)])
        by = None if order is None else study.column(order)
        if isinstance(fit, LinearFit):
            checks = fit.checks(most=cases or 10, order=by)
            found = regression_record(fit) | {"checks": checks_record(checks)} if as_json else checks_page(checks)
        else:
            sorted_rows = _classified(fit, 0.5 if cut is None else cut, folds, seed or 0)
            looked = fit.checks(most=cases or 10, order=by)
            if as_json:
                found = regression_record(fit) | {
                    "checks": logistic_checks_record(looked),
                    "classification": classification_record(sorted_rows),
                    "cases": table_record(looked.cases),
                    "clusters": None if looked.clusters is None else table_record(looked.clusters),
                }
            else:
                page = logistic_checks_page(looked)
                findings, *rest = page.sections
                told_apart = (*classification_page(sorted_rows).sections, calibration_section(fit))
                found = replace(page, sections=(findings, *told_apart, *rest))
        if figures:
            from markbase.cli.figure_files import draw_checks_of

            draw_checks_of(fit, figures, replaces)
    answer(found, told)


def _classified(fit: LogisticFit, cut: float, folds: int | None, seed: int) -> Classification:
    """Classify the rows of a fit and, if that was asked for or can be done, rows held out in turn."""
    if folds is not None or in_parts(fit.outcome.values):
        return fit.classification(cut, folds=folds, seed=seed)
    try:
        return fit.classification(cut, folds=usual_folds(fit), seed=seed)
    except FitError as problem:
        remark(f"The classification is that of the rows of the fit only. {problem}")
        return fit.classification(cut)
