"""A blockwise entry over several imputations, combined, as a page."""

from __future__ import annotations

import math
from dataclasses import asdict
from typing import Any

from markbase.core.comparison.imputed_blocks import ImputedBlocks
from markbase.core.errors import count_noun
from markbase.core.formatting import decimals_for, number, p_value, without_zero
from markbase.core.results.logistic import LogisticFit
from markbase.core.tables import rows_of
from markbase.show.fit import reading_blocks
from markbase.show.imputations import errors_fact, imputations_record, once_or_both, which_rows
from markbase.show.page import Facts, Page, Row, Section, Table
from markbase.show.records import table_record
from markbase.show.statistics import df_words, side_by_side


def imputed_blocks_page(found: ImputedBlocks) -> Page:
    """Describe a blockwise entry over imputations: rows, what each block adds, how estimates move, sentences."""
    fit, m = found.last.fit, len(found.entries)
    kind = "imputations" if found.by else "plausible values"
    rows = "1  Which rows, and what was imputed" if found.by else "1  Which rows"
    every = (
        "every block",
        "is fitted to the same rows of each imputation" if found.by else "is fitted to the same rows",
    )
    scale = fit.family.scale(fit.outcome)
    note = f"in {scale}, standard errors in brackets, all combined; the base of every group has its row"
    sections = (
        Section(rows, blocks=(Facts((*which_rows(found.last), every)),)),
        _steps(found),
        Section("3  How estimates move", note, (side_by_side(found.fits, found.names),)),
        Section("4  What it says", blocks=reading_blocks(found.reading())),
    )
    title = f"{fit.explained}: {count_noun(len(found), 'block')}, one after the other, combined over {m} {kind}"
    return Page(title, fit.data_name, sections)


def _steps(found: ImputedBlocks) -> Section:
    steps, kind = rows_of(found.steps), "imputations" if found.by else "plausible values"
    fixed = found.last.fit.fixed_effect_names
    measures = ("McFadden", "Tjur") if found.logistic else ("R² within" if fixed else "R²", "adjusted")
    heads = (
        "block",
        "parameters",
        *measures,
        "change",
        "in single ones",
        *(() if found.logistic else ("f²",)),
        "F",
        "df",
        "p",
    )
    rows = []
    for r in steps:
        shares = (r.mcfadden, r.tjur, r.mcfadden_change) if found.logistic else (r.r2, r.r2_adjusted, r.r2_change)
        ends = once_or_both([without_zero(r.change_lowest), without_zero(r.change_highest)])
        tested = (
            (number(r.statistic, 2), df_words(r), p_value(r.p))
            if not math.isnan(r.statistic)
            else ("–", f"{r.df}", "not tested")
        )
        effect = () if found.logistic else (without_zero(r.f2),)
        rows.append(Row((r.block, f"{r.parameters}", *map(without_zero, shares), ends, *effect, *tested)))
    facts = [] if found.logistic else [("residual standard deviation", _misses(found))]
    facts += [
        (name, f"not tested: {test.untested}")
        for name, test in zip(found.names, found.changes, strict=True)
        if test.untested
    ]
    told = "McFadden's R²" if found.logistic else "R²"
    facts += [
        errors_fact(found.last),
        ("interval", f"none of the change; how far it differs between the {kind} stands beside it"),
    ]
    table = Table(heads, tuple(rows), frozenset(range(1, len(heads))), 0)
    note = f"the change of {told} over the block before; F of the coefficients it adds, combined"
    return Section("2  What each block adds", note, (table, Facts(tuple(facts))))


def _misses(found: ImputedBlocks) -> str:
    steps = rows_of(found.steps)
    decimals = decimals_for(steps[0].residual_sd, 3)
    told = [f"{r.block} {number(r.residual_sd, decimals)}" for r in steps]
    return f"{', '.join(told)} ({found.last.fit.outcome.step_many})"


def imputed_blocks_record(found: ImputedBlocks) -> dict[str, Any]:
    """Return it as plain data: `entry`, `steps`, `moves`, `errors`, `movements`, `reading`, and each block's model as `imputations` has it."""
    return {
        "kind": "logistic" if isinstance(found.last.fit, LogisticFit) else "linear",
        "by": found.by or None,
        "entry": dict(zip(found.names, map(list, found.added), strict=True)),
        "steps": table_record(found.steps),
        "moves": table_record(found.moves),
        "errors": table_record(found.errors),
        "movements": table_record(found.movements),
        "reading": [asdict(s) for s in found.reading().statements],
        "cautions": list(found.reading().cautions),
        "blocks": [imputations_record(fit) for fit in found],
    }
