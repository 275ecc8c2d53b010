"""`markbase predict`: what a fitted model expects for some profiles."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from markbase.cli.common import pair, remarks, show, show_json
from markbase.cli.fit_options import fit_options, options_of
from markbase.core.design.terms import variables_of
from markbase.core.errors import MarkbaseError
from markbase.core.results.any_fit import AnyFit
from markbase.files.data import read_table
from markbase.files.data_writing import write_table
from markbase.show.predictions import predictions_page
from markbase.show.records import table_record


@click.command("predict")
@fit_options
@click.option(
    "--profile",
    "profiles",
    multiple=True,
    metavar="VALUES",
    help="Values by commas: 'voice=tenor, age=30'. What is not named is as in the sample. May be repeated.",
)
@click.option(
    "--profiles",
    "file_of_profiles",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="A file with one profile a row, its columns named as in the data.",
)
@click.option(
    "--for",
    "for_rows",
    metavar="FILE|all",
    help="Predict for every row of this file, prepared as the data are, or of the data themselves.",
)
@click.option(
    "--back-transformed",
    is_flag=True,
    help="Of a logged outcome: also in its own unit, as geometric mean and as mean by smearing.",
)
@click.option(
    "--into", type=click.Path(path_type=Path), metavar="FILE", help="Write the predictions to this CSV or TSV."
)
@click.option("--replace", "replaces", is_flag=True, help="With --into: write over a file that is there.")
def command(
    profiles: tuple[str, ...],
    file_of_profiles: Path | None,
    for_rows: str | None,
    back_transformed: bool,
    into: Path | None,
    replaces: bool,
    as_json: bool,
    **given: Any,
) -> None:
    r"""Fit a regression to FILE and predict for profiles.

    \b
    markbase predict choirs.csv --codebook choirs.codebook.toml \
        --outcome belonging --terms age,voice --profile 'voice=tenor, age=30'
    """
    with remarks() as told:
        if bool(profiles) + bool(file_of_profiles) + bool(for_rows) != 1:
            raise MarkbaseError(
                "Say for whom, in one way: --profile 'voice=tenor, age=30', --profiles FILE, or --for FILE (or all)."
            )
        options = options_of(given)
        study, fit = options.fit()
        wanted: Any = [_values(text) for text in profiles]
        if file_of_profiles:
            wanted = read_table(file_of_profiles)
        elif for_rows:
            wanted = (
                study if for_rows == "all" else options.source.open_other(Path(for_rows), needed=columns_of_fit(fit))
            )
        table = fit.predict(wanted, back_transformed=back_transformed)
        if into:
            write_table(table, into, replace=replaces)
    if as_json:
        show_json(
            {
                "kind": fit.family.name,
                "outcome": fit.outcome.name,
                "level": fit.level,
                "predictions": table_record(table),
            },
            told,
        )
    else:
        show(predictions_page(fit, table))


def _values(text: str) -> dict[str, str]:
    """Take ``voice=tenor, age=30`` apart."""
    return dict(pair(part, "--profile") for part in text.split(",") if part.strip())


def columns_of_fit(fit: AnyFit) -> set[str]:
    """Return the columns a fit predicts from, and those they were made of."""
    names: set[str] = set()
    waiting = [v.column for v in variables_of(fit.model_terms).values()]
    while waiting:
        column = waiting.pop()
        names.add(column.name)
        waiting += column.made.sources if column.made else ()
    return names
