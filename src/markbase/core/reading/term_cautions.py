"""What is said of a term as it stands among the others: that it has hardly anything of its own, or noise in it."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from markbase.core.checks.negative_weights import negative_weights
from markbase.core.checks.within_clusters import mixed_slopes
from markbase.core.formatting import number, short
from markbase.core.reading.averages import within_others
from markbase.core.reading.cluster_cautions import about_mixture, about_weights
from markbase.core.reading.line_cautions import about_before_and_after, about_cut, about_none, about_product
from markbase.core.reading.scale_cautions import about_noise
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.linear import LinearFit
from markbase.core.results.statements import Statement
from markbase.core.screening.rounded_parts import rounded_parts
from markbase.core.screening.screen import screen_fit
from markbase.core.screening.variance_inflation import Basis, variance_inflation
from markbase.core.tables import rows_of

_LIMIT = 10.0
"""A variance inflation factor that every textbook calls large."""


def beside_terms(fit: AnyFit, statements: Sequence[Statement]) -> tuple[list[Statement], list[str]]:
    """Put what is said of a term as it stands among the others below the first sentence about it; return the sentences, and what is said of several terms.

    Of curves, interactions, what they are made of, and columns made of one another, which are read together, only that an interaction of two stands
    in for a curve.
    """
    terms = {t.name: t for t in fit.model_terms if t.kind in ("numeric", "categorical")}
    of = {name: {name, *(t.column.made.of if t.column.made else ())} for name, t in terms.items()}
    made = {name for name in of if any(of[name] & of[other] for other in of if other != name)}
    plain = set(terms) - within_others(fit) - made
    cautions: dict[str, list[str]] = {}
    for row in _inflation(fit) if plain else ():
        if row.term in plain and row.comparable < math.inf:
            term = terms[row.term]
            if term.is_categorical:
                own = [*about_cut(fit, term), *about_before_and_after(fit, term)]
            else:
                own = [*about_noise(fit, term.column, 1 - 1 / row.gvif), *about_none(fit, term)]
            cautions[row.term] = [*_about_inflation(fit, row), *own]
    columns = [terms[name].column for name, told in cautions.items() if told and terms[name].kind == "numeric"]
    rounded = [found.statement for found in rounded_parts(columns, fit.used)]
    for term in (t for t in fit.model_terms if len(t.names) == 2):
        cautions[term.name] = about_product(fit, term)
    for name, mixed in mixed_slopes(fit, plain).items():
        cautions[name] = [*cautions.get(name, ()), *about_mixture(fit, terms[name], mixed)]
    for name, weighed in negative_weights(fit, set(terms)).items():
        cautions[name] = [*cautions.get(name, ()), *about_weights(terms[name], weighed)]
    return [replace(s, cautions=(*s.cautions, *cautions.pop(s.term, ()))) for s in statements], rounded


def _about_inflation(fit: AnyFit, row: Any) -> list[str]:
    """Say how much larger the standard errors of a term are than they would be alone, where its variance inflation is 10 or more.

    Of a logistic fit it is that of the columns as its curvature weighs them.
    """
    if row.comparable < math.sqrt(_LIMIT):
        return []
    p = next(float(r.p) for r in rows_of(fit.terms) if r.term == row.term)
    about = "" if fit.errors.kind == "classical" else "about "
    several = row.df > 1
    size = "" if several else f" (VIF {number(row.gvif, 0 if row.gvif >= 100 else 1)})"
    text = (
        f"{'Its standard errors are' if several else 'Its standard error is'} {about}{short(row.comparable)} times what {'they' if several else 'it'} would be "
        f"with nothing in common with the other terms{size}"
    )
    if fit._judged(row.term, p) >= fit.alpha:
        text += ": that it is not clear does not say that nothing is there"
    return [f"{text}. Screening says with which terms."]


def _inflation(fit: AnyFit) -> list[Any]:
    """Return the rows of the variance inflation of the terms of a fit; none where it has no such thing."""
    if isinstance(fit, LinearFit):
        return [] if fit.exact else rows_of(screen_fit(fit).terms)
    moments = fit.passed.moments
    if moments is None or any(t.kind not in ("numeric", "categorical") for t in fit.model_terms):
        return []
    moments = moments.only([*range(len(moments.sizes)), 0])  # where a screening has an outcome
    basis = Basis(moments, (), fit.model_terms, fit.used, fit.sample.rows, solved=fit.solution)
    return rows_of(variance_inflation(basis).terms)
