"""A logistic fit in its reading order: rows, whether, how much, which terms, odds, probability, equation, sentences."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Protocol

import pandas as pd

from markbase.core.design.terms import Term
from markbase.core.diagnostics.classification import Classification
from markbase.core.diagnostics.log_odds import LogisticChecks
from markbase.core.errors import count_noun, listed
from markbase.core.formatting import (
    as_percent,
    decimals_for,
    figures_of,
    from_to,
    number,
    p_phrase,
    p_value,
    percentage,
    point_decimals,
    points,
    share,
    short,
    without_zero,
)
from markbase.core.reading.clauses import compared_at
from markbase.core.results.fit_statistics import LogisticStrength
from markbase.core.results.logistic import LogisticFit
from markbase.core.tables import rows_of
from markbase.show.equation import equation_section
from markbase.show.few_of_many import clearest
from markbase.show.fit import clusters_section, errors_text, findings_section, of_whole, reading_blocks, rows_section
from markbase.show.page import LEVEL_INDENT, Facts, Page, Row, Section, Sentences, Strip, Table
from markbase.show.statistics import coefficients_table, df_words, scale_of

_ROUNDING = 1e-9


def logistic_page(fit: LogisticFit) -> Page:
    """Describe a logistic fit in eight sections, in the order in which a fit should be read."""
    return Page(
        f"{fit.outcome.name} = {fit.event}: logistic regression on {count_noun(len(fit.model_terms), 'term')}",
        f"{fit.outcome.label} · {fit.data_name}" if fit.outcome.label else fit.data_name,
        (
            rows_section(fit, _event(fit)),
            _whether(fit),
            _how_much(fit),
            _terms(fit),
            Section(
                "5  Which coefficients, against which base",
                f"odds ratios of {fit.outcome.name} = {fit.event}; ┊ is 1",
                (coefficients_table(fit),),
            ),
            chances_section(fit, str(fit.event)),
            equation_section("7  ", fit.equation()),
            Section("8  In words", blocks=reading_blocks(fit.reading())),
        ),
    )


def _event(fit: LogisticFit) -> list[tuple[str, str]]:
    rows, repeated = fit.rows_used.counted, fit.rows_used.times is not None
    by = " by their frequencies" if repeated else ""
    told = (
        f"`{fit.outcome.name}` = `{fit.event}` in {fit.events:,} of {rows:,} rows used{by} ({share(fit.events, rows)})"
    )
    if fit.weights and not repeated:
        told += f", {as_percent(fit.rate)} by weight"
    return [("event", f"{told}; the other side is `{fit.otherwise}`")]


def _whether(fit: LogisticFit) -> Section:
    test = fit.overall
    figures = f"{figures_of(test.statistic, test.df, test.df_rest, test.kind)}, {p_phrase(test.p)}"
    if math.isnan(test.statistic):
        words = f"not tested: {test.untested or 'no test could be computed'}"
    elif test.p < fit.alpha:
        words = f"together the terms tell something about `{fit.outcome.name}`"
    else:
        words = f"no clear evidence that the terms together tell anything about `{fit.outcome.name}`"
    facts = [(figures, words), ("errors", errors_text(fit))]
    if fit.penalty:
        facts[1] = ("penalty", "penalised likelihood (Firth): intervals and p values are its own")
    if not fit.converged:
        facts.append(("steps", f"{fit.status}: rounding kept the last steps from gaining; read fewer digits"))
    return Section("2  Does the model say anything", blocks=(Facts(tuple(facts)),))


def _how_much(fit: LogisticFit) -> Section:
    s, sorted_ = fit.strength, fit.classification()
    area = f"{_area(sorted_)}; .5 is no better than a coin"
    taken = "; both as if rows were independent, so no test here rests on them" * (not fit.by_likelihood)
    facts = (
        ("pseudo-R²", pseudo_r2_words(s)),
        ("log-likelihood", f"{number(s.loglik, 2)}; with no terms at all {number(s.loglik_null, 2)}{taken}"),
        ("classification", classification_text(sorted_)),
        ("area under the curve", area),
    )
    return Section(
        "3  How much", "in the rows the model was fitted to, and better than for others", blocks=(Facts(facts),)
    )


def pseudo_r2_words(s: LogisticStrength) -> str:
    """Tell every pseudo-R²."""
    named = {"Tjur": s.tjur, "McFadden": s.mcfadden, "Cox and Snell": s.cox_snell, "Nagelkerke": s.nagelkerke}
    told = ", ".join(f"{name} {without_zero(value)}" for name, value in named.items())
    return f"{told}: none is a share of variation"


def _area(c: Classification) -> str:
    """Tell the area under the curve with its interval, and how far it may be off where rows come in parts."""
    allowing = f", allowing for {c.allows_for}" if c.allows_for else ""
    ends = f"{without_zero(c.area_low)} to {without_zero(c.area_high)}{allowing}"
    told = f"{without_zero(c.area)} ({'rows are too few for an interval' if math.isnan(c.area_low) else ends})"
    if not c.area_within >= 0.0005:  # what is shown has three digits
        return told
    return f"{told}, each to within {without_zero(c.area_within, 4)}, as rows of nearly equal probability count as ties"


def classification_text(c: Classification) -> str:
    """Say how many rows are classified correctly, beside guessing."""
    gain = c.correct - c.guess
    beside = (
        f"{points(gain)} percentage points {'more' if gain > 0 else 'fewer'} than"
        if abs(gain) > _ROUNDING
        else "no more than"
    )
    return (
        f"with a cut at {short(c.cut)}, {as_percent(c.correct)} of rows are classified correctly, {beside} always guessing "
        f"`{c.commoner}` ({as_percent(c.guess)}); of those with `{c.event}` {as_percent(c.sensitivity)}, of the others "
        f"{as_percent(c.specificity)}"
    )


def _terms(fit: LogisticFit) -> Section:
    rows = tuple(
        Row((r.term, df_words(r), number(r.statistic, 2), p_value(r.p), number(r.wald, 2), p_value(r.wald_p)))
        for r in rows_of(fit.terms)
    )
    name = f"chi² ({fit.overall.kind})" if math.isinf(fit.df_rest) else "F (Wald's)"
    note = f"each given all the others; {name} on df; a group is tested as a whole"
    if any(t.kind == "interaction" for t in fit.model_terms):
        note += "; a term inside another is tested at the other's base, or at 0"
    heads: tuple[str, ...] = ("term", "df", "chi²", "p", "Wald chi²", "p")
    right = frozenset({1, 2, 3, 4, 5})
    if not fit.by_likelihood:
        statistic = "chi²" if math.isinf(fit.df_rest) else "F"
        heads, rows = ("term", "df", statistic, "p"), tuple(Row(r.cells[:4]) for r in rows)
        right = frozenset({1, 2, 3})
    return Section("4  Which terms", note, (Table(heads, rows, right),))


class Averaged(Protocol):
    """What has average marginal effects to be laid out: a fit, or several combined."""

    @property
    def marginal(self) -> pd.DataFrame:
        """The effects."""
        ...

    @property
    def model_terms(self) -> Sequence[Term]:
        """The terms of the model."""
        ...

    @property
    def level(self) -> float:
        """Confidence level of the intervals."""
        ...

    def groups(self, group: str) -> pd.DataFrame:
        """Return the adjusted probability of each level of a group."""
        ...

    def not_averaged(self, group: str) -> str:
        """Say why the levels of a group have none; empty where they have."""
        ...


def chances_section(fit: Averaged, event: str, rows_are: str = "these rows") -> Section:
    """Average marginal effects, in percentage points, with the adjusted probability of each level."""
    table, rows = fit.marginal, []
    for name in dict.fromkeys(table["term"]):
        own = table[table["term"] == name]
        scale = scale_of(float(own["low"].min()), float(own["high"].max()))
        levels = own["level"].iloc[0] != ""
        if levels and fit.not_averaged(str(name)):
            rows.append(Row((str(name), "", "–", "not averaged: empty combinations", ""), "aside"))
            continue
        if levels:
            rows.append(Row((str(name), "", "", "", ""), "group"))
            adjusted = fit.groups(str(name)).set_index("level")["adjusted"]
        column = next(p.column for t in fit.model_terms for p in t.variables if p.name == name)
        listed_of, others = clearest(rows_of(own))
        for r in listed_of:
            strip = Strip(float(r.low), float(r.effect), float(r.high), *scale, is_base=bool(r.base))
            label = LEVEL_INDENT + str(r.level) if levels else f"{name}, {compared_at(column)}"
            chance = as_percent(float(adjusted[r.level])) if levels else ""
            if r.base:
                rows.append(Row((label, chance, "0", "base", ""), "base", strip))
                continue
            if not math.isfinite(r.se):
                known = math.isfinite(r.effect)
                words = "no standard error" if known else "no finite average"
                effect = number(100 * r.effect, 2) if known else "–"
                rows.append(Row((label, chance, effect, words, ""), "aside"))
                continue
            decimals = point_decimals(100 * r.low, 100 * r.high, r.se)
            figures = [number(100 * v, decimals) for v in (r.effect, r.low, r.high)]
            rows.append(Row((label, chance, figures[0], from_to(figures[1], figures[2]), p_value(r.p)), "plain", strip))
        rows += [Row((others, "", "", "", ""), "aside")] if others else []
    percent = f"{short(100 * fit.level, 4)}%"
    heads = ("term, level", "probability", "points", f"{percent} CI", "p")
    note = f"of {event}, averaged over {rows_are}; percentage points (delta method)"
    return Section(
        "6  In probability", note, (Table(heads, tuple(rows), frozenset({1, 2, 3, 4}), 0, "lower ┊ higher"),)
    )


def classification_page(c: Classification) -> Page:
    """Describe a classification in the rows of the fit, and in rows held out if there are any."""
    sections = [_classified(c, "In the rows the model was fitted to", "and better than it will be for others")]
    if c.held_out is not None:
        h = c.held_out
        note = f"each of {h.folds} parts{of_whole(h.cluster)} predicted by a fit to the others"
        if h.left_out:
            note += f"; {count_noun(h.left_out, 'row')} left out, whose level occurs in no other part"
        sections.append(_classified(h, "In rows the model had not seen", note))
    return Page(f"{c.outcome} = {c.event}: sorted by probability", sections=tuple(sections))


def _classified(c: Classification, title: str, note: str) -> Section:
    labels = [c.event, c.otherwise]
    rows = []
    for observed in labels:
        counts = [float(c.table.loc[observed, guess]) for guess in labels]  # type: ignore[arg-type]
        right = counts[labels.index(observed)]
        shown = [number(v, 0) for v in counts]
        rows.append(Row((f"{c.outcome} is {observed}", *shown, f"{share(right, sum(counts))}")))
    heads = ("observed", *(f"predicted {v}" for v in labels), "classified correctly")
    facts = (
        ("classification", classification_text(c)),
        ("area under the curve", _area(c)),
    )
    return Section(title, note, (Table(heads, tuple(rows), frozenset({1, 2, 3})), Facts(facts)))


def calibration_section(fit: LogisticFit) -> Section:
    """Describe whether predicted probabilities are what happens, in parts of rising probability."""
    percent = f"{short(100 * fit.level, 4)}%"
    rows = [
        Row(
            (
                from_to(percentage(r.lowest), percentage(r.highest)),
                f"{r.n:,}",
                percentage(r.predicted),
                percentage(r.observed),
                from_to(percentage(r.low), percentage(r.high)),
            )
        )
        for r in rows_of(fit.calibration())
    ]
    heads = ("probability, %", "n", "predicted, %", "observed, %", f"{percent} CI of the observed")
    note = f"in parts of rising probability of {fit.event}, in the rows the model was fitted to"
    drawn = fit.errors.drawn.replace("`", "")
    allowed = [drawn, "sampling weights" if fit.weights and fit.weights.kind == "sampling" else ""]
    if any(allowed):
        note += f"; intervals allow for {listed([a for a in allowed if a])}"
    return Section("Calibration", note, (Table(heads, tuple(rows), frozenset({0, 1, 2, 3, 4})),))


def logistic_checks_page(checks: LogisticChecks) -> Page:
    """Describe the checks of a logistic fit: what was looked at, what it means and what would do; then cases, and clusters."""
    found = (
        []
        if checks.clusters is None
        else [clusters_section(checks.clusters, checks.against, checks.left_out, ratios=True)]
    )
    return Page(
        f"{checks.outcome}: checks of the fit",
        "figures to think with, not marks to pass",
        (findings_section(checks.findings), cases_section(checks.event, checks.cases), *found),
    )


def cases_section(event: str, table: pd.DataFrame) -> Section:
    """Describe cases that weigh most, as the `cases` of a fit returned them."""
    name = str(table.columns[0])
    digits = [max(4, decimals_for(float(table[name].max()))) for name in ("leverage", "influence")]
    rows = tuple(
        Row((str(r[0]), str(r[1]), as_percent(r[2]), number(r[3], 2), *map(number, r[4:6], digits)))
        for r in table.itertuples(index=False, name=None)
    )
    heads = (name, "observed", f"probability of {event}", "residual", "leverage", "influence")
    text = (
        "Influence is about what leaving the case out would move, over all coefficients; above 1 is much. A large residual is somebody the "
        "model did not expect: look whether the row is right before leaving it out, and say so if you do."
    )
    blocks = (Table(heads, rows, frozenset({2, 3, 4, 5})), Sentences(((text, ()),)))
    return Section("Cases that weigh most", blocks=blocks)
