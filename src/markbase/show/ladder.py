"""Several fits: blocks rung by rung, variants side by side, terms left out, rows held out."""

from __future__ import annotations

import math
from typing import Any

import pandas as pd

from markbase.core.comparing.changes import AnyFit
from markbase.core.comparing.compare import Comparison
from markbase.core.comparing.held_out import HeldOut
from markbase.core.comparing.ladder import Ladder
from markbase.core.comparing.trim import Trimmed
from markbase.core.errors import count_noun, listed, quoted
from markbase.core.model.linear import LinearFit
from markbase.core.model.logistic import LogisticFit
from markbase.core.tables import rows_of
from markbase.core.wording import decimals_for, number, p_value, share, short, without_zero
from markbase.show.fit import LEVEL_INDENT, errors_text, reading_blocks, rows_section
from markbase.show.page import Facts, Page, Row, Section, Sentences, Strip, Table


def ladder_page(ladder: Ladder) -> Page:
    """Describe a blockwise entry.

    Parameters
    ----------
    ladder : Ladder
        The ladder.

    Returns
    -------
    Page
        Rows, what each block adds, how estimates move, inflation, sentences.
    """
    fit = ladder.last
    sections = [
        rows_section(fit, _rows_alone(ladder)),
        _steps(ladder),
        _moves(ladder),
        *_inflation(ladder),
        Section("What it says", blocks=reading_blocks(ladder.reading())),
    ]
    return Page(
        f"{fit.explained}: {count_noun(len(ladder), 'block')}, one after the other", fit.data_name, tuple(sections)
    )


def _rows_alone(ladder: Ladder) -> list[tuple[str, str]]:
    used = ladder.last.sample.used
    told = [
        f"{name} could use {rows:,} by {'itself' if name[0] == '`' else 'themselves'}"
        for name, rows in zip(_rungs(ladder), ladder.rows_alone, strict=True)
        if rows > used
    ]
    facts = [("every rung", f"is fitted to the same {count_noun(used, 'row')}{'; ' + ', '.join(told) if told else ''}")]
    if isinstance(ladder.last, LogisticFit):
        fit = ladder.last
        facts.append(
            ("event", f"`{fit.outcome.name}` = `{fit.event}` in {fit.events:,} of them ({share(fit.events, used)})")
        )
    return facts


def _rungs(ladder: Ladder) -> list[str]:
    return [f"`{name}`" if not k else f"the blocks up to `{name}`" for k, name in enumerate(ladder.names)]


def _steps(ladder: Ladder) -> Section:
    fit, rows = ladder.last, []
    if isinstance(fit, LogisticFit):
        percent = f"{short(100 * fit.level, 4)}% interval"
        drawn = ("change", percent) if ladder.resampled else ()
        heads: tuple[str, ...] = ("block", "parameters", "deviance", "McFadden", *drawn, "Tjur", "chi²", "df", "p")
        guess = max(fit.rate, 1 - fit.rate)
        null = -2 * fit.strength.loglik_null
        rows.append(Row(("no terms", "1", number(null, 1), ".000", *("" for _ in drawn), ".000", "", "", ""), "aside"))
        rows += [
            Row(
                (
                    r.block,
                    f"{r.parameters}",
                    number(r.deviance, 1),
                    without_zero(r.mcfadden),
                    *((without_zero(r.mcfadden_change), _change_interval(r)) if drawn else ()),
                    without_zero(r.tjur),
                    number(r.statistic, 2),
                    f"{r.df}",
                    p_value(r.p),
                )
            )
            for r in rows_of(ladder.steps)
        ]
        blocks: tuple[Table | Facts, ...] = (
            Table(heads, tuple(rows), frozenset(range(1, len(heads))), 0),
            Facts(
                (
                    (
                        "with no terms",
                        f"always guessing the commoner level is right in {number(100 * guess, 1)}% of rows",
                    ),
                    *_about_samples(ladder),
                )
            ),
        )
    else:
        heads = (
            "block",
            "parameters",
            "R²",
            "adjusted",
            "change",
            f"{short(100 * fit.level, 4)}% interval",
            "f²",
            "F",
            "df",
            "p",
        )
        high = max(
            float(r.change_high) if not math.isnan(r.change_high) else float(r.r2_change) for r in rows_of(ladder.steps)
        )
        for r in rows_of(ladder.steps):
            known = not math.isnan(r.change_low)
            interval = _change_interval(r) if known else ""
            strip = Strip(r.change_low, r.r2_change, r.change_high, -0.04 * high, 1.04 * high) if known else None
            cells = (
                r.block,
                f"{r.parameters}",
                without_zero(r.r2),
                without_zero(r.r2_adjusted),
                without_zero(r.r2_change),
                interval,
                without_zero(r.f2),
                number(r.statistic, 2),
                f"{r.df}, {r.df_rest:.0f}",
                p_value(r.p),
            )
            rows.append(Row(cells, "plain", strip))
        facts = [("typical miss", _misses(ladder))]
        if any(r.test == "Wald F" for r in rows_of(ladder.steps)):
            facts.append(("tests", f"Wald's, of the added coefficients: {errors_text(fit)}"))
        facts += _about_samples(ladder)
        strips = "change of R²"
        if not any(row.strip for row in rows):  # robust errors have no interval of the change, unless samples are drawn
            heads, strips = (*heads[:5], *heads[6:]), ""
            rows = [Row((*row.cells[:5], *row.cells[6:])) for row in rows]
            facts.append(("interval", "none of the change with these errors; `resample` draws samples for it"))
        blocks = (Table(heads, tuple(rows), frozenset(range(1, len(heads))), 0, strips), Facts(tuple(facts)))
    note = f"the change of each rung over the one before; {ladder.steps['test'].iloc[-1]} test"
    return Section("2  What each block adds", note, blocks)


def _change_interval(step: Any) -> str:
    return f"{without_zero(step.change_low)} to {without_zero(step.change_high)}"


def _about_samples(ladder: Ladder) -> list[tuple[str, str]]:
    return [("interval", ladder.resampled.words)] if ladder.resampled else []


def _misses(ladder: Ladder) -> str:
    fit = ladder.last
    assert isinstance(fit, LinearFit)
    decimals = decimals_for(fit.outcome_sd, 3)
    misses = [f"{r.block} {number(r.typical_miss, decimals)}" for r in rows_of(ladder.steps)]
    return f"no terms {number(fit.outcome_sd, decimals)}, {', '.join(misses)} ({fit.outcome.step_many})"


def _moves(ladder: Ladder) -> Section:
    scale = "log odds" if ladder.logistic else f"{ladder.last.outcome.step_many} of {ladder.last.outcome.name}"
    table = _wide(ladder.last, ladder.moves, ladder.errors, ladder.names)
    note = f"in {scale}, standard errors in brackets; the base of every group has its row"
    return Section("3  How estimates move", note, (table,))


def _wide(fit: AnyFit, values: pd.DataFrame, errors: pd.DataFrame, names: tuple[str, ...]) -> Table:
    """Lay estimates side by side, with errors in brackets and a row for each base."""
    rows, groups = [], set()
    products = {t.name for t in fit.parts if t.parts}
    for k, r in enumerate(values.to_dict("records")):
        term, level = str(r["term"]), str(r["level"])
        if level and term not in groups:
            groups.add(term)
            rows.append(Row((term, *("" for _ in names)), "group"))
        cells = []
        for name in names:
            value, se = float(r[name]), float(errors[name].iloc[k])
            if math.isnan(value):
                cells.append("")
            elif r["base"]:
                cells.append("base")
            else:
                decimals = decimals_for(se)
                cells.append(f"{number(value, decimals)} ({number(se, decimals)})")
        if r["base"] and term in products:
            continue
        rows.append(Row((LEVEL_INDENT + level if level else term, *cells), "base" if r["base"] else "plain"))
    return Table(("term, level", *names), tuple(rows), frozenset(range(1, len(names) + 1)), 0)


def _inflation(ladder: Ladder) -> list[Section]:
    table = ladder.inflation
    if ladder.logistic or table[list(ladder.names)].isna().all().all():
        return []
    rows = tuple(
        Row((str(r["term"]), *("" if math.isnan(float(r[n])) else number(float(r[n]), 2) for n in ladder.names)))
        for r in table.to_dict("records")
    )
    note = "how many times a standard error is what it would be without the other terms of the rung"
    heads = ("term", *ladder.names)
    return [Section("4  Inflation", note, (Table(heads, rows, frozenset(range(1, len(heads))), 0),))]


def comparison_page(comparison: Comparison) -> Page:
    """Describe fits side by side.

    Parameters
    ----------
    comparison : Comparison
        The comparison.

    Returns
    -------
    Page
        Strength, tests, estimates, cautions.
    """
    names = comparison.names
    sections = []
    figures = [c for c in comparison.strength.columns if c not in ("fit", "terms", "parameters", "used")]
    rows = []
    for r in comparison.strength.to_dict("records"):
        shown = [
            ""
            if math.isnan(r[c])
            else without_zero(r[c])
            if c in ("r2", "r2_adjusted", "mcfadden", "nagelkerke", "tjur")
            else number(r[c], 2)
            for c in figures
        ]
        rows.append(Row((str(r["fit"]), f"{r['terms']}", f"{r['parameters']}", *shown)))
    words = {
        "r2": "R²",
        "r2_adjusted": "adjusted",
        "typical_miss": "typical miss",
        "aic": "AIC",
        "bic": "BIC",
        "mcfadden": "McFadden",
        "nagelkerke": "Nagelkerke",
        "tjur": "Tjur",
    }
    heads = ("fit", "terms", "parameters", *(words.get(c, c) for c in figures))
    sections.append(
        Section(
            "How much each says",
            f"all on the same {comparison.rows:,} rows",
            (Table(heads, tuple(rows), frozenset(range(1, len(heads))), 0),),
        )
    )
    if len(comparison.tests):
        body = tuple(
            Row(
                (
                    f"{r.larger} over {r.smaller}",
                    r.test,
                    number(r.statistic, 2),
                    f"{r.df}" + ("" if math.isinf(r.df_rest) else f", {r.df_rest:.0f}"),
                    p_value(r.p),
                )
            )
            for r in rows_of(comparison.tests)
        )
        table = Table(("what is added", "test", "statistic", "df", "p"), body, frozenset({2, 3, 4}), 0)
        sections.append(Section("Does the larger say more", "where one holds all terms of the other", (table,)))
    errors = comparison.estimates.rename(columns={f"se of {n}": f" {n}" for n in names})[[f" {n}" for n in names]]
    errors.columns = pd.Index(names)
    widest = max(comparison.fits, key=lambda f: len(f.parts))
    sections.append(
        Section("Estimates", "standard errors in brackets", (_wide(widest, comparison.estimates, errors, names),))
    )
    if comparison.cautions:
        lines = tuple((text, ()) for text in comparison.cautions)
        sections.append(Section("To be read with it", blocks=(Sentences(lines),)))
    explained = listed(list(dict.fromkeys(f.explained for f in comparison.fits)))
    return Page(
        f"{explained}: {count_noun(len(names), 'fit')} side by side", comparison.fits[0].data_name, tuple(sections)
    )


def trimmed_page(trimmed: Trimmed) -> Page:
    """Describe what was left out, step by step."""
    figure = "mcfadden" if isinstance(trimmed.fit, LogisticFit) else "r2_adjusted"
    rows = tuple(
        Row(
            (
                f"{r['step']}",
                str(r["dropped"]),
                f"{r['df']}",
                number(r["statistic"], 2),
                p_value(r["p"]),
                without_zero(r[figure]),
                number(r["aic"], 1),
                number(r["bic"], 1),
            )
        )
        for r in trimmed.steps.to_dict("records")
    )
    heads = (
        "step",
        "left out",
        "df",
        "statistic",
        "p",
        "McFadden" if figure == "mcfadden" else "adjusted R²",
        "AIC",
        "BIC",
    )
    facts = [("kept", listed(quoted(trimmed.kept)))]
    if trimmed.protected:
        facts.append(("protected", listed(quoted(trimmed.protected))))
    blocks: list[Table | Facts | Sentences] = [Table(heads, rows, frozenset({0, 2, 3, 4, 5, 6, 7}), 1)] if rows else []
    blocks += [Facts(tuple(facts)), Sentences(tuple((c, ()) for c in trimmed.cautions))]
    note = f"while p is above {short(trimmed.limit)}, the largest first"
    return Page(
        f"{trimmed.fit.explained}: terms left out one by one",
        trimmed.fit.data_name,
        (Section("Steps", note, tuple(blocks)),),
    )


def held_out_page(result: HeldOut) -> Page:
    """Describe figures on rows held out."""
    rows = []
    for r in rows_of(result.table):
        digits = 2 if r.figure == "typical miss" else 3
        write = number if r.figure == "typical miss" else without_zero
        cells = (
            r.figure,
            write(r.of_the_fit, digits),
            write(r.held_out, digits),
            f"{write(r.lowest, digits)} to {write(r.highest, digits)}",
            write(r.without_terms, digits),
        )
        rows.append(Row(cells))
    heads = ("figure", "rows of the fit", "rows held out", "over the repeats", "no terms at all")
    note = f"each of {result.folds} parts predicted by a fit to the others, {count_noun(result.repeats, 'time')}, seed {result.seed}"
    facts = [("reading", "for new people like these, expect the figures held out, not those of the fit")]
    if result.left_out:
        facts.append(("left out", f"{count_noun(result.left_out, 'row')} whose level occurs in no other part"))
    blocks = (Table(heads, tuple(rows), frozenset({1, 2, 3, 4}), 0), Facts(tuple(facts)))
    return Page(f"{result.outcome}: on rows the model has not seen", "", (Section("", note, blocks),))
