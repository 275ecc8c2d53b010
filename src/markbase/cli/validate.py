"""`markbase validate`: how a model does on rows it has not seen."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import rich_click as click

from markbase.cli.help import examples
from markbase.cli.model_options import Model, model_of, model_options
from markbase.cli.options import figure_options, json_option, names_argument
from markbase.cli.other_rows import is_saved, rows_for_saved, rows_prepared_alike, saved_fit
from markbase.cli.output import answer, remarks
from markbase.cli.sampling_options import seed_option
from markbase.core.checks.folds import usual_folds
from markbase.core.comparison.cross_validation import cross_validate
from markbase.core.comparison.score import Score, score
from markbase.show.blocks import cross_validation_page, score_page
from markbase.show.records import score_record, table_record
from markbase.show.regression import regression_record


@click.command(
    "validate",
    epilog=examples(
        "markbase validate choirs.plan.toml --outcome belonging --terms age,voice,rehearsals",
        "markbase validate choirs.plan.toml --outcome belonging --terms age,voice --hold-out 0.25 --seed 4",
        "markbase validate belonging.json --for newcomers.csv",
    ),
)
@model_options
@names_argument("[FIT]")
@click.option(
    "--folds",
    type=int,
    metavar="N",
    help="Hold each of N parts of the rows out in turn.  [default: 10]",
    panel="Rows held out",
)
@click.option(
    "--repeats", type=int, metavar="N", help="Do so N times over, in other parts.  [default: 1]", panel="Rows held out"
)
@click.option(
    "--hold-out",
    "share",
    type=float,
    metavar="SHARE",
    help="Instead: hold this share of the rows out once, before anything is fitted.",
    panel="Rows held out",
)
@click.option(
    "--for",
    "for_rows",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="Instead: judge the model on the rows of this file, prepared as the data are.",
    panel="Rows held out",
)
@seed_option("Rows held out", "which rows")
@figure_options
@json_option
def command(
    folds: int | None,
    repeats: int | None,
    share: float | None,
    for_rows: Path | None,
    seed: int | None,
    figures: Path | None,
    replaces: bool,
    as_json: bool,
    **given: Any,
) -> None:
    """Tell how a model does on rows it has not seen: cross-validation, one part held out, or another file.

    FILE is a data file, a plan, of which FIT names a fit, or a saved fit (.json), which is judged on the rows of another file.
    """
    with remarks() as told:
        model = model_of(given)
        model.rest(0)
        scored, cluster = None, ""
        if for_rows is not None:
            if share is not None or folds is not None or repeats is not None or seed is not None:
                raise click.UsageError("--for names the rows; leave --hold-out, --folds, --repeats and --seed out.")
            scored = _scored_on(model, for_rows)
        elif is_saved(model):
            raise click.UsageError("A saved fit holds no rows of the data; name a file: --for FILE.")
        elif share is not None:
            if folds is not None or repeats is not None:
                raise click.UsageError("--hold-out holds rows out once; leave --folds and --repeats out.")
            study, entry = model.opened()
            cluster = entry.cluster
            kept, test = study.hold_out(share=share, seed=seed or 0, whole=cluster or None)
            fit = entry.fitted_to(kept)
            scored = score(fit, test)
        if scored is not None:
            found = score_record(scored) if as_json else score_page(scored, for_rows.name if for_rows else "", cluster)
            if figures:
                from markbase.cli.figure_files import draw_score_of

                draw_score_of(scored, figures, replaces)
        else:
            if figures:
                raise click.UsageError("--figures is for --hold-out and --for: predicted values against observed ones.")
            study, entry = model.opened()
            fit = entry.fitted_to(study)
            result = cross_validate(
                fit,
                folds=usual_folds(fit) if folds is None else folds,
                repeats=1 if repeats is None else repeats,
                seed=seed or 0,
            )
            if as_json:
                found = regression_record(fit) | {"cross_validate": table_record(result.table)}
            else:
                found = cross_validation_page(result)
    answer(found, told)


def _scored_on(model: Model, file: Path) -> Score:
    """Judge a fit, or a saved one, on the rows of a file."""
    if is_saved(model):
        saved = saved_fit(model)
        return score(saved, rows_for_saved(saved, file, outcome=True))
    study, entry = model.opened()
    fit = entry.fitted_to(study)
    return score(fit, rows_prepared_alike(model, fit, study, file, outcome=True))
