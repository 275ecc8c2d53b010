"""`markbase describe`: what a sample is like, as the first table of a paper has it."""

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
from markbase.core.screening.description import describe
from markbase.show.description import description_page, description_record
from markbase.show.page import Page


@click.command(
    "describe",
    epilog=examples(
        "markbase describe choirs.plan.toml --by voice",
        "markbase describe choirs.plan.toml age,belonging,stays --by voice --manuscript sample.docx",
    ),
)
@data_options
@names_argument("[COLUMN...]")
@click.option("--by", metavar="GROUP", help="Beside all rows, tell each level of this group.", panel="Sample")
@click.option("--weights", metavar="COLUMN", help="Sampling weights by which rows count.", panel="Sample")
@manuscript_option
@replace_option
@json_option
def command(
    names: tuple[str, ...],
    by: str | None,
    weights: str | None,
    manuscript: Path | None,
    replaces: bool,
    as_json: bool,
    **source: Any,
) -> None:
    """Describe the sample: means and standard deviations, counts and shares, over all rows and by the levels of a group."""
    with remarks() as told:
        study = Source(**source).open()
        result = describe(study, split(names, study.columns), by=by, weights=weights)
        if manuscript:
            write_manuscript(result, manuscript, replaces)
        found: Page | dict[str, Any] = description_record(result) if as_json else description_page(result)
    answer(found, told)
