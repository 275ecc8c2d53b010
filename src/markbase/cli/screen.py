"""`markbase screen`: what predictors have in common, before they are fitted together."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import rich_click as click

from markbase.cli.help import examples
from markbase.cli.manuscripts import manuscript_option, write_manuscript
from markbase.cli.model_options import setting_options
from markbase.cli.options import base_options, data_options, figure_options, json_option
from markbase.cli.output import held_back, remarks, retell, show, show_json
from markbase.cli.source import Source
from markbase.cli.typed import split
from markbase.core.results.fit_linear import fit_linear
from markbase.core.screening.limits import Limits
from markbase.core.screening.screen import screen, screen_fit
from markbase.core.screening.specifications import specifications
from markbase.core.tables import records_of
from markbase.show.records import pruned_record, screen_record
from markbase.show.screen import pruned_page, screen_page, specifications_page


@click.command(
    "screen",
    epilog=examples(
        "markbase screen choirs.plan.toml --outcome belonging --terms age,voice,years_singing",
        "markbase screen choirs.plan.toml --terms rehearsals,concerts,travel_km,travel_min --prune --keep rehearsals",
    ),
)
@data_options
@base_options
@click.option("--outcome", help="The outcome: first in the correlations, and its gaps count.", panel="Screening")
@click.option(
    "--terms", multiple=True, required=True, metavar="COLUMNS", help="The predictors, by commas.", panel="Screening"
)
@click.option(
    "--limit-r",
    default=0.7,
    show_default=True,
    help="Flag pairs from this |r| on (0.5, 0.7, 0.75, 0.9 are in use).",
    panel="Screening",
)
@click.option(
    "--limit-vif",
    default=5.0,
    show_default=True,
    help="Flag variance inflation factors from here on (3, 5, 10 are in use).",
    panel="Screening",
)
@click.option("--ranks", is_flag=True, help="Correlate numeric columns by their ranks (Spearman).", panel="Screening")
@click.option("--pairwise", is_flag=True, help="Correlate on all rows that have both columns.", panel="Screening")
@click.option(
    "--prune",
    "pruning",
    is_flag=True,
    help="Drop the worst term until all are below --limit-vif, with a log.",
    panel="Screening",
)
@click.option("--keep", multiple=True, metavar="COLUMNS", help="Terms that pruning must not drop.", panel="Screening")
@click.option(
    "--focus",
    metavar="COLUMN",
    help="How this term's estimate moves when each other one is left out.",
    panel="Screening",
)
@click.option(
    "--cluster",
    multiple=True,
    metavar="GROUP",
    help="The group whose rows may go together, for the errors of --focus; twice for groups that cross (two-way).",
    panel="Screening",
)
@click.option(
    "--fixed-effects",
    multiple=True,
    metavar="GROUP",
    help="Variance inflation within the levels of this group; once or twice. Needs --outcome.",
    panel="Screening",
)
@setting_options("weights", "weights_are")
@manuscript_option
@figure_options
@json_option
def command(
    outcome: str | None,
    terms: tuple[str, ...],
    limit_r: float,
    limit_vif: float,
    ranks: bool,
    pairwise: bool,
    pruning: bool,
    keep: tuple[str, ...],
    focus: str | None,
    cluster: tuple[str, ...],
    fixed_effects: tuple[str, ...],
    weights: str | None,
    weights_are: str | None,
    manuscript: Path | None,
    figures: Path | None,
    replaces: bool,
    as_json: bool,
    **source: Any,
) -> None:
    """Screen predictors in FILE: correlations, variance inflation, exact collinearity, and what they mean here."""
    if fixed_effects and (not outcome or ranks or pairwise or figures):
        raise click.UsageError(
            "--fixed-effects screens the terms of a fit within levels: it needs --outcome, and goes without --ranks, --pairwise and --figures."
        )
    if keep and not pruning:
        raise click.UsageError("--keep protects terms from --prune; add that, or leave it out.")
    if focus and not outcome:
        raise click.UsageError("--focus needs --outcome: it is an estimate that moves.")
    if cluster and not focus:
        raise click.UsageError("--cluster is for the errors of --focus; add that, or leave it out.")
    if weights and ranks:
        raise click.UsageError("--ranks goes without --weights: ranks are not weighted.")
    if weights_are and not weights:
        raise click.UsageError("--weights-are says what --weights are; add that, or leave it out.")
    by: dict[str, Any] = {"weights": weights} | ({"weights_are": weights_are} if weights_are else {})
    with remarks() as told:
        with held_back() as held:
            opened = Source(**source)
            study = opened.open()
        names = split(terms, study.columns)
        opened.mention_unused_logs([*(names or study.columns), outcome or ""])
        retell(held, study, {*names, outcome or "", weights or ""})
        limits = Limits(r=limit_r, vif=limit_vif)
        if fixed_effects:
            whole = fit_linear(study, outcome or "", names, fixed_effects=fixed_effects, **by)
            result = screen_fit(whole, limits=limits)
        else:
            method, rows = "spearman" if ranks else "pearson", "pairwise" if pairwise else "complete"
            result = screen(study, names, outcome, limits=limits, method=method, rows=rows, **by)
        protected = [*split(keep, study.columns), *([focus] if focus else [])]  # what the question is about stays
        pruned = result.prune(keep=list(dict.fromkeys(protected))) if pruning else None
        moved = (
            specifications(
                fit_linear(study, outcome or "", names, fixed_effects=fixed_effects, cluster=cluster or None, **by),
                focus,
            )
            if focus
            else None
        )
        if manuscript:
            write_manuscript(result, manuscript, replaces)
        if figures:
            from markbase.cli.figure_files import write_screen_figures

            write_screen_figures(study, result, figures, replaces)
        record = screen_record(result) if as_json else {}
    if as_json:
        if pruned:
            record["pruned"] = pruned_record(pruned)
        if moved:
            record["specifications"] = {
                "focus": moved.focus,
                "errors": moved.whole.errors.words,
                "table": records_of(moved.table),
                "changed": list(moved.changed),
            }
        show_json(record, told)
        return
    pages = [screen_page(result)]
    pages += [pruned_page(pruned)] if pruned else []
    pages += [specifications_page(moved)] if moved else []
    show(*pages)
