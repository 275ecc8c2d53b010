"""`markbase look`: what is in a data file, or in one column of it."""

from __future__ import annotations

from pathlib import Path

import click

from markbase.cli.common import base_options, data_options, opened, remarks, show, show_json
from markbase.show.plain import column_record, study_record
from markbase.show.study import column_page, study_page


@click.command("look")
@data_options
@base_options
@click.argument("column", required=False)
def command(
    file: Path,
    column: str | None,
    codebook: Path | None,
    kinds: tuple[str, ...],
    missing: tuple[str, ...],
    encoding: str,
    as_json: bool,
    bases: tuple[str, ...],
    rules: tuple[str, ...],
) -> None:
    """Show what is in FILE, a row a column, or one COLUMN of it with its levels."""
    with remarks() as told:
        study = opened(file, codebook, kinds, missing, encoding, bases, rules)
        if as_json:
            record = column_record(study, column) if column else study_record(study)
        else:
            page = column_page(study, column) if column else study_page(study)
    if as_json:
        show_json(record, told)
    else:
        show(page)
