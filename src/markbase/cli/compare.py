"""`markbase compare`: models side by side."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import rich_click as click

from markbase.cli.help import examples
from markbase.cli.manuscripts import manuscript_option, standardised_option, write_manuscript
from markbase.cli.model_options import model_of, model_options, only_for
from markbase.cli.options import json_option, names_argument, replace_option
from markbase.cli.output import answer, remarks
from markbase.core.comparison.comparison import compare
from markbase.core.errors import MarkbaseError, listed, near, quoted
from markbase.show.blocks import comparison_page
from markbase.show.records import comparison_record
from markbase.show.statistics import with_betas


@click.command(
    "compare",
    epilog=examples(
        "markbase compare my.plan.toml 'main model' 'without age'",
        "markbase compare choirs.plan.toml --outcome belonging --variant 'short: voice' --variant 'long: voice, age'",
    ),
)
@model_options
@names_argument("[FIT] [FIT]...")
@click.option(
    "--variant",
    "variants",
    multiple=True,
    metavar="'NAME: COLUMNS'",
    help="A model of these terms; all else is shared. Twice or more.",
    panel="Comparison",
)
@standardised_option
@manuscript_option
@replace_option
@json_option
def command(
    variants: tuple[str, ...], standardised: bool, manuscript: Path | None, replaces: bool, as_json: bool, **given: Any
) -> None:
    """Lay models side by side: fits of a plan by their names, or variants of one model."""
    with remarks() as told:
        model = model_of(given)
        if variants:
            if model.names or model.terms:
                raise click.UsageError("Give the models with --variant alone: leave --terms and names of fits out.")
            study, entries = model.variants(variants)
        else:
            plan = model.source.plan()
            known = {entry.name: entry for entry in plan.analysis.fits}
            if model.outcome or model.terms:
                raise click.UsageError(
                    "Say which models to compare: --variant 'short: voice' --variant 'long: voice, age'."
                )
            names = model.names or tuple(known)
            for name in names:
                if name not in known:
                    raise MarkbaseError(
                        f"The plan has no fit `{name}`.{near(name, list(known))}"
                        if known
                        else "There is no fit to compare; give each with --variant."
                    )
            study, entries = model.planned_fits({name: known[name] for name in names})
        if len(entries) < 2:
            raise MarkbaseError(
                f"A comparison needs two models or more, and there is {listed(quoted(entries)) or 'none'}."
            )
        fits = [entry.fitted_to(study) for entry in entries.values()]
        found = compare(*fits, names=list(entries))
        only_for("linear", fits[0], [("--standardised", standardised)])
        if manuscript:
            write_manuscript(found, manuscript, replaces)
        answered = (
            comparison_record(found)
            if as_json
            else with_betas(comparison_page(found), found.fits, found.names, standardised)
        )
    answer(answered, told)
