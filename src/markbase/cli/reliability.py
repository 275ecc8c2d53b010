"""`markbase reliability`: how far the items of a scale go together, before they are averaged."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import rich_click as click

from markbase.cli.help import examples
from markbase.cli.manuscripts import manuscript_option, write_manuscript
from markbase.cli.options import data_options, json_option, names_argument, replace_option
from markbase.cli.output import answer, remarks
from markbase.cli.source import Source
from markbase.cli.typed import split
from markbase.core.screening.reliability import reliability
from markbase.show.page import Page
from markbase.show.reliability import reliability_page, reliability_record
from markbase.show.study import as_option


@click.command(
    "reliability",
    epilog=examples(
        "markbase reliability choir_items.csv --codebook choir_items.codebook.toml welcome friends heard part_of_it",
        "markbase reliability my.plan.toml q1,q2,q3,q4 --level 0.9",
    ),
)
@data_options
@names_argument("ITEM...", required=True)
@click.option("--level", default=0.95, show_default=True, help="Confidence level of the interval.", panel="Scale")
@manuscript_option
@replace_option
@json_option
def command(
    names: tuple[str, ...], level: float, manuscript: Path | None, replaces: bool, as_json: bool, **source: Any
) -> None:
    """Tell how far the ITEMS of a scale go together: Cronbach's alpha, and the part of each item in it."""
    with remarks() as told:
        study = Source(**source).open()
        result = reliability(study, split(names, study.columns), level=level)
        if manuscript:
            write_manuscript(result, manuscript, replaces)
        found: Page | dict[str, Any] = reliability_record(result) if as_json else reliability_page(result, as_option)
    answer(found, told)
