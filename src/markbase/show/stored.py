"""A saved fit, of which no row of the data is known."""

from __future__ import annotations

import math

from markbase.core.errors import count_noun, listed, quoted
from markbase.core.formatting import decimals_for, figures_of, number, p_phrase, p_value, without_zero
from markbase.core.reading.clauses import overstated_words
from markbase.core.reading.cluster_cautions import about_crossed
from markbase.core.results.fit_statistics import LinearStrength, OverallTest
from markbase.core.results.stored_fit import StoredFit
from markbase.core.tables import rows_of
from markbase.show.equation import equation_section
from markbase.show.logistic import pseudo_r2_words
from markbase.show.page import Facts, Page, Row, Section, Table
from markbase.show.statistics import coefficients_table, df_words


def stored_page(fit: StoredFit) -> Page:
    """Describe a saved fit: what it was, its tests, its coefficients and its equation."""
    event = f" = {fit.event}" if fit.family.ratios else ""
    scale = f"odds ratios of {fit.outcome.name}{event}; ┊ is 1"
    if not fit.family.ratios:
        scale = f"in {fit.family.scale(fit.outcome)}; a scale for each term, ┊ is 0"
    note = "each given all the others; a group is tested as a whole"
    if any(t.kind == "interaction" for t in fit.model_terms):
        note += "; a term inside another is tested at the other's base, or at 0"
    return Page(
        f"{fit.outcome.name}{event}: {fit.family.name} regression, a saved fit",
        fit.data_name,
        (
            Section("", blocks=(Facts(_about(fit)),)),
            Section("Which terms", note, (_terms(fit), *_untold(fit))),
            Section("Which coefficients, against which base", scale, (coefficients_table(fit),)),
            equation_section("", fit.equation(), fit.fixed_effect_names),
        ),
    )


def _about(fit: StoredFit) -> tuple[tuple[str, str], ...]:
    facts = [("rows", f"{fit.sample.used:,} of {count_noun(fit.sample.rows, 'row')} of {fit.data_name}")]
    facts += [("weights", fit.weighting.words)] if fit.weighting else []
    facts += [("told again", fit.retold)] if fit.retold else []
    facts.append(("errors", ". ".join(filter(None, (fit.errors.words, about_crossed(fit))))))
    facts += [("penalty", _penalty(fit))] if fit.penalty else []
    if fit.overall is not None and not math.isnan(fit.overall.statistic):
        facts.append(("all terms", _whole(fit, fit.overall)))
    facts += _strength(fit)
    holds = "no rows: it predicts, tells other bases, compares groups and tells slopes, and cannot be fitted again"
    return (*facts, ("holds", holds))


def _whole(fit: StoredFit, test: OverallTest) -> str:
    figures = f"{figures_of(test.statistic, test.df, test.df_rest, test.kind)}, {p_phrase(test.p)}"
    if overstated := overstated_words(fit, fit._overstated.get("")):
        return f"{figures}: {overstated}"
    found = "together the terms tell something about"
    if test.p >= fit.alpha:
        found = "no clear evidence that together the terms tell anything about"
    return f"{figures}: {found} `{fit.outcome.name}`"


def _penalty(fit: StoredFit) -> str:
    words = "penalised likelihood (Firth): intervals and p values are its own"
    if fit.by_wald:
        words += f", but for {listed(quoted(fit.by_wald))}, whose are Wald's: at another base than that of the saved fit the likelihood needs its rows"
    return words


def _strength(fit: StoredFit) -> list[tuple[str, str]]:
    s = fit.strength
    if s is None:
        return []
    if not isinstance(s, LinearStrength):
        whole = f"{number(s.loglik, 2)}; with no terms at all {number(s.loglik_null, 2)}"
        return [("pseudo-R²", pseudo_r2_words(s)), ("log-likelihood", whole)]
    within = ""
    if s.r2_within is not None:
        within = f", within levels of {listed(quoted(fit.fixed_effect_names))} {without_zero(s.r2_within)}"
    spread = f"{number(s.residual_sd, decimals_for(s.residual_sd, 3))} {fit.outcome.step_many}"
    told = f"{without_zero(s.r2)} (adjusted {without_zero(s.r2_adjusted)}{within})"
    return [("R²", told), ("residual standard deviation", spread)]


def _terms(fit: StoredFit) -> Table:
    kind = fit.overall.kind if fit.overall is not None else "F"
    heads: tuple[str, ...] = ("term", "df", "F" if kind == "F" else "chi²", "p")
    table = rows_of(fit.terms)
    rows: list[tuple[str, ...]] = [(r.term, df_words(r), _figure(r.statistic), p_value(r.p)) for r in table]
    if kind == "likelihood ratio":
        heads = (*heads, "Wald chi²", "p")
        rows = [(*own, _figure(r.wald), p_value(r.wald_p)) for own, r in zip(rows, table, strict=True)]
    return Table(heads, tuple(Row(own) for own in rows), frozenset(range(1, len(heads))))


def _untold(fit: StoredFit) -> tuple[Facts, ...]:
    """Say why a likelihood ratio is missing."""
    rows = [r for r in rows_of(fit.terms) if math.isnan(r.statistic) and r.term not in fit.untested]
    lacking = [str(r.term) for r in rows if "wald" in fit.terms]
    if not lacking:
        return ()
    return (
        Facts(
            (
                (
                    "–",
                    f"{listed(quoted(lacking))}: a likelihood ratio at another base than that of the saved fit needs its rows",
                ),
            )
        ),
    )


def _figure(statistic: float) -> str:
    return "–" if math.isnan(statistic) else number(statistic, 2)
