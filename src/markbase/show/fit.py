"""A linear fit in its reading order: rows, whether, how much, which terms, which groups, equation, sentences."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Sequence

import pandas as pd

from markbase.core.checks.rows_in_time import following_words
from markbase.core.checks.rows_together import hidden_words, is_hidden
from markbase.core.checks.spread import uneven_spread
from markbase.core.design.weights import unused_words
from markbase.core.diagnostics.residuals import Checks, Finding
from markbase.core.errors import count_noun, listed, quoted
from markbase.core.formatting import (
    as_percent,
    decimals_for,
    figures_of,
    from_to,
    number,
    p_phrase,
    p_value,
    share,
    short,
    value_with_ends,
    without_zero,
)
from markbase.core.reading.clauses import overstated_words
from markbase.core.reading.cluster_cautions import about_crossed, smaller_two_ways
from markbase.core.reading.imputed_cautions import about_imputed
from markbase.core.reading.left_out_words import left_out_words, terms_left_out
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.coefficient_rows import label_of
from markbase.core.results.linear import LinearFit
from markbase.core.results.statements import Reading
from markbase.core.results.stored_fit import StoredFit
from markbase.core.study.column import Column
from markbase.core.study.written_numbers import THOUSANDS
from markbase.core.tables import rows_of
from markbase.show.equation import equation_section
from markbase.show.page import Facts, Page, Row, Section, Sentences, Table
from markbase.show.statistics import coefficients_table, df_words

_MOST_CLUSTERS = 5
_HEAVY = 0.05
"""The share of all weight in one row from which on it is told."""
"""So many clusters are shown, those that weigh most."""


def fit_page(fit: LinearFit) -> Page:
    """Describe a linear fit in seven sections, in the order in which a fit should be read."""
    unit = f" ({fit.outcome.unit_many})" if fit.outcome.unit else ""
    return Page(
        f"{fit.outcome.name}{unit}: linear regression on {count_noun(len(fit.model_terms), 'term')}",
        f"{fit.outcome.label} · {fit.data_name}" if fit.outcome.label else fit.data_name,
        (
            rows_section(fit),
            _whether(fit),
            _how_much(fit),
            _terms(fit),
            Section(
                "5  Which coefficients, against which base",
                f"in {fit.family.scale(fit.outcome)}; a scale for each term, ┊ is 0",
                (coefficients_table(fit),),
            ),
            equation_section("6  ", fit.equation(), fit.fixed_effect_names),
            Section("7  In words", blocks=reading_blocks(fit.reading())),
        ),
    )


def reading_page(reading: Reading) -> Page:
    """Describe a reading."""
    return Page("In words", sections=(Section("", blocks=reading_blocks(reading)),))


_MOST_GUESSED = 12
"""Columns whose guessed kinds are told one by one."""


def rows_section(fit: AnyFit, about: Sequence[tuple[str, str]] = ()) -> Section:
    """Describe which rows a fit used, and why it did not use others; `about` has more facts, each with its label."""
    sample = fit.sample
    left = sample.rows - sample.used
    text = f"{sample.used:,} of {count_noun(sample.rows, 'row')} ({share(sample.used, sample.rows)})"
    guessed = [_guess(c) for c in (fit.outcome, *(v.column for v in fit.variables)) if c.guess]
    if len(guessed) > _MOST_GUESSED:
        kinds = Counter(c.kind for c in (fit.outcome, *(v.column for v in fit.variables)) if c.guess)
        guessed = [f"{count_noun(count, f'{kind} column')}" for kind, count in kinds.items()]
    doubt = [("guessed", f"{', '.join(guessed)}: no codebook says so; declare their kinds")] if guessed else []
    weighed = list(about)
    if fit.weights or fit.possible_weights:
        weighed.append(("weights", weights_words(fit) or unused_words(fit.possible_weights)))
    if fit.retold:
        weighed.append(("told again", fit.retold))
    if isinstance(fit, LinearFit) and fit.fixed_effects:
        weighed.append(("taken out", fit.fixed_effects.words))
    if not left:
        return Section(
            "1  Which rows", blocks=(Facts((("complete cases", f"{text}: every row is complete"), *weighed, *doubt)),)
        )
    named = {fit.outcome.name, *(v.name for v in fit.variables)}
    beside_terms = quoted(dict.fromkeys(loss.column for loss in sample.losses if loss.column not in named))
    where = listed(["the outcome", "a term", *beside_terms], "or")
    facts = [
        ("complete cases", text),
        *weighed,
        *doubt,
        ("excluded (listwise)", f"{count_noun(left, 'row')} with a gap in {where}:"),
    ]
    about_left = [
        ("" if k else "rows left out", words)
        for k, words in enumerate([*filter(None, [left_out_words(fit)]), *terms_left_out(fit)])
    ]
    table = Table(
        ("column", "reason", "rows", "only here"),
        tuple(Row((r.column, r.reason, f"{r.rows:,}", f"{r.only:,}")) for r in rows_of(sample.lost)),
        right=frozenset({2, 3}),
    )
    return Section(
        "1  Which rows",
        "“only here”: no other column would have lost them",
        blocks=(Facts(tuple(facts)), table, *([Facts(tuple(about_left))] if about_left else [])),
    )


def weights_words(fit: AnyFit) -> str:
    """Say what the weights are, and of sampling weights how many rows of equal weight tell as much; empty for none."""
    if not fit.weights:
        return ""
    if fit.weights.kind != "sampling":
        return f"{fit.weights.words}, {fit.rows_used.counted:,} in all"
    rows, most = fit.rows_used.told_as_equal
    heaviest = f", and one row has {as_percent(most)} of all weight" if most >= _HEAVY else ""
    return f"{fit.weights.words}; they tell about as much as {round(rows):,} rows of equal weight (effective sample size, Kish){heaviest}"


def _guess(column: Column) -> str:
    """Say what a column was guessed to be, and how its numbers were read where that is more than reading digits."""
    how = f" ({'; '.join(notes)})" if (notes := [n for n in column.notes if n.startswith(THOUSANDS)]) else ""
    return f"`{column.name}` {column.kind}{how}"


def _whether(fit: LinearFit) -> Section:
    test = fit.overall
    figures = f"{figures_of(test.statistic, test.df, test.df_rest)}, {p_phrase(test.p)}"
    if fit.exact:
        words = f"the terms reproduce `{fit.outcome.name}` exactly, so this test means nothing"
    elif overstated := overstated_words(fit, fit._overstated.get("")):
        words = f"no clear evidence that the terms together tell anything about `{fit.outcome.name}`: {overstated}"
    elif test.p < fit.alpha:
        words = f"together the terms tell something about `{fit.outcome.name}`"
    else:
        words = f"no clear evidence that the terms together tell anything about `{fit.outcome.name}`"
    if fit.fixed_effect_names:
        words += f", within levels of {listed(quoted(fit.fixed_effect_names))}"
    if math.isnan(test.statistic):
        words = f"not tested: {test.untested or 'no test could be computed'}"
    return Section("2  Does the model say anything", blocks=(Facts(((figures, words), ("errors", errors_text(fit)))),))


def errors_text(fit: AnyFit) -> str:
    """Say what the standard errors rest on, and what they might."""
    told = [fit.errors.words, *filter(None, [about_crossed(fit)])]
    if fit.possible_cluster and is_hidden(fit, fit.possible_cluster):
        pass  # which is told with its figures
    elif fit.possible_cluster and fit.time is None:
        name = fit.possible_cluster.name
        told.append(f"Rows of one `{name}` may go together: errors clustered by it take that into account")
    elif fit.possible_cluster and fit.possible_cluster.name not in fit.fixed_effect_names:
        name, way = fit.possible_cluster.name, "fixed effects" if isinstance(fit, LinearFit) else "a term"
        told.append(
            f"Rows of one `{name}` may go together at all times, for which they do not allow: its levels as {way} take that out"
        )
    if isinstance(fit, LinearFit) and (uneven := uneven_spread(fit)):
        told.append(uneven)
    told += about_imputed(fit)
    errors = "They" if len(told) == 1 else "These errors"
    told += filter(None, [hidden_words(fit, errors), following_words(fit, errors)])
    return ". ".join(told)


def what_is_read(fit: AnyFit | StoredFit) -> str:
    """Say, below the title of a page that reads a fit, of which data it is, how many rows it used, and what its errors rest on."""
    penalised = "" if isinstance(fit, LinearFit) or not fit.penalty else " · penalised likelihood (Firth)"
    errors = fit.errors.words.replace("`", "")
    if smaller_two_ways(fit):
        errors += ", where clustered one way errors of some coefficients are larger (the fit says which)"
    return f"{what_is_used(fit)} · {errors}{penalised}"


def what_is_used(fit: AnyFit | StoredFit) -> str:
    """Say of which data a fit is, how many rows it used, and by what they count."""
    weights = f" · {fit.weighting.short.replace('`', '')}" if fit.weighting else ""
    return f"{fit.data_name} · {count_noun(fit.sample.used, 'row')}{weights}"


def standardised_section(fit: LinearFit) -> Section:
    """Describe the coefficients in standard deviations of the outcome.

    Numeric columns for one standard deviation of their own, levels as differences.
    """
    rows = []
    for r in rows_of(fit.standardised):
        if r.base:
            rows.append(Row((f"{r.term}: {r.level}", "base", "0", ""), "base"))
            continue
        name = label_of(r.term, r.level)
        size, *ends = value_with_ends(r.estimate, r.low, r.high, max(2, decimals_for((r.high - r.low) / 4, 1)))
        rows.append(Row((name, r.step, size, from_to(*ends))))
    note = "by the standard deviations of these rows, as they are; an indicator is never standardised itself: levels are told as differences"
    heads = ("term", "for", f"sd of {fit.outcome.name}", f"{short(100 * fit.level, 4)}% CI")
    return Section(
        "In standard deviations of the outcome", note, (Table(heads, tuple(rows), frozenset({2, 3}), wide=-1),)
    )


def _how_much(fit: LinearFit) -> Section:
    s = fit.strength
    decimals = decimals_for(fit.outcome_sd, 3)
    unit = fit.outcome.step_many
    pairs = (
        (
            "R²",
            f"{without_zero(s.r2)} of the variation in these rows (adjusted for the number of terms {without_zero(s.r2_adjusted)})"
            + (
                f", the levels of {listed(quoted(fit.fixed_effect_names))} counted in" if fit.fixed_effect_names else ""
            ),
        ),
        *(
            [("R² within", f"{without_zero(s.r2_within)} of what varies within those levels is explained by the terms")]
            if s.r2_within is not None
            else []
        ),
        (
            "residual standard deviation",
            f"{number(s.residual_sd, decimals)} {unit}; with no terms at all it is {number(fit.outcome_sd, decimals)} {unit}",
        ),
    )
    far = s.r2 - s.r2_adjusted
    if far > 0.05 and far > 0.2 * s.r2:
        words = f"R² adjusted is far below R²: {count_noun(fit.moments.rows - fit.rows_over, 'coefficient')} on {fit.rows_used.counted:,} rows explain much by chance alone"
        pairs = (*pairs, ("mind", words))
    return Section("3  How much", blocks=(Facts(pairs),))


def _terms(fit: LinearFit) -> Section:
    clustered = fit.errors.rest_on_few
    beside = "" if clustered else f" and {fit.df_rest}"
    note = f"each given all the others; F on df{beside}; a group is tested as a whole"
    if any(t.kind == "interaction" for t in fit.model_terms):
        note += "; a term inside another is tested at the other's base, or at 0"
    heads: tuple[str, ...] = ("term", "df", "F", "p")
    cells: list[tuple[str, ...]] = [
        (r.term, df_words(r) if clustered else f"{r.df}", number(r.statistic, 2), p_value(r.p))
        for r in rows_of(fit.terms)
    ]
    words: list[tuple[str, str]] = []
    if len(cells) > 1 and not fit.exact:
        heads = (*heads, "part R²", "partial R²")
        cells = [
            (*own, _share(r.part_r2), _share(r.partial_r2)) for own, r in zip(cells, rows_of(fit.terms), strict=True)
        ]
        loses = f"what R²{' within' if fit.fixed_effects else ''} loses without the term"
        words = [
            ("part R²", f"{loses} (squared semipartial correlation); what terms share is in none"),
            ("partial R²", "the same as a share of what the other terms leave unexplained (partial η²)"),
        ]
    words += [(t.name, told) for t in fit.model_terms if (told := overstated_words(fit, fit._overstated.get(t.name)))]
    table = Table(heads, tuple(Row(own) for own in cells), frozenset(range(1, len(heads))))
    return Section("4  Which terms", note, (table, Facts(tuple(words))) if words else (table,))


def _share(value: float) -> str:
    return "" if math.isnan(value) else without_zero(value)


def reading_blocks(reading: Reading) -> tuple[Sentences, ...]:
    """Return sentences, each with its cautions below it."""
    lines = [(s.text, s.cautions) for s in reading.statements]
    lines += [(text, ()) for text in reading.cautions]
    return (Sentences(tuple(lines)),)


def checks_page(checks: Checks) -> Page:
    """Describe the checks of a linear fit: what was looked at, what it means and what would do; then the cases that weigh most."""
    name = str(checks.cases.columns[0])
    decimals = decimals_for(float(checks.cases["fitted"].std() or 1.0), 2)
    digits = [max(4, decimals_for(float(checks.cases[name].max()))) for name in ("leverage", "influence")]
    rows = tuple(
        Row(
            (
                str(r[0]),
                number(r[1], decimals),
                number(r[2], decimals),
                number(r[3], 2),
                *map(number, r[4:6], digits),
                f"{r[6]} by {number(r[7], 2)}" if r[6] else "",
            )
        )
        for r in checks.cases.itertuples(index=False, name=None)
    )
    heads = (name, "observed", "fitted", "residual", "leverage", "influence", "leaving it out moves (se)")
    against = f"; {checks.against}" if checks.against else ""
    table = Table(heads, rows, frozenset({1, 2, 3, 4, 5}), 6)
    return Page(
        f"{checks.outcome}: checks of the fit",
        "figures to think with, not marks to pass",
        (
            findings_section(checks.findings),
            Section(
                "Cases that weigh most", f"residuals standardised; influence is Cook's distance{against}", (table,)
            ),
            *([] if checks.clusters is None else [clusters_section(checks.clusters, checks.against, checks.left_out)]),
        ),
    )


def findings_section(findings: Sequence[Finding]) -> Section:
    """Describe what was looked at, what it means and what would do."""
    lines = []
    for f in findings:
        way = f" What would do: {f.way_on}." if f.way_on else ""
        meaning = f.meaning if f.meaning[0] == "`" else f.meaning[0].upper() + f.meaning[1:]
        lines.append((f"`{f.about}`: {f.figures}. {meaning}.{way}", ()))
    return Section("What was looked at", blocks=(Sentences(tuple(lines)),))


def of_whole(cluster: str) -> str:
    """Say of parts of the rows that whole clusters were put into them; nothing where single rows were."""
    return f", whole levels of {cluster}," if cluster else ""


def clusters_section(table: pd.DataFrame, against: str, what: str, ratios: bool = False) -> Section:
    """Describe which clusters, or members, estimates rest on: of each the coefficient that leaving it out would move most; `against` names the bases."""
    shown = table.head(_MOST_CLUSTERS)
    rows = tuple(
        Row(
            (
                r.cluster,
                f"{r.rows:,}",
                label_of(r.term, r.level),
                *(
                    "–" if math.isnan(v) else number(v, decimals_for(abs(r.estimate) if math.isnan(r.se) else r.se))
                    for v in (r.estimate, r.without)
                ),
                "–" if math.isnan(r.moves) else number(r.moves, 2),
            )
        )
        for r in rows_of(shown)
    )
    heads = ("without", "rows", "moves most", "with it", "without it", "by (se)")
    more = f"{len(shown)} of {len(table):,} {what}s; " if len(shown) < len(table) else ""
    note = f"{more}of each the coefficient that leaving it out would move most, in its standard errors"
    return Section(
        f"Without each {what}",
        note + (" (log odds, by one step of the fit)" if ratios else "") + (f"; {against}" if against else ""),
        (Table(heads, rows, frozenset({1, 3, 4, 5})),),
    )
