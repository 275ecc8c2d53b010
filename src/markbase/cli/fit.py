"""`markbase fit`: a linear or logistic regression, in its reading order."""

from __future__ import annotations

import itertools
from dataclasses import replace
from typing import Any

import click

from markbase.cli.common import pair, remarks, show, show_json, split
from markbase.cli.figure_files import draw_fit, draw_steps
from markbase.cli.fit_options import fit_options, options_of
from markbase.cli.progress import counting
from markbase.core.comparison.backward_elimination import backward_elimination
from markbase.core.comparison.cross_validation import cross_validate
from markbase.core.comparison.score import score
from markbase.core.inference.multiplicity import check_correction
from markbase.core.results.linear import LinearFit
from markbase.core.results.logistic import LogisticFit
from markbase.show.blocks import blocks_page, cross_validation_page, elimination_page, score_page
from markbase.show.fit import checks_page, fit_page, standardised_section
from markbase.show.group_tables import groups_section, guide_section, lines_page, pairs_section, slopes_section
from markbase.show.logistic import cases_page, classification_page, logistic_page
from markbase.show.page import Page, Section
from markbase.show.records import (
    blocks_record,
    checks_record,
    elimination_record,
    fit_record,
    groups_record,
    logistic_record,
    table_record,
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
    "--bootstrap",
    type=int,
    metavar="N",
    help="With --block: intervals of what each block adds from N samples drawn out of the rows.",
)
@click.option(
    "--backward-elimination",
    "eliminations",
    is_flag=True,
    help="Only a log of leaving out terms that are not clear, worst first.",
)
@click.option("--keep", multiple=True, metavar="COLUMNS", help="With --backward-elimination: terms that must stay.")
@click.option("--checks", is_flag=True, help="Linear: only the checks: residuals, spread, straight lines, cases.")
@click.option("--cross-validate", "holds_out", is_flag=True, help="Only how the model does on rows it has not seen.")
@click.option("--guide", is_flag=True, help="Only the questions to put to the fit, answered with its numbers.")
@click.option(
    "--group",
    "groups",
    multiple=True,
    metavar="GROUP",
    help="Only this group: its levels, and every pair of them. May be repeated.",
)
@click.option(
    "--slopes",
    "slopes",
    multiple=True,
    metavar="COLUMN[:MODERATOR]",
    help="Only the simple slopes of this numeric column, by a moderator if there is one. May be repeated.",
)
@click.option(
    "--at",
    "places",
    multiple=True,
    metavar="COLUMN=VALUES",
    help="With --slopes and --group: where to hold a numeric column, values by commas: age=30,50,70. May be repeated.",
)
@click.option(
    "--hold-out",
    "share",
    type=float,
    metavar="SHARE",
    help="Only how the model does on this share of the rows, held out at random before it is fitted.",
)
@click.option("--correction", default="holm", show_default=True, help="Of the pairs: holm, bonferroni, tukey or none.")
@click.option("--standardised", is_flag=True, help="Linear: add coefficients in standard deviations of the outcome.")
@click.option("--classification", is_flag=True, help="Logistic: only how well rows are sorted, also in rows held out.")
@click.option(
    "--cut",
    default=0.5,
    show_default=True,
    help="With --classification: the probability from which the event is predicted.",
)
@click.option(
    "--folds", default=10, show_default=True, help="With --classification and --cross-validate: in how many parts."
)
@click.option(
    "--seed", default=0, show_default=True, help="With --classification, --cross-validate and --bootstrap: the seed."
)
@click.option(
    "--cases", type=int, metavar="N", help="Logistic: only the N cases that weigh most, by the identifier of the data."
)
@click.option("--figures", metavar="FOLDER", help="Write the figures of the fit into this folder, as PNG and SVG.")
@click.option("--replace", "replaces", is_flag=True, help="With --figures: write over files that are there.")
def command(
    blocks: tuple[str, ...],
    bootstrap: int | None,
    eliminations: bool,
    keep: tuple[str, ...],
    checks: bool,
    holds_out: bool,
    guide: bool,
    groups: tuple[str, ...],
    slopes: tuple[str, ...],
    places: tuple[str, ...],
    share: float | None,
    correction: str,
    standardised: bool,
    classification: bool,
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
            _, hierarchy = options.blocks(blocks)
            if bootstrap is not None:
                hierarchy = hierarchy.bootstrap(bootstrap, seed=seed, told=counting("samples", bootstrap))
            if figures:
                draw_steps(hierarchy, figures, replaces)
            page, record = blocks_page(hierarchy), blocks_record(hierarchy)
            (show_json(record, told) if as_json else show(page))
            return
        if bootstrap is not None:
            raise click.UsageError("--bootstrap is for blocks; give each with --block.")
        at = _places(places)
        if places and not (slopes or groups):
            raise click.UsageError("--at says where to hold a column for --slopes or --group; add one of these.")
        if share is not None:
            fit, test = options.fit_held_out(share, seed)
            scored = score(fit, test)
            if as_json:
                show_json(
                    {"rows": scored.rows, "left_out": scored.left_out, "figures": table_record(scored.table)}, told
                )
            else:
                show(score_page(scored))
            return
        _, fit = options.fit()
        page = _page(fit, standardised)
        record = fit_record(fit) if isinstance(fit, LinearFit) else logistic_record(fit)
        if groups:
            page = replace(page, sections=tuple(s for g in groups for s in _group(fit, g, correction, at)))
            record["groups"] = {g: groups_record(fit, g, correction) for g in groups}
        if slopes:
            asked = [tuple(part.strip() for part in text.split(":", 1)) for text in slopes]
            told_slopes = [(a[0], a[1] if len(a) > 1 else None) for a in asked]
            page = replace(page, sections=tuple(slopes_section(fit, n, by, at or None) for n, by in told_slopes))
            record["slopes"] = {
                text: table_record(fit.simple_slopes(n, by=by, at=at or None))
                for text, (n, by) in zip(slopes, told_slopes, strict=True)
            }
        if guide:
            page = replace(page, sections=(guide_section(fit.guide()), *(page.sections if groups else ())))
        if classification:
            found = fit.classification(cut, folds=folds, seed=seed) if isinstance(fit, LogisticFit) else None
            if found is None:
                raise click.UsageError("--classification is for a logistic regression; add --kind logistic.")
            page = classification_page(found)
        if cases is not None:
            if not isinstance(fit, LogisticFit):
                raise click.UsageError("--cases is for a logistic regression; add --kind logistic.")
            page = cases_page(fit, fit.cases(cases))
            record["cases"] = table_record(fit.cases(cases))
        if eliminations:
            elimination = backward_elimination(fit, keep=split(keep))
            page, record["eliminated"] = elimination_page(elimination), elimination_record(elimination)
        if checks:
            if not isinstance(fit, LinearFit):
                raise click.UsageError(
                    "--checks is for a linear regression; a logistic one has --classification and --cases."
                )
            found_checks = fit.checks()
            page, record["checks"] = checks_page(found_checks), checks_record(found_checks)
        if holds_out:
            result = cross_validate(fit, folds=folds, seed=seed)
            page, record["cross_validate"] = cross_validation_page(result), table_record(result.table)
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


def _places(texts: tuple[str, ...]) -> dict[str, list[float]]:
    """Read ``age=30,50,70`` texts."""
    found: dict[str, list[float]] = {}
    for text in texts:
        name, values = pair(text, "--at")
        try:
            found[name] = [float(v) for v in values.split(",")]
        except ValueError:
            raise click.UsageError(
                f"--at {text}: the values are numbers by commas, for instance age=30,50,70."
            ) from None
    return found


def _group(fit: LinearFit | LogisticFit, group: str, correction: str, at: dict[str, list[float]]) -> list[Section]:
    several = [dict(zip(at, values, strict=True)) for values in itertools.product(*at.values())]
    sections = [groups_section(fit, group, place or None) for place in several]
    if not at:
        sections.append(pairs_section(fit, group, correction))
    if any(p.kind == "numeric" for t in fit.model_terms for p in t.variables):
        lines = lines_page(fit.equation(by=group))
        sections.append(Section(f"The equation by {group}", blocks=lines.sections[0].blocks))
    return sections
