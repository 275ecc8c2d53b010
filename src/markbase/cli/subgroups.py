"""`markbase subgroups`: the same model in each level of a group."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import rich_click as click

from markbase.cli.help import examples
from markbase.cli.manuscripts import manuscript_option, standardised_option, write_manuscript
from markbase.cli.model_options import model_of, model_options, only_for
from markbase.cli.options import json_option, names_argument, replace_option
from markbase.cli.output import answer, remarks
from markbase.show.statistics import with_betas
from markbase.show.subgroups import subgroups_page, subgroups_record


@click.command(
    "subgroups",
    epilog=examples(
        "markbase subgroups choirs.plan.toml --by voice --outcome belonging --terms age,rehearsals",
        "markbase subgroups choirs.plan.toml 'Voice parts compared' --by joined_through",
    ),
)
@model_options
@names_argument("[FIT]")
@click.option(
    "--by", metavar="GROUP", required=True, help="Fit in each level of this group by itself.", panel="Subgroups"
)
@standardised_option
@manuscript_option
@replace_option
@json_option
def command(by: str, standardised: bool, manuscript: Path | None, replaces: bool, as_json: bool, **given: Any) -> None:
    """Fit the same model in each level of a group, and tell whether its coefficients differ between the levels."""
    with remarks() as told:
        model = model_of(given)
        model.rest(0)
        study, entry = model.opened(also=(by,))
        found = entry.subgroups_by(study, by)
        fits = list(found.fits.values())
        only_for("linear", fits[0], [("--standardised", standardised)])
        if manuscript:
            write_manuscript(found, manuscript, replaces)
        answered = (
            subgroups_record(found)
            if as_json
            else with_betas(subgroups_page(found), fits, list(found.fits), standardised)
        )
    answer(answered, told)
