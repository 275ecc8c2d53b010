"""`markbase look`: what is in a data file, or in one column of it."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import rich_click as click

from markbase.cli.help import examples
from markbase.cli.options import base_options, data_options, json_option, replace_option
from markbase.cli.output import answer, remarks
from markbase.cli.source import Source
from markbase.files.codebook import write_codebook
from markbase.show.page import Page
from markbase.show.records import column_record, study_record
from markbase.show.study import as_option, column_page, study_page


@click.command(
    "look",
    epilog=examples(
        "markbase look choirs.csv",
        "markbase look choirs.csv voice --codebook choirs.codebook.toml",
    ),
)
@data_options
@base_options
@click.argument("column", required=False)
@click.option(
    "--write-codebook",
    "book",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="Draft a codebook, guesses marked: .toml, .xml (DDI), .json (Data Package; CSVW where it ends in -metadata.json) or .csv.",
    panel="Output",
)
@replace_option
@json_option
def command(column: str | None, as_json: bool, book: Path | None, replaces: bool, **source: Any) -> None:
    """Show what is in FILE, a row a column, or one COLUMN of it with its levels.

    FILE is a data file, or a plan that names one. Each remark comes with the step that would mend it.
    """
    with remarks() as told:
        study = Source(**source).open()
        found: Page | dict[str, Any]
        if as_json:
            found = column_record(study, column) if column else study_record(study)
        else:
            found = column_page(study, column, as_option) if column else study_page(study, as_option)
        if book:
            write_codebook(study, book, replace=replaces)
    answer(found, told)
