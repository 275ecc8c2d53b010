"""`markbase fit`: a linear regression, in its reading order."""

from __future__ import annotations

from pathlib import Path

import click

from markbase.cli.common import base_options, data_options, opened, remarks, show, show_json, split
from markbase.core.model.linear import fit_linear
from markbase.show.fit import fit_page
from markbase.show.plain import fit_record


@click.command("fit")
@data_options
@base_options
@click.option("--outcome", required=True, help="The amount to explain.")
@click.option("--terms", multiple=True, required=True, metavar="COLUMNS", help="What to explain it with, by commas.")
@click.option("--level", default=0.95, show_default=True, help="Confidence level of the intervals.")
def command(
    file: Path,
    outcome: str,
    terms: tuple[str, ...],
    level: float,
    codebook: Path | None,
    kinds: tuple[str, ...],
    missing: tuple[str, ...],
    encoding: str,
    as_json: bool,
    bases: tuple[str, ...],
    rules: tuple[str, ...],
) -> None:
    r"""Fit a linear regression of an amount in FILE, every group against its base.

    \b
    markbase fit choirs.csv --codebook choirs.codebook.toml \
        --outcome belonging --terms age,voice --base voice=alto
    """
    with remarks() as told:
        study = opened(file, codebook, kinds, missing, encoding, bases, rules)
        fit = fit_linear(study, outcome, split(terms, study.columns), level=level)
        _mention_unused(study.columns, fit, bases, rules)
    if as_json:
        show_json(fit_record(fit), told)
    else:
        show(fit_page(fit))


def _mention_unused(columns: tuple[str, ...], fit, bases: tuple[str, ...], rules: tuple[str, ...]) -> None:  # type: ignore[no-untyped-def]
    """Remark on a base that was given for a group outside the model."""
    from markbase.core.errors import remark

    inside = {t.name for t in fit.parts}
    for text in (*bases, *rules):
        name = text.partition("=")[0].strip()
        if name in columns and name not in inside:
            remark(f"A base was given for `{name}`, which is not among the terms; it changes nothing here.")
