"""`markbase look`: what is in a data file, or in one column of it."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from markbase.cli.common import Source, base_options, data_options, remarks, show, show_json
from markbase.files.codebook import write_codebook
from markbase.show.records import column_record, study_record
from markbase.show.study import column_page, study_page


@click.command("look")
@data_options
@base_options
@click.argument("column", required=False)
@click.option("--write-codebook", "book", type=click.Path(path_type=Path), help="Draft a codebook, guesses marked.")
@click.option("--replace", is_flag=True, help="Write over a codebook that is there.")
def command(column: str | None, as_json: bool, book: Path | None, replace: bool, **source: Any) -> None:
    """Show what is in FILE, a row a column, or one COLUMN of it with its levels.

    FILE is a data file, or a plan that names one. Each remark comes with the step that would mend it.
    """
    with remarks() as told:
        study = Source(**source).open()
        if as_json:
            record = column_record(study, column) if column else study_record(study)
        else:
            page = column_page(study, column) if column else study_page(study)
        if book:
            write_codebook(study, book, replace=replace)
    if as_json:
        show_json(record, told)
    else:
        show(page)
