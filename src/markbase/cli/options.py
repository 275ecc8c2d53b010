"""Options and arguments that several subcommands have: the data, bases, figures, output for machines."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

import rich_click as click

F = TypeVar("F", bound=Callable[..., Any])

DATA, OUTPUT = "Data", "Output"


def data_options(function: F) -> F:
    """Add the data file and the options that say how to read it."""
    options = [
        click.option(
            "--codebook",
            type=click.Path(path_type=Path),
            help="File that describes the columns: .toml, DDI .xml, Data Package, Table Schema or CSVW .json, or a table .csv.",
            panel=DATA,
        ),
        click.option(
            "--categorical",
            multiple=True,
            metavar="COLUMNS",
            help="These columns sort and do not measure, by commas.",
            panel=DATA,
        ),
        click.option(
            "--as",
            "kinds",
            multiple=True,
            metavar="COLUMN=KIND",
            help="numeric, categorical, ordinal or identifier.",
            panel=DATA,
        ),
        click.option(
            "--label",
            "labels",
            multiple=True,
            metavar="'COLUMN: CODES'",
            help="What the codes of a column stand for: 'sex: 1=man, 2=woman'.",
            panel=DATA,
        ),
        click.option(
            "--rename",
            "renames",
            multiple=True,
            metavar="OLD=NEW",
            help="Another name for a column, several by commas: 'v23=age, v24=voice part'.",
            panel=DATA,
        ),
        click.option(
            "--missing",
            multiple=True,
            metavar="CODES",
            help="Codes for a missing answer in every column, by commas.",
            panel=DATA,
        ),
        click.option(
            "--join",
            "joins",
            multiple=True,
            metavar="'FILE: KEY'",
            help="Join (merge) the columns of another table by a key, or keys by commas: 'choir_homes.csv: choir'.",
            panel=DATA,
        ),
        click.option(
            "--prepare",
            "steps",
            multiple=True,
            metavar="STEP",
            help="A preparing step, as `markbase look` proposes them: 'do = \"merge_levels\", column = ...'.",
            panel=DATA,
        ),
        click.option(
            "--calculate",
            "calculations",
            multiple=True,
            metavar="'NAME = EXPRESSION'",
            help="A column calculated from others: 'bmi = weight / (height / 100)^2'.",
            panel=DATA,
        ),
        click.option(
            "--log",
            "logs",
            multiple=True,
            metavar="COLUMNS",
            help="Make `log_COLUMN` of each of these, by commas.",
            panel=DATA,
        ),
        click.option(
            "--sheet",
            help="Sheet of a spreadsheet; the first by default. '*': all of them, one below another.",
            panel=DATA,
        ),
        click.option(
            "--file-column",
            metavar="NAME",
            help="Of several files (a folder, 'waves/*.csv') or sheets: make a column of that name which tells the one a row is from.",
            panel=DATA,
        ),
        click.option(
            "--layout",
            metavar="KEY=ROW",
            help="Rows, from 1, if the names of the columns are not in the first: header=3,labels=4,data=5,last=90.",
            panel=DATA,
        ),
        click.option("--encoding", default="utf-8", show_default=True, help="Encoding of a text file.", panel=DATA),
    ]
    for option in reversed(options):
        function = option(function)
    return click.argument("file", type=click.Path(path_type=Path), metavar="FILE")(function)


def base_options(function: F) -> F:
    """Add the options that choose bases."""
    by_rule = "Base by rule: first, largest, last or smallest level."
    function = click.option("--base-by", "rules", multiple=True, metavar="GROUP=RULE", help=by_rule, panel="Bases")(
        function
    )
    by_name = "Base (reference category) of a group, by label or code."
    return click.option("--base", "bases", multiple=True, metavar="GROUP=LEVEL", help=by_name, panel="Bases")(function)


def names_argument(metavar: str, required: bool = False) -> Callable[[F], F]:
    """Add what may stand behind the file."""
    return click.argument("names", nargs=-1, required=required, metavar=metavar)


def json_option(function: F) -> F:
    """Add the output for machines."""
    return click.option("--json", "as_json", is_flag=True, help="Full precision, for machines.", panel=OUTPUT)(function)


def replace_option(function: F) -> F:
    """Add the consent to write over files."""
    return click.option("--replace", "replaces", is_flag=True, help="Write over files that are there.", panel=OUTPUT)(
        function
    )


def figure_options(function: F) -> F:
    """Add where figures go."""
    told = "Draw the figures into this folder, as PNG and SVG."
    function = replace_option(function)
    return click.option("--figures", type=click.Path(path_type=Path), metavar="FOLDER", help=told, panel=OUTPUT)(
        function
    )


def places_option(function: F) -> F:
    """Add where numeric columns are held."""
    return click.option(
        "--at",
        "places",
        multiple=True,
        metavar="COLUMN=VALUES",
        help="Where to hold a numeric column, values by commas: age=30,50,70.",
        panel="Comparison",
    )(function)
