"""Checking a logistic fit: whether log odds are straight along numeric columns, calibration, cases, clusters that a result hangs on."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from markbase.core.checks.clusters_left_out import clusters_finding
from markbase.core.checks.linear_checks import LARGE_DISTANCE, case_words, on_exact_rows, unseen_together
from markbase.core.checks.logistic_checks import rows_alone
from markbase.core.checks.rows_in_time import following_by, following_finding
from markbase.core.checks.rows_together import hidden_findings, is_hidden
from markbase.core.checks.some_rows import of_which_rows
from markbase.core.design.terms import levels_against
from markbase.core.diagnostics.calibration_test import CalibrationTest
from markbase.core.diagnostics.log_odds import LogisticChecks
from markbase.core.diagnostics.residuals import Finding
from markbase.core.errors import listed, quoted
from markbase.core.formatting import number, p_phrase, plain, short
from markbase.core.rows.parts import in_parts
from markbase.core.tables import records_of

if TYPE_CHECKING:
    from markbase.core.results.logistic import LogisticFit

_MOST_NAMED = 4
_ROUGH = 0.2
"""A larger share of parts with few rows of one side is said."""
_MOST_WORK = 5e9
"""So many numbers are gone through for the squares of all numeric columns, which takes a minute or so; where there are more they are not tested."""


def check_logistic(fit: LogisticFit, most: int, order: Any = None) -> LogisticChecks:
    """Make the checks of a logistic fit that are not about its classification."""
    numeric = sum(t.kind == "numeric" for t in fit.model_terms)
    much = numeric * fit.sample.used * len(fit.solution.columns) > _MOST_WORK
    some = fit._on_some if much or in_parts(fit.outcome.values) else fit
    lines = None if some is None or (much and some is fit) else some._bends.copy()
    cases = fit.cases(most)
    clusters, on_clusters = clusters_finding(fit)
    calibration = fit.calibration_test()
    findings = [
        *_on_lines(fit, lines, "" if lines is None else of_which_rows(some, fit)),
        _on_calibration(calibration, fit.alpha),
        *([_on_cases(cases)] if len(cases) else []),
        *on_exact_rows(rows_alone(fit), "with a leverage of 1"),
        *on_clusters,
    ]
    if fit.possible_cluster and not is_hidden(fit, fit.possible_cluster):
        findings.append(unseen_together(fit.possible_cluster.name))
    if (found := following_by(fit, order)) is not None:
        findings.append(following_finding(fit, found))
    findings += hidden_findings(fit)
    told = f"{fit.outcome.name} = {fit.event}"
    against = levels_against(fit.model_terms)
    left_out = "cluster" if fit.errors.members is None else "member"
    return LogisticChecks(told, lines, calibration, cases, clusters, tuple(findings), against, fit.event, left_out)


def _on_lines(fit: LogisticFit, lines: pd.DataFrame | None, where: str) -> list[Finding]:
    what = "straight lines"
    if lines is None:
        figures = "not looked at, since every numeric column takes a fit"
        names = [f"`{t.name}`" for t in fit.model_terms if t.kind == "numeric"]
        if not names:
            return []
        shown = listed(names[:_MOST_NAMED] + [f"{len(names) - _MOST_NAMED:,} more"] * (len(names) > _MOST_NAMED))
        means = f"nothing says whether the log odds are straight along {shown}"
        return [Finding(what, figures, means, "add the square of a column to the model")]
    if not len(lines):
        return []
    told = [
        f"`{r['term']}` {_test(r)}, {p_phrase(r['p'])}"
        if np.isfinite(r["statistic"])
        else f"`{r['term']}` not tested, since with its square the model cannot be estimated"
        for r in records_of(lines)
    ]
    figures = "; ".join(told) + where
    bent = lines[lines["p"] < fit.alpha]
    if not len(bent):
        return [Finding(what, figures, "no clear evidence that the log odds bend along any numeric column", "")]
    along = listed([f"`{r['term']}` ({r['bend']})" for r in records_of(bent)])
    means = f"the log odds bend along {along}: one odds ratio a step tells only their average"
    way = f"a square of {listed(quoted(bent['term']), 'or')} (centred first), a logarithm or cutting into groups may fit better; see the calibration too"
    return [Finding(what, figures, means, way)]


def _test(r: Mapping[str, Any]) -> str:
    kind = f"F(1, {plain(r['df_rest'])})" if np.isfinite(r["df_rest"]) else "chi²(1)"
    return f"{kind} = {number(r['statistic'], 2)}"


def _on_calibration(test: CalibrationTest, alpha: float) -> Finding:
    what = "calibration"
    if test.untested:
        return Finding(what, "not tested", test.untested, "")
    rests = (
        f"Hosmer and Lemeshow, {test.groups} parts"
        if test.of == "parts"
        else f"Pearson, {test.groups:,} combinations of the terms"
    )
    figures = f"chi²({test.df:,}) = {number(test.statistic, 2)}, {p_phrase(test.p)} ({rests})"
    if test.few > _ROUGH * test.groups:
        figures += f"; in {test.few} parts fewer than 5 rows of one side are expected, so p is rough"
    if test.p < alpha:
        means = "what happens differs from the probabilities by more than chance"
        way = "see in the calibration where, and by how much (of very many rows little is clear): a curve, an interaction or a term may be missing"
        return Finding(what, figures, means, way)
    return Finding(what, figures, "no clear evidence that what happens differs from the probabilities", "")


def _on_cases(cases: pd.DataFrame) -> Finding:
    first, name = cases.iloc[0], str(cases.columns[0])
    figures = (
        f"largest distance {short(float(first['influence']))} (Pregibon's; {case_words(name, first[name])}), largest residual among these "
        f"{number(float(cases['residual'].abs().max()), 2)}"
    )
    if first["influence"] > LARGE_DISTANCE:
        way = "look whether its row is right; if it is, tell the fit with and without it"
        return Finding("cases", figures, "one case alone moves the fit", way)
    return Finding("cases", figures, "no single case moves the fit by much", "")
