"""`markbase blocks`: terms entered block by block, all on the same rows."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import rich_click as click

from markbase.cli.help import examples
from markbase.cli.manuscripts import manuscript_option, standardised_option, write_manuscript
from markbase.cli.model_options import model_of, model_options, only_for
from markbase.cli.options import figure_options, json_option, names_argument
from markbase.cli.output import answer, remarks
from markbase.cli.progress import counting
from markbase.cli.sampling_options import bootstrap_options, check_seed_is_used
from markbase.show.blocks import blocks_page
from markbase.show.records import blocks_record
from markbase.show.statistics import with_betas


@click.command(
    "blocks",
    epilog=examples(
        "markbase blocks choirs.plan.toml --outcome belonging --block 'background: age, voice' --block 'taking part: rehearsals'",
        "markbase blocks choirs.plan.toml --outcome belonging --block 'singer: age, voice' --block 'moderation: interaction(age, voice)'",
        "markbase blocks my.plan.toml 'in blocks' --bootstrap 1000",
    ),
)
@model_options
@names_argument("[FIT]")
@click.option(
    "--block",
    "texts",
    multiple=True,
    metavar="'NAME: COLUMNS'",
    help="Terms that enter together, in the order given: columns by commas, and interaction(age, voice). What --interaction and --polynomial ask for enters with the last.",
    panel="Blocks",
)
@bootstrap_options("Blocks", "what each block adds")
@standardised_option
@manuscript_option
@figure_options
@json_option
def command(
    texts: tuple[str, ...],
    bootstrap: int | None,
    seed: int | None,
    standardised: bool,
    manuscript: Path | None,
    figures: Path | None,
    replaces: bool,
    as_json: bool,
    **given: Any,
) -> None:
    """Enter terms block by block (a hierarchical regression), all blocks on the same rows."""
    with remarks() as told:
        check_seed_is_used(seed, bootstrap)
        model = model_of(given)
        model.rest(0)
        hierarchy = model.blocks(texts)
        if bootstrap is not None:
            hierarchy = hierarchy.bootstrap(bootstrap, seed=seed or 0, told=counting("samples", bootstrap))
        only_for("linear", hierarchy.last, [("--standardised", standardised)])
        if manuscript:
            write_manuscript(hierarchy, manuscript, replaces)
        if figures:
            from markbase.cli.figure_files import draw_steps

            draw_steps(hierarchy, figures, replaces)
        found = (
            blocks_record(hierarchy)
            if as_json
            else with_betas(blocks_page(hierarchy), hierarchy, hierarchy.names, standardised)
        )
    answer(found, told)
