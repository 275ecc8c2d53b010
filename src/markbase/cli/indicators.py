"""`markbase indicators`: the 0/1 columns of groups, for use elsewhere."""

from __future__ import annotations

from itertools import chain
from pathlib import Path
from typing import Any

import pandas as pd
import rich_click as click

from markbase.cli.help import examples
from markbase.cli.options import base_options, data_options, json_option, names_argument, replace_option
from markbase.cli.output import one_output, put_table, remarks, show, show_json
from markbase.cli.progress import report_progress
from markbase.cli.source import Source
from markbase.core.errors import MarkbaseError, count_noun
from markbase.core.study.study import Study
from markbase.files.data_writing import tables_content
from markbase.files.text_files import STANDARD
from markbase.files.whole_files import refuse_to_replace, write_whole
from markbase.show.records import coding_record
from markbase.show.study import coding_page


@click.command(
    "indicators",
    epilog=examples(
        "markbase indicators choirs.plan.toml voice --into voice.csv",
        "markbase indicators choirs.csv voice joined_through --base voice=alto --full-set --into groups.csv",
    ),
)
@data_options
@base_options
@names_argument("GROUP...", required=True)
@click.option(
    "--full-set", is_flag=True, help="A column for the base as well; not for a model with an intercept.", panel="Output"
)
@click.option(
    "--into",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="Write the columns, with the identifier, to this .csv or .tsv; - prints them as CSV.",
    panel="Output",
)
@replace_option
@json_option
def command(
    names: tuple[str, ...], full_set: bool, into: Path | None, replaces: bool, as_json: bool, **source: Any
) -> None:
    """Turn GROUPS into indicator (dummy) columns and write them, each verified by counts."""
    one_output(into, as_json)
    with remarks() as told:
        study = Source(**source).open()
        codings = [study.coding(name) for name in dict.fromkeys(names)]
        wanted = list(dict.fromkeys(names))
        if study.in_parts:
            columns = _in_parts(study, wanted, full_set, into, replaces)
        else:
            frame = _with_identifier(study, study.indicators(wanted, full_set=full_set))
            if put_table(frame, into, replaces):
                return
            columns = [str(c) for c in frame.columns]
        pages = [coding_page(coding) for coding in codings]
    if as_json:
        show_json({"columns": columns, "codings": [coding_record(c) for c in codings]}, told)
        return
    show(*pages)


def _with_identifier(study: Study, frame: pd.DataFrame) -> pd.DataFrame:
    """Put the identifier in front, if the data have one."""
    identifier = next((c for c in study.columns if study[c].role == "identifier"), None)
    if identifier is not None:
        if identifier in frame:
            raise MarkbaseError(
                f"A column of indicators is called `{identifier}`, as the identifier is; rename one of the two."
            )
        frame.insert(0, identifier, study.frame()[identifier].to_numpy())
    return frame


def _in_parts(study: Study, groups: list[str], full_set: bool, into: Path | None, replaces: bool) -> list[str]:
    """Write the columns one part after the other, if they are to be written, and return what they are called."""
    tables = (_with_identifier(part, frame) for part, frame in study.indicator_parts(groups, full_set=full_set))
    if into is None:
        return [str(c) for c in next(tables).columns]
    if into == STANDARD:
        raise MarkbaseError(
            "Indicators of rows that are read in parts go into a file: --into groups.csv, or .tsv, .parquet."
        )
    refuse_to_replace(into, replaces)
    first = next(tables)
    write_whole(into, tables_content(lambda: chain([first], tables), into))
    report_progress(f"{count_noun(study.rows, 'row')} written into {into}.")
    return [str(c) for c in first.columns]
