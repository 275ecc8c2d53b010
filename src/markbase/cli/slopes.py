"""`markbase slopes`: curves and interactions probed at chosen values and within groups."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import rich_click as click

from markbase.cli.help import examples
from markbase.cli.model_options import model_of, model_options
from markbase.cli.options import figure_options, json_option, names_argument, places_option
from markbase.cli.other_rows import fit_or_saved
from markbase.cli.output import answer, remarks
from markbase.cli.typed import places_of, two
from markbase.core.errors import MarkbaseError
from markbase.reports.figure_sets import differing_slopes
from markbase.show.fit import what_is_read
from markbase.show.page import Page
from markbase.show.records import table_record
from markbase.show.regression import regression_record
from markbase.show.slope_tables import slopes_section


@click.command(
    "slopes",
    epilog=examples(
        "markbase slopes choirs.plan.toml age:voice --outcome belonging --terms voice --interaction age,voice",
        "markbase slopes choirs.plan.toml age --outcome belonging --terms voice --polynomial age=2 --at age=30,50,70",
    ),
)
@model_options
@names_argument("[FIT] [COLUMN[:MODERATOR]]...")
@places_option
@figure_options
@json_option
def command(places: tuple[str, ...], figures: Path | None, replaces: bool, as_json: bool, **given: Any) -> None:
    """Probe curves and interactions: simple slopes of a numeric COLUMN, at chosen values or by a MODERATOR.

    Without COLUMN, every slope that the model lets differ is told. Where the moderator is numeric, also the region in which
    the slope is clear. FILE is a data file, a plan, of which FIT names a fit, or a saved fit (.json), which needs no data.
    """
    with remarks() as told:
        model = model_of(given)
        at = places_of(places)
        fit = fit_or_saved(model)
        known = [v.name for v in fit.variables]
        asked = [(first, by or None) for first, by in (two(text, known) for text in model.rest())] or differing_slopes(
            fit
        )
        if not asked:
            raise MarkbaseError(
                "The model lets no slope differ; add --interaction COLUMN,MODERATOR or --polynomial COLUMN=2, or name a column behind the file."
            )
        groups = {v.name for v in fit.variables if v.is_categorical}
        for first in (first for first, _ in asked if first in groups):
            numeric = next((n for n, _ in asked if n not in groups), "COLUMN")
            raise MarkbaseError(
                f"`{first}` is a group, and a slope is of a numeric column; to tell one by it, write it behind a colon: '{numeric}:{first}'."
            )
        found: Page | dict[str, Any]
        if as_json:
            tables = {f"{n}:{by}" if by else n: fit.simple_slopes(n, by=by, at=at or None) for n, by in asked}
            found = regression_record(fit) | {"slopes": {n: table_record(table) for n, table in tables.items()}}
        else:
            sections = tuple(slopes_section(fit, n, by, at or None) for n, by in asked)
            found = Page(f"{fit.explained}: simple slopes", what_is_read(fit), sections)
        if figures:
            from markbase.cli.figure_files import draw_slopes_of

            draw_slopes_of(fit, asked, figures, replaces)
    answer(found, told)
