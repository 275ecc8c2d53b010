"""`markbase eliminate`: backward elimination, with its log and the caution it needs."""

from __future__ import annotations

from typing import Any

import rich_click as click

from markbase.cli.help import examples
from markbase.cli.model_options import model_of, model_options
from markbase.cli.options import json_option, names_argument
from markbase.cli.output import answer, remarks
from markbase.cli.typed import split
from markbase.core.comparison.backward_elimination import backward_elimination
from markbase.show.blocks import elimination_page
from markbase.show.page import Page
from markbase.show.records import elimination_record
from markbase.show.regression import regression_record


@click.command(
    "eliminate",
    epilog=examples(
        "markbase eliminate choirs.plan.toml --outcome belonging --terms age,voice,rehearsals,travel_km --keep voice",
        "markbase eliminate my.plan.toml 'main model' --limit 0.1",
    ),
)
@model_options
@names_argument("[FIT]")
@click.option("--keep", multiple=True, metavar="COLUMNS", help="Terms that must stay, by commas.", panel="Elimination")
@click.option("--limit", default=0.05, show_default=True, help="A term with p above it may go.", panel="Elimination")
@json_option
def command(keep: tuple[str, ...], limit: float, as_json: bool, **given: Any) -> None:
    """Leave out terms that are not clear, worst first (backward elimination), with a log."""
    with remarks() as told:
        model = model_of(given)
        model.rest(0)
        _, fit = model.fit()
        elimination = backward_elimination(fit, limit=limit, keep=split(keep, fit.terms["term"].tolist()))
        found: Page | dict[str, Any]
        if as_json:
            found = regression_record(fit) | {"eliminated": elimination_record(elimination)}
        else:
            found = elimination_page(elimination)
    answer(found, told)
