"""`markbase fit`: a linear or logistic regression, in its reading order."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import click

from markbase.cli.asking import fit_options, options_of
from markbase.cli.common import remarks, show, show_json, split
from markbase.cli.drawing import draw_fit, draw_steps
from markbase.cli.telling import counting
from markbase.core.comparing.held_out import held_out
from markbase.core.comparing.trim import trim
from markbase.core.model.corrections import check_correction
from markbase.core.model.linear import LinearFit
from markbase.core.model.logistic import LogisticFit
from markbase.show.fit import checks_page, fit_page, standardised_section
from markbase.show.groups import groups_section, guide_section, lines_page, pairs_section
from markbase.show.ladder import held_out_page, ladder_page, trimmed_page
from markbase.show.logistic import cases_page, classification_page, logistic_page
from markbase.show.page import Page, Section
from markbase.show.plain import (
    checks_record,
    fit_record,
    groups_record,
    ladder_record,
    logistic_record,
    table_record,
    trimmed_record,
)


@click.command("fit")
@fit_options
@click.option(
    "--block",
    "blocks",
    multiple=True,
    metavar="'NAME: COLUMNS'",
    help="Instead of --terms: enter terms block by block, in this order, all on the same rows. May be repeated.",
)
@click.option(
    "--resample",
    type=int,
    metavar="N",
    help="With --block: intervals of what each block adds from N samples drawn out of the rows.",
)
@click.option("--trim", "trims", is_flag=True, help="Only a log of leaving out terms that are not clear, worst first.")
@click.option("--keep", multiple=True, metavar="COLUMNS", help="With --trim: terms that must stay.")
@click.option("--checks", is_flag=True, help="Linear: only the checks: residuals, spread, straight lines, cases.")
@click.option("--held-out", "holds_out", is_flag=True, help="Only how the model does on rows it has not seen.")
@click.option("--guide", is_flag=True, help="Only the questions to put to the fit, answered with its numbers.")
@click.option(
    "--group",
    "groups",
    multiple=True,
    metavar="GROUP",
    help="Only this group: its levels, and every pair of them. May be repeated.",
)
@click.option("--correction", default="holm", show_default=True, help="Of the pairs: holm, bonferroni, tukey or none.")
@click.option("--standardised", is_flag=True, help="Linear: add coefficients in standard deviations of the outcome.")
@click.option("--sorting", is_flag=True, help="Logistic: only how well rows are sorted, also in rows held out.")
@click.option(
    "--cut", default=0.5, show_default=True, help="With --sorting: the probability from which the event is predicted."
)
@click.option("--folds", default=10, show_default=True, help="With --sorting and --held-out: in how many parts.")
@click.option("--seed", default=0, show_default=True, help="With --sorting, --held-out and --resample: the seed.")
@click.option(
    "--cases", type=int, metavar="N", help="Logistic: only the N cases that weigh most, by the identifier of the data."
)
@click.option("--figures", metavar="FOLDER", help="Write the figures of the fit into this folder, as PNG and SVG.")
@click.option("--replace", "replaces", is_flag=True, help="With --figures: write over files that are there.")
def command(
    blocks: tuple[str, ...],
    resample: int | None,
    trims: bool,
    keep: tuple[str, ...],
    checks: bool,
    holds_out: bool,
    guide: bool,
    groups: tuple[str, ...],
    correction: str,
    standardised: bool,
    sorting: bool,
    cut: float,
    folds: int,
    seed: int,
    cases: int | None,
    figures: str | None,
    replaces: bool,
    as_json: bool,
    **given: Any,
) -> None:
    r"""Fit a regression to FILE, every group against its base.

    \b
    markbase fit choirs.csv --codebook choirs.codebook.toml \
        --outcome belonging --terms age,voice --base voice=alto
    markbase fit choirs.csv --codebook choirs.codebook.toml \
        --kind logistic --outcome stays --event yes --terms age,voice
    """
    with remarks() as told:
        check_correction(correction)
        options = options_of(given)
        if blocks:
            _, ladder = options.blocks(blocks)
            if resample is not None:
                ladder = ladder.resample(resample, seed=seed, told=counting("samples", resample))
            if figures:
                draw_steps(ladder, figures, replaces)
            page, record = ladder_page(ladder), ladder_record(ladder)
            (show_json(record, told) if as_json else show(page))
            return
        if resample is not None:
            raise click.UsageError("--resample is for blocks; give each with --block.")
        _, fit = options.fit()
        page = _page(fit, standardised)
        record = fit_record(fit) if isinstance(fit, LinearFit) else logistic_record(fit)
        if groups:
            page = replace(page, sections=tuple(s for g in groups for s in _group(fit, g, correction)))
            record["groups"] = {g: groups_record(fit, g, correction) for g in groups}
        if guide:
            page = replace(page, sections=(guide_section(fit.guide()), *(page.sections if groups else ())))
        if sorting:
            found = fit.classification(cut, folds=folds, seed=seed) if isinstance(fit, LogisticFit) else None
            if found is None:
                raise click.UsageError("--sorting is for a logistic regression; add --kind logistic.")
            page = classification_page(found)
        if cases is not None:
            if not isinstance(fit, LogisticFit):
                raise click.UsageError("--cases is for a logistic regression; add --kind logistic.")
            page = cases_page(fit, fit.cases(cases))
            record["cases"] = table_record(fit.cases(cases))
        if trims:
            trimmed = trim(fit, keep=split(keep))
            page, record["trimmed"] = trimmed_page(trimmed), trimmed_record(trimmed)
        if checks:
            if not isinstance(fit, LinearFit):
                raise click.UsageError("--checks is for a linear regression; a logistic one has --sorting and --cases.")
            found_checks = fit.checks()
            page, record["checks"] = checks_page(found_checks), checks_record(found_checks)
        if holds_out:
            result = held_out(fit, folds=folds, seed=seed)
            page, record["held_out"] = held_out_page(result), table_record(result.table)
        if figures:
            draw_fit(fit, figures, replaces)
    if as_json:
        show_json(record, told)
    else:
        show(page)


def _page(fit: LinearFit | LogisticFit, standardised: bool) -> Page:
    if isinstance(fit, LogisticFit):
        return logistic_page(fit)
    page = fit_page(fit)
    return replace(page, sections=(*page.sections, standardised_section(fit))) if standardised else page


def _group(fit: LinearFit | LogisticFit, group: str, correction: str) -> list[Section]:
    sections = [groups_section(fit, group), pairs_section(fit, group, correction)]
    if any(p.kind == "amount" for t in fit.parts for p in (t.parts or (t,))):
        lines = lines_page(fit.equation(by=group))
        sections.append(Section(f"The equation by {group}", blocks=lines.sections[0].blocks))
    return sections
