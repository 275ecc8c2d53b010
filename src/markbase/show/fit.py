"""A linear fit in its reading order: rows, whether, how much, which terms, which groups, equation, sentences."""

from __future__ import annotations

import math
from collections.abc import Sequence

from markbase.core.errors import count_noun, listed, quoted
from markbase.core.model.linear import LinearFit
from markbase.core.reading.told import Equation, Reading
from markbase.core.tables import rows_of
from markbase.core.wording import clear_of_zero, decimals_for, number, p_phrase, p_value, share, short, without_zero
from markbase.show.page import Facts, Formula, Page, Row, Section, Sentences, Strip, Table

LEVEL_INDENT = "  "
_SCHEME_NOTES = {"effect": "against the mean", "adjacent": "step by step", "trend": "trends"}


def fit_page(fit: LinearFit) -> Page:
    """Describe a linear fit.

    Parameters
    ----------
    fit : LinearFit
        The fit.

    Returns
    -------
    Page
        Seven sections, in the order in which a fit should be read.
    """
    unit = f" ({fit.outcome.unit_many})" if fit.outcome.unit else ""
    return Page(
        f"{fit.outcome.name}{unit}: linear regression on {count_noun(len(fit.parts), 'term')}",
        f"{fit.outcome.label} · {fit.data_name}" if fit.outcome.label else fit.data_name,
        (
            _rows(fit),
            _whether(fit),
            _how_much(fit),
            _terms(fit),
            _groups(fit),
            Section("6  The equation, complete", blocks=_equation_blocks(fit.equation(), fit.taken_out)),
            Section("7  In words", blocks=_reading_blocks(fit.reading())),
        ),
    )


def equation_page(equation: Equation) -> Page:
    """Describe an equation."""
    return Page(f"The equation of {equation.outcome}", sections=(Section("", blocks=_equation_blocks(equation)),))


def reading_page(reading: Reading) -> Page:
    """Describe a reading."""
    return Page("In words", sections=(Section("", blocks=_reading_blocks(reading)),))


def _rows(fit: LinearFit) -> Section:
    sample = fit.sample
    left = sample.rows - sample.used
    text = f"{sample.used:,} of {count_noun(sample.rows, 'row')} ({share(sample.used, sample.rows)})"
    guessed = [f"`{c.name}` {c.kind}" for c in (fit.outcome, *(t.column for t in fit.parts)) if c.guess]
    doubt = [("guessed", f"{', '.join(guessed)}: no codebook says so; declare their kinds")] if guessed else []
    weighed = [("weights", fit.weights.words)] if fit.weights else []
    weighed += [("taken out", fit.within.words)] if fit.within else []
    if not left:
        return Section("1  Which rows", blocks=(Facts((("used", f"{text}: every row is complete"), *weighed, *doubt)),))
    facts = [
        ("used", text),
        *weighed,
        *doubt,
        ("left out", f"{count_noun(left, 'row')} with a gap in the outcome or a term:"),
    ]
    table = Table(
        ("column", "reason", "rows", "only here"),
        tuple(Row((r.column, r.reason, f"{r.rows:,}", f"{r.only:,}")) for r in rows_of(sample.lost)),
        right=frozenset({2, 3}),
    )
    return Section(
        "1  Which rows",
        "“only here”: no other column would have lost them",
        blocks=(Facts(tuple(facts)), table),
    )


def _whether(fit: LinearFit) -> Section:
    test = fit.overall
    figures = f"F({test.df}, {test.df_rest}) = {number(test.statistic, 2)}, {p_phrase(test.p)}"
    if fit.exact:
        words = f"the terms reproduce `{fit.outcome.name}` exactly, so this test means nothing"
    elif test.p < 1 - fit.level:
        words = f"together the terms tell something about `{fit.outcome.name}`"
    else:
        words = f"no clear evidence that the terms together tell anything about `{fit.outcome.name}`"
    if fit.taken_out:
        words += f", within levels of {listed(quoted(fit.taken_out))}"
    if math.isnan(test.statistic):
        words = "not tested: there are fewer clusters than coefficients"
    return Section("2  Does the model say anything", blocks=(Facts(((figures, words), ("errors", _errors(fit)))),))


def _errors(fit: LinearFit) -> str:
    if not fit.possible_cluster:
        return fit.errors.words
    name = fit.possible_cluster
    return f"{fit.errors.words}. Rows of one `{name}` may go together: clustering by it takes that into account (--cluster {name})"


def standardised_section(fit: LinearFit) -> Section:
    """Describe the coefficients in standard deviations of the outcome.

    Parameters
    ----------
    fit : LinearFit
        The fit.

    Returns
    -------
    Section
        A row a coefficient; amounts for one standard deviation of their own, levels as differences.
    """
    rows = []
    for r in rows_of(fit.standardised):
        if r.base:
            rows.append(Row((f"{r.term}: {r.level}", "base", "0", ""), "base"))
            continue
        name = f"{r.term}: {r.level}" if r.level else r.term
        ends = clear_of_zero(r.low, r.high, 2)
        rows.append(Row((name, r.step, number(r.estimate, 2), f"{number(r.low, ends)} to {number(r.high, ends)}")))
    note = "an indicator is never standardised itself: levels are told as differences"
    heads = ("term", "for", f"sd of {fit.outcome.name}", f"{short(100 * fit.level, 4)}% interval")
    return Section(
        "In standard deviations of the outcome", note, (Table(heads, tuple(rows), frozenset({2, 3}), wide=-1),)
    )


def _how_much(fit: LinearFit) -> Section:
    s = fit.strength
    decimals = decimals_for(fit.outcome_sd, 3)
    unit = fit.outcome.unit_many
    pairs = (
        (
            "R²",
            f"{without_zero(s.r2)} of the variation in these rows (adjusted for the number of terms {without_zero(s.r2_adjusted)})"
            + (f", the levels of {listed(quoted(fit.taken_out))} counted in" if fit.taken_out else ""),
        ),
        *(
            [("R² within", f"{without_zero(s.r2_within)} of what varies within those levels is explained by the terms")]
            if s.r2_within is not None
            else []
        ),
        (
            "typical miss",
            f"{number(s.typical_miss, decimals)} {unit}; with no terms at all it is {number(fit.outcome_sd, decimals)} {unit}",
        ),
    )
    return Section("3  How much", blocks=(Facts(pairs),))


def _terms(fit: LinearFit) -> Section:
    rows = tuple(Row((r.term, f"{r.df}", number(r.statistic, 2), p_value(r.p))) for r in rows_of(fit.terms))
    note = f"each given all the others; F on df and {fit.df_rest}; a group is tested as a whole"
    if any(t.parts for t in fit.parts):
        note += "; a term inside another is tested at the other's base, or at 0"
    return Section("4  Which terms", note, (Table(("term", "df", "F", "p"), rows, frozenset({1, 2, 3})),))


def _groups(fit: LinearFit) -> Section:
    percent = f"{short(100 * fit.level, 4)}%"
    table = fit.coefficients
    rows = [_coefficient(fit, table.iloc[0], "(intercept)", None)]
    for term in fit.parts:
        own = table[table["term"] == term.name]
        left, right = _scale(own["low"].min(), own["high"].max())
        if term.kind != "amount":
            rows.append(
                Row(
                    (term.name, "", "", "", _SCHEME_NOTES.get(term.column.scheme, "") if term.is_group else "", ""),
                    "group",
                )
            )
            rows += [
                _coefficient(fit, row, LEVEL_INDENT + _compared(term.column.scheme, row), (left, right))
                for _, row in own.iterrows()
                if not (term.kind == "cross" and row["base"])  # the bases stand with the groups themselves
            ]
        else:
            label = f"{term.name}, per {term.column.unit_one}" if term.column.unit else term.name
            rows.append(_coefficient(fit, own.iloc[0], label, (left, right)))
    note = f"in {fit.outcome.unit_many} of {fit.outcome.name}; a scale for each term, ┊ is 0"
    heads = ("term, level", "rows", "estimate", "se", f"{percent} interval", "p")
    return Section(
        "5  Which coefficients, against which base",
        note,
        (Table(heads, tuple(rows), frozenset({1, 2, 3, 4, 5}), 0, "lower ┊ higher"),),
    )


def _compared(scheme: str, row) -> str:  # type: ignore[no-untyped-def]
    return f"{row['level']} after {row['against']}" if scheme == "adjacent" else str(row["level"])


def _coefficient(fit: LinearFit, row, label: str, scale: tuple[float, float] | None) -> Row:  # type: ignore[no-untyped-def]
    n = f"{int(row['n']):,}" if row["level"] and (row["against"] or row["base"]) else ""
    if row["base"]:
        strip = Strip(0, 0, 0, *scale, is_base=True) if scale else None
        term = next(t for t in fit.parts if t.name == row["term"])
        chosen = (term.parts[-1] if term.parts else term).column.base
        return Row((label, n, "0", "", "base" if chosen and chosen.chosen else "base, not chosen", ""), "base", strip)
    if math.isnan(row["estimate"]):
        return Row((label, n, "–", "", "no such rows", ""), "aside")
    decimals = decimals_for(float(row["se"])) if not fit.exact else decimals_for(abs(float(row["estimate"])) or 1, 6)
    ends = clear_of_zero(row["low"], row["high"], decimals)
    interval = f"{number(row['low'], ends)} to {number(row['high'], ends)}"
    cells = (
        label,
        n,
        number(row["estimate"], decimals),
        number(row["se"], decimals),
        interval,
        p_value(row["p"]),
    )
    strip = Strip(row["low"], row["estimate"], row["high"], *scale) if scale else None
    return Row(cells, "plain", strip)


def _scale(low: float, high: float) -> tuple[float, float]:
    """Include 0, and leave a little room on the other side of it."""
    low, high = min(low, 0.0), max(high, 0.0)
    room = 0.08 * (high - low) or 1.0
    return (low - room if low < 0 else -room), (high + room if high > 0 else room)


def _equation_blocks(equation: Equation, taken_out: Sequence[str] = ()) -> tuple[Formula | Facts, ...]:
    parts = [f"{equation.outcome} ="]
    for place, part in enumerate(equation.parts):
        negative = part.estimate < 0 or (part.estimate == 0 and math.copysign(1, part.estimate) < 0)
        sign = ("−" if negative else "") if place == 0 else ("− " if negative else "+ ")
        parts.append(f"{sign}{part.shown}{'·' + part.factor if part.factor else ''}")
    facts = [("[group: level]", "is 1 for rows of that level and 0 for others")] if equation.bases else []
    facts += [
        ("base of " + name, f"{base} (no summand of its own: it is part of the first number)")
        if base
        else (name, "every level has a summand, counted from the mean of the levels, which is part of the first number")
        for name, base in equation.bases
    ]
    facts += [
        (name, "taken out: the first number is the mean over the rows of its levels' own starts") for name in taken_out
    ]
    facts.append(("digits", "rounded for reading; `coefficients` and --json hold all of them"))
    return Formula(tuple(parts)), Facts(tuple(facts))


def _reading_blocks(reading: Reading) -> tuple[Sentences, ...]:
    lines = [(s.text, s.cautions) for s in reading.statements]
    lines += [(text, ()) for text in reading.cautions]
    return (Sentences(tuple(lines)),)
