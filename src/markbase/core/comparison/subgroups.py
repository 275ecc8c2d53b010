"""The same model in each level of a group, and whether its coefficients differ between them.

References
----------
Chow (1960), "Tests of equality between sets of coefficients in two linear regressions", Econometrica 28(3), 591-605, doi:10.2307/1910133.
Gelman & Stern (2006), "The difference between 'significant' and 'not significant' is not itself statistically significant", The American
Statistician 60(4), 328-331, doi:10.1198/000313006X152649. Allison (1999), "Comparing logit and probit coefficients across groups", Sociological Methods
& Research 28(2), 186-208, doi:10.1177/0049124199028002003. Mood (2010), European Sociological Review 26(1), 67-82, doi:10.1093/esr/jcp006.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
import pandas as pd

from markbase.core.arguments import checked
from markbase.core.design.fit_options import KINDS
from markbase.core.design.requested_terms import (
    AllBut,
    TermRequest,
    degrees_of,
    read_term,
    request_name,
    request_of,
)
from markbase.core.display import ShownTables
from markbase.core.errors import (
    ColumnError,
    FitError,
    MarkbaseError,
    count_noun,
    listed,
    near,
    quoted,
    without_remarks,
)
from markbase.core.formatting import figures_of, p_phrase
from markbase.core.inference.distributions import p_of_f
from markbase.core.inference.joint_tests import JointTest
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.coefficient_rows import label_of
from markbase.core.results.fit_linear import fit_linear
from markbase.core.results.fit_logistic import fit_logistic
from markbase.core.results.linear import LinearFit
from markbase.core.results.logistic import LogisticFit
from markbase.core.study.column import Column
from markbase.core.study.few_levels import check_few_levels
from markbase.core.study.frames import AnyTable
from markbase.core.study.same_bases import with_one_base
from markbase.core.study.study import Study, as_study
from markbase.core.tables import own_table, records_of, rows_of

_MOST_FACTORS = 3
"""An interaction is of so many columns at most."""
_MOST_NAMED = 5
"""So many coefficients are named that are clear in some levels alone."""


@dataclass(frozen=True, eq=False, repr=False)
class Subgroups(ShownTables):
    """One model, fitted in each level of a group by itself."""

    by: Column
    """The group."""
    fits: Mapping[str, AnyFit]
    """A fit for each level, by its label, in the order of the levels."""
    counts: Mapping[str, int]
    """The rows of each level that has some, used or not."""
    rows: int
    """The rows of the data."""
    refused: Mapping[str, str]
    """Levels in which the model cannot be fitted, each with the reason."""
    left_out: tuple[str, ...]
    """Terms that were asked for and are made of the group alone, which is the same in all rows of a level."""
    bases: Mapping[str, str]
    """The bases that nobody chose, by the names of their groups: the largest level of all rows, the same in every level."""
    pooled: AnyFit | None
    """One fit to all of these rows in which everything differs by the group; None where it cannot be had."""
    untold: str
    """Why it cannot be had; empty where it can."""

    @own_table
    def estimates(self) -> pd.DataFrame:
        """`group` (the level), and then what `coefficients` of its fit has: `term`, `level`, `base`, `estimate`, `se` and so on."""
        return pd.concat(
            [
                fit.coefficients.assign(group=label)[["group", *fit.coefficients.columns]]
                for label, fit in self.fits.items()
            ],
            ignore_index=True,
        )

    @own_table
    def probabilities(self) -> pd.DataFrame:
        """`group`, and then what `marginal` of a logistic fit has: by how much the probability of the event is higher, averaged over the rows of the level."""
        found = [fit.marginal.assign(group=label) for label, fit in self.fits.items() if isinstance(fit, LogisticFit)]
        return pd.concat(found, ignore_index=True) if found else pd.DataFrame(columns=["group"])

    @own_table
    def strength(self) -> pd.DataFrame:
        """One row a level: `group`, `rows`, and `r2`, `r2_adjusted`, `residual_sd` of linear fits, `events`, `mcfadden`, `tjur` of logistic ones."""
        rows = []
        for label, fit in self.fits.items():
            told = {"group": label, "rows": fit.rows_used.counted}
            if isinstance(fit, LinearFit):
                told |= {
                    "r2": fit.strength.r2,
                    "r2_adjusted": fit.strength.r2_adjusted,
                    "residual_sd": fit.strength.residual_sd,
                }
            else:
                told |= {"events": fit.events, "mcfadden": fit.strength.mcfadden, "tjur": fit.strength.tjur}
            rows.append(told)
        return pd.DataFrame(rows)

    @own_table
    def tests(self) -> pd.DataFrame:
        """Whether the coefficients of each term are the same in all levels: `term`, `df`, `df_rest`, `statistic`, `p`; the last row is of all terms together.

        By the one fit to all rows, in which each term is in an interaction with the group: F, or the chi-squared of the likelihood ratio, or Wald's.
        """
        columns = ["term", "df", "df_rest", "statistic", "p"]
        if self.pooled is None:
            return pd.DataFrame(columns=columns)
        rows = [
            {**{c: row[c] for c in columns}, "term": self._differing[row["term"]]}
            for row in records_of(self.pooled.terms)
            if row["term"] in self._differing
        ]
        if len(rows) > 1:
            rows.append({"term": "(all together)", **self._together(self.pooled)})
        return pd.DataFrame(rows, columns=columns)

    def _together(self, pooled: AnyFit) -> dict[str, float]:
        terms = [t for t in pooled.model_terms if t.name in self._differing]
        test = self._whole
        told = pooled._as_overall(test)
        if isinstance(pooled, LogisticFit) and pooled.by_likelihood and not test.untested:
            statistic = float(pooled.ratios.falls_of([pooled.term_tests.selected(terms)])[0])
            return {
                "df": test.df,
                "df_rest": math.inf,
                "statistic": statistic,
                "p": float(p_of_f(statistic / test.df, test.df, math.inf)),
            }
        return {"df": told.df, "df_rest": test.df_rest, "statistic": told.statistic, "p": told.p}

    @cached_property
    def _whole(self) -> JointTest:
        """Wald's test that no coefficient differs."""
        assert self.pooled is not None
        return self.pooled.term_tests.of_columns([t for t in self.pooled.model_terms if t.name in self._differing])

    @cached_property
    def _differing(self) -> dict[str, str]:
        """The terms of the pooled fit that are in an interaction with the group, each with the name of what differs."""
        assert self.pooled is not None
        found = {}
        for term in self.pooled.model_terms:
            if self.by.name in term.names and len(term.names) > 1:
                within = next(t for t in self.pooled.model_terms if {*t.names} == {*term.names} - {self.by.name})
                found[term.name] = within.name
        return found

    @property
    def statements(self) -> tuple[str, ...]:
        """What the tables say, and what must be known with it, a sentence each."""
        told = (
            self._on_tests()
            if self.pooled is not None
            else [f"Whether coefficients differ between the levels is not tested: {self.untold.rstrip('.')}."]
        )
        told += self._on_verdicts()
        if self.bases:
            which = listed([f"`{base}` of `{name}`" for name, base in self.bases.items()])
            one = len(self.bases) == 1
            told.append(
                f"The base {which} was not chosen: it is the largest level of all rows. Mark the one your question needs."
                if one
                else f"The bases {which} were not chosen: each is the largest level of all rows. Mark those your question needs."
            )
        if any(isinstance(fit, LogisticFit) for fit in self.fits.values()):
            told.append(
                "Log odds and odds ratios of different rows differ also where what the model leaves out varies more in some of them, though each is right for its own rows (Allison 1999, Mood 2010): "
                "where it matters, compare what they come to in probability."
            )
        told.append(
            "These are associations in the rows of each level; a coefficient does not say what would happen if a value were changed."
        )
        return tuple(told)

    def _on_tests(self) -> list[str]:
        assert self.pooled is not None
        alpha, rows = self.pooled.alpha, list(records_of(self.tests))
        told = []
        judged = {name: self._judged(name) for name in self._differing.values()}
        clear = [row for row in rows[: len(judged)] if judged[row["term"]] < alpha]
        rest = [row for row in rows[: len(judged)] if row not in clear and not math.isnan(row["p"])]
        if len(rows) > len(judged):
            whole = rows[-1]
            together = whole["p"] < alpha
            told.append(
                f"All coefficients together are not tested: {self._whole.untested}."
                if self._whole.untested
                else f"Taken together, the coefficients {'differ' if together else 'show no clear evidence of differing'} between the levels of `{self.by.name}` ({self._figures(whole)})."
            )
            if clear and not together and not self._whole.untested:
                told.append(
                    f"{count_noun(len(clear), 'clear term')} among {len(judged)} is weak evidence while all of them together are not."
                )
        told += [
            f"The coefficients of `{row['term']}` differ between the levels of `{self.by.name}` ({self._figures(row)})."
            for row in clear
        ]
        if rest:
            figures = listed([f"`{row['term']}` {p_phrase(row['p'])}" for row in rest])
            told.append(f"No clear evidence of a difference between the levels: {figures}.")
        return told

    def _judged(self, name: str) -> float:
        """Return p of the test of a term as sentences judge it, which robust errors of few rows may overstate."""
        assert self.pooled is not None
        term = next(term for term, own in self._differing.items() if own == name)
        return self.pooled._judged(term, {str(r.term): float(r.p) for r in rows_of(self.tests)}[name])

    def _figures(self, row: Mapping[str, Any]) -> str:
        kind = "" if self.pooled is None or isinstance(self.pooled, LinearFit) or self.pooled.by_likelihood else "Wald"
        return f"{figures_of(row['statistic'], row['df'], row['df_rest'], kind)}, {p_phrase(row['p'])}"

    def _on_verdicts(self) -> list[str]:
        """Say of coefficients that are clear in some levels and not in others that this alone is no difference."""
        if self.pooled is None:
            return []
        alpha, tests = self.pooled.alpha, {row["term"]: row["p"] for row in records_of(self.tests)}
        verdicts: dict[tuple[str, str], dict[str, bool]] = {}
        for row in rows_of(self.estimates):
            if row.term in tests and not row.base and not math.isnan(row.p):
                verdicts.setdefault((row.term, row.level), {})[row.group] = row.p < alpha
        told = []
        for (term, level), own in verdicts.items():
            clear, unclear = (
                [label for label, is_clear in own.items() if is_clear == wanted] for wanted in (True, False)
            )
            if clear and unclear and not self._judged(term) < alpha:
                told.append(f"`{label_of(term, level)}` ({listed(quoted(clear))}, not {listed(quoted(unclear), 'or')})")
        if not told:
            return []
        others = len(told) - _MOST_NAMED
        which = listed(told if others <= 0 else [*told[:_MOST_NAMED], count_noun(others, "other")])
        return [
            f"Clear in some levels and not in others, which is no evidence that these differ: {which}. Whether they do is what the tests say."
        ]


@checked
def fit_subgroups(
    study: Study | AnyTable,
    outcome: str,
    terms: Sequence[TermRequest] | AllBut,
    by: str,
    *,
    kind: str = "linear",
    **settings: Any,
) -> Subgroups:
    """Fit the same model in each level of a group by itself, and test whether its coefficients differ between the levels.

    Parameters
    ----------
    study : Study, or a table
        The data, with the base of each group marked. A table (pandas, Polars, Arrow, DuckDB) is taken as a study without a codebook.
    outcome : str
        The name of the outcome.
    terms : sequence of str, Polynomial or Interaction, or AllBut
        The terms of the model. What is made of `by` alone is left out, as it is the same in all rows of a level.
    by : str
        A group of two to twelve levels with rows: men and women, countries, waves.
    kind : str
        ``linear`` or ``logistic``.
    **settings
        As for `fit_linear` or `fit_logistic`: `level`, `errors`, `cluster`, `strata`, `weights`, `weights_are`; `fixed_effects` or `event`, `penalty`.

    Returns
    -------
    Subgroups
        A fit for each level (`fits`), `estimates`, `strength`, `tests` (whether the coefficients of each term differ between the levels), and
        `statements`; print it to read it.

    Raises
    ------
    MarkbaseError
        If there is no such kind of regression, or no term is left.
    ColumnError
        If there is no such group, or it is numeric.
    LevelError
        If fewer than two or more than twelve of its levels have rows.
    FitError
        If the model can be fitted in fewer than two levels.

    Notes
    -----
    Estimates and errors of a level are those of its own rows alone. Whether they differ is told by one fit to the rows of all levels in which every
    term is in an interaction with the group: its estimates are the same. With `fixed_effects` there is none. Where the fits have classical errors it has HC3
    errors, since each level has a residual variance of its own; clusters that have rows in several levels are allowed for.

    References
    ----------
    G. C. Chow (1960), "Tests of equality between sets of coefficients in two linear regressions", Econometrica 28(3), 591-605.

    Examples
    --------
    >>> import markbase as mb
    >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
    >>> found = mb.fit_subgroups(study, "belonging", ["age", "rehearsals"], by="voice")
    >>> found.tests["term"].tolist()
    ['age', 'rehearsals', '(all together)']
    """
    study = as_study(study)
    if kind not in KINDS:
        raise MarkbaseError(f"There is no kind {kind!r} of regression.{near(str(kind), KINDS)}")
    if outcome == by:
        raise ColumnError(f"`{by}` is the outcome, and no group to fit by.")
    group = study.column(by)
    check_few_levels(group, "fits are made")
    wanted = terms.chosen(study, outcome) if isinstance(terms, AllBut) else terms
    requests = [read_term(term, study.columns) for term in wanted]
    within, left = _within(requests, by)
    if not within:
        raise MarkbaseError(f"There is no term to fit within the levels of `{by}`; give others beside it.")
    study, bases = with_one_base(study, dict.fromkeys(name for request in within for name in degrees_of(request)))
    fit = fit_linear if kind == "linear" else fit_logistic
    fits: dict[str, AnyFit] = {}
    refused: dict[str, str] = {}
    here = [k for k, n in enumerate(group.counts) if n]
    for label in (group.labels[k] for k in here):
        try:
            with without_remarks():
                fits[label] = fit(study.keep({by: {"is": label}}), outcome, within, **settings)
        except FitError as problem:
            refused[label] = str(problem)
    if len(fits) < 2:
        label, why = next(iter(refused.items()))
        raise FitError(
            f"The model can be fitted in {count_noun(len(fits), 'level')} of `{by}`, and needs two. In `{label}`: {why}"
        )
    pooled, untold = _pooled(study, outcome, within, by, list(fits), kind, settings)
    counts = {group.labels[k]: int(group.counts[k]) for k in here}
    return Subgroups(group, fits, counts, study.rows, refused, left, bases, pooled, untold)


def _within(requests: Sequence[TermRequest], by: str) -> tuple[list[TermRequest], tuple[str, ...]]:
    """Return the terms of a model within a level of a group, of interactions what is left of them; and the terms made of the group alone."""
    found: dict[frozenset[str], TermRequest] = {}
    left = []
    for request in requests:
        degrees = {name: degree for name, degree in degrees_of(request).items() if name != by}
        if not degrees:
            left.append(request_name(request))
            continue
        same = found.get(frozenset(degrees))
        if same is None or max(degrees.values()) > max(degrees_of(same).values()):
            found[frozenset(degrees)] = request_of(degrees)
    return list(found.values()), tuple(left)


def _pooled(
    study: Study,
    outcome: str,
    within: Sequence[TermRequest],
    by: str,
    labels: Sequence[str],
    kind: str,
    settings: Mapping[str, Any],
) -> tuple[AnyFit | None, str]:
    """Fit one model to the rows of some levels in which everything differs by the group; None where it cannot be had, with the reason."""
    if any(len(degrees_of(request)) == _MOST_FACTORS for request in within):
        return None, f"an interaction of three columns cannot differ by a fourth, `{by}`"
    if settings.get("fixed_effects"):
        return (
            None,
            f"beside levels that are taken out (fixed effects) `{by}` itself cannot stand, as one fit in which everything differs by it needs. Interactions with it in one fit say what differs",
        )
    rows = study.keep({by: {"among": list(labels)}}) if len(labels) < np.count_nonzero(study[by].counts) else study
    more = dict(settings)
    drawn = any(settings.get(name) for name in ("cluster", "strata", "time", "weights"))
    if kind == "linear" and not drawn and settings.get("errors") in (None, "classical"):
        more["errors"] = "HC3"
    crossed = [request_of({by: 1, **degrees}) for degrees in _with_lower_ones(within)]
    fit = fit_linear if kind == "linear" else fit_logistic
    try:
        return fit(rows, outcome, [by, *within, *crossed], **more), ""
    except FitError as problem:
        return None, f"one model in which all of it differs by `{by}` cannot be fitted. {problem}"


def _with_lower_ones(within: Sequence[TermRequest]) -> list[dict[str, int]]:
    """Return terms by their columns and powers, each behind those that it is made of."""
    found: dict[frozenset[str], dict[str, int]] = {}
    for degrees in sorted(map(degrees_of, within), key=len):
        for size in range(1, len(degrees) + 1):
            for names in itertools.combinations(degrees, size):
                own = found.setdefault(frozenset(names), dict.fromkeys(names, 1))
                own.update({name: max(own[name], degrees[name]) for name in names})
    return list(found.values())
