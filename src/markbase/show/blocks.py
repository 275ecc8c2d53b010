"""Several fits: blocks block by block, variants side by side, terms left out, rows held out."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pandas as pd

from markbase.core.comparison.backward_elimination import Elimination
from markbase.core.comparison.blocks import Blocks
from markbase.core.comparison.comparison import Comparison
from markbase.core.comparison.cross_validation import CrossValidation
from markbase.core.comparison.rows_seen import seen_words
from markbase.core.comparison.score import Score
from markbase.core.diagnostics.error_measures import MEAN, ROOT_MEAN_SQUARED
from markbase.core.errors import count_noun, listed, quoted
from markbase.core.formatting import as_percent, decimals_for, from_to, number, p_value, share, short, without_zero
from markbase.core.results.linear import LinearFit
from markbase.core.results.logistic import LogisticFit
from markbase.core.results.turning_points import TurningPoint
from markbase.core.tables import records_of, rows_of
from markbase.show.fit import errors_text, of_whole, reading_blocks, rows_section, what_is_read
from markbase.show.page import Facts, Page, Row, Section, Sentences, Strip, Table
from markbase.show.statistics import df_words, side_by_side


def blocks_page(hierarchy: Blocks) -> Page:
    """Describe a blockwise entry: rows, what each block adds, how estimates move, variance inflation, sentences."""
    fit = hierarchy.last
    sections = [
        rows_section(fit, _rows_alone(hierarchy)),
        _steps(hierarchy),
        _moves(hierarchy),
        *_vif(hierarchy),
        Section("What it says", blocks=reading_blocks(hierarchy.reading())),
    ]
    return Page(
        f"{fit.explained}: {count_noun(len(hierarchy), 'block')}, one after the other", fit.data_name, tuple(sections)
    )


def _rows_alone(hierarchy: Blocks) -> list[tuple[str, str]]:
    used = hierarchy.last.sample.used
    told = [
        f"{name} could use {rows:,} by {'itself' if name[0] == '`' else 'themselves'}"
        for name, rows in zip(_fits(hierarchy), hierarchy.rows_alone, strict=True)
        if rows > used
    ]
    facts = [
        ("every block", f"is fitted to the same {count_noun(used, 'row')}{'; ' + ', '.join(told) if told else ''}")
    ]
    if isinstance(hierarchy.last, LogisticFit):
        fit = hierarchy.last
        counted = fit.rows_used.counted
        of = "them" if fit.rows_used.times is None else f"the {counted:,} they stand for"
        facts.append(
            ("event", f"`{fit.outcome.name}` = `{fit.event}` in {fit.events:,} of {of} ({share(fit.events, counted)})")
        )
    return facts


def _fits(hierarchy: Blocks) -> list[str]:
    return [f"`{name}`" if not k else f"the blocks up to `{name}`" for k, name in enumerate(hierarchy.names)]


def _steps(hierarchy: Blocks) -> Section:
    fit, rows = hierarchy.last, []
    if isinstance(fit, LogisticFit):
        percent = f"{short(100 * fit.level, 4)}% CI"
        drawn = ("change", percent) if hierarchy.bootstrapped else ()
        statistic = "chi²" if math.isinf(fit.df_rest) else "F"
        heads: tuple[str, ...] = ("block", "parameters", "deviance", "McFadden", *drawn, "Tjur", statistic, "df", "p")
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
                    df_words(r),
                    p_value(r.p),
                )
            )
            for r in rows_of(hierarchy.steps)
        ]
        blocks: tuple[Table | Facts, ...] = (
            Table(heads, tuple(rows), frozenset(range(1, len(heads))), 0),
            Facts(
                (
                    (
                        "with no terms",
                        f"always guessing the commoner level is right in {as_percent(guess)} of rows",
                    ),
                    ("errors", errors_text(fit)),
                    *_about_bootstrap(hierarchy),
                )
            ),
        )
    else:
        heads = (
            "block",
            "parameters",
            "R² within" if fit.fixed_effect_names else "R²",
            "adjusted",
            "change",
            f"{short(100 * fit.level, 4)}% CI",
            "f²",
            "F",
            "df",
            "p",
        )
        high = max(
            float(r.change_high) if not math.isnan(r.change_high) else float(r.r2_change)
            for r in rows_of(hierarchy.steps)
        )
        for r in rows_of(hierarchy.steps):
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
                df_words(r),
                p_value(r.p),
            )
            rows.append(Row(cells, "plain", strip))
        facts = [("residual standard deviation", _misses(hierarchy))]
        if any(r.test == "Wald F" for r in rows_of(hierarchy.steps)):
            facts.append(("tests", "Wald's, of the added coefficients"))
        facts.append(("errors", errors_text(fit)))
        facts += _about_bootstrap(hierarchy)
        strips = "change of R²"
        if not any(row.strip for row in rows):  # robust errors have no interval of the change, unless samples are drawn
            heads, strips = (*heads[:5], *heads[6:]), ""
            rows = [Row((*row.cells[:5], *row.cells[6:])) for row in rows]
            why = "none of the change with these errors"
            if (
                fit.crossed is None and fit.time is None and not fit.errors.replicates
            ):  # rows are drawn, or whole levels of one group
                why += "; `bootstrap` draws samples for it"
            if fit.errors.middle is None:
                why = "none of the change: F is smaller than in nearly all samples in which nothing is added"
            facts.append(("interval", why))
        blocks = (Table(heads, tuple(rows), frozenset(range(1, len(heads))), 0, strips), Facts(tuple(facts)))
    note = f"the change of each block over the one before; {hierarchy.steps['test'].iloc[-1]} test"
    return Section("2  What each block adds", note, blocks)


def _change_interval(step: Any) -> str:
    decimals = max(3, decimals_for(step.change_high))
    return from_to(without_zero(step.change_low, decimals), without_zero(step.change_high, decimals))


def _about_bootstrap(hierarchy: Blocks) -> list[tuple[str, str]]:
    return [("interval", hierarchy.bootstrapped.words)] if hierarchy.bootstrapped else []


def _misses(hierarchy: Blocks) -> str:
    fit = hierarchy.last
    assert isinstance(fit, LinearFit)
    decimals = decimals_for(fit.outcome_sd, 3)
    misses = [f"{r.block} {number(r.residual_sd, decimals)}" for r in rows_of(hierarchy.steps)]
    return f"no terms {number(fit.outcome_sd, decimals)}, {', '.join(misses)} ({fit.outcome.step_many})"


def _moves(hierarchy: Blocks) -> Section:
    scale = hierarchy.last.family.scale(hierarchy.last.outcome)
    table = side_by_side(tuple(hierarchy), hierarchy.names)
    note = f"in {scale}, standard errors in brackets; the base of every group has its row"
    return Section("3  How estimates move", note, (table,))


def _vif(hierarchy: Blocks) -> list[Section]:
    table, blocks = hierarchy.vif, list(hierarchy.names_in_tables)
    if hierarchy.logistic or table[blocks].isna().all().all():
        return []
    rows = tuple(
        Row((str(r["term"]), *("" if math.isnan(float(r[n])) else number(float(r[n]), 2) for n in blocks)))
        for r in records_of(table[table[blocks].notna().any(axis=1)])
    )
    note = "single columns: how many times the standard error of each is what it would be alone"
    heads = ("term", *hierarchy.names)
    return [Section("4  Variance inflation", note, (Table(heads, rows, frozenset(range(1, len(heads))), 0),))]


def comparison_page(comparison: Comparison) -> Page:
    """Describe fits side by side: strength, tests, estimates, cautions."""
    names = comparison.names
    sections = []
    figures = [c for c in comparison.strength.columns if c not in ("fit", "terms", "parameters", "used")]
    rows = []
    for r in records_of(comparison.strength):
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
        "residual_sd": "residual standard deviation",
        "aic": "AIC",
        "bic": "BIC",
        "mcfadden": "McFadden",
        "nagelkerke": "Nagelkerke",
        "tjur": "Tjur",
    }
    heads = ("fit", "terms", "parameters", *(words.get(c, c) for c in figures))
    said = {name: errors_text(fit) for name, fit in zip(names, comparison.fits, strict=True)}
    errors = (
        [("errors", next(iter(said.values())))]
        if len(set(said.values())) == 1
        else [(f"errors of {name}", text) for name, text in said.items()]
    )
    weighting = comparison.fits[0].weighting  # that of all
    errors += _weighed(weighting.short if weighting else "")
    sections.append(
        Section(
            "How much each says",
            f"all on the same {comparison.rows:,} rows",
            (Table(heads, tuple(rows), frozenset(range(1, len(heads))), 0), Facts(tuple(errors))),
        )
    )
    if len(comparison.tests):
        body = tuple(
            Row(
                (
                    f"{r.larger} over {r.smaller}",
                    r.test,
                    number(r.statistic, 2),
                    df_words(r),
                    p_value(r.p),
                )
            )
            for r in rows_of(comparison.tests)
        )
        table = Table(("what is added", "test", "statistic", "df", "p"), body, frozenset({2, 3, 4}), 0)
        sections.append(Section("Does the larger say more", "where one holds all terms of the other", (table,)))
    beside = side_by_side(comparison.fits, names)
    sections.append(Section("Estimates", "standard errors in brackets", (beside,)))
    if comparison.cautions:
        lines = tuple((text, ()) for text in comparison.cautions)
        sections.append(Section("To be read with it", blocks=(Sentences(lines),)))
    explained = listed(list(dict.fromkeys(f.explained for f in comparison.fits)))
    return Page(
        f"{explained}: {count_noun(len(names), 'fit')} side by side", comparison.fits[0].data_name, tuple(sections)
    )


def elimination_page(elimination: Elimination) -> Page:
    """Describe what was left out, step by step."""
    fit, figure = elimination.fit, elimination.fit.family.adjusted_share
    rows = tuple(
        Row(
            (
                f"{r.step}",
                r.dropped,
                df_words(r),
                number(r.statistic, 2),
                p_value(r.p),
                without_zero(getattr(r, figure)),
                number(r.aic, 1),
                number(r.bic, 1),
            )
        )
        for r in rows_of(elimination.steps)
    )
    heads = (
        "step",
        "left out",
        "df",
        "chi²" if math.isinf(fit.df_rest) else "F",
        "p",
        "McFadden" if figure == "mcfadden" else "adjusted R²",
        "AIC",
        "BIC",
    )
    facts = [("kept", listed(quoted(elimination.kept)))]
    if elimination.protected:
        facts.append(("protected", listed(quoted(elimination.protected))))
    blocks: list[Table | Facts | Sentences] = [Table(heads, rows, frozenset({0, 2, 3, 4, 5, 6, 7}), 1)] if rows else []
    blocks += [Facts(tuple(facts)), Sentences(tuple((c, ()) for c in elimination.cautions))]
    kind = "Wald" if fit.errors.middle is not None else fit.overall.kind
    note = f"while p is above {short(elimination.limit)}, the largest first; {kind} tests, given the terms still in"
    return Page(
        f"{fit.explained}: terms left out one by one",
        what_is_read(fit),
        (Section("Steps", note, tuple(blocks)),),
    )


def cross_validation_page(result: CrossValidation) -> Page:
    """Describe figures on rows held out."""
    rows = []
    for r in rows_of(result.table):
        own, held_out, lowest, highest, bare = _measures(result.table, r)
        over = [from_to(lowest, highest)] if result.repeats > 1 else []
        rows.append(Row((r.figure, own, held_out, *over, bare)))
    over = ["over the repeats"] if result.repeats > 1 else []
    heads = ("figure", "rows of the fit", "rows held out", *over, "no terms at all")
    note = f"each of {result.folds} parts{of_whole(result.cluster)} predicted by a fit to the others, {count_noun(result.repeats, 'time')}, seed {result.seed}"
    facts = [*_ABOUT, *_weighed(result.counted)]
    facts += [("reading", f"for {_who(result.cluster)}, expect the figures held out, not those of the fit")]
    if result.possible_cluster:
        name = result.possible_cluster
        facts.append(
            (
                "rows together",
                f"rows of one {name} may stand in several parts; with errors clustered by {name} it is held out whole, as one that is new",
            )
        )
    if result.left_out:
        facts.append(("left out", f"{count_noun(result.left_out, 'row')} whose level occurs in no other part"))
    blocks = (Table(heads, tuple(rows), frozenset(range(1, len(heads))), 0), Facts(tuple(facts)))
    return Page(f"{result.outcome}: on rows the model has not seen", "", (Section("Held out in turn", note, blocks),))


def _weighed(words: str) -> list[tuple[str, str]]:
    return [("weights", words)] if words else []


def _who(cluster: str) -> str:
    return f"people like these, of another {cluster} than any here" if cluster else "new people like these"


_ABOUT = (
    ("mean error", "observed less predicted, on average: above 0 where predictions are too low"),
    (
        "calibration slope",
        "of what happens on what is predicted: below 1 where predictions lie too far apart, above 1 not far enough",
    ),
)


def _measures(table: pd.DataFrame, row: Any) -> list[str]:
    """Write an error measure: one in the outcome's unit with four digits of the error, a share without its leading zero."""
    values = [float(v) for v in row[1:]]
    errors = table[table["figure"] == ROOT_MEAN_SQUARED].iloc[:, 1:].to_numpy(dtype=np.float64).ravel()
    if row.figure not in (ROOT_MEAN_SQUARED, MEAN) or not len(errors):
        return ["" if math.isnan(v) else without_zero(v) for v in values]
    decimals = decimals_for(errors[errors > 0].min(), 4) if (errors > 0).any() else 2
    return ["" if math.isnan(v) else number(v, decimals) for v in values]


def score_page(result: Score, file: str = "", cluster: str = "") -> Page:
    """Describe figures on rows held out before the fit, single ones or whole levels of a cluster, or of a file of other rows."""
    there = f"rows of {file}" if file else "rows held out"
    rows = []
    for r in rows_of(result.table):
        rows.append(Row((r.figure, *_measures(result.table, r))))
    facts = [
        (
            "scored",
            f"{count_noun(result.rows, 'row')} {'of ' + file if file else f'held out{of_whole(cluster)}'.rstrip(',')}",
        ),
        *_ABOUT,
        *_weighed(result.counted),
    ]
    if result.seen:
        facts.append(("mind", seen_words(result.seen, result.rows)))
    else:
        new = f"of {file}" if file else "held out"
        facts.append(("reading", f"for {_who(cluster)}, expect the figures {new}, not those of the fit"))
    if not file and not result.seen:
        facts.append(("one split", "another split gives other figures; cross-validation tells by how much"))
    if result.left_out:
        facts.append(
            (
                "left out",
                f"{count_noun(result.left_out, 'row')}: a gap, or a level or a crossing of levels the fit has not seen",
            )
        )
    facts += [("levels", words) for words in result.unseen]
    heads = ("figure", "rows of the fit", there, "no terms at all")
    blocks = (Table(heads, tuple(rows), frozenset({1, 2, 3}), 0), Facts(tuple(facts)))
    return Page(f"{result.outcome}: on {'the ' + there if file else there}", "", (Section("", blocks=blocks),))


def turning_point_page(result: TurningPoint) -> Page:
    """Describe where a curve turns."""
    return Page(f"Turning point of {result.numeric}", "", (Section("", blocks=(Sentences(((result.text, ()),)),)),))
