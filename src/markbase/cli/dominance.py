"""`markbase dominance`: what terms, or blocks, add to R² in every order of entry."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

import rich_click as click

from markbase.cli.help import examples
from markbase.cli.manuscripts import manuscript_option, write_manuscript
from markbase.cli.model_options import model_of, model_options
from markbase.cli.options import figure_options, json_option, names_argument
from markbase.cli.output import answer, remarks
from markbase.cli.progress import counting
from markbase.cli.sampling_options import bootstrap_options, check_seed_is_used
from markbase.core.comparison.dominance import dominance
from markbase.show.dominance import dominance_page, dominance_record


@click.command(
    "dominance",
    epilog=examples(
        "markbase dominance choirs.plan.toml --outcome belonging --terms age,voice,years_singing,rehearsals",
        "markbase dominance my.plan.toml 'in blocks'",
    ),
)
@model_options
@names_argument("[FIT]")
@click.option(
    "--block",
    "blocks",
    multiple=True,
    metavar="'NAME: COLUMNS'",
    help="Let these terms enter as a whole, in place of single terms: 'background: age, voice'.",
    panel="Dominance",
)
@bootstrap_options("Dominance", "the averages")
@manuscript_option
@figure_options
@json_option
def command(
    blocks: tuple[str, ...],
    bootstrap: int | None,
    seed: int | None,
    manuscript: Path | None,
    figures: Path | None,
    replaces: bool,
    as_json: bool,
    **given: Any,
) -> None:
    """Tell which terms, or blocks, add most to R² over all orders of entry (dominance analysis, relative importance)."""
    with remarks() as told:
        check_seed_is_used(seed, bootstrap)
        model = model_of(given)
        model.rest(0)
        study, entry = model.opened(blocks)
        made = replace(entry, bootstrap=0).made_from(study)
        count = bootstrap or 0
        found = dominance(made, draws=count, seed=seed or 0, told=counting("samples", count) if count else None)
        if manuscript:
            write_manuscript(found, manuscript, replaces)
        if figures:
            from markbase.cli.figure_files import draw_dominance_of

            draw_dominance_of(found, figures, replaces)
        shown = dominance_record(found) if as_json else dominance_page(found)
    answer(shown, told)
