"""`markbase imputations`: the same model in each of several imputations, or for each plausible value, combined."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import rich_click as click

from markbase.cli.combined import imputation_option, opened_combined
from markbase.cli.help import examples
from markbase.cli.manuscripts import manuscript_option, write_manuscript
from markbase.cli.model_options import model_of, model_options
from markbase.cli.options import figure_options, json_option, names_argument, places_option
from markbase.cli.output import answer, remarks
from markbase.cli.typed import places_of, two
from markbase.core.comparison.imputations import CORRECTIONS
from markbase.core.comparison.imputed_blocks import ImputedBlocks
from markbase.core.study.study import Study
from markbase.show.imputations import imputations_page, imputations_record
from markbase.show.imputed_blocks import imputed_blocks_page, imputed_blocks_record


@click.command(
    "imputations",
    epilog=examples(
        "markbase imputations choir_imputed.csv --imputation imputation --outcome belonging --terms age,voice voice",
        "markbase imputations singers.csv --outcome pv1pitch,pv2pitch,pv3pitch --terms age,voice",
        "markbase imputations choir_imputed.csv --imputation imputation --outcome belonging --block 'who: age, voice' --block 'taking part: rehearsals'",
    ),
)
@model_options
@names_argument("[FIT] [GROUP | COLUMN[:MODERATOR]]...")
@imputation_option("Imputations")
@click.option(
    "--block",
    "texts",
    multiple=True,
    metavar="'NAME: COLUMNS'",
    help="Terms that enter together, in the order given, in the place of --terms: what each block adds is combined.",
    panel="Imputations",
)
@click.option(
    "--correction",
    type=click.Choice(CORRECTIONS),
    metavar="METHOD",
    help="For the p of pairs of levels: holm, bonferroni, benjamini-hochberg or none.  [default: holm]",
    panel="Imputations",
)
@places_option
@manuscript_option
@figure_options
@json_option
def command(
    imputation: str | None,
    texts: tuple[str, ...],
    correction: str | None,
    places: tuple[str, ...],
    manuscript: Path | None,
    figures: Path | None,
    replaces: bool,
    as_json: bool,
    **given: Any,
) -> None:
    """Fit the same model, or the same blocks, in each of several imputations of the data, and combine what they say (Rubin's rules).

    Of each GROUP that is named behind the file its levels and pairs are told as well, of a numeric COLUMN its simple slopes, by a MODERATOR. FILE is a data file, or a plan,
    of which FIT names one of its imputations.
    """
    with remarks() as told:
        model, study, entry = opened_combined(model_of(given), imputation, texts)
        groups, slopes = _asked(model.rest(), study)
        if groups or slopes:
            entry = replace(entry, groups=groups, slopes=slopes)
        at = {name: tuple(values) for name, values in places_of(places).items()}
        entry = replace(entry, correction=correction or entry.correction, at=at or entry.at)
        if places and not entry.slopes:
            raise click.UsageError("--at is for simple slopes; name the numeric column behind the file: age:voice.")
        if correction and not entry.groups:
            raise click.UsageError("--correction is for pairs of levels; name the group behind the file.")
        if entry.entry and (entry.groups or entry.slopes):
            raise click.UsageError("Levels and slopes are told of a model, not of blocks; give its terms with --terms.")
        found = entry.combined_in(study)
        if manuscript:
            write_manuscript(found, manuscript, replaces)
        if figures:
            from markbase.cli.figure_files import draw_combined, draw_steps

            if isinstance(found, ImputedBlocks):
                draw_steps(found, figures, replaces)
            else:
                draw_combined(found, figures, replaces)
        if isinstance(found, ImputedBlocks):
            answered = imputed_blocks_record(found) if as_json else imputed_blocks_page(found)
        else:
            shown = imputations_record if as_json else imputations_page
            slopes_told = [(numeric, by or None) for numeric, by in entry.slopes]
            answered = shown(found, entry.groups, entry.correction, slopes_told, entry.at or None)
    answer(answered, told)


def _asked(names: Sequence[str], study: Study) -> tuple[tuple[str, ...], tuple[tuple[str, str], ...]]:
    """Part what is named behind the file into groups, and numeric columns each with its moderator."""
    pairs = [two(text, study.columns) for text in names]
    slopes = tuple((n, by) for n, by in pairs if by or (n in study.columns and not study[n].is_categorical))
    return tuple(n for n, by in pairs if (n, by) not in slopes), slopes
