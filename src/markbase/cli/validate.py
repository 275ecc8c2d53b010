"""`markbase validate`: how a model does on rows it has not seen."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import rich_click as click

from markbase.cli.common import answer, figure_options, json_option, names_argument, remarks, seed_option
from markbase.cli.figure_files import draw_score_of
from markbase.cli.help import examples
from markbase.cli.model_options import model_of, model_options
from markbase.core.comparison.cross_validation import cross_validate
from markbase.core.comparison.score import score
from markbase.show.blocks import cross_validation_page, score_page
from markbase.show.records import score_record, table_record
from markbase.show.regression import regression_record


@click.command(
    "validate",
    epilog=examples(
        "markbase validate choirs.plan.toml --outcome belonging --terms age,voice,rehearsals",
        "markbase validate choirs.plan.toml --outcome belonging --terms age,voice --hold-out 0.25 --seed 4",
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
@seed_option("Rows held out", "which rows")
@figure_options
@json_option
def command(
    folds: int | None,
    repeats: int | None,
    share: float | None,
    seed: int | None,
    figures: Path | None,
    replaces: bool,
    as_json: bool,
    **given: Any,
) -> None:
    """Tell how a model does on rows it has not seen: cross-validation, or one part held out."""
    with remarks() as told:
        model = model_of(given)
        model.rest(0)
        study, entry = model.opened()
        if share is not None:
            if folds is not None or repeats is not None:
                raise click.UsageError("--hold-out holds rows out once; leave --folds and --repeats out.")
            kept, test = study.hold_out(share=share, seed=seed or 0)
            scored = score(entry.fitted_to(kept), test)
            found = score_record(scored) if as_json else score_page(scored)
            if figures:
                draw_score_of(scored, figures, replaces)
        else:
            if figures:
                raise click.UsageError("--figures is for --hold-out: predicted values against observed ones.")
            fit = entry.fitted_to(study)
            result = cross_validate(fit, folds=folds or 10, repeats=repeats or 1, seed=seed or 0)
            if as_json:
                found = regression_record(fit) | {"cross_validate": table_record(result.table)}
            else:
                found = cross_validation_page(result)
    answer(found, told)
