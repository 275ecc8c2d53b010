"""That a term has hardly anything of its own, where its coefficient is told with the others held equal."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

from markbase.core.formatting import number, short
from markbase.core.reading.averages import within_others
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.linear import LinearFit
from markbase.core.results.statements import Statement
from markbase.core.screening.rounded_parts import rounded_parts
from markbase.core.screening.screen import screen_fit
from markbase.core.screening.variance_inflation import Basis, variance_inflation
from markbase.core.tables import rows_of

_LIMIT = 10.0
"""A variance inflation factor that every textbook calls large."""


def beside_inflation(fit: AnyFit, statements: Sequence[Statement]) -> tuple[list[Statement], list[str]]:
    """Put what is said of a term's inflation below the first sentence about it; return the sentences, and what is said of several terms.

    Those with a variance inflation of 10 or more (of a logistic fit, that of the columns as its curvature weighs them); not curves,
    interactions, what they are made of, and columns made of one another, which are large by construction and read together.
    """
    cautions = _cautions(fit)
    columns = [t.column for t in fit.model_terms if t.name in cautions and t.kind == "numeric"]
    rounded, told = [found.statement for found in rounded_parts(columns, fit.used)], []
    for statement in statements:
        caution = cautions.pop(statement.term, "")
        told.append(statement.with_caution(caution) if caution else statement)
    return told, rounded


def _cautions(fit: AnyFit) -> dict[str, str]:
    """Return what is said of each term with large standard errors, by its name."""
    terms = {t.name: t for t in fit.model_terms if t.kind in ("numeric", "categorical")}
    of = {name: {name, *(t.column.made.of if t.column.made else ())} for name, t in terms.items()}
    made = {name for name in of if any(of[name] & of[other] for other in of if other != name)}
    plain = set(terms) - within_others(fit) - made
    told: dict[str, str] = {}
    if not plain or len(fit.model_terms) < 2:
        return told
    large = [r for r in _inflation(fit) if r.term in plain and math.sqrt(_LIMIT) <= r.comparable < math.inf]
    tests = {str(r.term): float(r.p) for r in rows_of(fit.terms)} if large else {}
    about = "" if fit.errors.kind == "classical" else "about "
    for row in large:
        several = row.df > 1
        size = "" if several else f" (VIF {number(row.gvif, 0 if row.gvif >= 100 else 1)})"
        text = (
            f"{'Its standard errors are' if several else 'Its standard error is'} {about}{short(row.comparable)} times what {'they' if several else 'it'} would be "
            f"with nothing in common with the other terms{size}"
        )
        if not fit._judged(row.term, tests[row.term]) < fit.alpha:
            text += ": that it is not clear does not say that nothing is there"
        told[str(row.term)] = f"{text}. Screening says with which terms."
    return told


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
