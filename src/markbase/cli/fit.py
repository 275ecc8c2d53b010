"""`markbase fit`: a linear regression, in its reading order."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import click

from markbase.cli.common import Source, base_options, data_options, pair, remarks, show, show_json, split
from markbase.core.errors import remark
from markbase.core.model.fitting import fit_linear
from markbase.core.model.linear import LinearFit
from markbase.core.model.terms import Spec, cross, slope
from markbase.show.fit import fit_page, standardised_section
from markbase.show.plain import fit_record


@click.command("fit")
@data_options
@base_options
@click.option("--outcome", required=True, help="The amount to explain.")
@click.option("--terms", multiple=True, required=True, metavar="COLUMNS", help="What to explain it with, by commas.")
@click.option(
    "--slope", "slopes", multiple=True, metavar="AMOUNT=GROUP", help="Let a slope differ by group. May be repeated."
)
@click.option(
    "--cross", "crossings", multiple=True, metavar="GROUP=GROUP", help="Let differences differ by another group."
)
@click.option("--level", default=0.95, show_default=True, help="Confidence level of the intervals.")
@click.option("--errors", help="classical (the default), robust (HC3), HC0, HC1, HC2 or HC3.")
@click.option("--weights", metavar="COLUMN", help="With how much each row counts.")
@click.option("--weights-are", default="sampling", show_default=True, help="sampling or frequency.")
@click.option("--standardised", is_flag=True, help="Add the coefficients in standard deviations of the outcome.")
@click.option(
    "--within",
    multiple=True,
    metavar="GROUP",
    help="Control for all levels of this group without listing them. Once or twice.",
)
@click.option("--cluster", metavar="GROUP", help="Cluster the errors by this group, such as the choir of a singer.")
def command(
    outcome: str,
    terms: tuple[str, ...],
    slopes: tuple[str, ...],
    crossings: tuple[str, ...],
    level: float,
    errors: str | None,
    weights: str | None,
    weights_are: str,
    cluster: str | None,
    within: tuple[str, ...],
    standardised: bool,
    as_json: bool,
    **source: Any,
) -> None:
    r"""Fit a linear regression of an amount in FILE, every group against its base.

    \b
    markbase fit choirs.csv --codebook choirs.codebook.toml \
        --outcome belonging --terms age,voice --base voice=alto
    """
    with remarks() as told:
        given = Source(**source)
        study = given.open()
        specs: list[Spec] = list(split(terms, study.columns))
        specs += [slope(amount, by=group) for amount, group in (pair(text, "--slope") for text in slopes)]
        specs += [cross(first, second) for first, second in (pair(text, "--cross") for text in crossings)]
        fit = fit_linear(
            study,
            outcome,
            specs,
            level=level,
            errors=errors,
            cluster=cluster,
            within=within,
            weights=weights,
            weights_are=weights_are,
        )
        _mention_unused(study.columns, fit, (*given.bases, *given.rules))
    if as_json:
        show_json(fit_record(fit), told)
    else:
        page = fit_page(fit)
        show(replace(page, sections=(*page.sections, standardised_section(fit))) if standardised else page)


def _mention_unused(columns: tuple[str, ...], fit: LinearFit, bases: tuple[str, ...]) -> None:
    """Remark on a base that was given for a group outside the model."""
    inside = {t.name for t in fit.parts}
    for text in bases:
        name = text.partition("=")[0].strip()
        if name in columns and name not in inside:
            remark(f"A base was given for `{name}`, which is not among the terms; it changes nothing here.")
