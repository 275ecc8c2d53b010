"""Tables for a manuscript: the options for them, and writing what these say."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import rich_click as click

from markbase.cli.options import OUTPUT, F

_LABELS, _STANDARDISED = "markbase.column_labels", "markbase.standardised"


def manuscript_option(function: F) -> F:
    """Add where the table for a manuscript goes."""
    told = "Write the table for a manuscript to this .docx, .xlsx, .md, .html or .tex."
    labels = "In that table, call columns by their labels, of the codebook."
    function = click.option(
        "--column-labels", is_flag=True, expose_value=False, callback=_with_labels, help=labels, panel=OUTPUT
    )(function)
    return click.option("--manuscript", type=click.Path(path_type=Path), metavar="FILE", help=told, panel=OUTPUT)(
        function
    )


def standardised_option(function: F) -> F:
    """Add the wish for coefficients in standard deviations of the outcome, on the page and in the table for a manuscript."""
    told = "Linear: add coefficients in standard deviations of the outcome (β), on the page and in tables for a manuscript."
    return click.option("--standardised", is_flag=True, callback=_with_betas, help=told, panel=OUTPUT)(function)


def _with_labels(ctx: click.Context, _: click.Parameter, value: bool) -> bool:
    ctx.meta[_LABELS] = value
    return value


def _with_betas(ctx: click.Context, _: click.Parameter, value: bool) -> bool:
    ctx.meta[_STANDARDISED] = value
    return value


def write_manuscript(results: Any, path: Path, replace: bool) -> None:
    """Write tables for a manuscript."""
    from markbase.reports.document import write_document  # of which most commands need nothing

    ctx = click.get_current_context(silent=True)
    labels, standardised = (bool(ctx and ctx.meta.get(wish)) for wish in (_LABELS, _STANDARDISED))
    write_document(results, path, labels=labels, standardised=standardised, replace=replace)
