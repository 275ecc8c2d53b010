"""`markbase fit`: a linear or logistic regression, in its reading order."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

import rich_click as click

from markbase.cli.help import examples
from markbase.cli.manuscripts import manuscript_option, standardised_option, write_manuscript
from markbase.cli.model_options import model_of, model_options, only_for
from markbase.cli.options import figure_options, json_option, names_argument
from markbase.cli.other_rows import fit_or_saved, refuse_if_saved
from markbase.cli.output import answer, remarks
from markbase.cli.progress import counting
from markbase.cli.sampling_options import bootstrap_options, check_seed_is_used
from markbase.core.comparison.coefficient_samples import CoefficientSamples
from markbase.core.comparison.coefficient_samples import bootstrap as drawn
from markbase.core.errors import remark
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.linear import LinearFit
from markbase.core.results.stored_fit import StoredFit
from markbase.files.fit_files import write_fit
from markbase.show.coefficient_samples import samples_record, samples_sections
from markbase.show.fit import standardised_section
from markbase.show.guide import guide_section
from markbase.show.page import Page
from markbase.show.regression import regression_page, regression_record


@click.command(
    "fit",
    epilog=examples(
        "markbase fit choirs.csv --outcome belonging --terms age,voice --base voice=alto",
        "markbase fit choirs.plan.toml --kind logistic --outcome stays --event yes --terms age,voice",
        "markbase fit choirs.plan.toml --outcome belonging --terms age,voice --bootstrap 2000",
    ),
)
@model_options
@names_argument("[FIT]")
@click.option(
    "--guide", is_flag=True, help="Only the questions to put to the fit, answered with its numbers.", panel="Output"
)
@standardised_option
@click.option(
    "--save",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="Save the fit, without a row of the data, to this .json.",
    panel="Output",
)
@bootstrap_options("Errors, weights, intervals", "the coefficients")
@manuscript_option
@figure_options
@json_option
def command(
    guide: bool,
    standardised: bool,
    bootstrap: int | None,
    seed: int | None,
    save: Path | None,
    manuscript: Path | None,
    figures: Path | None,
    replaces: bool,
    as_json: bool,
    **given: Any,
) -> None:
    """Fit a regression to FILE, every group against its base.

    FILE is a data file, a plan, of which FIT names a fit, or a saved fit (.json), which is shown.
    """
    with remarks() as told:
        if guide and standardised:
            raise click.UsageError("--guide prints the questions only; leave --standardised out.")
        if guide and bootstrap:
            raise click.UsageError("--guide prints the questions only; leave --bootstrap out.")
        check_seed_is_used(seed, bootstrap)
        model = model_of(given)
        model.rest(0)
        fit = fit_or_saved(model)
        if isinstance(fit, StoredFit):
            options = {"--guide": guide, "--standardised": standardised, "--bootstrap": bootstrap, "--save": save}
            refuse_if_saved(fit, options | {"--manuscript": manuscript, "--figures": figures})
            answer(regression_record(fit) if as_json else regression_page(fit), told)
            return
        only_for("linear", fit, [("--standardised", standardised)])
        _name_what_combines(fit)
        samples = drawn(fit, bootstrap, seed=seed or 0, told=counting("samples", bootstrap)) if bootstrap else None
        found = _record(fit, guide, samples) if as_json else _page(fit, guide, standardised, samples)
        if save:
            write_fit(fit, save, replace=replaces)
        if manuscript:
            write_manuscript([fit, samples] if samples else fit, manuscript, replaces)
        if figures:
            from markbase.cli.figure_files import draw_fit

            draw_fit(fit, figures, replaces)
    answer(found, told)


def _name_what_combines(fit: AnyFit) -> None:
    """Say which command fits each imputation, or each plausible value, where this fit takes all, or one, of them."""
    if fit.stacked is not None:
        remark(
            f"`markbase imputations` fits each of them and combines what they say: --imputation {fit.stacked.column}."
        )
    if fit.outcome.name in fit.plausible:
        several = ",".join(fit.plausible)
        remark(f"`markbase imputations` fits each plausible value and combines what they say: --outcome {several}.")


def _page(fit: AnyFit, guide: bool, standardised: bool, samples: CoefficientSamples | None) -> Page:
    page = regression_page(fit)
    if guide:
        return replace(page, sections=(guide_section(fit.guide()),))
    more = (standardised_section(fit),) if standardised and isinstance(fit, LinearFit) else ()
    return replace(page, sections=(*page.sections, *more, *(samples_sections(samples) if samples else ())))


def _record(fit: AnyFit, guide: bool, samples: CoefficientSamples | None) -> dict[str, Any]:
    questions = {"guide": [vars(step) for step in fit.guide().steps]} if guide else {}
    return regression_record(fit) | questions | ({"bootstrap": samples_record(samples)} if samples else {})
