"""`markbase predict`: what a fitted model expects for some profiles."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

import rich_click as click

from markbase.cli.combined import imputation_option, is_combined, opened_combined
from markbase.cli.help import examples
from markbase.cli.model_options import Model, model_of, model_options
from markbase.cli.options import json_option, names_argument, replace_option
from markbase.cli.other_rows import is_saved, rows_for_saved, rows_prepared_alike, saved_fit
from markbase.cli.output import one_output, put_table, remarks, show, show_json
from markbase.cli.progress import report_progress
from markbase.cli.typed import values_of
from markbase.core.comparison.imputations import Imputations
from markbase.core.errors import MarkbaseError, count_noun
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.stored_fit import StoredFit
from markbase.core.study.study import Study
from markbase.files.data import read_table
from markbase.files.data_writing import tables_content
from markbase.files.text_files import STANDARD
from markbase.files.whole_files import refuse_to_replace, write_whole
from markbase.show.predictions import predictions_page
from markbase.show.records import table_record


@click.command(
    "predict",
    epilog=examples(
        "markbase predict choirs.plan.toml --outcome belonging --terms age,voice --profile 'voice=tenor, age=30'",
        "markbase predict belonging.json --for newcomers.csv --into expected.csv",
    ),
)
@model_options
@names_argument("[FIT]")
@click.option(
    "--profile",
    "profiles",
    multiple=True,
    metavar="VALUES",
    help="Values by commas: 'voice=tenor, age=30'. What is not named is as in the sample.",
    panel="For whom",
)
@click.option(
    "--profiles",
    "file_of_profiles",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="A file with one profile a row, its columns named as in the data.",
    panel="For whom",
)
@click.option(
    "--for",
    "for_rows",
    metavar="FILE|all",
    help="Predict for every row of this file, prepared as the data are, or of the data themselves.",
    panel="For whom",
)
@imputation_option("Imputations")
@click.option(
    "--back-transformed",
    is_flag=True,
    help="Of a logged outcome: also in its own unit, as geometric mean and as mean by smearing.",
    panel="Output",
)
@click.option(
    "--into",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="Write the predictions to this CSV or TSV; - prints them as CSV.",
    panel="Output",
)
@replace_option
@json_option
def command(
    profiles: tuple[str, ...],
    file_of_profiles: Path | None,
    for_rows: str | None,
    imputation: str | None,
    back_transformed: bool,
    into: Path | None,
    replaces: bool,
    as_json: bool,
    **given: Any,
) -> None:
    """Predict for profiles, or for every row of a file.

    FILE is a data file, a plan, of which FIT names a fit, or a saved fit (.json), which needs no data. With --imputation, or several outcomes by commas (plausible
    values), predictions are combined over the imputations.
    """
    one_output(into, as_json)
    with remarks() as told:
        if bool(profiles) + bool(file_of_profiles) + bool(for_rows) != 1:
            raise MarkbaseError(
                "Say for whom, in one way: --profile 'voice=tenor, age=30', --profiles FILE, or --for FILE (or all)."
            )
        model = model_of(given)
        combined = not is_saved(model) and is_combined(model, imputation)
        if combined:
            model = replace(model, of="imputations")
        model.rest(0)
        wanted: Any = [values_of(text) for text in profiles]
        if file_of_profiles:
            wanted = read_table(file_of_profiles)
        fit: AnyFit | StoredFit | Imputations
        if is_saved(model):
            if imputation:
                raise MarkbaseError("A saved fit is of one set of rows: leave --imputation out.")
            fit = saved_fit(model)
            if for_rows == "all":
                raise MarkbaseError("A saved fit holds no rows of the data; name a file: --for FILE.")
            wanted = rows_for_saved(fit, Path(for_rows)) if for_rows else wanted
        else:
            study, fit = _combined_fit(model, imputation) if combined else model.fit()
            if for_rows:
                own = fit.fit if isinstance(fit, Imputations) else fit
                wanted = study if for_rows == "all" else rows_prepared_alike(model, own, study, Path(for_rows))
        if isinstance(wanted, Study) and wanted.in_parts:
            _written_in_parts(fit, wanted, into, replaces, back_transformed)
            return
        table = fit.predict(wanted, back_transformed=back_transformed)
        if put_table(table, into, replaces):
            return
    told_of = fit.fit if isinstance(fit, Imputations) else fit
    if as_json:
        show_json(
            {
                "kind": fit.family.name,
                "outcome": told_of.outcome.name,
                "level": fit.level,
                "predictions": table_record(table),
            },
            told,
        )
    else:
        of_rows = None if not for_rows else told_of.data_name if for_rows == "all" else Path(for_rows).name
        show(predictions_page(fit, table, of_rows))


def _combined_fit(model: Model, imputation: str | None) -> tuple[Study, AnyFit | Imputations]:
    """Open the data, and combine the fits of all imputations; of an entry in blocks that of the last. Of one outcome, whatever its name, it is a fit."""
    _, study, entry = opened_combined(model, imputation, needed=False)
    if not entry.imputation and not entry.outcomes:
        return study, entry.fitted_to(study)
    found = entry.combined_in(study)
    return study, found if isinstance(found, Imputations) else found.last


def _written_in_parts(
    fit: AnyFit | StoredFit | Imputations, rows: Study, into: Path | None, replaces: bool, back: bool
) -> None:
    """Predict for rows that come in parts, and write one part after the other."""
    if into is None or into == STANDARD:
        raise MarkbaseError(
            "Predictions for rows that are read in parts go into a file: --into predictions.csv, or .tsv, .parquet."
        )
    refuse_to_replace(into, replaces)
    write_whole(into, tables_content(lambda: (fit.predict(part, back_transformed=back) for part in rows.parts()), into))
    report_progress(f"{count_noun(rows.rows, 'row')} written into {into}.")
